"""Command lines that repeat a request as a persona. Secrets are in them by the names of environment variables."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..core.methods import WEBSOCKET
from ..settings import Body, Persona, Settings, SettingsError, SignIn
from .sign_in import way_for

if TYPE_CHECKING:
    from .plan import Case

# Where an application is when it is served by hand, as its documentation has it.
USUAL_BASE = "http://127.0.0.1:8000"
_ENVIRONMENT = re.compile(r"\{env\.([^{}]*)\}")
_IN_QUOTES = re.compile(r'([\\"$`!])')
_JAR = "cookies.txt"


@dataclass(frozen=True, slots=True)
class RepeatedRequest:
    """A request that command lines repeat.

    Attributes:
        persona: who asks.
        method: the method.
        url: the whole URL.
        path: its path, which says how to sign in.
        body: what is sent, or None.
        headers: headers beside those of signing in.
        options: options of curl beside.
    """

    persona: Persona
    method: str
    url: str
    path: str
    body: Body | None = None
    headers: Mapping[str, str] = field(default_factory=dict)
    options: tuple[str, ...] = ()


def repeated(case: Case, base: str) -> RepeatedRequest:
    """A case of a probe, whose URL begins with `base`, as a request to repeat."""
    options = ("--path-as-is",) if case.raw is not None else ()
    url = base + (case.raw or case.target)
    return RepeatedRequest(case.persona, case.method, url, case.path, case.body, case.headers, options)


def curl_lines(settings: Settings, request: RepeatedRequest) -> list[str]:
    """The lines that repeat a request: one to sign in, where that is needed, and one for the request.

    Args:
        settings: how the persona signs in.
        request: the request.
    """
    url, persona = request.url, request.persona
    way = way_for(settings, request.path)
    base = url[: len(url) - len(url.partition("://")[2].partition("/")[2]) - 1]
    before, credentials = _signing_in(settings, persona, way, base) if persona.signed_in and way else ([], [])
    words = ["curl", "-i", *request.options, *_method(request.method, request.body), *credentials]
    for name, value in request.headers.items():
        words += ["-H", shlex.quote(f"{name}: {value}")]
    return [*before, " ".join([*words, *_sent(settings, request.body, persona), shlex.quote(url)])]


_HANDSHAKE = (
    '-H "Connection: Upgrade" -H "Upgrade: websocket" -H "Sec-WebSocket-Version: 13" '
    '-H "Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA=="'
)


def _method(method: str, body: Body | None) -> list[str]:
    if method == WEBSOCKET:
        return ["-N", "--max-time 2", _HANDSHAKE]
    if method == "HEAD":
        return ["-I"]
    return [] if method == ("POST" if body is not None else "GET") else ["-X", shlex.quote(method)]


def _signing_in(settings: Settings, persona: Persona, way: SignIn, base: str) -> tuple[list[str], list[str]]:
    """The line that signs in, if one is needed, and the words that the request needs then."""
    fields = {name: _text(settings, text, persona) for name, text in way.fields.items()}
    if way.how == "basic":
        return [], ["-u", _quoted(f"{fields['name']}:{fields['password']}")]
    if way.how == "header":
        return [], [word for name, value in fields.items() for word in ("-H", _quoted(f"{name}: {value}"))]
    if way.how == "bearer" and not way.path:
        return [], ["-H", f'"Authorization: Bearer $(bloodroot token make {shlex.quote(persona.name)})"']
    if way.elsewhere:
        sent = " ".join(f"--data-urlencode {_quoted(f'{name}={value}')}" for name, value in fields.items())
        return [f"TOKEN=$(curl -s {sent} {_quoted(way.path)} | {_read(way.token or '')})"], [*_WITH_TOKEN]
    url = shlex.quote(base + way.path)
    if way.how == "form":
        sent = " ".join(f"--data-urlencode {_quoted(f'{name}={value}')}" for name, value in fields.items())
        return [f"curl -s -o /dev/null -c {_JAR} {sent} {url}"], ["-b", _JAR]
    sent = f"--json {_quoted(json.dumps(fields, ensure_ascii=False))}"
    if way.token is None:
        return [f"curl -s -o /dev/null -c {_JAR} {sent} {url}"], ["-b", _JAR]
    return [f"TOKEN=$(curl -s {sent} {url} | {_read(way.token)})"], [*_WITH_TOKEN]


_WITH_TOKEN = ("-H", '"Authorization: Bearer $TOKEN"')


def _read(path: str) -> str:
    """The command that reads a token out of JSON."""
    steps = "".join(f"[{name!r}]" for name in path.split("."))
    return f'python3 -c "import json, sys; print(json.load(sys.stdin){steps})"'


def _text(settings: Settings, text: str, persona: Persona) -> str:
    """A field with what the persona has filled in; secrets stay names."""
    parts = _ENVIRONMENT.split(text)
    lines = []
    for place, part in enumerate(parts):
        if place % 2:
            lines.append(f"{{env.{part}}}")
            continue
        try:
            lines.append(settings.fill_in(part, persona))
        except SettingsError:
            lines.append(part)
    return "".join(lines)


def _quoted(text: str) -> str:
    """A word for a shell, in which ``{env.NAME}`` is the variable."""
    parts = _ENVIRONMENT.split(text)
    if len(parts) == 1:
        return shlex.quote(text)
    words = [f"${part}" if place % 2 else _IN_QUOTES.sub(r"\\\1", part) for place, part in enumerate(parts)]
    return f'"{"".join(words)}"'


def _sent(settings: Settings, body: Body | None, persona: Persona) -> list[str]:
    if body is None:
        return []
    if body.kind == "json":
        return ["--json", _quoted(_text(settings, json.dumps(body.content, ensure_ascii=False), persona))]
    content: Mapping[str, Any] = body.content
    pairs = (_quoted(_text(settings, f"{name}={value}", persona)) for name, value in content.items())
    return [word for pair in pairs for word in ("--data-urlencode", pair)]
