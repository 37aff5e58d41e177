"""Signing in as a persona through the application's own sign-in."""

from __future__ import annotations

import base64
import datetime
from collections.abc import Mapping
from dataclasses import replace
from typing import Any
from urllib.parse import urlsplit

import httpx

from ..core.paths import read_path
from ..identity.claims import claims_of
from ..identity.examination import token_source
from ..identity.tokens import make_token
from ..settings import Persona, Settings, SettingsError, SignIn
from ..survey.endpoints import printable
from .acting import begin_to_act
from .application import WATCHED, Application
from .credentials import PAGES, PROGRAMS, Credentials, at, client_of, cookies_of, hidden_in, referer
from .forms import ForgeryToken, forms_in, token_in
from .spelling import is_other_spelling, is_same_page
from .watching import WatchedRequest

_MOST_PAGES = 3


def way_for(settings: Settings, path: str) -> SignIn | None:
    """The way of signing in that goes with a path: one made for it, else the one made for all."""
    segments = read_path(path.rstrip("/") or "/")
    for way in settings.probe.sign_ins:
        if way.covers is not None and segments is not None and way.covers.covers(segments):
            return way
    return next((way for way in settings.probe.sign_ins if way.covers is None), None)


def accepts(way: SignIn | None) -> dict[str, str]:
    """What a caller accepts who uses a way of signing in: pages, or JSON."""
    by_token = way is not None and (way.token is not None or way.how == "bearer")
    return PROGRAMS if by_token else PAGES


async def visit(settings: Settings, way: SignIn | None, application: Application) -> Credentials:
    """What a signed-out persona sends: no credentials, and the token that forms have for visitors too."""
    if way is None or way.how != "form":
        return Credentials({}, accepts(way))
    async with client_of(application, settings.probe.timeout) as client:
        try:
            page = await client.get(way.path, headers=PAGES)
        except httpx.HTTPError:
            return Credentials({}, PAGES)
        cookies = cookies_of(client)
    if not page.is_success:
        return Credentials(cookies, PAGES)
    return Credentials(cookies, PAGES, token_in(page.text, way.path, cookies, way.csrf), hidden_in(page.text, way.path))


async def sign_in(settings: Settings, persona: Persona, way: SignIn, application: Application) -> Credentials:
    """Sign in, and keep the cookies or the token that the application hands out.

    Where another persona acts for this one, that one signs in, and begins to act.

    Raises:
        SettingsError: the application does not sign the persona in; the message has what came back.
    """
    where, sends = "probe.sign_in.fields", way.how in ("form", "json") or bool(way.path)
    says = any("{persona.actor}" in value for value in way.fields.values())
    if way.how == "bearer" and not way.path:
        says = token_source(settings).claims.actor is not None  # in the token that is made
    if persona.actor is not None and not sends and not says:
        raise SettingsError(
            f'{settings.file.name}: {persona.actor.name} acts for persona "{persona.name}", and nothing that is sent '
            f"says so: {where} needs {{persona.actor}}"
        )
    # A persona that acts for another signs in as itself.
    who = persona.actor if persona.actor is not None and sends else persona
    fields = {name: settings.fill(value, who, f"{where}.{name}") for name, value in way.fields.items()}
    if way.how == "basic":
        pair = base64.b64encode(f"{fields['name']}:{fields['password']}".encode()).decode()
        return Credentials({}, {**PAGES, "authorization": f"Basic {pair}"})
    if way.how == "header":
        return Credentials({}, {**PAGES, **{name.lower(): value for name, value in fields.items()}})
    if way.how == "bearer" and not way.path:
        return Credentials({}, {**PROGRAMS, "authorization": f"Bearer {_made(settings, persona)}"})
    if way.elsewhere:
        own = await _of_provider(settings, who, way, fields)
        if who is persona:
            return own
        async with client_of(application, settings.probe.timeout) as client:
            return await begin_to_act(client, settings, persona, way, application, own)
    signing = _SigningIn(settings, who, way, application)
    async with client_of(application, settings.probe.timeout) as client:
        try:
            own = await (signing.by_form(client, fields) if way.how == "form" else signing.by_json(client, fields))
            return own if who is persona else await begin_to_act(client, settings, persona, way, application, own)
        except httpx.HTTPError as error:
            raise SettingsError(
                f'persona "{persona.name}" could not sign in: POST {way.path}: {type(error).__name__} {error}'.rstrip()
            ) from error


