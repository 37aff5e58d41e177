"""What a shell offers while a command is typed: names of the policy, of the settings and of the repository.

Nothing here imports the application, and nothing fails: where a name cannot be found, there is nothing to offer.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import typer

from ..language.errors import BloodrootError

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..settings import Settings

_METHODS = ("GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "WEBSOCKET")


def _project(ctx: typer.Context) -> tuple[Policy | None, Settings | None]:
    """The policy and the settings that the words so far name, or the usual ones; None for what cannot be read."""
    from . import inputs

    policy, settings = ctx.params.get("policy"), ctx.params.get("settings")
    project = rules = None
    with contextlib.suppress(BloodrootError, OSError):
        project = inputs.settings_of(settings)
    with contextlib.suppress(BloodrootError, OSError):
        named = policy or inputs.usual_policy(project)
        rules = inputs.read_policy(named, project.root if project is not None else None)[0]
    return rules, project


def _beginning(names: Iterable[str], incomplete: str) -> list[str]:
    return [name for name in dict.fromkeys(names) if name.startswith(incomplete)]


def _callers(rules: Policy | None, project: Settings | None) -> list[str]:
    personas = list(project.personas) if project is not None else []
    roles = list(rules.roles.kinds) if rules is not None else []
    return [*personas, *roles, "signed-in", "signed-out"]


def caller(ctx: typer.Context, incomplete: str) -> list[str]:
    """A persona, or roles with commas between them."""
    before, comma, last = incomplete.rpartition(",")
    return [before + comma + name for name in _beginning(_callers(*_project(ctx)), last)]


def column(ctx: typer.Context, incomplete: str) -> list[str]:
    """A role or a persona."""
    return _beginning(_callers(*_project(ctx)), incomplete)


def persona(ctx: typer.Context, incomplete: str) -> list[str]:
    """A persona."""
    project = _project(ctx)[1]
    return _beginning(project.personas if project is not None else (), incomplete)


def method(ctx: typer.Context, incomplete: str) -> list[str]:
    """A method that the policy names, or a usual one."""
    rules = _project(ctx)[0]
    named = {each for line in rules.endpoints for each in line.methods} if rules is not None else set()
    return _beginning((*_METHODS, *sorted(named)), incomplete.upper())


def path(ctx: typer.Context, incomplete: str) -> list[str]:
    """A path as a line of the policy has it."""
    rules = _project(ctx)[0]
    return _beginning((line.template.text for line in rules.endpoints), incomplete) if rules is not None else []


def pattern(ctx: typer.Context, incomplete: str) -> list[str]:
    """An endpoint, as options that choose some take it."""
    rules = _project(ctx)[0]
    lines = rules.endpoints if rules is not None else ()
    names = [f"{each} {line.template.text}" for line in lines for each in line.methods or ("*",)]
    return _beginning((*(line.template.text for line in lines), *names), incomplete)


def asked(ctx: typer.Context, incomplete: str) -> list[str]:
    """The words of ``why``: a caller, a method and a path."""
    before = len(ctx.params.get("words") or ())
    first = 0 if not (ctx.params.get("who_gets_in") or ctx.params.get("path_only")) else 1
    return (caller, method, path)[min(before + first, 2)](ctx, incomplete)


def revision(ctx: typer.Context, incomplete: str) -> list[str]:  # noqa: ARG001
    """A branch or a tag of the repository, or a policy file."""
    from ..revisions import RevisionError, names_of_revisions

    found: list[str] = []
    with contextlib.suppress(RevisionError):
        found += names_of_revisions(Path.cwd())
    found += sorted(str(file) for file in Path().glob("*.bloodroot"))
    return _beginning((*found, "HEAD"), incomplete)


def finding(ctx: typer.Context, incomplete: str) -> list[str]:  # noqa: ARG001
    """Names of findings with commas between them."""
    from ..checks.checking import KINDS

    before, comma, last = incomplete.rpartition(",")
    return [before + comma + name for name in _beginning(KINDS, last)]


def words(what: Any) -> Any:
    """A completion as Typer takes it, which offers nothing where anything goes wrong."""

    def offered(ctx: typer.Context, incomplete: str) -> list[str]:
        try:
            found: list[str] = what(ctx, incomplete)
        except Exception:
            return []
        return found

    return offered
