"""The application under probe: in this process, or running elsewhere."""

from __future__ import annotations

import asyncio
import inspect
from collections.abc import Collection
from contextlib import AbstractAsyncContextManager, asynccontextmanager, nullcontext
from typing import TYPE_CHECKING, Any, Protocol
from urllib.parse import unquote_to_bytes, urlsplit

import httpx

from ..addresses import is_here
from ..core.methods import WEBSOCKET
from ..frameworks import AdaptedApp, adapter_of, routes_read
from ..settings import Settings, SettingsError
from ..survey.applications import imported
from .sockets import shake_in_process, shake_over_network
from .watching import WatchedRequest, request, watched

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

    from ..core.binding import Route

WATCHED = "bloodroot"  # in the extensions of a request: its `WatchedRequest`


class Application(Protocol):
    """What a probe sends requests to.

    Attributes:
        base: the beginning of every URL.
        transport: what sends.
        routes: the routes of the application, or None where they are not known.
        here: whether it runs in this process, so that its handlers can be seen.
        made_with: the adapter of the framework that it is made with, and the application itself; None where neither
            is known.
    """

    base: str
    transport: httpx.AsyncBaseTransport
    routes: list[Route] | None
    here: bool
    made_with: AdaptedApp | None

    def running(self) -> AbstractAsyncContextManager[None]:
        """The application between its start-up and its shut-down."""
        ...


def application_of(settings: Settings, hosts: Collection[str] = ()) -> Application:
    """The application that settings name.

    Args:
        settings: with ``app`` or ``url``; ``url`` is asked where both are there, and ``app`` gives its routes.
        hosts: names of hosts, beside this machine, that may be asked.

    Raises:
        SettingsError: there is none, it cannot be imported, or its host may not be asked.
    """
    app = imported(settings.app, settings.folder, "app") if settings.app is not None else None
    for way in settings.probe.sign_ins:
        if way.elsewhere:
            _check_host(settings, "probe.sign_in.path", settings.fill(way.path, None, "probe.sign_in.path"), hosts)
    url = settings.address()
    if url is not None:
        _check_host(settings, "url", url, hosts)
        return RemoteApp(url, app, settings.probe.timeout)
    if app is None:
        raise SettingsError(
            f'{settings.file.name}: there is no application to ask; write app = "module:name", '
            'or url = "http://127.0.0.1:8000" for one that is running'
        )
    known = adapter_of(app)
    if known is not None and known.adapter.serves_itself:
        raise SettingsError(
            f"{settings.file.name}: an application of {known.adapter.title} is called by its own server alone; "
            'start it, and write url = "http://127.0.0.1:8080" beside app'
        )
    return InProcessApp(app)


def _check_host(settings: Settings, key: str, url: str, hosts: Collection[str]) -> None:
    parts = urlsplit(url)
    host = parts.hostname or ""
    if parts.scheme not in ("http", "https") or not host:
        raise SettingsError(f'{settings.file.name}: {key} = "{url}" is no address, such as "http://127.0.0.1:8000"')
    if host in hosts or is_here(host):
        return
    raise SettingsError(
        f'{settings.file.name}: {key} = "{url}" is not on this machine, and a probe changes what it asks; '
        f"--allow-host {host} if that is meant"
    )


def _routes(made_with: AdaptedApp | None) -> list[Route] | None:
    return routes_read(made_with) if made_with is not None else None


class RemoteApp:
    """An application that is running, asked over HTTP.

    Args:
        url: where it is.
        app: the application object, where it is at hand too; else None.
        timeout: seconds to wait for a connection.
    """

    here = False

    def __init__(self, url: str, app: Any, timeout: float) -> None:
        self.base = url
        self.made_with = adapter_of(app)
        self.routes = _routes(self.made_with)
        self._shared = _Shared()
        self.transport: httpx.AsyncBaseTransport = self._shared
        self.timeout = timeout

    @asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        """See that something answers.

        Raises:
            SettingsError: nothing does.
        """
        parts = urlsplit(self.base)
        port = parts.port or (443 if parts.scheme == "https" else 80)
        try:
            async with asyncio.timeout(self.timeout):
                _, writer = await asyncio.open_connection(parts.hostname, port)
            writer.close()
        except (OSError, TimeoutError) as error:
            raise SettingsError(f"url: nothing answers at {self.base}: {error or 'no answer in time'}") from error
        async with httpx.AsyncHTTPTransport(retries=0, trust_env=False) as self._shared.transport:
            yield


class _Shared(httpx.AsyncBaseTransport):
    """The connections of several clients: they stay open when one of these is closed.

    Attributes:
        transport: what has the connections, while the application is asked.
    """

    transport: httpx.AsyncBaseTransport

    async def handle_async_request(self, sent: httpx.Request) -> httpx.Response:
        if sent.method == WEBSOCKET:
            return await shake_over_network(sent)
        return await self.transport.handle_async_request(sent)


