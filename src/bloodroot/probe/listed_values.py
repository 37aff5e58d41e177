"""Values for parameters of paths, taken from lists that the application itself gives."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import httpx

from ..settings import ListedValue, Settings, SettingsError
from .credentials import client_of
from .sign_in import sign_in, visit, way_for

if TYPE_CHECKING:
    from .application import Application


_MOST = 12  # records from one list


async def with_listed_values(settings: Settings, application: Application) -> Settings:
    """The settings with the values of ``[probe.values]``; what ``[samples]`` has is left as it is.

    The application must be running.

    Raises:
        SettingsError: a list cannot be had, or has no such value.
    """
    values, candidates = dict(settings.values), dict(settings.candidates)
    for name, listed in settings.probe.values.items():
        if name in values or name in candidates:
            continue
        found = await _values(settings, application, name, listed)
        if "*" in listed.at.split("."):
            candidates[name] = tuple(dict.fromkeys(found))[:_MOST]
        else:
            values[name] = found[0]
    return replace(settings, values=values, candidates=candidates)


async def _values(settings: Settings, application: Application, name: str, listed: ListedValue) -> list[str]:
    persona = settings.personas[listed.persona]
    way = way_for(settings, listed.path)
    if persona.signed_in and way is not None:
        credentials = await sign_in(settings, persona, way, application)
    else:
        credentials = await visit(settings, way, application)
    where = f"{settings.file.name}: probe.values.{name}: GET {listed.path} as {persona.name}"
    headers = {**credentials.sent, "accept": "application/json"}
    async with client_of(application, settings.probe.timeout) as client:
        try:
            response = await client.get(listed.path, headers=headers)
        except httpx.HTTPError as error:
            raise SettingsError(f"{where} has no response: {type(error).__name__}") from error
    if not response.is_success:
        raise SettingsError(f"{where} answered {response.status_code}")
    try:
        values = _at(response.json(), [part for part in listed.at.split(".") if part])
    except ValueError as error:
        raise SettingsError(f"{where} did not answer JSON") from error
    found = [str(value) for value in values if isinstance(value, str | int) and not isinstance(value, bool)]
    if not found:
        raise SettingsError(f'{where} has no text or number at "{listed.at}"')
    return found


def _at(value: Any, way: list[str]) -> list[Any]:
    """What a JSON value has at ``items.0.id``, or at ``items.*.id``."""
    if not way:
        return [value]
    name, *rest = way
    if isinstance(value, dict):
        inner = [value[name]] if name in value else []
    elif isinstance(value, list):
        inner = value if name == "*" else value[int(name) : int(name) + 1] if name.isdecimal() else []
    else:
        inner = []
    return [found for each in inner for found in _at(each, rest)]
