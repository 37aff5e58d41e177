"""bloodroot token: a token for a persona while developing, and what becomes of any token."""

from __future__ import annotations

import datetime
import sys
from typing import TYPE_CHECKING, Annotated

import typer

from . import completing
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
    who: Annotated[
        str,
        typer.Argument(
            metavar="WHO",
            help="A persona, a role, or several roles with commas.",
            autocompletion=completing.words(completing.caller),
        ),
    ],
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


@app.command("key")
def key(
    login: Annotated[
        str, typer.Argument(metavar="MEMBER", help="The login, or the id, of the member whose key it is.")
    ],
    name: Annotated[str, typer.Option("--name", metavar="TEXT", help="What to call the key.")] = "",
    scope: Annotated[
        str | None,
        typer.Option(
            "--scope",
            metavar="NAMES",
            help="Only these permissions; 'role NAME' and signed-in for lines that ask for these themselves.",
        ),
    ] = None,
    until: Annotated[
        str | None, typer.Option("--until", metavar="DATE", help="From when on it is not accepted, such as 2027-01-01.")
    ] = None,
    end: Annotated[
        bool, typer.Option("--end", help="Have the keys of this member with this --name accepted no more.")
    ] = False,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
) -> None:
    """Make an API key for a member of the directory, and print it once; only its hash is kept."""
    from ..core.permissions import knows
    from ..identity import directory_of
    from ..identity.held_in_records import end_of
    from ..language.problems import suggestion
    from . import inputs

    rules, project = inputs.unbound_project(policy, settings)
    directory = directory_of(project)
    directory.check()
    if not directory.own:
        raise UsageError("directory.queries: these tables are the application's own, and it alone makes keys for them")
    member = directory.member_with_login(login) or directory.member(login)
    if member is None:
        raise UsageError(f"the directory has no member {login}")
    if end:
        if not name:
            raise UsageError("--end needs the --name of the key")
        ended = directory.remove_key(member.id, name)
        if not ended:
            names = ", ".join(each.name for each in directory.keys_of(member.id) if each.name)
            raise UsageError(f'{login} has no key "{name}"' + (f"; there are {names}" if names else ""))
        typer.echo(f'{ended} key{"s" if ended > 1 else ""} "{name}" of {login} ended')
        return
    scopes = None
    if scope is not None:
        scopes = [each.strip() for each in scope.split(",") if each.strip()]
        for each in scopes:
            role = each.removeprefix("role ").strip()
            known = role in rules.roles.bit if each.startswith("role ") else knows(rules.resolver, each)
            if not known and each != "signed-in":
                raise UsageError(f'--scope: the policy does not know "{each}"{suggestion(each, rules.permissions)}')
    try:
        ends = end_of(until)
    except ValueError as error:
        raise UsageError(f'--until must be a date, such as 2027-01-01, not "{until}"') from error
    typer.echo(directory.make_key(member.id, name=name, scopes=scopes, until=ends))
    what = f"for {', '.join(scopes)} alone" if scopes is not None else "for all that this member may do"
    typer.echo(f"of {login}, {what}; it cannot be shown again", err=True)


@app.command("read")
def read(
    token: Annotated[
        str, typer.Argument(metavar="TOKEN", help="The token, or - to read it from standard input, unseen by others.")
    ],
    path: Annotated[
        str | None,
        typer.Option(
            "--path",
            metavar="PATH",
            help="Where it is sent to, if tokens differ by path.",
            autocompletion=completing.words(completing.path),
        ),
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