async def _of_provider(settings: Settings, persona: Persona, way: SignIn, fields: Mapping[str, str]) -> Credentials:
    """A token that a provider gives for a form (RFC 6749, sections 4.3 and 4.4)."""
    url = settings.fill(way.path, None, "probe.sign_in.path")
    async with httpx.AsyncClient(timeout=settings.probe.timeout, follow_redirects=False) as client:
        try:
            response = await client.post(url, data=dict(fields), headers=PROGRAMS)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            message = f"POST {url}: {type(error).__name__} {error}".rstrip()
            raise SettingsError(f'persona "{persona.name}" could not sign in: {message}') from error
    token = at(response, way.token or "access_token") if response.is_success else None
    if not isinstance(token, str):
        said = at(response, "error_description") or at(response, "error")
        why = f": {printable(str(said))}" if said else ""
        raise SettingsError(
            f'persona "{persona.name}" could not sign in: POST {url} answered {response.status_code}{why}; are the '
            "fields under [probe.sign_in] right?"
        )
    return Credentials({}, {**PROGRAMS, "authorization": f"Bearer {token}"})


def _made(settings: Settings, persona: Persona) -> str:
    """A token made for development, as ``bloodroot token make`` makes it."""
    if settings.development is None:
        raise SettingsError(
            f'{settings.file.name}: how = "bearer" without a path makes tokens, and there is nothing to sign them '
            'with; write [token] development_key = "{env.NAME}"'
        )
    caller = persona.caller
    source = token_source(settings)
    if caller is None or caller.id is None or source.token is None:
        raise SettingsError(f'persona "{persona.name}" has no id to make a token for; write attributes = {{ id = 1 }}')
    try:
        claims = claims_of(caller, source.claims)
    except ValueError as error:
        raise SettingsError(f'persona "{persona.name}" cannot be written into a token: {error}') from error
    now = datetime.datetime.now(datetime.UTC)
    return make_token(claims, source.token, settings.development, settings, now)


class _SigningIn:
    """One persona, one way."""

    def __init__(self, settings: Settings, persona: Persona, way: SignIn, application: Application) -> None:
        self.settings = settings
        self.persona = persona
        self.way = way
        self.application = application
        self.watched = WatchedRequest()

    def failed(self, response: httpx.Response, why: str) -> SettingsError:
        """The error of a persona that cannot sign in, with what came back."""
        said = f": the application raised {self.watched.error}" if self.watched.error else ""
        return SettingsError(
            f'persona "{self.persona.name}" could not sign in: POST {self.way.path} answered '
            f"{response.status_code}{said}{why}"
        )

    async def page(self, client: httpx.AsyncClient) -> httpx.Response:
        """The page with the form, wherever the router sends from one spelling of its path to the other."""
        page = await client.get(self.way.path, headers=PAGES)
        location = page.headers.get("location", "")
        if is_other_spelling(self.way.path, page.status_code, location):
            self.way = replace(self.way, path=urlsplit(location).path)
            page = await client.get(self.way.path, headers=PAGES)
        return page

    async def sent(self, client: httpx.AsyncClient, headers: Mapping[str, str], **body: Any) -> httpx.Response:
        response = await client.post(self.way.path, headers=dict(headers), extensions={WATCHED: self.watched}, **body)
        if response.status_code >= 400:
            raise self.failed(response, "; are the fields under [probe.sign_in] right, and is the data there?")
        return response

    async def by_form(self, client: httpx.AsyncClient, fields: Mapping[str, str]) -> Credentials:
        """Fetch the form, fill it in, and send it with all that it hides."""
        page = await self.page(client)
        before = cookies_of(client)
        hidden = {}
        forms = [form for form in forms_in(page.text, self.way.path) if form.method == "POST"]
        # By the names of its inputs: they may have no value, and a password may be asked for in a field of text.
        form = max(forms, key=lambda form: (len(set(fields) & form.names), form.password), default=None)
        if form is not None:
            hidden = form.fields
        token = token_in(page.text, self.way.path, before, self.way.csrf)
        response = await self.sent(
            client,
            {**PAGES, **(token.headers if token else {}), **referer(self.application, self.way.path)},
            data={**hidden, **fields},
        )
        cookies = cookies_of(client)
        leads = urlsplit(response.headers.get("location", "")).path
        again = any(form.password for form in forms_in(response.text, self.way.path))
        if is_same_page(leads, self.way.path) or (not leads and again):
            raise self.failed(response, ", and shows the form again; are the fields under [probe.sign_in] right?")
        if not cookies:
            raise self.failed(response, " and set no cookie; is this the address the form is sent to?")
        if cookies == before and self.way.lands is None:
            # Nothing has changed: unless a session that was there has been signed in, no one has.
            raise self.failed(
                response,
                " and left the cookies as they were; if a session of a visitor becomes that of a member, "
                'name the page that signing in leads to: lands = "/..."',
            )
        if self.way.lands is not None and leads and not is_same_page(leads, self.way.lands):
            raise self.failed(response, f" and led to {leads}, not to {self.way.lands}")
        credentials = await self.signed_in(client, token, leads)
        return replace(credentials, hidden={self.way.path: hidden, **credentials.hidden})

    async def signed_in(self, client: httpx.AsyncClient, token: ForgeryToken | None, leads: str) -> Credentials:
        """The credentials, with the token that forms have for who is signed in now."""
        for path in dict.fromkeys(filter(None, (self.way.lands, leads, self.way.path))):
            page = await client.get(path, headers=PAGES)
            if path == self.way.lands and not page.is_success:
                raise SettingsError(
                    f'persona "{self.persona.name}" could not sign in: GET {path}, where signing in leads, answered '
                    f"{page.status_code}"
                )
            found = token_in(page.text, path, cookies_of(client), self.way.csrf) if page.is_success else None
            if found is not None:
                return Credentials(cookies_of(client), PAGES, found, hidden_in(page.text, path))
        # What is bound to the session holds for all of its forms.
        fresh = token_in("", "/", cookies_of(client), self.way.csrf)
        return Credentials(cookies_of(client), PAGES, fresh or token)

    async def by_json(self, client: httpx.AsyncClient, fields: Mapping[str, str]) -> Credentials:
        """Send the fields as JSON; keep the token of the answer, or the cookies."""
        response = await self.sent(client, PROGRAMS, json=dict(fields))
        cookies = cookies_of(client)
        if self.way.token is None:
            if not cookies:
                raise self.failed(response, " and set no cookie; is this the address the form is sent to?")
            return Credentials(cookies, accepts(self.way), token_in("", "/", cookies, self.way.csrf))
        token = at(response, self.way.token)
        if not isinstance(token, str):
            raise self.failed(response, f', and there is no text at "{self.way.token}" in the answer')
        return Credentials({}, {**accepts(self.way), "authorization": f"Bearer {token}"})


