"""What is asked of callers, written into the OpenAPI document of an application."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI

from ..core.binding import Binding, template_of
from ..core.lines import Line
from ..core.policy import Policy
from ..core.requirements import permissions_in
from .fastapi_routes import apart, described, guards_among, is_operation
from .guards import Guard

_SCHEME = "bearer"
_PROBLEM = {"application/problem+json": {"schema": {"type": "object"}}}


def describe(document: dict[str, Any], app: FastAPI, policy: Policy) -> None:
    """Write into an OpenAPI document what is asked of callers. Written twice it says the same."""
    for route in apart(app.routes):
        if not is_operation(route) or not route.include_in_schema:
            continue
        for method in route.methods or ():
            operation = document.get("paths", {}).get(route.path_format, {}).get(method.lower())
            binding = policy.lookup.binding(described((), route))
            line = binding.line_for(method, _sample(binding))
            if operation is not None:
                _describe_operation(document, operation, policy, line, list(guards_among(route)))


def _describe_operation(
    document: dict[str, Any], operation: dict[str, Any], policy: Policy, line: Line | None, guards: list[Guard]
) -> None:
    asked = [line.requirement.words() if line is not None else "nobody", *(each.text for each in guards)]
    operation["x-requirement"] = " and ".join(asked) if len(asked) == 1 else " and ".join(f"({each})" for each in asked)
    if line is not None and line.open_to_anyone and not guards:
        return
    requirements = [line.requirement] if line is not None else []
    requirements += [each.compiled_for(policy).requirement for each in guards]
    names = dict.fromkeys(asks.name for each in requirements for asks in permissions_in(each.formula))
    operation["security"] = [{_SCHEME: list(names)}]
    schemes = document.setdefault("components", {}).setdefault("securitySchemes", {})
    schemes.setdefault(_SCHEME, {"type": "http", "scheme": "bearer"})
    responses = operation.setdefault("responses", {})
    responses.setdefault("401", {"description": "The caller is not signed in.", "content": _PROBLEM})
    responses.setdefault("403", {"description": "The caller may not do this.", "content": _PROBLEM})


def _sample(binding: Binding) -> list[str]:
    template, _ = template_of(binding.route)
    return [part if isinstance(part, str) else "~" for part in template.segments]
