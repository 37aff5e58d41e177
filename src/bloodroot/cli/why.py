"""bloodroot why: one caller, one request; the outcome, the steps, the lines."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Annotated, Any
from urllib.parse import parse_qs

import typer

from .output import Color, ColorOption, PolicyOption, SettingsOption, UsageError

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..settings import Settings


def why(
    who: Annotated[str, typer.Argument(help="A persona, a role, several roles with commas, or signed-out.")],
    method: Annotated[str, typer.Argument(help="The request method, such as PATCH.")],
    path: Annotated[str, typer.Argument(help="The path, such as /trials/7; a query may follow.")],
    record: Annotated[
        str | None, typer.Option("--record", metavar="JSON", help="The record that the endpoint acts on.")
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Explain one decision: the outcome, the steps that led there, and the lines they rest on."""
    from ..core.caller import Caller
    from ..core.decision import Outcome
    from ..report import table
    from . import output

    rules, found = output.project(policy, settings)
    caller = _caller(who, rules, found)
    sent, _, query = path.partition("?")
    values = {name: each[0] if len(each) == 1 else each for name, each in parse_qs(query, True).items()}
    known: dict[str, Any] = {"record": _record(record), "query": values}
    decision = rules.decide(caller, method.upper(), sent, **known)
    enough = []
    if decision.outcome is not Outcome.ALLOW:
        attributes = (caller.id, caller.attributes) if caller is not None else (None, {})
        for role in rules.roles.by_reach():
            other = Caller(attributes[0], {role}, attributes=attributes[1])
            if rules.decide(other, method.upper(), sent, **known).outcome is Outcome.ALLOW:
                enough.append(role)
    console = output.console(color)
    request = f"{method.upper()} {path}"
    output.show(console, table.decision(decision, rules, who, caller, request, enough, console))


def _caller(who: str, policy: Policy, settings: Settings | None) -> Caller | None:
    """The caller that a name stands for: a persona first, then roles."""
    from ..core.caller import Caller
    from ..language.problems import suggestion

    personas = settings.personas if settings is not None else {}
    if who in personas:
        return personas[who].caller
    if who == "signed-out":
        return None
    if who == "signed-in":
        return Caller()
    roles = [role.strip() for role in who.split(",")]
    for role in roles:
        if role not in policy.roles.bit:
            guess = suggestion(role, [*policy.roles.bit, *personas, "signed-out", "signed-in"])
            what = "persona or role" if personas else "role"
            raise UsageError(f'unknown {what} "{role}"{guess or "; known are " + ", ".join(policy.roles.bit)}')
    return Caller(roles=roles)


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
