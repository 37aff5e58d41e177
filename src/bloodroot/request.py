"""A request as enforcement and identification see it, the same for every server and framework."""

from __future__ import annotations

import re
import sys
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any
from urllib.parse import parse_qs, quote, urlsplit

from .core.methods import WEBSOCKET
from .core.paths import is_method, read_path, read_plain

_IN_A_PATH = "/-._~!$&'()*+,=:@"
# Nearly all paths have none of these, and stay as they are.
_ODD = re.compile(r"[^A-Za-z0-9\-._~!$&'()*+,=:@/]").search
_MOST_PARAMETERS = 1000
_MOST_OF_COOKIES = 16_384


class Headers(Mapping[str, str]):
    """The headers of a request; names in any case. A header that was sent more than once counts with its first value.

    Args:
        values: gives the values of a header for a name in lower case, one for each time it was sent.
        names: gives the names of all headers, in lower case.
    """

    __slots__ = ("_names", "_values")

    def __init__(self, values: Callable[[str], list[str]], names: Callable[[], list[str]]) -> None:
        self._values = values
        self._names = names

    def __getitem__(self, name: str) -> str:
        found = self._values(name.lower())
        if not found:
            raise KeyError(name)
        return found[0]

    def __iter__(self) -> Iterator[str]:
        return iter(dict.fromkeys(self._names()))

    def __len__(self) -> int:
        return len(set(self._names()))

    def getlist(self, name: str) -> list[str]:
        """The values of a header, one for each time it was sent, as far as the server distinguishes them."""
        return self._values(name.lower())


class Request:
    """A request: what `identify` gets where there is no framework, and what enforcement itself reads everywhere.

    Attributes:
        method: as sent; a method that can be used is in capitals.
        path: the application's own path, percent-encoded, without the prefix that a server or proxy puts before it.
        segments: the path in decoded segments; None where it can be read in more than one way.
        prefix: what comes before the path: ASGI ``root_path``, WSGI ``SCRIPT_NAME``. Empty for none.
        query_string: as sent.
        joins_headers: whether the server gives headers that were sent twice, or spelled with ``_``, as one.
    """

    __slots__ = ()
    joins_headers = False
    method: str
    path: str
    segments: list[str] | None
    prefix: str
    query_string: str

    @property
    def headers(self) -> Headers:
        """The headers by name."""
        raise NotImplementedError

    @property
    def session(self) -> Mapping[str, Any]:
        """The framework's session; empty where there is none."""
        raise NotImplementedError

    @property
    def sender(self) -> str | None:
        """The address of the client that is connected, as the server has it; None where it does not say."""
        raise NotImplementedError

    @property
    def cookies(self) -> Mapping[str, str]:
        """The cookies by name (RFC 6265, section 5.4); none where there is more than any browser sends."""
        sent = "; ".join(self.headers.getlist("cookie"))
        if len(sent) > _MOST_OF_COOKIES:
            return {}
        pairs = (part.strip().partition("=") for part in sent.split(";"))
        return {name.strip(): _unquoted(value.strip()) for name, equals, value in pairs if equals and name.strip()}

    @property
    def readable(self) -> bool:
        """Whether method and path can be read in one way alone."""
        method = self.method
        return self.segments is not None and is_method(method) and not (method == WEBSOCKET and not self.is_handshake)

    @property
    def is_handshake(self) -> bool:
        """Whether it opens a WebSocket."""
        return False

    @property
    def asked_for(self) -> str | None:
        """The page to come back to after signing in; None for what is no page."""
        if self.method not in ("GET", "HEAD"):
            return None
        return self.safe_prefix + self.path + (f"?{self.query_string}" if self.query_string else "")

    @property
    def safe_prefix(self) -> str:
        """The prefix, percent-encoded, for redirects; empty for one that would lead to another site."""
        prefix = self.prefix.rstrip("/")
        if not prefix.startswith("/") or prefix.startswith(("//", "/\\")) or not prefix.isprintable():
            return ""
        return encoded(prefix)


