"""bloodroot token: a token for a persona while developing, and what becomes of any token."""

from __future__ import annotations

import datetime
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from .output import Color, ColorOption, OutOption, PolicyOption, SettingsOption, UsageError, format_option

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..settings import Settings

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Make a token for development, or see what becomes of one."
)


@app.command("make")
def make(
    who: Annotated[str, typer.Argument(metavar="WHO", help="A persona, a role, or several roles with commas.")],
    scope: Annotated[
        str | None, typer.Option("--scope", metavar="NAMES", help="Only these scopes, with commas between them.")
    ] = None,
    minutes: Annotated[
        float | None, typer.Option("--minutes", metavar="N", help="How long it is valid: at most 60.")
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("MadeToken")] = None,
    out: OutOption = None,
) -> None:
    """Make a token that the application accepts, signed with the key for development."""
    from dataclasses import replace

    from ..identity.claims import claims_of
    from ..identity.examination import token_source
    from ..identity.tokens import make_token
    from ..report.results import MadeToken
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.unbound_project(policy, settings)
    source = token_source(project)
    if project.development is None or source.token is None:
        raise UsageError(
            f"{project.file.name}: there is no key to sign with; write [token] with development_key = "
            '"{env.NAME}", a key for development and never one that real members are let in by'
        )
    if minutes is not None and not 0.1 <= minutes <= 60:
        raise UsageError("--minutes must be a number from 0.1 to 60: a token for development is short-lived")
    development = replace(project.development, minutes=minutes or project.development.minutes)
    caller = _caller(who, rules, project)
    if scope is not None:
        if source.claims.scopes is None:
            raise UsageError('--scope: the settings do not say where a token has its scopes; write scopes = "scope"')
        caller = inputs.with_scopes(caller, scope, rules, project)
    try:
        claims = claims_of(caller, source.claims)
    except ValueError as error:
        raise UsageError(f"this cannot be written into a token: {error}") from error
    if project.directory is not None and who not in project.personas:
        typer.echo("the application looks roles up in its directory, and this caller is not a member there", err=True)
    now = datetime.datetime.now(datetime.UTC)
    token = make_token(claims, source.token, development, project, now)
    output.deliver(MadeToken(rules, token, who, caller, development.minutes), form, out)
    roles = ", ".join(sorted(caller.roles)) or "no role of its own"
    message = roles if source.claims.roles else "its roles are looked up, and are not in the token"
    typer.echo(
        f"for development alone: {who}, id {caller.id}, {message}; valid for {development.minutes:g} minutes", err=True
    )


def _caller(who: str, policy: Policy, settings: Settings) -> Caller:
    """The caller that a token is for."""
    from dataclasses import replace

    from ..core.records import UNKNOWN
    from . import inputs

    caller = inputs.caller_named(who, policy, settings)
    if caller is None:
        raise UsageError(f"{who} is not signed in, and has no token")
    if caller.id is UNKNOWN:
        # Roles alone, of whom nothing else is known.
        return replace(caller, id=f"development-{who.replace(',', '-')}", attributes={})
    if caller.id is None:
        raise UsageError(f'persona "{who}" has no id; write attributes = {{ id = 1 }} under [personas.{who}]')
    return caller


@app.command("read")
def read(
    token: Annotated[
        str, typer.Argument(metavar="TOKEN", help="The token, or - to read it from standard input, unseen by others.")
    ],
    path: Annotated[
        str | None, typer.Option("--path", metavar="PATH", help="Where it is sent to, if tokens differ by path.")
    ] = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("TokenResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Show what a token says, whether it holds, and how its claims become roles and permissions."""
    from ..identity.examination import examine, token_source
    from ..report.results import TokenResult
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.unbound_project(policy, settings)
    words = (sys.stdin.read() if token == "-" else token).split()  # noqa: S105
    sent = words[-1] if words else ""
    source = token_source(project, path, sent)
    try:
        result = examine(sent, source, project, rules)
    except ValueError as error:
        raise UsageError(
            "not a token: a JSON Web Token is three parts with dots between them, such as eyJ...; "
            "- reads it from standard input"
        ) from error
    output.deliver(TokenResult(rules, result), form, out, color)
    if result.counts is None:
        raise typer.Exit(1)
