"""bloodroot token: a token for a persona while developing, and what becomes of any token."""

from __future__ import annotations

import datetime
import sys
from dataclasses import replace
from typing import TYPE_CHECKING, Annotated

import typer

from . import completing
from .options import ProjectFiles, with_options
from .output import Delivery, UsageError

if TYPE_CHECKING:
    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..identity.directory import Directory
    from ..identity.members import Member
    from ..settings import Settings
    from ..settings.callers import Development, SourceSettings

app = typer.Typer(
    no_args_is_help=True, add_completion=False, help="Make a token for development, or see what becomes of one."
)


@app.command("make")
@with_options("MadeToken")
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
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Make a token that the application accepts, signed with the key for development."""
    from ..identity.claims import claims_of
    from ..identity.examination import token_source
    from ..identity.tokens import make_token
    from ..report.results import MadeToken
    from . import inputs

    shown.check()
    project = inputs.project_as_written(files)
    rules, settings = project.policy, project.needed_settings
    source = token_source(settings)
    development = _development(settings, source, minutes)
    caller = _caller(who, rules, settings)
    if scope is not None:
        if source.claims.scopes is None:
            raise UsageError('--scope: the settings do not say where a token has its scopes; write scopes = "scope"')
        caller = inputs.with_scopes(caller, scope, rules, settings)
    try:
        claims = claims_of(caller, source.claims)
    except ValueError as error:
        raise UsageError(f"this cannot be written into a token: {error}") from error
    if settings.directory is not None and who not in settings.personas:
        typer.echo("the application looks roles up in its directory, and this caller is not a member there", err=True)
    assert source.token is not None
    token = make_token(claims, source.token, development, settings, datetime.datetime.now(datetime.UTC))
    shown.deliver(MadeToken(rules, token, who, caller, development.minutes))
    roles = ", ".join(sorted(caller.roles)) or "no role of its own"
    message = roles if source.claims.roles else "its roles are looked up, and are not in the token"
    typer.echo(
        f"for development alone: {who}, id {caller.id}, {message}; valid for {development.minutes:g} minutes", err=True
    )


def _development(settings: Settings, source: SourceSettings, minutes: float | None) -> Development:
    """What tokens for development are made with.

    Raises:
        UsageError: there is no key to sign them with, or they are to be valid for too long.
    """
    if settings.development is None or source.token is None:
        raise UsageError(
            f"{settings.file.name}: there is no key to sign with; write [token] with development_key = "
            '"{env.NAME}", a key for development and never one that real members are let in by'
        )
    if minutes is None:
        return settings.development
    if not 0.1 <= minutes <= 60:
        raise UsageError("--minutes must be a number from 0.1 to 60: a token for development is short-lived")
    return replace(settings.development, minutes=minutes)


def _caller(who: str, policy: Policy, settings: Settings) -> Caller:
    """The caller that a token is for."""
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
@with_options()
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
    *,
    files: ProjectFiles,
) -> None:
    """Make an API key for a member of the directory, and print it once; only its hash is kept."""
    from ..identity import directory_of
    from ..identity.held_in_records import end_of
    from . import inputs

    project = inputs.project_as_written(files)
    directory = directory_of(project.needed_settings)
    directory.check()
    if not directory.own:
        raise UsageError("directory.queries: these tables are the application's own, and it alone makes keys for them")
    member = directory.member_with_login(login) or directory.member(login)
    if member is None:
        raise UsageError(f"the directory has no member {login}")
    if end:
        _end_keys(directory, member, login, name)
        return
    scopes = _scopes(scope, project.policy) if scope is not None else None
    try:
        ends = end_of(until)
    except ValueError as error:
        raise UsageError(f'--until must be a date, such as 2027-01-01, not "{until}"') from error
    typer.echo(directory.make_key(member.id, name=name, scopes=scopes, until=ends))
    what = f"for {', '.join(scopes)} alone" if scopes is not None else "for all that this member may do"
    typer.echo(f"of {login}, {what}; it cannot be shown again", err=True)


def _end_keys(directory: Directory, member: Member, login: str, name: str) -> None:
    """Have the keys of a member with a name accepted no more."""
    if not name:
        raise UsageError("--end needs the --name of the key")
    ended = directory.remove_key(member.id, name)
    if not ended:
        names = ", ".join(key.name for key in directory.keys_of(member.id) if key.name)
        raise UsageError(f'{login} has no key "{name}"' + (f"; there are {names}" if names else ""))
    typer.echo(f'{ended} key{"s" if ended > 1 else ""} "{name}" of {login} ended')


def _scopes(text: str, policy: Policy) -> list[str]:
    """The scopes of a key.

    Raises:
        UsageError: the policy does not know one.
    """
    from ..core.permissions import knows
    from ..language.problems import suggestion

    scopes = [scope.strip() for scope in text.split(",") if scope.strip()]
    for scope in scopes:
        role = scope.removeprefix("role ").strip()
        known = role in policy.roles.bit if scope.startswith("role ") else knows(policy.resolver, scope)
        if not known and scope != "signed-in":
            raise UsageError(f'--scope: the policy does not know "{scope}"{suggestion(scope, policy.permissions)}')
    return scopes


@app.command("read")
@with_options("TokenResult")
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
    *,
    files: ProjectFiles,
    shown: Delivery,
) -> None:
    """Show what a token says, whether it holds, and how its claims become roles and permissions."""
    from ..identity.examination import examine, token_source
    from ..report.results import TokenResult
    from . import inputs

    shown.check()
    project = inputs.project_as_written(files)
    rules, settings = project.policy, project.needed_settings
    words = (sys.stdin.read() if token == "-" else token).split()  # noqa: S105
    sent = words[-1] if words else ""
    source = token_source(settings, path, sent)
    try:
        result = examine(sent, source, settings, rules)
    except ValueError as error:
        raise UsageError(
            "not a token: a JSON Web Token is three parts with dots between them, such as eyJ...; "
            "- reads it from standard input"
        ) from error
    shown.deliver(TokenResult(rules, result))
    if result.counts is None:
        raise typer.Exit(1)