class InProcessApp:
    """An application in this process, of ASGI or of WSGI (PEP 3333)."""

    base = "http://127.0.0.1"
    here = True

    def __init__(self, app: Any) -> None:
        self.app = app
        self.made_with = adapter_of(app)
        self.routes = _routes(self.made_with)
        self.wsgi = is_wsgi(app)
        self.transport: httpx.AsyncBaseTransport = _InThreads(app) if self.wsgi else _InLoop(app)

    @asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        """The application between its start-up and its shut-down (ASGI lifespan protocol).

        Raises:
            SettingsError: it fails to start.
        """
        with watched(self.routes):
            if self.wsgi:
                yield
            else:
                async with _lifespan(self.app):
                    yield


def is_wsgi(app: Any) -> bool:
    """Whether an application is called with an environment and a function, and not awaited."""
    if inspect.iscoroutinefunction(app) or inspect.iscoroutinefunction(getattr(app, "__call__", None)):  # noqa: B004
        return False
    try:
        parameters = inspect.signature(app).parameters.values()
    except (TypeError, ValueError):
        return False
    return len([parameter for parameter in parameters if parameter.default is parameter.empty]) == 2


class _InLoop(httpx.AsyncBaseTransport):
    """An ASGI application in the event loop."""

    def __init__(self, app: Any) -> None:
        self._app = app
        self._transport = httpx.ASGITransport(app=self._called, raise_app_exceptions=False)

    async def _called(self, scope: Any, receive: Any, send: Any) -> None:
        seen = request.get()
        scope = {**scope, **_as_sent(seen)}
        try:
            await self._app(scope, receive, send)
        except Exception as error:
            if seen is not None:
                seen.failed(error)
            raise

    async def handle_async_request(self, sent: httpx.Request) -> httpx.Response:
        token = request.set(sent.extensions.get(WATCHED) or WatchedRequest())
        try:
            with sent.extensions.get("around", nullcontext)():
                if sent.method == WEBSOCKET:
                    return await shake_in_process(self._called, sent)
                return await self._transport.handle_async_request(sent)
        finally:
            request.reset(token)


def _as_sent(seen: WatchedRequest | None) -> dict[str, Any]:
    """What of a scope is not as an address says that is spelled otherwise."""
    if seen is None or seen.raw is None:
        return {}
    path, _, query = seen.raw.partition("?")
    text = unquote_to_bytes(path).decode("utf-8", "surrogateescape")
    return {"path": text, "raw_path": path.encode(), "query_string": query.encode()}


class Wsgi:
    """Sends requests to a WSGI application, in the thread that asks.

    Args:
        app: the application.
    """

    def __init__(self, app: Any) -> None:
        self._app = app
        self._transport = httpx.WSGITransport(app=self._called, raise_app_exceptions=False)

    def _called(self, environ: dict[str, Any], start_response: Any) -> Any:
        seen = request.get()
        if seen is not None and seen.raw is not None:
            path, _, query = seen.raw.partition("?")
            environ.update(PATH_INFO=unquote_to_bytes(path).decode("latin-1"), QUERY_STRING=query, RAW_URI=seen.raw)
        try:
            return self._app(environ, start_response)
        except Exception as error:
            if seen is not None:
                seen.failed(error)
            raise

    def answered(self, sent: httpx.Request, content: bytes) -> httpx.Response:
        """The response to a request, within what it is to be made within.

        Args:
            sent: the request.
            content: its body.
        """
        if sent.method == WEBSOCKET:
            return httpx.Response(501, request=sent)  # WSGI has none
        copy = httpx.Request(sent.method, sent.url, headers=sent.headers, content=content)

        token = request.set(sent.extensions.get(WATCHED) or WatchedRequest())
        try:
            with sent.extensions.get("around", nullcontext)():
                response = self._transport.handle_request(copy)
                return httpx.Response(response.status_code, headers=response.headers, content=response.read())
        finally:
            request.reset(token)


class _InThreads(httpx.AsyncBaseTransport):
    """A WSGI application, each request in a thread."""

    def __init__(self, app: Any) -> None:
        self._wsgi = Wsgi(app)

    async def handle_async_request(self, sent: httpx.Request) -> httpx.Response:
        return await asyncio.to_thread(self._wsgi.answered, sent, await sent.aread())


@asynccontextmanager
async def _lifespan(app: Any) -> AsyncIterator[None]:
    """An ASGI application between its start-up and its shut-down."""
    inbox: asyncio.Queue[dict[str, Any]] = asyncio.Queue()
    outbox: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()

    async def serve() -> None:
        try:
            await app({"type": "lifespan", "asgi": {"version": "3.0"}, "state": {}}, inbox.get, outbox.put)
        except Exception:
            # The protocol is optional: an application without it raises, and is used without.
            return
        finally:
            await outbox.put(None)

    task = asyncio.create_task(serve())
    await inbox.put({"type": "lifespan.startup"})
    answer = await outbox.get()
    if answer is not None and answer["type"] == "lifespan.startup.failed":
        await task
        said = str(answer.get("message") or "").strip().splitlines()
        # A framework may say it with a whole traceback, of which the last line says what was raised.
        raise SettingsError(f"the application failed to start: {said[-1] if said else 'it does not say why'}")
    try:
        yield
    finally:
        if answer is not None:
            await inbox.put({"type": "lifespan.shutdown"})
            await outbox.get()
        await task