def method_of(scope: Mapping[str, Any]) -> str:
    """The method of an ASGI scope, as policies name it."""
    return WEBSOCKET if scope.get("type") == "websocket" else scope.get("method", "GET")


class AsgiRequest(Request):
    """A request of an ASGI server, or a WebSocket handshake (RFC 6455, section 4.1), whose method is ``WEBSOCKET``.

    Args:
        scope: the ASGI scope.
        own: the application's own path, decoded, where the scope is that of a part of the application.
        prefix: the prefix before it, likewise.

    Attributes:
        scope: the ASGI scope, for everything else.
        own: the application's own path, decoded.
    """

    __slots__ = ("_whole", "method", "own", "path", "prefix", "query_string", "scope", "segments")

    def __init__(self, scope: Mapping[str, Any], own: str | None = None, prefix: str | None = None) -> None:
        self.scope = scope
        self.method = method_of(scope)
        whole: str = scope["path"]
        self._whole = whole
        raw = scope.get("raw_path")
        self.prefix = scope.get("root_path", "") if prefix is None else prefix
        if own is None:
            own = own_path(scope) if self.prefix else whole
        self.own = own
        query = scope.get("query_string")
        self.query_string = query.decode("latin-1") if query else ""
        self.path = own or "/"
        self.segments = read_plain(self.path)
        plain = self.segments is not None
        if not plain:
            self.path = encoded(self.path)
            self.segments = read_path(self.path)
        # As nearly always, the client has sent just this. Else what it sent must be unambiguous as well.
        if raw is not None and not (plain and raw == whole.encode()) and _as_sent(raw) is None:
            self.segments = None

    def is_of(self, scope: Mapping[str, Any]) -> bool:
        """Whether a scope has method, path and prefix as they were read from this request's own."""
        return bool(
            scope["path"] == self._whole
            and scope.get("root_path", "") == self.prefix
            and method_of(scope) == self.method
        )

    @property
    def is_handshake(self) -> bool:
        """Whether it opens a WebSocket."""
        return bool(self.scope.get("type") == "websocket")

    def as_decided(self) -> Any:
        """The scope with a path that is the prefix and what was read here, wherever a framework takes the prefix off.

        A server's prefix may be anywhere in what a client sends, and frameworks differ over where they look for it.
        """
        scope = self.scope
        if not self.prefix or scope["path"] == self.prefix + self.own:
            return scope
        raw = encoded(self.prefix) + self.path
        return {**scope, "path": self.prefix + self.own, "raw_path": raw.encode("ascii")}

    @property
    def headers(self) -> Headers:
        """The headers by name."""
        sent = self.scope.get("headers", ())

        def values(name: str) -> list[str]:
            wanted = name.encode("latin-1", "replace")
            return [value.decode("latin-1") for key, value in sent if key == wanted]

        return Headers(values, lambda: [key.decode("latin-1") for key, _ in sent])

    @property
    def session(self) -> Mapping[str, Any]:
        """The session that a session middleware outside has put into the scope; empty without one."""
        session: Mapping[str, Any] = self.scope.get("session") or {}
        return session

    @property
    def sender(self) -> str | None:
        """The address of the client that is connected, as the server has it; None where it does not say."""
        client = self.scope.get("client")
        return str(client[0]) if client else None


class PlainRequest(Request):
    """A request that is given part by part.

    Args:
        method: as sent; ``WEBSOCKET`` for a handshake.
        path: the path as the client sent it, percent-encoded, without prefix and query.
        headers: names and values.
        query_string: as sent.
        prefix: what a server or a proxy puts before the path.
        sender: the address of the client that is connected, or None.
        session: the session of the framework.
        is_handshake: whether it opens a WebSocket.
    """

    __slots__ = (
        "_handshake",
        "_headers",
        "_sender",
        "_session",
        "method",
        "path",
        "prefix",
        "query_string",
        "segments",
    )

    def __init__(
        self,
        method: str,
        path: str,
        headers: Iterable[tuple[str, str]] = (),
        *,
        query_string: str = "",
        prefix: str = "",
        sender: str | None = None,
        session: Mapping[str, Any] | None = None,
        is_handshake: bool = False,
    ) -> None:
        self.method = method
        self.path = path or "/"
        self.segments = read_path(self.path)
        self.query_string = query_string
        self.prefix = prefix
        self._headers = [(name.lower(), value) for name, value in headers]
        self._sender = sender
        self._session = session or {}
        self._handshake = is_handshake

    @property
    def headers(self) -> Headers:
        """The headers by name."""
        sent = self._headers
        return Headers(lambda name: [value for key, value in sent if key == name], lambda: [key for key, _ in sent])

    @property
    def session(self) -> Mapping[str, Any]:
        """The session of the framework; empty where there is none."""
        return self._session

    @property
    def sender(self) -> str | None:
        """The address of the client that is connected; None where that is not known."""
        return self._sender

    @property
    def is_handshake(self) -> bool:
        """Whether it opens a WebSocket."""
        return self._handshake


