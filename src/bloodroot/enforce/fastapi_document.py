"""What is asked of callers, written into the OpenAPI document of an application."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI

from ..api_access import AccessOfOperations, Schemes
from ..core.annotations import with_guards
from ..core.binding import template_of
from ..core.paths import unnamed_segments
from ..core.policy import Policy
from .fastapi_routes import apart, described, is_operation, routes


def describe(document: dict[str, Any], app: FastAPI, policy: Policy) -> None:
    """Write into an OpenAPI document what is asked of callers, by lines and guards together.

    Args:
        document: the document that the application makes of itself.
        app: the application.
        policy: the policy, as it was compiled.
    """
    whole = with_guards(policy, routes(app)).policy
    access, schemes = AccessOfOperations(whole), Schemes(document)
    for route in apart(app.routes):
        if not is_operation(route) or not route.include_in_schema:
            continue
        known = described((), route)
        template, exact = template_of(known)
        for method in route.methods or ():
            operation = document.get("paths", {}).get(route.path_format, {}).get(method.lower())
            if operation is not None:
                line = whole.lookup.at_route(known, method, unnamed_segments(template, exact))
                rules = whole.lookup.rules_over(template, method)
                access.of(line, rules, method, template).fill_in(operation, schemes)
    schemes.declare()
