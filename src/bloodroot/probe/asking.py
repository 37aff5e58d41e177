"""One request to the application as one persona, and what is declared for it."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass
from http import HTTPStatus
from typing import Any
from urllib.parse import parse_qs

import httpx

from ..core.explanation import Explanation, explain
from ..core.policy import Policy
from ..settings import Persona, Settings, SettingsError
from ..survey.applications import imported
from .application import running, transport_to
from .sign_in import Credentials, sign_in, visiting, way_for

BASE = "http://127.0.0.1"


@dataclass(frozen=True, slots=True)
class Sent:
    """What is sent along with a request.

    Attributes:
        content: the body, or None.
        headers: headers beside those of signing in.
    """

    content: bytes | None = None
    headers: Mapping[str, str] | None = None


@dataclass(frozen=True, slots=True)
class AskResult:
    """What an application answered, beside what is declared.

    Attributes:
        explanation: what the policy says of the request, before a record is known.
        status: the HTTP status code.
        headers: the headers of the response, in their order.
        body: the body, as text.
        body_sent: what was sent: ``""`` for nothing, else where it is from.
    """

    explanation: Explanation
    status: int
    headers: tuple[tuple[str, str], ...]
    body: str
    body_sent: str = ""

    @property
    def phrase(self) -> str:
        """The usual words for the status."""
        return HTTPStatus(self.status).phrase if self.status in {each.value for each in HTTPStatus} else ""


def ask(policy: Policy, settings: Settings, persona: Persona, method: str, target: str, sent: Sent) -> AskResult:
    """Sign in as a persona, and send one request to the application named in the settings, in this process.

    Args:
        policy: what is declared.
        settings: the application, and how to sign in.
        persona: whom to act as.
        method: the method.
        target: the path, with its query.
        sent: what goes along with it.

    Raises:
        SettingsError: the application cannot be imported or started, or the persona cannot sign in.
    """
    if settings.app is None:
        raise SettingsError(f'{settings.file.name}: there is no application to ask; write app = "module:name"')
    path, _, query = target.partition("?")
    values = {name: each[0] if len(each) == 1 else each for name, each in parse_qs(query, True).items()}
    explanation = explain(policy, persona.name, persona.caller, method, path, query=values)
    app = imported(settings.app, settings.folder, "app")
    response, from_where = asyncio.run(_answered(policy, settings, app, persona, method, target, sent))
    return AskResult(
        explanation, response.status_code, tuple(response.headers.multi_items()), response.text, from_where
    )


async def _answered(
    policy: Policy, settings: Settings, app: Any, persona: Persona, method: str, target: str, sent: Sent
) -> tuple[httpx.Response, str]:
    path = target.partition("?")[0]
    transport = transport_to(app)
    way = way_for(settings, path)
    async with running(app):
        credentials = visiting(way)
        if persona.signed_in:
            if way is None:
                raise SettingsError(f'persona "{persona.name}" has no way to sign in; write [probe.sign_in]')
            credentials = await sign_in(settings, persona, way, transport, BASE)
        body, from_where = _body(policy, settings, method, path, sent)
        async with httpx.AsyncClient(transport=transport, base_url=BASE, follow_redirects=False) as client:
            response = await client.request(method, target, headers=_headers(credentials, sent), **body)
            return response, from_where


def _headers(credentials: Credentials, sent: Sent) -> dict[str, str]:
    headers = dict(credentials.headers)
    if credentials.cookies:
        headers["cookie"] = "; ".join(f"{name}={value}" for name, value in credentials.cookies.items())
    return {**headers, **{name.lower(): value for name, value in (sent.headers or {}).items()}}


def _body(policy: Policy, settings: Settings, method: str, path: str, sent: Sent) -> tuple[dict[str, Any], str]:
    """The body to send, as httpx takes it, and where it is from."""
    if sent.content is not None:
        return {"content": sent.content}, "--body"
    line = policy.engine.line_for(method, path)
    template = None if line is None else line.served or line.template
    known = settings.bodies.get(f"{method} {template.text}") if template is not None else None
    if known is None:
        return {}, ""
    return {"data" if known.kind == "form" else "json": known.content}, "[bodies] of the settings"