class DjangoRequest(Request):
    """A request of Django's, under WSGI or ASGI.

    Attributes:
        django: the ``HttpRequest``, for everything else.
    """

    __slots__ = ("_scope", "django", "joins_headers", "method", "path", "prefix", "query_string", "segments")

    def __init__(self, sent: Any) -> None:
        self.django = sent
        self._scope = scope = getattr(sent, "scope", None)
        self.joins_headers = scope is None
        path: str = sent.path_info
        self.path = encoded(path) if _ODD(path) else path
        # Django itself decodes the path in place, and puts the method in capitals.
        if scope is None:
            self.method = str(sent.META.get("REQUEST_METHOD", ""))
            self.query_string = str(sent.META.get("QUERY_STRING") or "")
            readable = _raw_is_readable(sent.META)
        else:
            asgi_request = AsgiRequest(scope)
            self.method, self.query_string, readable = (
                asgi_request.method,
                asgi_request.query_string,
                asgi_request.segments is not None,
            )
        if self.method.upper() != sent.method:
            self.method = str(sent.method)  # middleware has made another one of it, which is what views go by
        self.segments = read_path(self.path) if readable else None
        self.prefix = sent.path[: len(sent.path) - len(path)]

    @property
    def _sent(self) -> Request:
        return WsgiRequest(self.django.META) if self._scope is None else AsgiRequest(self._scope)

    @property
    def headers(self) -> Headers:
        """The headers by name."""
        return self._sent.headers

    @property
    def session(self) -> Mapping[str, Any]:
        """The session; empty where no session middleware is around."""
        return getattr(self.django, "session", None) or {}

    @property
    def sender(self) -> str | None:
        """The address of the client that is connected, as the server has it; None where it does not say."""
        return self._sent.sender


class WsgiRequest(Request):
    """A request of a WSGI server.

    Attributes:
        environ: the WSGI environment, for everything else.
    """

    __slots__ = ("_session", "environ", "method", "path", "prefix", "segments")
    joins_headers = True

    def __init__(
        self, environ: Mapping[str, Any], session: Callable[[], Mapping[str, Any] | None] | None = None
    ) -> None:
        self.environ = environ
        self.method = str(environ.get("REQUEST_METHOD", ""))
        self.prefix = _as_bytes(str(environ.get("SCRIPT_NAME", ""))).decode("utf-8", "replace")
        own = str(environ.get("PATH_INFO", "")) or "/"
        self.path, self.segments = own, read_plain(own)
        if self.segments is None:
            self.path = encoded(_as_bytes(own))
            self.segments = read_path(self.path)
        if not _raw_is_readable(environ):
            self.segments = None
        self._session = session

    @property
    def query_string(self) -> str:  # type: ignore[override]
        """As the client sent it."""
        return str(self.environ.get("QUERY_STRING") or "")

    @property
    def headers(self) -> Headers:
        """The headers by name. A server joins several of one name with commas."""
        environ = self.environ

        def values(name: str) -> list[str]:
            key = name.upper().replace("-", "_")
            value = environ.get(key if key in ("CONTENT_TYPE", "CONTENT_LENGTH") else f"HTTP_{key}")
            return [str(value)] if value is not None else []

        def names() -> list[str]:
            found = [key[5:] for key in environ if key.startswith("HTTP_")]
            found += [key for key in ("CONTENT_TYPE", "CONTENT_LENGTH") if environ.get(key)]
            return [key.replace("_", "-").lower() for key in found]

        return Headers(values, names)

    @property
    def session(self) -> Mapping[str, Any]:
        """The framework's session; empty where there is none."""
        return (self._session() if self._session is not None else None) or {}

    @property
    def sender(self) -> str | None:
        """The address of the client that is connected, as the server has it; None where it does not say."""
        return self.environ.get("REMOTE_ADDR") or None


