"""The applications that enforcement is measured on, each alone and behind the policy."""

from __future__ import annotations

import sys
import types
from typing import Any

import bloodroot
from bloodroot import Caller

ENDPOINTS = 40
ROLES = 20
PLOTS = {str(number): types.SimpleNamespace(id=number, grower_id=number % 3) for number in range(50)}


def policy() -> bloodroot.Policy:
    """A policy of 40 endpoints, decided by roles and permissions, and of two that depend on a record."""
    lines = ["roles"]
    lines += [f"  role{number}" + (f" includes role{number - 1}" if number % 10 else "") for number in range(ROLES)]
    lines += ["permissions"]
    lines += [f"  thing{number}:edit  role{number % ROLES}, role{number * 7 % ROLES}" for number in range(20)]
    lines += ["conditions", "  own  record.grower_id == caller.id", "endpoints"]
    lines += [
        f"  GET /area{number % 8}/things{number}/{{thing_id}}  role{number % ROLES} or thing{number % 20}:edit"
        for number in range(ENDPOINTS)
    ]
    lines += ["  GET /plots/{plot_id}  role0 and own", "  POST /in  anyone"]
    return bloodroot.parse("\n".join(lines))


CALLERS = {number: Caller(number, {f"role{number}"}) for number in range(ROLES)}


def caller_of(session: Any) -> Caller | None:
    """The caller in a session, as an application keeps it."""
    return CALLERS.get(session.get("member"))


def starlette(behind: bool) -> Any:
    """Starlette with sessions."""
    from starlette.applications import Starlette
    from starlette.middleware import Middleware
    from starlette.middleware.sessions import SessionMiddleware
    from starlette.responses import PlainTextResponse
    from starlette.routing import Route

    from bloodroot.enforce import starlette as enforce

    async def serve(request: Any) -> Any:
        # As an application does that knows who is signed in: alone, and behind the policy as well.
        request.session.get("member")
        return PlainTextResponse("seed")

    async def sign_in(request: Any) -> Any:
        request.session["member"] = int(request.query_params["id"])
        return PlainTextResponse("seed")

    async def plot(request: Any) -> Any:
        request.session.get("member")
        if not behind:
            PLOTS[request.path_params["plot_id"]]
        return PlainTextResponse("seed")

    async def load(text: str) -> Any:
        return PLOTS.get(text)

    routes = [Route(f"/area{n % 8}/things{n}/{{thing_id}}", serve, name=f"things{n}") for n in range(ENDPOINTS)]
    routes += [Route("/plots/{plot_id}", plot), Route("/in", sign_in, methods=["POST"])]
    app = Starlette(routes=routes, middleware=[Middleware(SessionMiddleware, secret_key="k" * 32)])
    if behind:
        enforce.protect(app, policy(), identify=lambda request: caller_of(request.session), records={"plot_id": load})
    return app


def flask(behind: bool) -> Any:
    """Flask with sessions."""
    import flask as framework

    from bloodroot.enforce import flask as enforce

    app = framework.Flask("measured", static_folder=None)
    app.secret_key = "k" * 32
    for number in range(ENDPOINTS):
        app.add_url_rule(f"/area{number % 8}/things{number}/<thing_id>", f"things{number}", lambda thing_id: "seed")

    def sign_in() -> str:
        framework.session["member"] = int(framework.request.args["id"])
        return "seed"

    def plot(plot_id: str) -> str:
        if not behind:
            PLOTS[plot_id]
        return "seed"

    app.add_url_rule("/plots/<plot_id>", "plot", plot)
    app.add_url_rule("/in", "in", sign_in, methods=["POST"])

    @app.before_request
    def read_session() -> None:
        # The application alone reads its session as well, as one that knows its callers does.
        framework.session.get("member")

    if behind:
        enforce.protect(
            app, policy(), identify=lambda request: caller_of(framework.session), records={"plot_id": PLOTS.get}
        )
    return app


def django(behind: bool) -> Any:
    """Django with sessions in signed cookies."""
    import django as framework
    from django.conf import settings
    from django.core.handlers.wsgi import WSGIHandler
    from django.http import HttpResponse
    from django.urls import path

    def serve(request: Any, thing_id: str) -> Any:
        request.session.get("member")
        return HttpResponse("seed", headers={"Content-Length": "4"})

    def sign_in(request: Any) -> Any:
        request.session["member"] = int(request.GET["id"])
        return HttpResponse("seed", headers={"Content-Length": "4"})

    def plot(request: Any, plot_id: str) -> Any:
        request.session.get("member")
        if not behind:
            PLOTS[plot_id]
        return HttpResponse("seed", headers={"Content-Length": "4"})

    urls = types.ModuleType("measured_urls")
    patterns = [path(f"area{n % 8}/things{n}/<thing_id>", serve, name=f"things{n}") for n in range(ENDPOINTS)]
    urls.urlpatterns = [*patterns, path("plots/<plot_id>", plot), path("in", sign_in)]  # type: ignore[attr-defined]
    sys.modules["measured_urls"] = urls
    middleware = ["django.contrib.sessions.middleware.SessionMiddleware"]
    how: dict[str, Any] = {}
    if behind:
        middleware.append("bloodroot.enforce.django.AccessMiddleware")
        identify = lambda request: caller_of(request.session)  # noqa: E731
        how["BLOODROOT"] = {"policy": policy(), "identify": identify, "records": {"plot_id": PLOTS.get}}
    settings.configure(
        SECRET_KEY="k" * 32,
        ALLOWED_HOSTS=["*"],
        ROOT_URLCONF="measured_urls",
        MIDDLEWARE=middleware,
        SESSION_ENGINE="django.contrib.sessions.backends.signed_cookies",
        LOGGING_CONFIG=None,
        **how,
    )
    framework.setup()
    return WSGIHandler()


APPLICATIONS = {"starlette": starlette, "flask": flask, "django": django}
