"""The decision service as an ASGI application."""

from __future__ import annotations

import json
import logging
import os
import time
from collections import Counter
from collections.abc import Awaitable, Callable, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError
from starlette.requests import ClientDisconnect, Request
from starlette.responses import PlainTextResponse, Response
from starlette.routing import Route, Router
from starlette.types import Receive, Scope, Send

from ..core.caller import Unidentified
from ..core.decision import Outcome
from ..core.methods import WEBSOCKET
from ..enforce.audit import id_of_request
from ..enforce.audit_file import AuditFile
from ..file_changes import watched
from ..identity import Directory, directory_of, load
from ..language.errors import BloodrootError
from ..request import PlainRequest
from ..settings import Asker, Settings, SettingsError, names_of_scopes, read_settings
from ..survey.applications import bound
from .connections import BoundedHTTP
from .counting import Counts
from .deciding import PERMITTED, Decider
from .in_force import InForce, caller_of
from .known_records import loaders_of, models_of
from .originals import Original, asked_methods, original_of
from .questions import BadQuestion, one, several
from .searching import Search
from .subjects import Subjects, Unanswered, Unavailable
from .who_asks import Askers

if TYPE_CHECKING:
    from .deciding import Answer
    from .known_records import Model

_LOG = logging.getLogger("bloodroot.serve")
_AUDIT = logging.getLogger("bloodroot.audit")
_LARGEST = 1_000_000  # bytes of a question
_ENCODER = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"))
_AGAIN = {"Retry-After": "1"}
SETTINGS, ADDRESS = "BLOODROOT_SERVE_SETTINGS", "BLOODROOT_SERVE_ADDRESS"


class _Refused(BloodrootError):
    """A question that is not answered, with what is said instead."""

    def __init__(self, status: int, message: str, headers: dict[str, str] | None = None) -> None:
        self.response = PlainTextResponse(f"{message}\n", status, headers)
        super().__init__(message)