async def check_way(
    settings: Settings, way: SignIn, persona: Persona, application: Application, page: str | None
) -> list[str]:
    """What is wrong with a sign-in that is to lead to a page, as a caller meets it who was sent there.

    Args:
        settings: the settings.
        way: the way of signing in, with the page that it leads to.
        persona: who signs in.
        application: the application.
        page: another page that the persona may see, and a signed-out caller may not; None for the landing page alone.

    Returns:
        A sentence for each fault.
    """
    address = page or way.lands or "/"
    async with client_of(application, settings.probe.timeout) as client:
        response = await client.get(address, headers=PAGES)
        location = response.headers.get("location", "")
        if is_other_spelling(address, response.status_code, location):
            page = address = urlsplit(location).path
            response = await client.get(address, headers=PAGES)
            location = response.headers.get("location", "")
        if not is_same_page(urlsplit(location).path, way.path):
            came = f"answered {response.status_code}" + (f" to {location}" if location else "")
            return [f"GET {address} of a signed-out caller {came}, and did not lead to {way.path}"]
        form = urlsplit(location)
        to = f"{way.path}?{form.query}" if form.query else way.path
        shown = await client.get(to, headers=PAGES)
        if not shown.is_success:
            return [f"GET {to}, where a signed-out caller is sent, answered {shown.status_code}"]
        if page is None:
            return []
        forms = [form for form in forms_in(shown.text, to) if form.method == "POST"]
        found = max(forms, key=lambda form: (len(way.fields.keys() & form.names), form.password), default=None)
        fields = {
            name: settings.fill(value, persona, f"probe.sign_in.fields.{name}") for name, value in way.fields.items()
        }
        token = token_in(shown.text, to, cookies_of(client), way.csrf)
        signed = await client.post(
            to,
            headers={**PAGES, **(token.headers if token else {}), **referer(application, way.path)},
            data={**(found.fields if found is not None else {}), **fields},
        )
        leads = urlsplit(signed.headers.get("location", "")).path
    if is_same_page(leads, page):
        return []
    came = f"to {leads}" if leads else f"nowhere (it answered {signed.status_code})"
    return [
        f"{persona.name} asked for {page}, was sent to {way.path}, and after signing in led {came}, not back to {page}"
    ]
