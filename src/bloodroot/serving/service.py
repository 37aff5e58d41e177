"""The decision service as an ASGI application."""

from __future__ import annotations

import asyncio
import json
import logging
import os
import time
from collections.abc import Awaitable, Callable, Mapping
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from anyio import to_thread
from sqlalchemy.exc import SQLAlchemyError
from starlette.applications import Starlette
from starlette.requests import ClientDisconnect, Request
from starlette.responses import JSONResponse, PlainTextResponse, Response
from starlette.routing import Route

from ..core.caller import Unidentified
from ..core.decision import Outcome
from ..enforce.audit import id_of_request
from ..file_changes import watched
from ..identity import Directory, directory_of, load
from ..language.errors import BloodrootError
from ..request import PlainRequest
from ..settings import Asker, Settings, read_settings
from ..survey.applications import bound
from .connections import BoundedHTTP
from .counting import Counts
from .deciding import Decider
from .in_force import InForce, caller_of
from .known_records import loaders_of, models_of
from .originals import Original, original_of
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
        policy = watched(settings.policy, root=settings.root)
        bind = partial(bound, settings=settings)
        self._questions = InForce(policy, bind, caller_of, records)
        identify = load(settings, self.directory) if settings.identity else None
        self._requests = InForce(policy, bind, identify, records) if identify is not None else None
        subjects = Subjects(self.directory, settings.names_of_scopes)
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

    async def evaluation(self, request: Request) -> Response:
        """One question."""
        asker, body = self.asker(request), await _body(request)
        answer = await self._decider.one(one(body), asker, request.state.id)
        self.counts.add("evaluation", answer["decision"])
        return JSONResponse(answer)

    async def evaluations(self, request: Request) -> Response:
        """Several questions."""
        asker, body = self.asker(request), await _body(request)
        answer = await self._decider.all_of(several(body), asker, request.state.id)
        for each in answer.get("evaluations", [answer]):
            self.counts.add("evaluations", each["decision"])
        return JSONResponse(answer)

    async def search(self, request: Request) -> Response:
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
        _AUDIT.info("%s searches for %s: %d found", asker.name, of, len(answer["results"]))
        return JSONResponse(answer)

    async def metadata(self, request: Request) -> Response:  # noqa: ARG002
        """What the service is and where it answers."""
        base = self.settings.serve.url or f"http://{self._address}"
        searches = {f"search_{of}_endpoint": f"{base}/access/v1/search/{of}" for of in self._searches}
        return JSONResponse(
            {
                "policy_decision_point": base,
                "access_evaluation_endpoint": f"{base}/access/v1/evaluation",
                "access_evaluations_endpoint": f"{base}/access/v1/evaluations",
                **searches,
            }
        )

    # Proxies -----------------------------------------------------------------------------------

    async def check(self, request: Request) -> Response:
        """Whether a proxy may let a request through: 200 with the caller's id, or 401 or 403 with what it would get."""
        if self._requests is None:
            raise _Refused(404, "nothing says who is calling; write [identity] in the settings")
        original = original_of(request, self.settings.serve.senders)
        if not isinstance(original, Original):
            return PlainTextResponse(f"{original}\n", 403, {"X-Access-Status": "403"})
        plain = PlainRequest(
            original.method,
            original.path,
            original.headers,
            query_string=original.query,
            sender=request.client.host if request.client is not None else None,
            is_handshake=original.is_handshake,
        )
        with self._requests.handling(plain) as handling:
            refused = await handling.enter_async()
            decision = handling.decision
            allowed = refused is None and decision is not None and decision.outcome is Outcome.ALLOW
            self.counts.add("check", allowed)
            if allowed:
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

    async def health(self, request: Request) -> Response:  # noqa: ARG002
        """That it runs."""
        return PlainTextResponse("well\n")

    async def ready(self, request: Request) -> Response:  # noqa: ARG002
        """Whether the policy in force is that of the file, and the directory can be asked."""
        # What is wrong with the file is in the log, and not for everyone who can reach this.
        taken = (
            "in force" if self._questions.problem is None else "the last good one is in force, as the file has mistakes"
        )
        found = {"policy": taken}
        well = self._questions.problem is None
        if self.directory is not None:
            try:
                await to_thread.run_sync(self.directory.member, "1")
                found["directory"] = "well"
            except SQLAlchemyError:
                found["directory"], well = "it cannot be asked", False
        return JSONResponse(found, 200 if well else 503, {} if well else _AGAIN)

    async def counted(self, request: Request) -> Response:  # noqa: ARG002
        """The counts, as the text of the open exposition format."""
        return PlainTextResponse(self.counts.text(), media_type="text/plain; version=0.0.4")

    def application(self) -> Starlette:
        """The application."""
        base = "/access/v1"
        return Starlette(
            routes=[
                Route(f"{base}/evaluation", self._answering(self.evaluation), methods=["POST"]),
                Route(f"{base}/evaluations", self._answering(self.evaluations), methods=["POST"]),
                Route(f"{base}/search/{{of}}", self._answering(self.search), methods=["POST"]),
                Route("/.well-known/authzen-configuration", self._answering(self.metadata)),
                Route(
                    "/check", self._answering(self.check), methods=["GET", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]
                ),
                Route("/health", self._answering(self.health)),
                Route("/ready", self._answering(self.ready)),
                Route("/counts", self._answering(self.counted)),
            ]
        )

    def _answering(self, answer: Callable[[Request], Awaitable[Response]]) -> Callable[[Request], Awaitable[Response]]:
        """An endpoint with what all have in common: the id of the request, and what becomes of failures."""

        async def answered(request: Request) -> Response:
            request.state.id = id_of_request(request.headers.get("x-request-id"))
            began = time.perf_counter()
            try:
                response = await answer(request)
            except _Refused as error:
                response = error.response
            except BadQuestion as error:
                response = PlainTextResponse(f"{error}\n", 400)
            except (Unavailable, SQLAlchemyError) as error:
                _LOG.error("a question could not be answered: %s", type(error).__name__)
                response = PlainTextResponse("what has to be known cannot be asked at present\n", 503, _AGAIN)
            except Unidentified as error:
                response = PlainTextResponse(f"{error.reason}\n", 401)
            except ClientDisconnect:
                response = PlainTextResponse("", 400)
            except Exception:
                _LOG.exception("a question could not be answered")
                response = PlainTextResponse("this question could not be answered\n", 500)
            self.counts.took(time.perf_counter() - began)
            response.headers["X-Request-ID"] = request.state.id
            response.headers["Cache-Control"] = "no-store"
            return response

        return answered


async def _body(request: Request) -> Any:
    """The JSON of a question.

    Raises:
        _Refused: it is too large, or no JSON.
    """
    kind = request.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind != "application/json":
        raise _Refused(415, "the body must be application/json")
    data = bytearray()
    try:
        async with asyncio.timeout(BoundedHTTP.seconds):
            async for piece in request.stream():
                data += piece
                if len(data) > _LARGEST:
                    raise _Refused(413, f"a question has at most {_LARGEST} bytes")
    except TimeoutError as error:
        raise _Refused(
            408, f"a question arrives within {BoundedHTTP.seconds:g} seconds", {"Connection": "close"}
        ) from error
    try:
        return json.loads(bytes(data))
    except (ValueError, RecursionError) as error:
        raise _Refused(400, "the body is not JSON") from error


def _header(value: object) -> str:
    """A value as a header may have it."""
    from urllib.parse import quote

    return quote(str(value), safe="@.-_~+")


def from_environment() -> Starlette:
    """The application of the settings that the environment names; what each worker of a server calls."""
    return Service(read_settings(Path(os.environ[SETTINGS])), os.environ[ADDRESS]).application()
