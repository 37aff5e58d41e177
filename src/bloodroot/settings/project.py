"""What the settings of a project say, as plain data."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from ..core.caller import Caller
from .callers import ClaimNames, Development, DirectoryTables, SourceSettings
from .checked import ASKED, ENVIRONMENT, Checked, SettingsError
from .probing import Body, ProbeRules, Sample, ThingSample
from .replay_rules import ReplayRules
from .serving import ServeRules


@dataclass(frozen=True, slots=True)
class Persona:
    """A made-up caller with credentials, used to probe.

    Attributes:
        name: its name in the settings.
        signed_in: whether it is signed in.
        roles: roles held directly.
        groups: groups that a directory would send.
        attributes: what conditions may ask for; ``id`` becomes the caller's id.
        values: strings for ``{persona.NAME}``: the attributes, and whatever else the settings say of this persona.
        permissions: permissions beside those of the roles, as a directory grants them.
        member: the login of the member of the directory that it is, or None.
        roles_in: for each thing, the roles that are held in one of its records, by the identifier of that.
        found: that member as a caller, once the directory was asked; None before, and for one who may not act.
        actor: the persona who acts for this one, as support staff do; None where it acts itself.
        scopes: what its token may be used for, and the roles that count with it; None where nothing is held back.
        caller: the persona as a policy sees it; None for a signed-out one.
    """

    name: str
    signed_in: bool = True
    roles: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)
    permissions: tuple[str, ...] = ()
    member: str | None = None
    roles_in: Mapping[str, Mapping[str, tuple[str, ...]]] = field(default_factory=dict)
    found: Caller | None = None
    actor: Persona | None = None
    scopes: tuple[frozenset[str] | None, frozenset[str] | None] | None = None
    caller: Caller | None = field(init=False, repr=False, compare=False)

    def __post_init__(self) -> None:
        caller = self.found
        if self.signed_in and self.member is None:
            rest = {name: value for name, value in self.attributes.items() if name != "id"}
            granted = dict.fromkeys(self.permissions, "the directory, as the settings say of this persona")
            identity = self.attributes.get("id")
            caller = Caller(identity, self.roles, self.groups, rest, granted=granted, roles_in=self.roles_in)
        if caller is not None and self.scopes is not None:
            caller = replace(caller, scopes=self.scopes[0], scoped_roles=self.scopes[1])
        if caller is not None and self.actor is not None:
            # The id may not be known before the directory was asked; that someone else acts is.
            acting = self.actor.caller
            caller = replace(caller, actor=self.actor.name if acting is None or acting.id is None else acting.id)
        object.__setattr__(self, "caller", caller)


def acting_for(persona: Persona, actor: Persona) -> Persona:
    """A persona for whom another one acts; ``{persona.actor}`` is the id of that one, or its name."""
    acting = replace(persona, actor=actor)
    return replace(acting, values={**acting.values, "actor": str(acting.caller.actor if acting.caller else actor.name)})


@dataclass(frozen=True, slots=True)
class Settings:
    """Everything in the file, checked.

    Attributes:
        file: the file itself.
        policy: the policy file.
        app: the application object as ``module:name``, or None.
        openapi: an OpenAPI document of the application, or None.
        url: where the application is running, or None: then it is asked in this process.
        personas: by name, in the order of the file.
        values: for each parameter of a path, a value.
        samples: for conditions, by name.
        things: for things, by name, their records by identifier.
        probe: how the application is asked.
        bodies: what is sent, by method and path template such as ``POST /trials``: one body, or several in turn.
        identity: where callers say who they are, in the order of the file.
        development: how to make tokens while the application is being developed, or None.
        directory: where members, roles and grants are kept, or None.
        checked: the file as it was checked, for what is found later.
        candidates: for parameters, values of several records: which of them suit whom is for the records to say.
        loaded: for such parameters, the records by value, once the application has loaded them.
        root: the folder that what the policy includes must be in; None for that of the git repository.
        serve: how questions are answered over HTTP.
        replay: how logs are read.
        accept: findings that are right here, by the name of the finding and how its entry begins, with the reason.
    """

    file: Path
    policy: Path
    app: str | None = None
    openapi: Path | None = None
    url: str | None = None
    personas: Mapping[str, Persona] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)
    samples: Mapping[str, Sample] = field(default_factory=dict)
    probe: ProbeRules = field(default_factory=ProbeRules)
    bodies: Mapping[str, tuple[Body, ...]] = field(default_factory=dict)
    identity: tuple[SourceSettings, ...] = ()
    development: Development | None = None
    directory: DirectoryTables | None = None
    checked: Checked | None = field(default=None, repr=False, compare=False)
    things: Mapping[str, Mapping[str, ThingSample]] = field(default_factory=dict)
    candidates: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    loaded: Mapping[str, Mapping[str, Any]] = field(default_factory=dict, repr=False, compare=False)
    root: Path | None = None
    accept: Mapping[str, str] = field(default_factory=dict)
    serve: ServeRules = field(default_factory=ServeRules)
    replay: ReplayRules = field(default_factory=ReplayRules)

    @property
    def folder(self) -> Path:
        """The project's folder: relative names start here."""
        return self.file.parent

    def address(self) -> str | None:
        """Where the application is running, without a slash at the end; None where it is asked in this process.

        Raises:
            SettingsError: the environment has no such name.
        """
        return self.fill(self.url, None, "url").rstrip("/") if self.url is not None else None

    def fill(self, text: str, persona: Persona | None, where: str) -> str:
        """A string with ``{env.NAME}`` and ``{persona.NAME}`` filled in.

        Raises:
            SettingsError: the environment, or the persona, has no such name.
        """

        def filled(match: re.Match[str]) -> str:
            root, name = match.groups()
            if root == "env":
                if name not in os.environ:
                    raise SettingsError(
                        f"{self.file.name}: {where} requires {match[0]}, and {name} is not set; set it in the "
                        f'environment, or in a file of NAME=value lines named by environment = "..."'
                    )
                return os.environ[name]
            if persona is None or name not in persona.values:
                called = f'persona "{persona.name}"' if persona else "a signed-out caller"
                raise SettingsError(
                    f"{self.file.name}: {where} requires {match[0]}, and {called} has no {name}; "
                    f'write {name} = "..." under [personas.{persona.name if persona else "..."}]'
                )
            # What a persona has may be a secret of the environment itself.
            return ENVIRONMENT.sub(filled, persona.values[name])

        return ASKED.sub(filled, text)

    def fill_in(self, text: str, persona: Persona) -> str:
        """A string with ``{persona.NAME}`` filled in; ``{env.NAME}``, which may be a secret, stays a name.

        Raises:
            SettingsError: the persona has no such name.
        """

        def filled(match: re.Match[str]) -> str:
            if match[1] == "env":
                return match[0]
            return persona.values[match[2]] if match[2] in persona.values else self.fill(match[0], persona, "fields")

        return ASKED.sub(filled, text)

    def filled(self, value: Any, persona: Persona, where: str) -> Any:
        """What a body holds, with every string in it filled in as by `fill`."""
        if isinstance(value, str):
            return self.fill(value, persona, where)
        if isinstance(value, Mapping):
            return {name: self.filled(item, persona, where) for name, item in value.items()}
        return [self.filled(item, persona, where) for item in value] if isinstance(value, list) else value


def names_of_scopes(settings: Settings | None) -> ClaimNames:
    """What says what scopes mean: the first source of callers that has scopes."""
    sources = settings.identity if settings is not None else ()
    return next((source.claims for source in sources if source.claims.scopes is not None), ClaimNames(("sub",)))
