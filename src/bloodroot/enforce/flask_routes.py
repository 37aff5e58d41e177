"""The routes of a Flask application, as a policy wants to know them."""

from __future__ import annotations

import re
from dataclasses import replace
from typing import Any

import flask
from werkzeug.routing import Rule

from ..core.binding import Route, RouteKind
from ..core.methods import WEBSOCKET
from .guards import guards_of, with_guards
from .operations import operations_of
from .segments import WrittenPath, ignores_case

_PARAMETER = re.compile(r"<(?:[^<>:]*(?:\([^()]*\))?:)?([^<>:]*)>")


def routes(app: flask.Flask) -> list[Route]:
    """Every route of an application, its action named as Flask names the endpoint: ``view`` or ``blueprint.view``."""
    return [described(app, rule) for rule in app.url_map.iter_rules()]


def described(app: Any, rule: Rule) -> Route:
    """A route of an application, of Flask or Quart, as a policy wants to know it."""
    methods = set(rule.methods or ())
    if getattr(rule, "provide_automatic_options", False):
        methods.discard("OPTIONS")
    view = app.view_functions.get(rule.endpoint)
    if "GET" in methods and not hasattr(getattr(view, "view_class", None), "head"):
        methods.discard("HEAD")
    # Of a class-based view Flask has made a function; the class is what a guard is around.
    handler = getattr(view, "view_class", view)
    if getattr(rule, "websocket", False):
        methods = {WEBSOCKET}
    path, exact = template(rule)
    names = tuple(rule._converters)
    route = Route(
        rule.endpoint,
        tuple(sorted(methods)),
        path,
        None,
        rule.rule,
        exact,
        names,
        handler,
        _kind(rule),
        ignores_case=any(ignores_case(converter.regex) for converter in rule._converters.values()),
    )
    if isinstance(handler, type) and any(kind.__name__ == "MethodView" for kind in handler.__mro__):
        route = replace(route, operations=operations_of(handler, rule.endpoint, route.methods))
    # A guard may be around the function that Flask has made of a class, too.
    return with_guards(route, tuple(dict.fromkeys((*guards_of(handler), *guards_of(view)))), handler)


def _kind(rule: Rule) -> RouteKind:
    if rule.endpoint.rpartition(".")[2] == "static":
        return RouteKind.STATIC
    return RouteKind.REDIRECT if rule.redirect_to else RouteKind.ENDPOINT


def template(rule: Rule) -> WrittenPath:
    """The path of a rule as a policy writes it."""
    segments: list[str] = []
    exact = True
    parts = rule.rule.split("/")
    for number, part in enumerate(parts):
        names = [match[1] for match in _PARAMETER.finditer(part)]
        if any(not getattr(rule._converters.get(name), "part_isolating", False) for name in names):
            # More than one segment: the end of the path, or all of it from here.
            last = number == len(parts) - 1 and _PARAMETER.fullmatch(part) is not None
            return WrittenPath("/".join([*segments, "**"]), exact and last)
        segments.append(_PARAMETER.sub(r"{\1}", part))
    return WrittenPath("/".join(segments).rstrip("/") or "/", exact)
