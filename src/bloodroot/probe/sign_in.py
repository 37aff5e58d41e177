"""Signing in as a persona through the application's own sign-in."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import httpx

from ..core.paths import read_path
from ..settings import Persona, Settings, SettingsError, SignIn


@dataclass(frozen=True, slots=True)
class Credentials:
    """What a signed-in persona sends with each request."""

    cookies: dict[str, str]
    headers: dict[str, str]


def visiting(way: SignIn | None) -> Credentials:
    """What a signed-out persona sends: no credentials, and whether it accepts pages or JSON."""
    return Credentials({}, {"accept": "application/json" if way is not None and way.token else "text/html"})


def way_for(settings: Settings, path: str) -> SignIn | None:
    """The way of signing in that goes with a path: one made for it, else the one made for all."""
    segments = read_path(path)
    for way in settings.sign_ins:
        if way.covers is not None and segments is not None and way.covers.covers(segments):
            return way
    return next((way for way in settings.sign_ins if way.covers is None), None)


async def sign_in(
    settings: Settings, persona: Persona, way: SignIn, transport: httpx.AsyncBaseTransport, base: str
) -> Credentials:
    """Sign in, and keep the cookies or the token that the application hands out.

    Raises:
        SettingsError: the application does not sign the persona in.
    """
    fields = {name: settings.fill(value, persona, f"probe.sign_in.fields.{name}") for name, value in way.fields.items()}
    sent: dict[str, Any] = {"data": fields} if way.how == "form" else {"json": fields}
    async with httpx.AsyncClient(transport=transport, base_url=base, follow_redirects=False) as client:
        response = await client.post(way.path, **sent)
        cookies = dict(client.cookies)
    who = f'persona "{persona.name}" could not sign in: POST {way.path} answered {response.status_code}'
    if response.status_code >= 400:
        raise SettingsError(f"{who}; are the fields under [probe.sign_in] right, and is the data there?")
    if way.token is None:
        if not cookies:
            raise SettingsError(f"{who} and set no cookie; is this the address the form is sent to?")
        return Credentials(cookies, visiting(way).headers)
    found = _at(response, way.token)
    if not isinstance(found, str):
        raise SettingsError(f'{who}, and there is no text at "{way.token}" in the answer')
    return Credentials(cookies, {**visiting(way).headers, "authorization": f"Bearer {found}"})


def _at(response: httpx.Response, path: str) -> Any:
    """What a JSON answer has at ``a.b.c``, or None."""
    try:
        found = response.json()
    except ValueError:
        return None
    for name in path.split("."):
        found = found.get(name) if isinstance(found, dict) else None
    return found