class Service:
    """What answers.

    Args:
        settings: the policy, who may ask, and who is calling.
        address: host and port that it listens on.

    Raises:
        SettingsError: nothing may ask, a secret is missing, or the directory cannot be opened.
        PolicyError: the policy cannot be used.
    """

    def __init__(self, settings: Settings, address: str) -> None:
        self.settings = settings
        self._address = address
        self.counts = Counts()
        BoundedHTTP.seconds = settings.serve.timeout
        self._askers = Askers(settings)
        self.directory: Directory | None = directory_of(settings) if settings.directory is not None else None
        records, models = loaders_of(settings), models_of(settings)
        _write_down(settings.serve.audit)
        policy = watched(settings.policy, root=settings.root)
        bind = partial(bound, settings=settings)
        self._questions = InForce(policy, bind, caller_of, records)
        identify = load(settings, self.directory) if settings.identity else None
        self._requests = InForce(policy, bind, identify, records) if identify is not None else None
        subjects = Subjects(self.directory, names_of_scopes(settings))
        self._decider = Decider(self._questions, settings.serve, subjects, records, models)
        self._search = Search(self._decider)
        self._searches = self._served_searches(models)

    def _served_searches(self, models: Mapping[str, Model]) -> dict[str, Callable[[Any, Asker], Awaitable[Answer]]]:
        """The searches that can be answered, by what is searched."""
        if not any(asker.search for asker in self.settings.serve.askers.values()):
            return {}
        lists = self.directory is not None and (self.directory.own or "members" in self.directory.settings.queries)
        found = {"subject": self._search.subjects} if lists else {}
        found |= {"resource": self._search.resources} if models else {}
        return {**found, "action": self._search.actions}

    def asker(self, request: Request) -> Asker:
        """The service that asks.

        Raises:
            _Refused: it does not say which it is.
        """
        found = self._askers.asker(request)
        if found is None:
            raise _Refused(401, "say who asks: Authorization: Bearer ...", {"WWW-Authenticate": "Bearer"})
        return found

    # Questions -----------------------------------------------------------------------------------

    async def evaluation(self, request: Request, request_id: str) -> bytes:
        """One question."""
        asker, body = self.asker(request), await _body(request)
        answer = await self._decider.one(one(body), asker, request_id)
        self.counts.add("evaluation", answer["decision"])
        return _PERMITTED if answer is PERMITTED else _encoded(answer)

    async def evaluations(self, request: Request, request_id: str) -> bytes:
        """Several questions."""
        asker, body = self.asker(request), await _body(request)
        answer = await self._decider.all_of(several(body), asker, request_id)
        decisions = Counter(each["decision"] for each in answer.get("evaluations", [answer]))
        for allowed, count in decisions.items():
            self.counts.add("evaluations", allowed, count)
        return _encoded(answer)

    async def search(self, request: Request, request_id: str) -> bytes:
        """Who may do something, with what, or what one may do."""
        asker, body = self.asker(request), await _body(request)
        if not asker.search:
            raise _Refused(403, f"this asker may not search; search = true under [serve.askers.{asker.name}] lets it")
        of = request.path_params["of"]
        if of not in self._searches:
            raise _Refused(404, f"there is no search for {of} here; the metadata says which there are")
        try:
            answer = await self._searches[of](body, asker)
        except Unanswered as error:
            raise _Refused(error.status, str(error)) from error
        self.counts.add("search", bool(answer["results"]))
        found = f"{len(answer['results'])} found"
        values = {"request": request_id, "asker": asker.name, "resource": f"search {of}", "outcome": found}
        _AUDIT.info("%s searches for %s: %s", asker.name, of, found, extra=values)
        return _encoded(answer)

    async def metadata(self, request: Request, request_id: str) -> Response:  # noqa: ARG002
        """What the service is and where it answers."""
        base = self.settings.serve.url or f"http://{self._address}"
        searches = {f"search_{of}_endpoint": f"{base}/access/v1/search/{of}" for of in self._searches}
        return _json(
            {
                "policy_decision_point": base,
                "access_evaluation_endpoint": f"{base}/access/v1/evaluation",
                "access_evaluations_endpoint": f"{base}/access/v1/evaluations",
                **searches,
            }
        )

    # Proxies -----------------------------------------------------------------------------------

    async def check(self, request: Request, request_id: str) -> Response:
        """Whether a proxy may let a request through: 200 with the caller's id, or 401 or 403 with what it would get."""
        if self._requests is None:
            raise _Refused(404, "nothing says who is calling; write [identity] in the settings")
        original = original_of(request, self.settings.serve.senders)
        if not isinstance(original, Original):
            return PlainTextResponse(f"{original}\n", 403, {"X-Access-Status": "403"})
        called = () if request.headers.get("x-request-id") else (("x-request-id", request_id),)
        for method in asked_methods(self._requests.policy, original):
            plain = PlainRequest(
                method,
                original.path,
                (*original.headers, *called),
                query_string=original.query,
                sender=request.client.host if request.client is not None else None,
                is_handshake=method == WEBSOCKET,
            )
            response = await self._checked(self._requests, plain)
            if response.status_code != 200:
                break
        self.counts.add("check", response.status_code == 200)
        return response

    async def _checked(self, in_force: InForce, plain: PlainRequest) -> Response:
        """Whether a request may pass."""
        with in_force.handling(plain) as handling:
            refused = await handling.enter_async()
            decision = handling.decision
            handling.leave(refused.status if refused is not None else 200)  # which writes it down
            if refused is None and decision is not None and decision.outcome is Outcome.ALLOW:
                caller = handling.caller
                known = {"X-Caller": _header(caller.id)} if caller is not None and caller.id is not None else {}
                return PlainTextResponse("", 200, known)
            status = refused.status if refused is not None else 403
            headers = {"X-Access-Status": str(status)}
            for name, value in refused.headers if refused is not None else ():
                if name in ("location", "www-authenticate"):
                    headers[name] = value
            # What is hidden from signed-out callers does not ask them to sign in.
            is_sign_in = status == 401 or (status == 303 and decision is not None and decision.reason == "signed-out")
            return PlainTextResponse("", 401 if is_sign_in else 403, headers)

    # How it is -----------------------------------------------------------------------------------

    async def health(self, request: Request, request_id: str) -> Response:  # noqa: ARG002
        """That it runs."""
        return PlainTextResponse("well\n")

    async def ready(self, request: Request, request_id: str) -> Response:  # noqa: ARG002
        """Whether the policy in force is that of the file, and the directory can be asked."""
        # What is wrong with the file is in the log, and not for everyone who can reach this.
        taken = (
            "in force" if self._questions.problem is None else "the last good one is in force, as the file has mistakes"
        )
        found = {"policy": taken}
        well = self._questions.problem is None
        if self.directory is not None:
            try:
                # Not through what is remembered of members.
                await to_thread.run_sync(self.directory.check)
                found["directory"] = "well"
            except SettingsError:
                found["directory"], well = "it cannot be asked", False
        return _json(found, 200 if well else 503, {} if well else _AGAIN)

    async def counted(self, request: Request, request_id: str) -> Response:  # noqa: ARG002
        """The counts, as the text of the open exposition format."""
        return PlainTextResponse(self.counts.text(), media_type="text/plain; version=0.0.4")

    def application(self) -> Router:
        """The application: routes alone, since each endpoint says itself what becomes of failures."""
        base = "/access/v1"
        any_method = ["GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]
        return Router(
            [
                Route(f"{base}/evaluation", _Endpoint(self.evaluation, self.counts), methods=["POST"]),
                Route(f"{base}/evaluations", _Endpoint(self.evaluations, self.counts), methods=["POST"]),
                Route(f"{base}/search/{{of}}", _Endpoint(self.search, self.counts), methods=["POST"]),
                Route("/.well-known/authzen-configuration", _Endpoint(self.metadata, self.counts), methods=["GET"]),
                Route("/check", _Endpoint(self.check, self.counts), methods=any_method),
                Route("/health", _Endpoint(self.health, self.counts), methods=["GET"]),
                Route("/ready", _Endpoint(self.ready, self.counts), methods=["GET"]),
                Route("/counts", _Endpoint(self.counted, self.counts), methods=["GET"]),
            ]
        )


class _Endpoint:
    """An endpoint with what all have in common: the id of the request, and what becomes of failures."""

    def __init__(self, answer: Callable[[Request, str], Awaitable[Response | bytes]], counts: Counts) -> None:
        self._answer = answer
        self._counts = counts

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        request = Request(scope, receive)
        request_id = id_of_request(request.headers.get("x-request-id"))
        began = time.perf_counter()
        response = await self._response(request, request_id)
        self._counts.took(time.perf_counter() - began)
        headers = [(b"x-request-id", request_id.encode())]
        if isinstance(response, bytes):
            # The answer to a question, which is the answer to a POST, and so kept by no cache.
            headers += [(b"content-type", b"application/json"), (b"content-length", b"%d" % len(response))]
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            await send({"type": "http.response.body", "body": response})
            return
        response.raw_headers += [*headers, (b"cache-control", b"no-store")]
        await response(scope, receive, send)

    async def _response(self, request: Request, request_id: str) -> Response | bytes:
        try:
            return await self._answer(request, request_id)
        except _Refused as error:
            return error.response
        except BadQuestion as error:
            return PlainTextResponse(f"{error}\n", 400)
        except (Unavailable, SQLAlchemyError) as error:
            _LOG.error("a question could not be answered: %s", type(error).__name__)
            return PlainTextResponse("what has to be known cannot be asked at present\n", 503, _AGAIN)
        except Unidentified as error:
            return PlainTextResponse(f"{error.reason}\n", 401)
        except ClientDisconnect:
            return PlainTextResponse("", 400)
        except Exception:
            _LOG.exception("a question could not be answered")
            return PlainTextResponse("this question could not be answered\n", 500)


def _encoded(value: Any) -> bytes:
    return _ENCODER.encode(value).encode("utf-8", "replace")


_PERMITTED = _encoded(PERMITTED)


def _json(value: Any, status: int = 200, headers: Mapping[str, str] | None = None) -> Response:
    return Response(_encoded(value), status, headers, "application/json")


async def _body(request: Request) -> Any:
    """The JSON of a question.

    Raises:
        _Refused: it is too large, or no JSON.
    """
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind != "application/json":
        raise _Refused(415, "the body must be application/json")
    data, is_more = bytearray(), True
    while is_more:
        message = await request.receive()
        if message["type"] == "http.disconnect":
            raise ClientDisconnect
        data += message.get("body", b"")
        is_more = message.get("more_body", False)
        if len(data) > _LARGEST:
            raise _Refused(413, f"a question has at most {_LARGEST} bytes")
    try:
        found = json.loads(data.decode())
        if b"\\u" in data:
            # Half a character (RFC 8259, section 8.2) is text that nothing can be compared with.
            json.dumps(found, ensure_ascii=False).encode()
    except (ValueError, RecursionError) as error:
        raise _Refused(400, "the body is not JSON") from error
    return found


def _header(value: object) -> str:
    """A value as a header may have it."""
    from urllib.parse import quote

    return quote(str(value), safe="@.-_~+")


def _write_down(file: Path | None) -> None:
    """Write every decision to the end of a file, if there is one."""
    if file is None:
        _AUDIT.addHandler(logging.NullHandler())
        return
    try:
        handler = AuditFile(file)
    except OSError as error:
        raise SettingsError(f"serve.audit: {file.name} cannot be written: {error.strerror}") from error
    _AUDIT.setLevel(logging.INFO)
    _AUDIT.addHandler(handler)


def from_environment() -> Router:
    """The application of the settings that the environment names; what each worker of a server calls."""
    return Service(read_settings(Path(os.environ[SETTINGS])), os.environ[ADDRESS]).application()
