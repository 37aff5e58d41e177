"""What is asked of callers, written into an OpenAPI document of a Django project."""

from __future__ import annotations

from typing import Any

from ..api_access import AccessOfOperations, Schemes
from ..core.annotations import with_guards
from ..core.binding import Route, template_of
from ..core.methods import COMMON
from ..core.paths import TemplateError, parse_template, specificity, unnamed_segments
from .django_routes import routes
from .django_settings import read_settings
from .following import opened


def describe_project(document: dict[str, Any]) -> None:
    """Write into an OpenAPI document what is asked of callers, by lines and guards together.

    Args:
        document: the document; its paths are those of the project, whatever their parameters are called.
    """
    found = routes()
    whole = with_guards(opened(read_settings()["policy"]).policy, found).policy
    access, schemes = AccessOfOperations(whole), Schemes(document)
    by_shape: dict[object, Route] = {}
    for route in found:
        by_shape.setdefault(specificity(template_of(route)[0], exact=True), route)
    for path, item in document.get("paths", {}).items():
        try:
            template = parse_template(path)
        except TemplateError:
            continue
        served = by_shape.get(specificity(template, exact=True))
        for method in COMMON if served is not None else ():
            operation = item.get(method.lower())
            if operation is not None and served is not None:
                line = whole.lookup.at_route(served, method, unnamed_segments(*template_of(served)))
                rules = whole.lookup.rules_over(template, method)
                access.of(line, rules, method, template_of(served)[0]).fill_in(operation, schemes)
    schemes.declare()
