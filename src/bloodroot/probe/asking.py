"""One request to the application as one persona, and what is declared for it."""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field
from http import HTTPStatus
from urllib.parse import parse_qs

import httpx

from ..core.decision import Outcome
from ..core.explanation import Explanation, explain
from ..core.policy import Policy
from ..endings import Ending
from ..settings import Body, Persona, Settings, SettingsError
from .application import Application, application_of
from .credentials import Credentials, client_of
from .curl import USUAL_BASE, RepeatedRequest, curl_lines
from .facts import ResponseKind, response_kind, ways_of
from .sending import body_of
from .sign_in import sign_in, visit, way_for

_LET_IN = (ResponseKind.MADE, ResponseKind.DONE)


@dataclass(frozen=True, slots=True)
class AskedRequest:
    """One request as one persona.

    Attributes:
        persona: whom to act as.
        method: the method.
        target: the path, with its query.
        content: the body; None for what the settings have.
        headers: headers beside those of signing in.
    """

    persona: Persona
    method: str
    target: str
    content: bytes | None = None
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def path(self) -> str:
        """The path, without the query."""
        return self.target.partition("?")[0]


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


def ask(policy: Policy, settings: Settings, request: AskedRequest, hosts: Collection[str] = ()) -> AskResult:
    """Sign in as a persona, and send one request to the application that the settings name.

    Args:
        policy: what is declared.
        settings: the application, and how to sign in.
        request: the request.
        hosts: names of hosts, beside this machine, that may be asked.

    Raises:
        SettingsError: the application cannot be imported or started, or the persona cannot sign in.
    """
    application = application_of(settings, hosts)
    path, _, query = request.target.partition("?")
    values = {name: sent[0] if len(sent) == 1 else sent for name, sent in parse_qs(query, True).items()}
    persona, method = request.persona, request.method
    explanation = explain(policy, persona.name, persona.caller, method, path, query=values)
    body = _own_body(policy, settings, request)
    response = asyncio.run(_answered(settings, application, request, body))
    came = response_kind(method, path, response, ways_of(settings, here=application.here)).kind
    headers = tuple(response.headers.multi_items())
    from_where = "--body" if request.content is not None else "[bodies] of the settings" if body is not None else ""
    return AskResult(explanation, response.status_code, headers, response.text, from_where, came)


def lines_to_ask(policy: Policy, settings: Settings, request: AskedRequest, file: str | None) -> list[str]:
    """The command lines that send the request of `ask`; secrets are in them by the names of environment variables.

    Args:
        policy: what is declared.
        settings: the application, and how to sign in.
        request: the request.
        file: the file that the body is from, or None.
    """
    url = (settings.address() or USUAL_BASE) + request.target
    body = _declared_body(policy, settings, request) if file is None else None
    options = ("--data-binary", shlex.quote(f"@{file}")) if file is not None else ()
    sent = RepeatedRequest(request.persona, request.method, url, request.path, body, request.headers, options)
    return curl_lines(settings, sent)


async def _answered(
    settings: Settings, application: Application, request: AskedRequest, body: Body | None
) -> httpx.Response:
    async with application.running():
        credentials = await _credentials(settings, application, request.persona, request.path)
        headers = {**credentials.sent, **{name.lower(): value for name, value in request.headers.items()}}
        content = body_of(body, request.method, credentials, headers)
        if request.content is not None:
            content = {"content": request.content}
        async with client_of(application, settings.probe.timeout) as client:
            try:
                return await client.request(request.method, request.target, headers=headers, **content)
            except httpx.HTTPError as error:
                raise SettingsError(f"no response: {type(error).__name__}: {error}".rstrip(": ")) from error


async def _credentials(settings: Settings, application: Application, persona: Persona, path: str) -> Credentials:
    way = way_for(settings, path)
    if not persona.signed_in:
        return await visit(settings, way, application)
    if way is None:
        raise SettingsError(f'persona "{persona.name}" has no way to sign in; write [probe.sign_in]')
    return await sign_in(settings, persona, way, application)


def _own_body(policy: Policy, settings: Settings, request: AskedRequest) -> Body | None:
    """The body that the settings have for a request without one, with what the persona has filled in."""
    body = _declared_body(policy, settings, request) if request.content is None else None
    if body is None:
        return None
    where = f'bodies."{_endpoint(policy, request)}"'
    return Body(body.kind, settings.filled(body.content, request.persona, where))


def _declared_body(policy: Policy, settings: Settings, request: AskedRequest) -> Body | None:
    """The body that the settings have for the endpoint of a request, as they have it."""
    return next(iter(settings.bodies.get(_endpoint(policy, request), ())), None)


def _endpoint(policy: Policy, request: AskedRequest) -> str:
    """The endpoint of a request, as the settings name it; empty where no line covers it."""
    line = policy.lookup.for_request(request.method, request.path)
    template = None if line is None else line.served or line.template
    return f"{request.method} {template.text}" if template is not None else ""
