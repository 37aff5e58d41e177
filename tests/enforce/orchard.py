"""The policy, the callers and the trees of the tests of attacks that an application's own structure makes possible."""

import logging
import types
import unittest
from typing import Any

import fastapi
from starlette.applications import Starlette
from starlette.routing import Route

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import fastapi as for_fastapi
from bloodroot.enforce import starlette as for_starlette
from tests.django_project import project

KEY = "a key for tests, and nothing else but tests"
CALLERS = {"3": Caller(3), "4": Caller(4, {"keeper"})}
TREES = {"1": types.SimpleNamespace(owner=3), "2": types.SimpleNamespace(owner=4)}
POLICY = bloodroot.parse("""
policy "Orchard"
roles
  keeper
conditions
  own  record.owner == caller.id
endpoints
  GET /open             anyone
  GET /keeper           keeper
  GET /trees/{tree_id}  own
  GET /batch            signed-in
  GET /boom             keeper
""")


def who(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-caller") or "")


class Silent(unittest.TestCase):
    def setUp(self) -> None:
        super().setUp()
        logging.disable(logging.CRITICAL)
        self.addCleanup(logging.disable, logging.NOTSET)

    def django(self, urls: list[Any], *inner: str, policy: bloodroot.Policy = POLICY, **settings: Any) -> Any:
        """Django with these URL patterns, middleware inside of ours, and more settings."""
        given = {"policy": policy, "identify": settings.pop("identify", who), **settings.pop("bloodroot", {})}
        before = settings.pop("before", [])
        names = settings.pop("names", None)
        middleware = [*before, "bloodroot.enforce.django.AccessMiddleware", *inner]
        return project(urls, names, BLOODROOT=given, MIDDLEWARE=middleware, **settings)


def starlettes(routes: dict[str, Any], **how: Any) -> list[tuple[str, Any, Any]]:
    """An application of Starlette and one of FastAPI with the same routes, not protected yet."""
    plain = Starlette(routes=[Route(each, serve, name=each) for each, serve in routes.items()], **how)
    api = fastapi.FastAPI(openapi_url=None, docs_url=None, redoc_url=None, **how)
    for each, serve in routes.items():
        api.router.add_route(each, serve, name=each)
    return [("starlette", plain, for_starlette.protect), ("fastapi", api, for_fastapi.protect)]
