"""Personas that are members of the directory: what they hold is looked up, so that it is written once."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from ..core.caller import Caller, Unidentified
from ..settings import Persona, Settings, SettingsError, acting_for
from .directory import Directory
from .identification import directory_of


def with_members(settings: Settings, names: Iterable[str] | None = None) -> Settings:
    """The settings with what the directory says of personas that are members of it.

    Args:
        settings: the settings.
        names: the personas to look up; None for all.

    Raises:
        SettingsError: there is no directory, it cannot be asked, or it has no such member.
    """
    wanted = [settings.personas[name] for name in (settings.personas if names is None else names)]
    wanted += [persona.actor for persona in wanted if persona.actor is not None]
    members = [persona for persona in wanted if persona.member is not None]
    if not members:
        return settings
    directory = directory_of(settings)
    directory.check()
    found = {persona.name: _found(persona, directory, settings) for persona in members}
    personas = {**settings.personas, **found}
    for name, persona in personas.items():
        if persona.actor is not None:
            personas[name] = acting_for(persona, personas[persona.actor.name])
    return replace(settings, personas=personas)


def _found(persona: Persona, directory: Directory, settings: Settings) -> Persona:
    assert persona.member is not None
    member = directory.member_with_login(persona.member)
    if member is None:
        raise SettingsError(
            f'{settings.file.name}: persona "{persona.name}": the directory has no member {persona.member}; '
            "bloodroot seed FILE makes it"
        )
    try:
        caller: Caller | None = directory.judged(member, member.id, None)
    except Unidentified:
        # It may not act, and is a signed-out caller however it signs in.
        caller = None
    attributes = {**member.attributes, **persona.attributes}
    if caller is not None:
        caller = replace(caller, attributes=attributes)
    values = {key: str(value) for key, value in attributes.items() if isinstance(value, str | int | float)}
    return replace(persona, found=caller, values={**values, "id": str(member.id), **persona.values})