def _unquoted(value: str) -> str:
    return value[1:-1] if len(value) > 1 and value[0] == value[-1] == '"' else value


def own_path(scope: Mapping[str, Any]) -> str:
    """The path of an ASGI scope behind its prefix, decoded, as Starlette's routers take it."""
    path: str = scope["path"]
    prefix: str = scope.get("root_path", "")
    if prefix and path.startswith(prefix) and path[len(prefix) : len(prefix) + 1] in ("", "/"):
        return path[len(prefix) :]
    return path


# For the request of a framework, what makes a `Request` of it; its driver adds it.
READERS: dict[type, Callable[[Any], Request]] = {}


def request_of(own: Any) -> Any:
    """A request of any framework that is known here as a `Request`; anything else as it is."""
    if isinstance(own, Request):
        return own
    for kind in type(own).__mro__ if READERS else ():
        if kind in READERS:
            return READERS[kind](own)
    if hasattr(own, "META"):
        return DjangoRequest(own)
    if isinstance(getattr(own, "scope", None), Mapping):
        return AsgiRequest(own.scope)
    if isinstance(getattr(own, "environ", None), Mapping):
        return WsgiRequest(own.environ, _session_of_flask)
    return own


def _session_of_flask() -> Mapping[str, Any] | None:
    """The session of the request that Flask serves, where it is Flask that does."""
    flask = sys.modules.get("flask")
    if flask is None or not flask.has_request_context():
        return None
    session: Mapping[str, Any] = flask.session
    return session


def encoded(path: str | bytes) -> str:
    """A path that a server has decoded, percent-encoded again."""
    return quote(path, safe=_IN_A_PATH, errors="replace") if isinstance(path, str) else quote(path, safe=_IN_A_PATH)


def query_of(text: str) -> dict[str, Any] | None:
    """The parameters of a query: a string, or a list where one is given more than once, which equals nothing.

    Returns:
        By name; None where there are more than any page sends.
    """
    if not text:
        return {}
    try:
        values = parse_qs(text, keep_blank_values=True, max_num_fields=_MOST_PARAMETERS)
    except ValueError:
        return None
    return {name: texts[0] if len(texts) == 1 else texts for name, texts in values.items()}


def _as_sent(raw: bytes) -> list[str] | None:
    """The segments of a path in the client's own spelling; None where it can be read in more than one way."""
    path = raw.split(b"?", 1)[0].decode("latin-1")
    return read_path(path if path.isascii() else quote(path, safe=_IN_A_PATH + "%;\\", encoding="latin-1"))


def _raw_is_readable(environ: Mapping[str, Any]) -> bool:
    """Whether what the client sent, where a WSGI server gives it under one of these names, is unambiguous."""
    raw = environ.get("REQUEST_URI") or environ.get("RAW_URI")
    return not raw or raw == environ.get("PATH_INFO") or _as_sent(_target(str(raw))) is not None


def _target(sent: str) -> bytes:
    """The path of a request target. A proxy may be sent a whole URL (RFC 9112, section 3.2.2)."""
    path = sent.split("?", 1)[0]
    if not path.startswith("/"):
        try:
            path = urlsplit(path).path or "/"
        except ValueError:
            path = ""
    return _as_bytes(path)


def _as_bytes(text: str) -> bytes:
    """WSGI has the bytes of a path as a string, one character for each."""
    try:
        return text.encode("latin-1")
    except UnicodeEncodeError:
        return text.encode("utf-8", "replace")
