"""One finding a line, as compilers write them: ``file:line:column: severity: message [name]``."""

from __future__ import annotations

from ..checks.checking import CheckResult
from ..language.problems import Place
from .repository_names import in_repository


def check(result: CheckResult) -> str:
    """The findings, each on a line of its own; nothing where there are none."""
    return "".join(
        f"{_place(finding.place)}: {finding.severity.value}: {_on_one_line(finding.message)} [{finding.name}]\n"
        for finding in result.findings
    )


def _place(place: Place) -> str:
    name = place.source.name
    return in_repository(name) + str(place)[len(name) :]


def _on_one_line(text: str) -> str:
    return " ".join(text.split())
