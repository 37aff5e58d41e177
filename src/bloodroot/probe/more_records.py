"""Addresses beside those of the samples: a record under the parent of another one, and records that are missing."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import replace
from typing import TYPE_CHECKING

from ..core.decision import Outcome
from ..core.paths import Parameter
from .samples import filled_path

if TYPE_CHECKING:
    from .asked_endpoints import AskedEndpoint
    from .plan import Case, Plan

_MOST_CROSSED = 2  # at one endpoint as one persona
_UUID = re.compile(r"[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}", re.I).fullmatch


def with_more_records(plan: Plan) -> Plan:
    """A plan with crossed addresses and missing records, behind all others."""
    known = {case.key for case in plan.cases}
    more = {case.key: case for case in (*_crossed(plan), *_missing(plan)) if case.key not in known}
    return replace(plan, cases=(*plan.cases, *more.values()))


def _crossed(plan: Plan) -> Iterator[Case]:
    """Records that their own page keeps from a persona, under the parent of one that it lets the persona read.

    What belongs to what is known from the samples: the values of one record lead to it.
    """
    groups: dict[tuple[AskedEndpoint, str], list[Case]] = {}
    for case in plan.cases:
        if len(case.asked.template.names) > 1 and not case.spelled and not case.crossed and _is_plain(case):
            groups.setdefault((case.asked, case.persona.name), []).append(case)
    for (asked, _), cases in groups.items():
        *parents, child = asked.template.names
        count = 0
        for mine in cases:
            for other in cases:
                if not mine.allowed or not other.by_record or count == _MOST_CROSSED:
                    continue
                if mine.values[child] == other.values[child]:
                    continue
                if all(mine.values[name] == other.values[name] for name in parents):
                    continue
                count += 1
                values = {**mine.values, child: other.values[child]}
                where = ", ".join(f"{name} {mine.values[name]}" for name in parents)
                yield replace(
                    other,
                    path=filled_path(asked, values),
                    values=values,
                    declared=Outcome.DENY,
                    answer=None,
                    sample=f"crossed: {child} {other.values[child]} belongs to another than {where}",
                    known={},
                    crossed=True,
                    owned=False,
                    plain=other,
                )


def _missing(plan: Plan) -> Iterator[Case]:
    """Two records that are missing, for each persona from whom an endpoint hides one."""
    done: set[tuple[AskedEndpoint, str]] = set()
    for case in plan.cases:
        hidden = case.answer is not None and case.answer.hidden and not case.allowed
        if not hidden or case.method != "GET" or case.spelled or case.crossed or not _is_plain(case):
            continue
        name = next(iter(reversed(case.asked.template.names)), None)
        if name is None or (case.asked, case.persona.name) in done:
            continue
        done.add((case.asked, case.persona.name))
        for value in _no_such(case.values[name]):
            values = {**case.values, name: value}
            yield replace(
                case,
                path=filled_path(case.asked, values),
                values=values,
                sample="a record that is missing",
                known={},
                missing=True,
            )


def _no_such(value: str) -> tuple[str, str]:
    """Two values of the same form that no record is likely to have."""
    if value.isdecimal():
        return "900000017", "900000023"
    if _UUID(value):
        return "00000000-0000-4000-8000-00000000fe17", "00000000-0000-4000-8000-00000000fe23"
    return f"{value}-none-17", f"{value}-none-23"


def _is_plain(case: Case) -> bool:
    """Whether the path of a case is its template filled in."""
    filled = all(isinstance(part, Parameter | str) for part in case.asked.template.segments)
    return (
        filled
        and set(case.asked.template.names) <= case.values.keys()
        and filled_path(case.asked, case.values) == case.path
    )
