"""Findings about tokens: roles that live on in one, and scopes that restrict nothing."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from ..core.finding import Finding, FindingKind, Needs, Severity
from ..core.formulas import FALSE, walk
from ..core.requirements import Holding, permissions_in
from ..language.problems import Place, SourceText
from ..settings import Settings
from .subject import Subject

STALE_ROLES = FindingKind(
    "stale-roles",
    Severity.WARNING,
    "A role that is taken away is still used for longer than a quarter of an hour, or for as long as a token is valid.",
    "Look roles up in a [directory] with a short cache, or make tokens valid for minutes.",
    Needs.SETTINGS,
)
SCOPED_TOKEN_PASSES = FindingKind(
    "scoped-token-passes-role",
    Severity.WARNING,
    "Tokens may be made for less than their owner may do, and lines ask for a role alone, which no scope restricts.",
    "Require a permission on these lines, or say what each scope gives: [identity.scope_names] closes all other lines.",
    Needs.SETTINGS,
)
KINDS = (STALE_ROLES, SCOPED_TOKEN_PASSES)
_MOST_NAMED = 4
_LONGEST = 900.0  # seconds for which a role may be used after it was taken away


def find(subject: Subject) -> Iterator[Finding]:
    """Findings of this family."""
    settings = subject.settings
    if settings is None:
        return
    yield from _scopes(subject, settings)
    if settings.directory is not None:
        # What a token says of roles does not count where the directory knows them.
        if settings.directory.cache > _LONGEST:
            yield STALE_ROLES.at(
                place_of(settings, "directory", "cache"),
                f"A member is remembered for {settings.directory.cache:g} seconds, with the roles it had before.",
            )
        return
    if not any(
        source.kind == "jwt" and (source.claims.roles or source.claims.roles_in) for source in settings.identity
    ):
        return
    made = settings.development
    if made is not None and made.minutes * 60 > _LONGEST:
        yield STALE_ROLES.at(
            place_of(settings, "token", "minutes"),
            f"Tokens with roles are valid for {made.minutes:g} minutes: a role that is taken away lives on as long.",
        )
    else:
        yield STALE_ROLES.at(
            place_of(settings, "identity", "roles"),
            "Roles are read from a token alone: one that is taken away lives on until the token expires.",
            severity=Severity.NOTE,
        )


def _scopes(subject: Subject, settings: Settings) -> Iterator[Finding]:
    """Lines that a token with scopes opens as its owner does."""
    if not any(source.claims.scopes is not None and source.claims.scope_names is None for source in settings.identity):
        return
    lines = [
        line
        for line in subject.policy.endpoints
        if line.requirement.formula is not FALSE
        and not line.requirement.open_to_anyone
        and any(isinstance(part, Holding) for part in walk(line.requirement.formula))
        and not any(True for _ in permissions_in(line.requirement.formula))
    ]
    if lines:
        names = ", ".join(line.text for line in lines[:_MOST_NAMED]) + (" and more" if len(lines) > _MOST_NAMED else "")
        what = "1 line asks" if len(lines) == 1 else f"{len(lines)} lines ask"
        yield SCOPED_TOKEN_PASSES.at(
            lines[0].place, f"{what} for roles alone, whatever the scopes of a token: {names}."
        )


def shown_name(file: Path) -> str:
    """A file as it is called from the current folder."""
    try:
        return str(file.resolve().relative_to(Path.cwd().resolve()))
    except ValueError:
        return str(file)


def place_of(settings: Settings, table: str, key: str) -> Place:
    """Where a key of a table of the settings is; the table's own line where it is left out."""
    checked = settings.checked
    places = checked.places if checked is not None else {}
    start = (*checked.root, table) if checked is not None else (table,)
    lines = {path: line for path, line in places.items() if path[: len(start)] == start}
    exact = [line for path, line in lines.items() if path[-1] == key]
    return Place(SourceText(shown_name(settings.file), ()), min(exact or lines.values(), default=1), 1, 1)
