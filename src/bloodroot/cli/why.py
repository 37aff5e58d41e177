"""bloodroot why: one caller, one request; the outcome, the steps, the lines."""

from __future__ import annotations

from typing import TYPE_CHECKING, Annotated, Any

import typer

from . import completing
from .output import Color, ColorOption, OutOption, PolicyOption, SettingsOption, UsageError, format_option

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..settings import Settings


def why(
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[WHO] METHOD PATH",
            autocompletion=completing.words(completing.asked),
            help="A persona, roles, or both with commas between them, or signed-out; a method; a path, with its query.",
        ),
    ],
    record: Annotated[
        str | None, typer.Option("--record", metavar="JSON", help="The record that the endpoint acts on.")
    ] = None,
    records: Annotated[
        str | None,
        typer.Option("--records", metavar="JSON", help="More records, by parameter or by thing: what belongs to what."),
    ] = None,
    attributes: Annotated[
        str | None,
        typer.Option(
            "--caller", metavar="JSON", help="Attributes of the caller, id among them; all others are missing."
        ),
    ] = None,
    who_gets_in: Annotated[
        bool, typer.Option("--who", help="Who gets in at METHOD PATH: every role and persona, in one view.")
    ] = False,
    path_only: Annotated[
        bool, typer.Option("--path-only", help="Only which lines cover METHOD PATH; WHO may be left out.")
    ] = False,
    directory: Annotated[
        bool,
        typer.Option("--directory", help="Take WHO, a persona or a member's login or id, from the directory."),
    ] = False,
    scope: Annotated[
        str | None,
        typer.Option("--scope", metavar="NAMES", help="With a token for these scopes alone, with commas between them."),
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("Explanation", "Entrance", "LinesResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Explain one decision: the outcome, the steps that led there, and the lines they rest on."""
    from urllib.parse import parse_qs

    from ..core.entrance import entrance
    from ..core.explanation import explain
    from ..report.results import LinesResult
    from . import inputs, output

    output.check_out(form, out)
    if who_gets_in and (len(words) != 2 or path_only or directory or attributes is not None or scope is not None):
        raise UsageError("--who needs METHOD PATH alone, as in: bloodroot why --who GET /reports/stock")
    if len(words) != 3 and not ((path_only or who_gets_in) and len(words) == 2):
        raise UsageError("why needs WHO METHOD PATH, as in: bloodroot why curator PATCH /trials/7")
    who, method, path = words[0], words[-2].upper(), words[-1]
    rules, project = inputs.bound_project(policy, settings)
    inputs.check_request(method, path, rules)
    sent, _, query = path.partition("?")
    rules = _as_served(rules, project, method, sent)
    if path_only:
        lines, standing = rules.lookup.candidates(method, sent), rules.lookup.rules_for(method, sent)
        output.deliver(LinesResult(method, sent, tuple(lines), tuple(standing)), form, out, color)
        return
    values = {name: sent[0] if len(sent) == 1 else sent for name, sent in parse_qs(query, True).items()}
    at_hand = {
        "record": _object("--record", record),
        "records": _records(records, rules, method, sent),
        "query": values,
    }
    if who_gets_in:
        project = inputs.with_members(project)
        personas = {name: persona.caller for name, persona in project.personas.items()} if project is not None else {}
        shown = entrance(rules, method, sent, personas, **at_hand)
        output.deliver(shown, form, out, color)
        return
    if directory:
        who, caller = _member(who, project)
    else:
        caller = _with_attributes(inputs.caller_named(who, rules, project), attributes)
    if scope is not None:
        if caller is None:
            raise UsageError("--scope: a signed-out caller has no token")
        caller = inputs.with_scopes(caller, scope, rules, project)
        who = f"{who} with a token for {scope}"
    result = explain(rules, who, caller, method, sent, **at_hand)
    output.deliver(result, form, out, color)


def _as_served(rules: Policy, project: Settings | None, method: str, path: str) -> Policy:
    """The policy with the routes of the application, where no line covers a path by itself.

    A framework may serve it as another spelling of what a line covers, as ``/pieces.json``.
    """
    from ..settings import SettingsError
    from ..survey.applications import bound

    if project is None or project.app is None or rules.lookup.for_request(method, path) is not None:
        return rules
    try:
        return bound(rules, project, always=True)
    except SettingsError:
        return rules  # an application that cannot be imported has nothing to add


def _member(who: str, settings: Settings | None) -> tuple[str, Caller | None]:
    """A member of the directory as it is now: what to call it, and the caller; None for one who may not act."""
    from ..core.caller import Unidentified
    from ..identity import directory_of

    if settings is None:
        raise UsageError("--directory needs the settings that name one; there is no bloodroot.toml here or further up")
    directory = directory_of(settings)
    directory.check()
    persona = settings.personas.get(who)
    login = persona.member if persona is not None and persona.member is not None else who
    member_id = persona.attributes.get("id") if persona is not None and persona.member is None else None
    member = (
        directory.member(member_id)
        if member_id is not None
        else directory.member_with_login(login) or directory.member(who)
    )
    try:
        return who, directory.judged(member, member.id if member is not None else who, None)
    except Unidentified as error:
        return f"{who}, who is treated as signed out: {error.reason}", None


def _with_attributes(caller: Caller | None, text: str | None) -> Caller | None:
    """A caller with the attributes that were given in the place of its own."""
    from dataclasses import replace

    if text is None:
        return caller
    if caller is None:
        raise UsageError("--caller: a signed-out caller has no attributes")
    given = _object("--caller", text)
    return replace(caller, id=given.pop("id", None), attributes=given)


def _records(text: str | None, policy: Policy, method: str, path: str) -> dict[str, Any]:
    """Records by parameter of the path or by thing."""
    from ..language.problems import suggestion

    given = _object("--records", text) or {}
    lines = (*policy.lookup.candidates(method, path)[:1], *policy.lookup.rules_for(method, path))
    names = [*policy.roles.things.by_name, *(name for line in lines for name in line.template.names)]
    for name, record in given.items():
        if name not in names:
            guess = suggestion(name, names) or f"; here are {', '.join(dict.fromkeys(names)) or 'none'}"
            raise UsageError(f'--records: "{name}" is no thing, and no parameter of this path{guess}')
        if not isinstance(record, dict):
            raise UsageError(f'--records: {name} must be a JSON object, such as {{"botanist_id": 3}}')
    return given


def _object(option: str, text: str | None) -> Any:
    import json

    if text is None:
        return None
    try:
        value = json.loads(text)
    except ValueError as error:
        raise UsageError(f"{option} is not JSON: {error}") from error
    if not isinstance(value, dict):
        raise UsageError(f'{option} must be a JSON object, such as {{"botanist_id": 3}}')
    return value
