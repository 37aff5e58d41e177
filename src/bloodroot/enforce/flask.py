"""Flask: the policy in front of an application, with its session and its routes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import flask

from ..core.binding import Route
from ..core.fields import FieldsRefused
from ..core.policy import Policy
from .access import Refused
from .audit import Audit
from .enforcement import Identify, Loader, Page
from .guards import guards_of
from .startup import StartUp, look_over
from .wsgi import AccessMiddleware, Environ, Request

_REST = re.compile(r"<path:[^<>]*>\Z")
_CONVERTED = re.compile(r"<(?:[^<>:]*(?:\([^()]*\))?:)?([^<>:]*)>")


def protect(
    app: flask.Flask,
    policy: Policy,
    *,
    identify: Identify,
    records: Mapping[str, Loader] | None = None,
    page: Page | None = None,
    audit: Audit | None = None,
) -> StartUp:
    """Put a policy in front of an application, once all of its routes are declared.

    Lines that name actions are bound to the routes, an action being what Flask calls an endpoint. ``identify`` finds
    the application's session as ``request.session``.

    Args:
        app: the application.
        policy: what decides.
        identify: as `bloodroot.enforce.wsgi.AccessMiddleware`, like the others.

    Returns:
        What the routes and the policy say of each other; it is written to the log as well.

    Raises:
        PolicyError: the application has no such action, or a guard asks for what the policy does not know.
    """
    found = routes(app)
    bound = policy.bind(found)
    started = look_over(bound, found)
    started.tell()

    def session_of(environ: Environ) -> Mapping[str, Any] | None:
        return app.session_interface.open_session(app, app.request_class(environ))

    around = AccessMiddleware(
        app.wsgi_app, bound, identify=identify, records=records, page=page, audit=audit, session_of=session_of
    )

    def refused(error: Exception) -> flask.Response:
        """What Flask answers: of a refusal nothing goes out, as the middleware puts its own answer there."""
        answer = around.enforcement.refusal_raised(error)
        assert answer is not None
        made = around.enforcement.respond(answer, request(), None)
        return flask.Response(made.body, made.status, list(made.headers))

    app.register_error_handler(Refused, refused)
    app.register_error_handler(FieldsRefused, refused)
    app.wsgi_app = around  # type: ignore[method-assign]
    return started


def request() -> Request:
    """The request that Flask is serving, with the session of the application, for an ``identify`` in a view."""
    return Request(flask.request.environ, lambda _: flask.session)


def routes(app: flask.Flask) -> list[Route]:
    """Every route of an application, its action named as Flask names the endpoint: ``view`` or ``blueprint.view``."""
    found = []
    for rule in app.url_map.iter_rules():
        methods = tuple(sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}))
        view = app.view_functions.get(rule.endpoint)
        # Of a class-based view Flask has made a function; the class is what a guard is around.
        handler = getattr(view, "view_class", view)
        found.append(Route(rule.endpoint, methods, template(rule.rule), bool(guards_of(handler))))
    return found


def template(rule: str) -> str:
    """Flask's ``<converter:name>`` as a policy writes it."""
    return _CONVERTED.sub(r"{\1}", _REST.sub("**", rule)).rstrip("/") or "/"
