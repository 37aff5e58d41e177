"""Values for parameters of paths, taken from lists that the application itself gives."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING, Any

import httpx

from ..settings import ListedValue, Settings, SettingsError
from .sign_in import client_of, sign_in, visit, way_for

if TYPE_CHECKING:
    from .application import Application


async def with_listed_values(settings: Settings, application: Application) -> Settings:
    """The settings with the values of ``[probe.values]``; what ``[samples]`` has is left as it is.

    The application must be running.

    Raises:
        SettingsError: a list cannot be had, or has no such value.
    """
    values = dict(settings.values)
    for name, listed in settings.probe.values.items():
        if name not in values:
            values[name] = await _value(settings, application, name, listed)
    return replace(settings, values=values)


async def _value(settings: Settings, application: Application, name: str, listed: ListedValue) -> str:
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
        value = _at(response.json(), listed.at)
    except ValueError as error:
        raise SettingsError(f"{where} did not answer JSON") from error
    if not isinstance(value, str | int) or isinstance(value, bool):
        raise SettingsError(f'{where} has no text or number at "{listed.at}"')
    return str(value)


def _at(value: Any, way: str) -> Any:
    """What a JSON value has at ``items.0.id``, or None."""
    for name in filter(None, way.split(".")):
        if isinstance(value, dict):
            value = value.get(name)
        elif isinstance(value, list) and name.isdecimal() and int(name) < len(value):
            value = value[int(name)]
        else:
            return None
    return value
