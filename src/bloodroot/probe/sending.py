"""Sends one request as one persona, signed in where that is needed."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import dataclass
from functools import partial
from types import TracebackType
from typing import Any
from urllib.parse import urlsplit

import httpx

from ..core.methods import SAFE, WEBSOCKET
from ..frameworks.adapter import Around
from ..settings import Body, Persona, Settings, SettingsError, SignIn
from .application import WATCHED, Application
from .credentials import Credentials, client_of, taken_away
from .facts import AnswerSettings, Exchanged, ResponseKind, Seen, facts_of
from .forms_seen import FormsSeen, hidden_fields
from .plan import Case, Secret
from .sign_in import sign_in, visit, way_for
from .spelling import is_other_spelling
from .watching import WatchedRequest

_PAUSES = (0.1, 0.5)  # before a connection that failed is tried again
_FORGETFUL = 60.0  # seconds after which a session may well have ended


class _Session:
    """A persona that is signed in, or is about to be."""

    def __init__(self, signing: asyncio.Task[Credentials]) -> None:
        self.signing = signing
        self.at = time.monotonic()
        self.may_have_ended = False


class Sender:
    """Sends the requests of one run.

    Args:
        settings: how to sign in, and how fast to ask.
        application: what is asked.
        ways: what is known of its responses.
        secrets: by the name of a persona, texts that it may not see.
        marks: texts of marked records, which are looked for in every response.
    """

    def __init__(
        self,
        settings: Settings,
        application: Application,
        ways: AnswerSettings,
        secrets: Mapping[str, tuple[Secret, ...]],
        marks: tuple[str, ...] = (),
    ) -> None:
        self.settings = settings
        self.application = application
        self.ways = ways
        self.secrets = secrets
        self.marks = marks
        self.client = client_of(application, settings.probe.timeout)
        self.forms = FormsSeen()
        self._sessions: dict[tuple[str, SignIn | None], _Session] = {}
        self._next = 0.0
        self.signed_in = 0  # how often a persona was signed in: that may change data as well
        # Personas whose sessions some response has ended, or exchanged.
        self.ended: set[str] = set()

    async def __aenter__(self) -> Sender:
        await self.client.__aenter__()
        return self

    async def __aexit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        await self.client.__aexit__(kind, error, trace)

    def sessions_may_have_ended(self) -> None:
        """Note that what was changed, or put back, may have taken sessions with it."""
        for session in self._sessions.values():
            session.may_have_ended = True

    async def prepare(self, case: Case) -> None:
        """Sign in, before the data is looked at."""
        await self._credentials(case.persona, way_for(self.settings, case.path))

    async def ask(self, case: Case, around: Around | None = None) -> Seen:
        """Send a request, and say what came back.

        Args:
            case: the request.
            around: what the request is made within, for an application in this process.

        Raises:
            SettingsError: the persona cannot sign in.
        """
        way = way_for(self.settings, case.path)
        credentials = await self._credentials(case.persona, way)
        key = (case.persona.name, way)
        session = self._sessions[key]
        seen = await self.send(case, credentials, around)
        if seen.came in (ResponseKind.SIGN_IN, ResponseKind.UNPROVEN) and self._is_stale(session, key):
            # A session may have ended, or gone when the data was put back: ask once more, freshly signed in. Another
            # request may have noticed it before.
            if self._sessions.get(key) is session:
                del self._sessions[key]
            seen = await self.send(case, await self._credentials(case.persona, way), around)
        return seen

    def _is_stale(self, session: _Session, key: tuple[str, SignIn | None]) -> bool:
        """Whether a session that a request was sent in may have ended meanwhile."""
        if session.may_have_ended or time.monotonic() - session.at > _FORGETFUL:
            return True
        return self._sessions.get(key) is not session

    async def send(self, case: Case, credentials: Credentials, around: Around | None = None) -> Seen:
        """Send a request with these credentials, and say what came back.

        Args:
            case: the request.
            credentials: what goes along with it.
            around: as `ask`.
        """
        look = LookedFor(self.ways, self.secrets, self.marks, self.forms)
        connection = Connection(self.client, self.settings, partial(self._answered, safe=case.safe), look)
        try:
            done = await connection.exchange(case, credentials, around)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            return Seen(ResponseKind.LOST, note=f"{type(error).__name__}: {error}".rstrip(": "))
        except TimeoutError:
            return Seen(ResponseKind.LOST, note=f"none within {self.settings.probe.timeout:g} seconds")
        self._notice_cookies(case, credentials, done.response)
        return connection.facts(case, done)

    async def _answered(self, request: httpx.Request, *, safe: bool) -> httpx.Response:
        """The response. Only connections that failed are tried again, and only where nothing can have been done."""
        for pause in (*_PAUSES, None):
            await self._wait_for_turn()
            try:
                async with asyncio.timeout(self.settings.probe.timeout):
                    return await self.client.send(request)
            except (httpx.ConnectError, httpx.ConnectTimeout):
                if pause is None:
                    raise
            except (httpx.ReadError, httpx.RemoteProtocolError):
                if pause is None or not safe:
                    raise
            await asyncio.sleep(pause or 0)
        raise AssertionError("the last attempt returns or raises")

    async def _wait_for_turn(self) -> None:
        rate = self.settings.probe.rate
        if rate is None:
            return
        now = time.monotonic()
        turn = max(self._next, now)
        self._next = turn + 1 / rate
        await asyncio.sleep(turn - now)

    def _notice_cookies(self, case: Case, credentials: Credentials, response: httpx.Response) -> None:
        """Where a response exchanges or takes away a cookie of the persona's, its session may have ended."""
        names = {header.partition("=")[0].strip() for header in response.headers.get_list("set-cookie")}
        if names & credentials.cookies.keys():
            session = self._sessions.get((case.persona.name, way_for(self.settings, case.path)))
            if session is not None:
                session.may_have_ended = True
                self.ended.add(case.persona.name)

    async def _credentials(self, persona: Persona, way: SignIn | None) -> Credentials:
        """What the persona sends with a request; the first request of each signs in, and the others wait for it."""
        if persona.signed_in and way is None:
            raise SettingsError(f'persona "{persona.name}" has no way to sign in; write [probe.sign_in]')
        key = (persona.name, way)
        if key not in self._sessions:
            self.signed_in += 1
            if persona.signed_in and way is not None:
                signing = asyncio.create_task(sign_in(self.settings, persona, way, self.application))
            else:
                signing = asyncio.create_task(visit(self.settings, way, self.application))
            self._sessions[key] = _Session(signing)
        return await self._sessions[key].signing


