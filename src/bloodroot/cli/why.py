"""bloodroot why: one caller, one request; the outcome, the steps, the lines."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from . import completing
from .options import ProjectFiles, with_options
from .output import Delivery, UsageError

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..report.results import LinesResult
    from ..settings import Settings


@dataclass(frozen=True)
class WhyQuestion:
    """What is asked.

    Attributes:
        words: the caller, the method and the path; the caller may be left out where it is not needed.
        who_gets_in: whether every caller is asked about.
        path_only: whether only the lines are asked about.
    """

    words: Annotated[
        list[str],
        typer.Argument(
            metavar="[WHO] METHOD PATH",
            autocompletion=completing.words(completing.asked),
            help="A persona, roles, or both with commas between them, or signed-out; a method; a path, with its query.",
        ),
    ]
    who_gets_in: Annotated[
        bool, typer.Option("--who", help="Who gets in at METHOD PATH: every role and persona, in one view.")
    ] = False
    path_only: Annotated[
        bool, typer.Option("--path-only", help="Only which lines cover METHOD PATH; WHO may be left out.")
    ] = False


@dataclass(frozen=True)
class AtHand:
    """What is at hand in a decision.

    Attributes:
        record: the record, as JSON.
        records: more records by parameter or thing, as JSON.
    """

    record: Annotated[
        str | None, typer.Option("--record", metavar="JSON", help="The record that the endpoint acts on.")
    ] = None
    records: Annotated[
        str | None,
        typer.Option("--records", metavar="JSON", help="More records, by parameter or by thing: what belongs to what."),
    ] = None


@dataclass(frozen=True)
class Who:
    """What is known of the caller beside its name.

    Attributes:
        attributes: its attributes, as JSON.
        directory: whether it is looked up in the directory.
        scope: what its token is for, with commas between; None for all that it may do.
    """

    attributes: Annotated[
        str | None,
        typer.Option(
            "--caller", metavar="JSON", help="Attributes of the caller, id among them; all others are missing."
        ),
    ] = None
    directory: Annotated[
        bool,
        typer.Option("--directory", help="Take WHO, a persona or a member's login or id, from the directory."),
    ] = False
    scope: Annotated[
        str | None,
        typer.Option("--scope", metavar="NAMES", help="With a token for these scopes alone, with commas between them."),
    ] = None


@with_options("Explanation", "Entrance", "LinesResult")
def why(asked: WhyQuestion, at_hand: AtHand, caller: Who, files: ProjectFiles, shown: Delivery) -> None:
    """Explain one decision: the outcome, the steps that led there, and the lines they rest on."""
    from ..core.entrance import entrance
    from ..core.explanation import explain
    from . import inputs

    shown.check()
    words = asked.words
    if asked.who_gets_in and (len(words) != 2 or asked.path_only or caller != Who()):
        raise UsageError("--who needs METHOD PATH alone, as in: bloodroot why --who GET /reports/stock")
    if len(words) != 3 and not ((asked.path_only or asked.who_gets_in) and len(words) == 2):
        raise UsageError("why needs WHO METHOD PATH, as in: bloodroot why curator PATCH /trials/7")
    method, (path, _, query) = words[-2].upper(), words[-1].partition("?")
    project = inputs.bound_project(files)
    inputs.check_request(method, words[-1], project.policy)
    rules = _as_served(project.policy, project.settings, method, path)
    if asked.path_only:
        shown.deliver(_lines(rules, method, path))
        return
    facts = _facts(at_hand, rules, method, path, query)
    if asked.who_gets_in:
        settings = inputs.with_members(project.settings)
        personas = {name: persona.caller for name, persona in settings.personas.items()} if settings is not None else {}
        shown.deliver(entrance(rules, method, path, personas, **facts))
        return
    named = _named(words[0], caller, rules, project.settings)
    shown.deliver(explain(rules, named.name, named.caller, method, path, **facts))


def _lines(rules: Policy, method: str, path: str) -> LinesResult:
    """The lines that cover a path."""
    from ..report.results import LinesResult

    return LinesResult(
        method, path, tuple(rules.lookup.candidates(method, path)), tuple(rules.lookup.rules_for(method, path))
    )


def _facts(at_hand: AtHand, rules: Policy, method: str, path: str, query: str) -> dict[str, Any]:
    """What is at hand, by the names that `explain` gives it."""
    from urllib.parse import parse_qs

    values = {name: sent[0] if len(sent) == 1 else sent for name, sent in parse_qs(query, True).items()}
    return {
        "record": _object("--record", at_hand.record),
        "records": _records(at_hand.records, rules, method, path),
        "query": values,
    }


class _NamedCaller(NamedTuple):
    """A caller, and what it is called in a result."""

    name: str
    caller: Caller | None


def _named(who: str, given: Who, rules: Policy, settings: Settings | None) -> _NamedCaller:
    """The caller that a word and options name.

    Raises:
        UsageError: there is none, or what is said of it cannot be.
    """
    from . import inputs

    if given.directory:
        named = _member(who, settings)
    else:
        named = _NamedCaller(who, _with_attributes(inputs.caller_named(who, rules, settings), given.attributes))
    if given.scope is None:
        return named
    if named.caller is None:
        raise UsageError("--scope: a signed-out caller has no token")
    caller = inputs.with_scopes(named.caller, given.scope, rules, settings)
    return _NamedCaller(f"{named.name} with a token for {given.scope}", caller)


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


def _member(who: str, settings: Settings | None) -> _NamedCaller:
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
        return _NamedCaller(who, directory.judged(member, member.id if member is not None else who, None))
    except Unidentified as error:
        return _NamedCaller(f"{who}, who is treated as signed out: {error.reason}", None)


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
