"""How one who has signed in begins to act for another, as support staff do."""

from __future__ import annotations

from urllib.parse import urlsplit

import httpx

from ..settings import ActingSettings, Persona, Settings, SettingsError, SignIn
from .application import Application
from .credentials import PAGES, PROGRAMS, Credentials, at, cookies_of, hidden_in, referer
from .forms import forms_in, token_in


async def begin_to_act(
    client: httpx.AsyncClient,
    settings: Settings,
    persona: Persona,
    way: SignIn,
    application: Application,
    own: Credentials,
) -> Credentials:
    """What is sent in the place of a persona by the one who acts for it.

    Args:
        client: what the actor has signed in with; it has the cookies of the actor.
        settings: the settings, with ``[probe.acting]``.
        persona: the persona that is acted for.
        way: how its actor has signed in.
        application: the application.
        own: what the actor sends for itself.

    Raises:
        SettingsError: the settings do not say how it begins, or the application did not let it begin.
        httpx.HTTPError: there was no response.
    """
    acting, actor = settings.probe.acting, persona.actor
    assert actor is not None
    if acting is None:
        raise SettingsError(
            f'{settings.file.name}: {actor.name} acts for persona "{persona.name}", and nothing says how that begins; '
            'write [probe.acting] path = "/support/act-for/{persona.id}", for example'
        )
    path = settings.fill(acting.path, persona, "probe.acting.path")
    fields = {
        name: settings.fill(value, persona, f"probe.acting.fields.{name}") for name, value in acting.fields.items()
    }
    if acting.token is not None:
        response = await client.post(path, headers=own.headers, json=fields)
    else:
        response = await _by_form(client, acting, path, fields, way, application, own)
    if response.status_code >= 400:
        raise SettingsError(f"{_failed(persona, path)} answered {response.status_code}")
    if acting.token is not None:
        token = at(response, acting.token)
        if not isinstance(token, str):
            raise SettingsError(f'{_failed(persona, path)}: there is no text at "{acting.token}" in the answer')
        return Credentials({}, {**PROGRAMS, "authorization": f"Bearer {token}"})
    # What forms hide is bound to who acts now: the pages are read again.
    leads = urlsplit(response.headers.get("location", "")).path or way.lands or "/"
    page = await client.get(leads, headers=PAGES)
    cookies, text = cookies_of(client), page.text if page.is_success else ""
    return Credentials(cookies, PAGES, token_in(text, leads, cookies, way.csrf) or own.forgery, hidden_in(text, leads))


def _failed(persona: Persona, path: str) -> str:
    actor = persona.actor.name if persona.actor is not None else ""
    return f'{actor} could not begin to act for persona "{persona.name}": POST {path}'


async def _by_form(
    client: httpx.AsyncClient,
    acting: ActingSettings,
    path: str,
    fields: dict[str, str],
    way: SignIn,
    application: Application,
    own: Credentials,
) -> httpx.Response:
    """Fetch the page with the form, and send the form with all that it hides."""
    page = acting.page or way.lands or "/"
    shown = await client.get(page, headers=own.headers)
    text = shown.text if shown.is_success else ""
    form = next((form for form in forms_in(text, page) if form.action == path and form.method == "POST"), None)
    token = token_in(text, page, cookies_of(client), way.csrf) or own.forgery
    headers = {**own.headers, **(token.headers if token else {}), **referer(application, page)}
    hidden = dict(form.fields) if form is not None else {}
    if form is None and token is not None and token.field is not None:
        hidden[token.field] = token.value
    return await client.post(path, headers=headers, data={**hidden, **fields})
