"""Where results go: a terminal, a pipe or a file."""

from __future__ import annotations

import io
import os
import sys
from enum import StrEnum
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from ..language.errors import BloodrootError
from ..report import ENDINGS, Format

if TYPE_CHECKING:
    from collections.abc import Iterable

    from rich.console import Console, RenderableType

    from ..core.caller import Caller
    from ..core.policy import Policy
    from ..settings import Settings


class UsageError(BloodrootError):
    """Options that do not go together, or a name with nothing behind it."""


class Color(StrEnum):
    """When to use colour."""

    AUTO = "auto"
    ALWAYS = "always"
    NEVER = "never"


class FormatWithoutCsv(StrEnum):
    """The formats of results that are no list of rows."""

    TABLE = Format.TABLE
    JSON = Format.JSON


PolicyOption = Annotated[
    Path | None, typer.Option("--policy", metavar="FILE", help="The policy; by default the one the settings name.")
]
SettingsOption = Annotated[
    Path | None,
    typer.Option("--settings", metavar="FILE", help="The settings; by default bloodroot.toml here or further up."),
]
ColorOption = Annotated[Color, typer.Option("--color", help="When to use colour.")]
_FORMAT_HELP = "The format; table by default, or what the ending of --out says."
FormatOption = Annotated[Format | None, typer.Option("--format", help=_FORMAT_HELP)]
# For results that are no list of rows.
FormatWithoutCsvOption = Annotated[FormatWithoutCsv | None, typer.Option("--format", help=_FORMAT_HELP)]
OutOption = Annotated[
    Path | None, typer.Option("--out", metavar="FILE", help="Write to this file; its ending picks the format.")
]

_PIPE_WIDTH = 160


def project(policy: Path | None, settings: Path | None) -> tuple[Policy, Settings | None]:
    """The policy and the settings that a command works with; the policy bound to the application, if it needs one.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
    """
    rules, found = _read(policy, settings)
    if not rules.unbound:
        return rules, found
    if found is None:
        action = rules.unbound[0]
        raise UsageError(
            f"{action.place.at} names the action {action.name}, and there is no application to find it in; "
            'write app = "module:name" in bloodroot.toml'
        )
    from ..probe.application import bound

    return bound(rules, found), found


def unbound_project(policy: Path | None, settings: Path | None, *, personas: bool = True) -> tuple[Policy, Settings]:
    """The policy and the settings of a command that needs to know neither routes nor the application.

    Args:
        policy: the policy file that was named, or None.
        settings: the settings file that was named, or None.
        personas: whether the command has to do with personas, so that what they hold is held against the policy.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: the settings cannot be used.
        UsageError: there are no settings.
    """
    rules, found = _read(policy, settings, personas=personas)
    if found is None:
        raise UsageError("there is no bloodroot.toml here or further up; name one with --settings FILE")
    return rules, found


def _read(policy: Path | None, settings: Path | None, *, personas: bool = True) -> tuple[Policy, Settings | None]:
    from ..files import load
    from ..settings import find_settings, read_settings
    from ..settings.policy_names import check_names

    file = settings or find_settings()
    found = read_settings(file) if file is not None else None
    chosen = policy
    if chosen is None:
        chosen = _shown(found.policy) if found is not None else Path("access.bloodroot")
    if not chosen.exists():
        raise UsageError(_no_policy(chosen, file if policy is None else None))
    rules = load(chosen)
    if found is not None and personas:
        check_names(found, rules)
    return rules, found


def _no_policy(policy: Path, settings: Path | None) -> str:
    """What to say where there is no such policy: who names it, files of nearly this name, and what to do."""
    from ..language.problems import suggestion

    where = f"{policy}, which {_shown(settings)} names as the policy" if settings is not None else str(policy)
    folder = policy.parent
    near = [each.stem for each in sorted(folder.glob("*.bloodroot"))] if folder.is_dir() else []
    guess = suggestion(policy.stem, near)
    if guess:
        return f'there is no file {where}{guess[:-2]}.bloodroot"?'
    guess = f"; there is {', '.join(f'{name}.bloodroot' for name in near[:5])}" if near else ""
    way_out = "write one, or name one with --policy FILE"
    if settings is not None:
        way_out = 'write it, or correct policy = "..." there'
    return f"there is no file {where}{guess}; {way_out}"


def with_members(settings: Settings | None, names: Iterable[str] | None = None) -> Settings | None:
    """The settings with those personas looked up that are members of the directory.

    Args:
        settings: the settings, or None where there are none.
        names: the personas that are needed; None for all.

    Raises:
        SettingsError: a member cannot be found.
    """
    if settings is None or all(persona.member is None for persona in settings.personas.values()):
        return settings
    from ..identity.personas import with_members

    return with_members(settings, names)


