"""One request to the application as one persona, and what is declared for it."""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from http import HTTPStatus
from typing import Any
from urllib.parse import parse_qs

import httpx

from ..core.decision import Outcome
from ..core.explanation import Explanation, explain
from ..core.policy import Policy
from ..endings import Ending
from ..settings import Body, Persona, Settings, SettingsError
from .application import Application, application_of
from .credentials import Credentials, client_of
from .curl import USUAL_BASE, lines
from .facts import ResponseKind, response_kind, ways_of
from .sending import body_of
from .sign_in import sign_in, visit, way_for

_LET_IN = (ResponseKind.MADE, ResponseKind.DONE)


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
        came: what the response is.
    """

    explanation: Explanation
    status: int
    headers: tuple[tuple[str, str], ...]
    body: str
    body_sent: str = ""
    came: ResponseKind = ResponseKind.UNFIT

    @property
    def ending(self) -> Ending:
        """Whether the answer is what is declared; what a redirect or a missing page means, one request cannot say."""
        decision = self.explanation.decision
        if decision.outcome is Outcome.DEPENDS:
            return Ending.UNJUDGED
        let_in, kept_out = self.came in _LET_IN, self.came in (ResponseKind.REFUSED, ResponseKind.SIGN_IN)
        if let_in or kept_out:
            return Ending.WELL if let_in is decision.allowed else Ending.FOUND
        answer = decision.answer
        if answer is None:
            return Ending.UNJUDGED
        hidden = answer.hidden and self.came is ResponseKind.NOT_FOUND
        sent = answer.location is not None and ("location", answer.location) in self.headers
        return Ending.WELL if hidden or sent else Ending.UNJUDGED

    @property
    def phrase(self) -> str:
        """The usual words for the status."""
        return HTTPStatus(self.status).phrase if self.status in {status.value for status in HTTPStatus} else ""


def ask(
    policy: Policy,
    settings: Settings,
    persona: Persona,
    method: str,
    target: str,
    sent: Sent,
    hosts: Collection[str] = (),
) -> AskResult:
    """Sign in as a persona, and send one request to the application that the settings name.

    Args:
        policy: what is declared.
        settings: the application, and how to sign in.
        persona: whom to act as.
        method: the method.
        target: the path, with its query.
        sent: what goes along with it.
        hosts: names of hosts, beside this machine, that may be asked.

    Raises:
        SettingsError: the application cannot be imported or started, or the persona cannot sign in.
    """
    application = application_of(settings, hosts)
    path, _, query = target.partition("?")
    values = {name: sent[0] if len(sent) == 1 else sent for name, sent in parse_qs(query, True).items()}
    explanation = explain(policy, persona.name, persona.caller, method, path, query=values)
    response, from_where = asyncio.run(_answered(policy, settings, application, persona, method, target, sent))
    came, _ = response_kind(method, path, response, ways_of(settings, here=application.here))
    headers = tuple(response.headers.multi_items())
    return AskResult(explanation, response.status_code, headers, response.text, from_where, came)


def curl_lines(
    policy: Policy,
    settings: Settings,
    persona: Persona,
    method: str,
    target: str,
    sent: Sent,
    file: str | None,
) -> list[str]:
    """The command lines that send the request of `ask`; secrets are in them by the names of environment variables.

    Args:
        policy: what is declared.
        settings: the application, and how to sign in.
        persona: whom to act as.
        method: the method.
        target: the path, with its query.
        sent: what goes along with it.
        file: the file that the body is from, or None.
    """
    url = (settings.address() or USUAL_BASE) + target
    path = target.partition("?")[0]
    body = _known_body(policy, settings, method, path)[0] if file is None else None
    extra = ["--data-binary", shlex.quote(f"@{file}")] if file is not None else []
    return lines(settings, persona, method, url, path, body, sent.headers, extra)


async def _answered(
    policy: Policy, settings: Settings, application: Application, persona: Persona, method: str, target: str, sent: Sent
) -> tuple[httpx.Response, str]:
    path = target.partition("?")[0]
    async with application.running():
        credentials = await _credentials(settings, application, persona, path)
        headers = _headers(credentials, sent)
        body, from_where = _body(policy, settings, persona, method, path, sent, credentials, headers)
        async with client_of(application, settings.probe.timeout) as client:
            try:
                response = await client.request(method, target, headers=headers, **body)
            except httpx.HTTPError as error:
                raise SettingsError(f"no response: {type(error).__name__}: {error}".rstrip(": ")) from error
            return response, from_where


async def _credentials(settings: Settings, application: Application, persona: Persona, path: str) -> Credentials:
    way = way_for(settings, path)
    if not persona.signed_in:
        return await visit(settings, way, application)
    if way is None:
        raise SettingsError(f'persona "{persona.name}" has no way to sign in; write [probe.sign_in]')
    return await sign_in(settings, persona, way, application)


def _headers(credentials: Credentials, sent: Sent) -> dict[str, str]:
    return {**credentials.sent, **{name.lower(): value for name, value in (sent.headers or {}).items()}}


def _body(
    policy: Policy,
    settings: Settings,
    persona: Persona,
    method: str,
    path: str,
    sent: Sent,
    credentials: Credentials,
    headers: dict[str, str],
) -> tuple[dict[str, Any], str]:
    """The body to send, as httpx takes it, and where it is from."""
    if sent.content is not None:
        body_of(None, method, credentials, headers)
        return {"content": sent.content}, "--body"
    body, name = _known_body(policy, settings, method, path)
    if body is not None:
        body = Body(body.kind, settings.filled(body.content, persona, f'bodies."{name}"'))
    return body_of(body, method, credentials, headers), "[bodies] of the settings" if body is not None else ""


def _known_body(policy: Policy, settings: Settings, method: str, path: str) -> tuple[Body | None, str]:
    """The body that the settings have for an endpoint, and the name of that."""
    line = policy.lookup.for_request(method, path)
    template = None if line is None else line.served or line.template
    name = f"{method} {template.text}" if template is not None else ""
    return next(iter(settings.bodies.get(name, ())), None), name
