"""``bloodroot.toml``, or ``[tool.bloodroot]`` in ``pyproject.toml``: found, read and checked."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ..language.problems import suggestion
from .callers import ClaimNames, SourceSettings, given_by_scopes
from .checked import ASKED, ENVIRONMENT, Checked, SettingsError, SettingsTable
from .places import KeyPath
from .project import Persona, Settings, acting_for
from .reading_callers import read_development, read_directory, read_sources
from .reading_probe import read_bodies, read_probe, read_samples
from .replay_rules import read_replay
from .serving import read_serve

NAME = "bloodroot.toml"
_URL = re.compile(r"https?://[^/?#\s@]+(/[^?#\s]*)?").fullmatch


def find_settings(start: Path | None = None) -> Path | None:
    """The settings file of the project that a folder belongs to, by default the current one; None without one."""
    folder = (start or Path.cwd()).resolve()
    for path in (folder, *folder.parents):
        if (path / NAME).is_file():
            return path / NAME
        project = path / "pyproject.toml"
        if project.is_file():
            try:
                loads = tomllib.loads(project.read_text("utf-8"))
            except (OSError, ValueError):
                continue
            if "bloodroot" in loads.get("tool", {}):
                return project
    return None


def read_settings(file: str | Path) -> Settings:
    """Read and check a settings file; the file named by its ``environment`` fills in what the environment lacks.

    Raises:
        SettingsError: with every key that cannot be used.
    """
    file = Path(file)
    try:
        text = file.read_text("utf-8-sig")
        values: Any = tomllib.loads(text)
    except FileNotFoundError as error:
        raise SettingsError(f"{file}: there is no such file") from error
    except (OSError, UnicodeDecodeError) as error:
        raise SettingsError(f"{file}: this file cannot be read: {error}") from error
    except tomllib.TOMLDecodeError as error:
        raise SettingsError(f"{file}: this is not TOML: {error}") from error
    root = ("tool", "bloodroot") if file.name == "pyproject.toml" else ()
    for name in root:
        values = values.get(name, {}) if isinstance(values, dict) else {}
    checked = Checked(file, text, root)
    project = _settings(SettingsTable(checked, (), values if isinstance(values, dict) else {}, "project"))
    _see_that_personas_have(project, checked, values)
    checked.finish()
    return project


def _see_that_personas_have(project: Settings, checked: Checked, values: Any) -> None:
    """See that some persona has what ``{persona.KEY}`` is to be filled in with; what members have is not known yet."""
    personas = project.personas.values()
    if not personas or any(persona.member is not None for persona in personas):
        return
    has = {key for persona in personas for key in persona.values}
    for path, key in _of_personas(values, ()):
        if key not in has:
            checked.problem(path, f"no persona has {{persona.{key}}}{suggestion(key, has)}")


def _of_personas(value: Any, path: KeyPath) -> Iterator[tuple[KeyPath, str]]:
    """What strings of the file refer to in personas, each with where."""
    if isinstance(value, str):
        yield from ((path, key) for root, key in ASKED.findall(value) if root == "persona")
    elif isinstance(value, dict | list):
        items = value.items() if isinstance(value, dict) else enumerate(value)
        for name, each in items:
            yield from _of_personas(each, (*path, name))


def _settings(table: SettingsTable) -> Settings:
    table.known()
    checked = table.checked
    folder = checked.file.parent
    environment = table.file("environment")
    if environment is not None:
        _take_environment(table, environment)
    samples = read_samples(table.table("samples"))
    sources = read_sources(table)
    probe, personas = read_probe(table.table("probe", "probe")), _personas(table.table("personas"), sources)
    if probe.acting is not None and not any(persona.actor for persona in personas.values()):
        table.table("probe").problem("acting", 'no persona acts for another; write actor = "NAME" of one that does')
    url = table.text("url")
    if url is not None and not _URL(url) and not ENVIRONMENT.search(url):
        message = 'this must be where the application is running, such as "http://127.0.0.1:8000"'
        table.problem("url", f'{message}, or "{{env.NAME}}"')
    return Settings(
        checked.file,
        folder / (table.text("policy") or ""),
        table.text("app"),
        table.file("openapi"),
        url.rstrip("/") if url is not None else None,
        personas,
        samples.values,
        samples.conditions,
        probe,
        read_bodies(table.table("bodies")),
        sources,
        read_development(table),
        read_directory(table),
        checked,
        samples.things,
        samples.candidates,
        root=table.file("root"),
        serve=read_serve(table.table("serve", "serve")),
        replay=read_replay(table.table("replay", "replay")),
        accept={" ".join(each.split()): reason for each, reason in table.table("accept").each_value().items()},
    )


def _take_environment(table: SettingsTable, file: Path) -> None:
    """NAME=value lines, for names that the environment does not have yet."""
    try:
        lines = file.read_text("utf-8").splitlines()
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8 text"
        table.problem("environment", f"{file.name} cannot be read: {reason}")
        return
    for number, line in enumerate(lines, 1):
        if line.strip() and not line.lstrip().startswith("#"):
            name, equals, value = line.partition("=")
            if not equals or not name.strip().isidentifier():
                table.problem("environment", f"{file.name}:{number}: this line is not NAME=value")
            else:
                os.environ.setdefault(name.strip(), value.strip().strip('"'))


def _personas(table: SettingsTable, sources: tuple[SourceSettings, ...]) -> dict[str, Persona]:
    """``[personas]``, each with the persona who acts for it."""
    tables = table.each_table("personas.NAME")
    claims = next((source.claims for source in sources if source.claims.scopes is not None), ClaimNames(("sub",)))
    alone = {name: _persona(name, each, claims) for name, each in tables.items()}
    found = dict(alone)
    for name, each in tables.items():
        actor = each.text("actor")
        if actor is None:
            continue
        if actor not in alone:
            each.problem("actor", f'there is no persona "{actor}"{suggestion(actor, alone)}')
        elif not alone[actor].signed_in or not alone[name].signed_in or "actor" in tables[actor]:
            each.problem("actor", "one who acts for another is signed in, and so is the other; they act themselves")
        else:
            found[name] = acting_for(alone[name], alone[actor])
    return found


def _persona(name: str, table: SettingsTable, claims: ClaimNames) -> Persona:
    extra = {key: value for key, value in table.values.items() if key not in table.keys}
    for key, value in extra.items():
        if key not in table.checked.asked:
            guess = suggestion(key, table.keys) or f"; nothing refers to {{persona.{key}}}"
            table.problem(key, f"unknown key{guess}")
        elif not isinstance(value, str | int | float) or isinstance(value, bool):
            table.problem(key, "this must be a string or a number")
    signed_in = table.flag("signed_in")
    member = table.text("member")
    attributes = table.table("attributes").values
    roles, groups, permissions = table.names("roles"), table.names("groups"), table.names("permissions")
    roles_in = _roles_in(table)
    if not signed_in and (roles or attributes or groups or permissions or roles_in or member is not None):
        table.problem("signed_in", "a persona that is not signed in has no roles and no attributes")
    if member is not None and (roles or groups or permissions or roles_in):
        table.problem("member", "the directory says what this member holds; leave roles, groups and permissions out")
    values = {key: str(value) for key, value in {**attributes, **extra, "name": name}.items()}
    if member is not None:
        values["member"] = member
    scopes = None
    if "scopes" in table:
        named = table.names("scopes")
        scopes = given_by_scopes(named, claims)
        for scope in named:
            if claims.scope_names is not None and scope not in claims.scope_names:
                known = suggestion(scope, claims.scope_names)
                table.problem("scopes", f'[identity] scope_names has no scope "{scope}"{known}')
    return Persona(name, signed_in, roles, groups, attributes, values, permissions, member, roles_in, scopes=scopes)


def _roles_in(table: SettingsTable) -> dict[str, dict[str, tuple[str, ...]]]:
    """The roles of a persona by thing and by the identifier of the record."""
    if not isinstance(table.values.get("roles_in", {}), dict):
        table.problem("roles_in", 'this must be a table, such as { studio = { 7 = ["editor"] } }')
        return {}
    things = table.table("roles_in")
    found = {}
    for thing in things.values:
        records = things.table(thing)
        found[thing] = {identifier: records.names(identifier) for identifier in records.values}
    return found