def caller_named(who: str, policy: Policy, settings: Settings | None) -> Caller | None:
    """The caller that a string means: a persona, roles, or a persona and roles that it holds as well.

    Names have commas between them.

    Raises:
        UsageError: one of the names is neither, or two of them are personas.
        SettingsError: a persona is a member whom the directory does not have.
    """
    from dataclasses import replace

    from ..core.caller import imagined

    names = [name.strip() for name in who.split(",")]
    personas = settings.personas if settings is not None else {}
    # Personas are often called after their roles: beside others such a name is a role.
    chosen = [name for name in names if name in personas and (len(names) == 1 or name not in policy.roles.bit)]
    roles = [name for name in names if name not in chosen and name not in ("signed-in", "signed-out")]
    _check_roles(roles, policy, personas)
    if len(chosen) > 1 or ("signed-out" in names and len(names) > 1):
        raise UsageError(f'"{who}" is more than one caller; name one persona, and roles that it should hold as well')
    if names == ["signed-out"]:
        return None
    if not chosen:
        # Of a role alone nothing else is known: what requires an attribute stays open.
        return imagined(*roles)
    found = with_members(settings, chosen)
    assert found is not None
    caller = found.personas[chosen[0]].caller
    if caller is None:
        if roles:
            raise UsageError(f'persona "{chosen[0]}" is not signed in, and can hold no role')
        return None
    return replace(caller, roles={*caller.roles, *roles})


def _check_roles(names: list[str], policy: Policy, personas: Iterable[str]) -> None:
    from ..language.problems import suggestion

    for name in names:
        if name not in policy.roles.bit:
            guess = suggestion(name, [*policy.roles.bit, *personas, "signed-out", "signed-in"])
            what = "persona or role" if personas else "role"
            raise UsageError(f'unknown {what} "{name}"{guess or "; known are " + ", ".join(policy.roles.bit)}')


def policy_file() -> Path:
    """The policy that the settings name, else ``access.bloodroot``."""
    from ..settings import find_settings, read_settings

    file = find_settings()
    return _shown(read_settings(file).policy) if file is not None else Path("access.bloodroot")


def _shown(path: Path) -> Path:
    """A path as short as it can be written from here."""
    try:
        return path.resolve().relative_to(Path.cwd().resolve())
    except ValueError:
        return path


def console(color: Color, *, to_file: bool = False) -> Console:
    """A console for results. ``NO_COLOR`` is respected; a pipe and a file get plain text of a fixed width."""
    from rich.console import Console

    return Console(
        file=io.TextIOWrapper(io.BytesIO(), "utf-8") if to_file else None,
        highlight=False,
        width=None if sys.stdout.isatty() and not to_file else _width(),
        force_terminal=True if color is Color.ALWAYS else None,
        no_color={Color.ALWAYS: False, Color.NEVER: True}.get(color),
    )


def _width() -> int:
    """The width of results that no terminal shows: that of ``COLUMNS``, else one that most tables fit into."""
    columns = os.environ.get("COLUMNS", "")
    return max(40, int(columns)) if columns.isdecimal() and len(columns) < 5 else _PIPE_WIDTH


def deliver(
    result: object, wanted: Format | FormatWithoutCsv | None = None, out: Path | None = None, color: Color = Color.AUTO
) -> None:
    """Print a result, or write it to a file, whole or not at all.

    Args:
        result: a result that some module of `report` can write.
        wanted: the format that was asked for.
        out: the file; None for standard output. Without a format that was asked for, its ending picks one.
        color: when to use colour. A file has none.

    Raises:
        UsageError: the ending of the file says no format, or the result has no such format.
    """
    from ..report.results import MadeToken
    from ..writing import write_text

    form = _format(wanted, out)
    reports = import_module(f"..report.{form.value}", __package__).REPORTS
    report = reports.get(type(result))
    if report is None:
        raise UsageError(f"this result has no {form.value} format; write it as table or json")
    if form is Format.TABLE:
        shown = console(color if out is None else Color.NEVER, to_file=out is not None)
        text = _text_of(report(result, shown), shown)
    else:
        text = report(result)
    if out is None:
        typer.echo(_encodable(text, sys.stdout.encoding or "utf-8"), nl=False, color=True)
    else:
        # A token is for its owner alone.
        write_text(out, _encodable(text, "utf-8"), private=isinstance(result, MadeToken))
        typer.echo(f"wrote {out}", err=True)


def _encodable(text: str, encoding: str) -> str:
    """A text with escapes for what cannot be written: claims of a token may hold half a character."""
    return text.encode(encoding, "backslashreplace").decode(encoding)


def _format(wanted: Format | FormatWithoutCsv | None, out: Path | None) -> Format:
    if wanted is not None:
        return Format(wanted.value)
    if out is None:
        return Format.TABLE
    found = ENDINGS.get(out.suffix.lower())
    if found is None:
        raise UsageError(f"--out {out}: its ending says no format; name it {', '.join(ENDINGS)}, or add --format")
    return found


def _text_of(shown: RenderableType, made: Console) -> str:
    """What a console shows, without the blanks that pad a table to its full width. A string is shown as it is."""
    if isinstance(shown, str):
        return shown
    with made.capture() as captured:
        made.print(shown)
    return "\n".join(line.rstrip() for line in captured.get().split("\n"))