@dataclass(frozen=True, slots=True)
class LookedFor:
    """What is looked for in responses.

    Attributes:
        ways: what is known of the responses of the application.
        secrets: by the name of a persona, texts that it may not see.
        marks: texts of marked records, for every persona.
        forms: the forms of the pages that were read so far; those of the response are added.
    """

    ways: AnswerSettings
    secrets: Mapping[str, tuple[Secret, ...]]
    marks: tuple[str, ...]
    forms: FormsSeen


@dataclass(frozen=True, slots=True)
class Connection:
    """How an application is asked.

    Attributes:
        client: what makes the requests.
        settings: what fills in their bodies.
        answered: sends a request.
        look: what is looked for.
    """

    client: httpx.AsyncClient
    settings: Settings
    answered: Callable[[httpx.Request], Awaitable[httpx.Response]]
    look: LookedFor

    async def exchange(self, case: Case, credentials: Credentials, around: Around | None = None) -> Exchanged:
        """Send a request with all that its form hides.

        Args:
            case: the request.
            credentials: what its persona sends.
            around: what it is made within, for an application in this process.

        Raises:
            httpx.HTTPError: there is no response.
            TimeoutError: there is none in time.
        """

        async def fetch(page: str) -> httpx.Response | None:
            self.client.cookies.clear()
            try:
                return await self.answered(self.client.build_request("GET", page, headers=credentials.sent))
            except (httpx.HTTPError, httpx.InvalidURL, TimeoutError):
                return None

        form = await hidden_fields(self.look.forms, case, credentials, fetch)
        path, followed = case.path, ""
        extensions: dict[str, Any] = {WATCHED: WatchedRequest(raw=case.raw)}
        if around is not None:
            extensions["around"] = around
        response = await self.answered(self._request(case, credentials, path, form.fields, extensions))
        location = response.headers.get("location", "")
        if case.raw is None and is_other_spelling(path, response.status_code, location):
            # The router asks for another spelling before any handler has seen the request: follow it once.
            path = followed = urlsplit(location).path
            extensions = {**extensions, WATCHED: WatchedRequest()}
            response = await self.answered(self._request(case, credentials, path, form.fields, extensions))
        self.look.forms.note(case, path, response)
        signed_out = bool(credentials.cookies) and not credentials.cookies.keys().isdisjoint(taken_away(response))
        return Exchanged(response, extensions[WATCHED], followed, credentials.by_token, form.lacking, signed_out)

    def facts(self, case: Case, done: Exchanged) -> Seen:
        """The facts of an exchange."""
        look = self.look
        return facts_of(case, done, look.ways, (*look.secrets.get(case.persona.name, ()), *case.hides), look.marks)

    def _request(
        self,
        case: Case,
        credentials: Credentials,
        path: str,
        hidden: Mapping[str, str],
        extensions: dict[str, Any],
    ) -> httpx.Request:
        """A case as a request.

        Args:
            case: the case.
            credentials: what its persona sends with each request.
            path: its path, or another spelling of that.
            hidden: what its form sends by itself.
            extensions: what notes what becomes of it, and what it is made within.
        """
        headers = {**credentials.sent, **case.headers}
        base = str(self.client.base_url)
        if case.method == WEBSOCKET:
            headers["origin"] = base.rstrip("/")
        if base.startswith("https:"):
            headers["referer"] = f"{base.rstrip('/')}{case.path}"
        content = case.body
        if content is not None:
            filled = self.settings.filled(content.content, case.persona, f'bodies."{case.asked.name}"')
            if content.kind == "form":
                filled = {**credentials.hidden.get(path, {}), **hidden, **filled}
            content = Body(content.kind, filled)
        elif hidden:
            content = Body("form", dict(hidden))
        body = body_of(content, case.method, credentials, headers)
        if case.raw is not None:
            extensions["target"] = (urlsplit(base).path.rstrip("/") + case.raw).encode()
        # Cookies that one answer sets must not go along with the next request, which may be another persona's.
        self.client.cookies.clear()
        url = f"{path}?{case.query}" if case.query else path
        return self.client.build_request(case.method, url, headers=headers, extensions=extensions, **body)


def body_of(body: Body | None, method: str, credentials: Credentials, headers: dict[str, str]) -> dict[str, Any]:
    """The body of a request, as httpx takes it, with the token that the application expects back with forms.

    Args:
        body: what is sent.
        method: the method.
        credentials: with the token, where there is one.
        headers: headers, to which those of the token are added.
    """
    token = credentials.forgery
    if method in SAFE or credentials.by_token:
        token = None
    if token is not None:
        headers.update(token.headers)
    if body is not None and body.kind == "json":
        return {"json": body.content}
    fields = dict(body.content) if body is not None else {}
    if token is not None and token.field is not None:
        fields = {**fields, token.field: token.value}
    return {"data": fields} if fields or body is not None else {}
