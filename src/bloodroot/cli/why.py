"""bloodroot why: one caller, one request; the outcome, the steps, the lines."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Annotated, Any
from urllib.parse import parse_qs

import typer

from .output import Color, ColorOption, FormatWithoutCsvOption, OutOption, PolicyOption, SettingsOption, UsageError

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..settings import Settings


def why(
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="WHO METHOD PATH",
            help="A persona, a role, several roles with commas, or signed-out; a method; a path, and a query if any.",
        ),
    ],
    record: Annotated[
        str | None, typer.Option("--record", metavar="JSON", help="The record that the endpoint acts on.")
    ] = None,
    path_only: Annotated[
        bool, typer.Option("--path-only", help="Only which lines cover METHOD PATH; WHO may be left out.")
    ] = False,
    directory: Annotated[
        bool, typer.Option("--directory", help="Take WHO, a persona or the id of a member, from the directory.")
    ] = False,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: FormatWithoutCsvOption = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Explain one decision: the outcome, the steps that led there, and the lines they rest on."""
    from ..core.explanation import explain
    from ..report.results import LinesResult
    from . import output

    if len(words) != 3 and not (path_only and len(words) == 2):
        raise UsageError("why needs WHO METHOD PATH, as in: bloodroot why curator PATCH /trials/7")
    who, method, path = words[0], words[-2].upper(), words[-1]
    rules, found = output.project(policy, settings)
    sent, _, query = path.partition("?")
    if path_only:
        lines, standing = rules.engine.candidates(method, sent), rules.engine.rules_for(method, sent)
        output.deliver(LinesResult(method, sent, tuple(lines), tuple(standing)), form, out, color)
        return
    values = {name: each[0] if len(each) == 1 else each for name, each in parse_qs(query, True).items()}
    if directory:
        who, caller = _member(who, found)
    else:
        caller = _caller(who, rules, found)
    result = explain(rules, who, caller, method, sent, record=_record(record), query=values)
    output.deliver(result, form, out, color)


def _caller(who: str, policy: Policy, settings: Settings | None) -> Caller | None:
    """The caller that a name stands for: a persona first, then roles."""
    from ..core.caller import imagined
    from . import output

    personas = settings.personas if settings is not None else {}
    if who in personas:
        return personas[who].caller
    if who == "signed-out":
        return None
    if who == "signed-in":
        return imagined()
    # Of a role alone nothing else is known: what asks for an attribute stays open.
    return imagined(*output.roles_named(who, policy, settings))


def _member(who: str, settings: Settings | None) -> tuple[str, Caller | None]:
    """A member of the directory as it is now: what to call it, and the caller; None for one who counts as nobody."""
    from ..core.caller import Unidentified
    from ..identity import directory_of

    if settings is None:
        raise UsageError("--directory needs the settings that name one; there is no bloodroot.toml here or further up")
    found = directory_of(settings)
    found.check()
    persona = settings.personas.get(who)
    member_id = persona.attributes.get("id") if persona is not None else who
    try:
        return who, found.caller(member_id)
    except Unidentified as error:
        return f"{who}, who counts as signed out since {error.reason}", None


def _record(text: str | None) -> Any:
    if text is None:
        return None
    try:
        found = json.loads(text)
    except ValueError as error:
        raise UsageError(f"--record is not JSON: {error}") from None
    if not isinstance(found, dict):
        raise UsageError('--record must be a JSON object, such as {"botanist_id": 3}')
    return found
