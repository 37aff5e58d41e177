"""OpenAPI 3.1: a document of the endpoints that a survey found, to start from where there is none."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING, Any

from ..api_access import AccessOfOperations, Schemes
from ..core.binding import RouteKind
from ..core.methods import ANY
from ..survey.coverage import SurveyResult

if TYPE_CHECKING:
    from ..survey.coverage import Surveyed

_OPERATIONS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
_NAME = re.compile(r"\{([^{}]*)\}")


def survey(result: SurveyResult) -> str:
    """A document with an operation for each method of each endpoint that a path of OpenAPI can say."""
    paths: dict[str, dict[str, Any]] = {}
    document: dict[str, Any] = {"openapi": "3.1.0", "info": {}, "paths": paths}
    access, schemes = AccessOfOperations(result.policy) if result.policy is not None else None, Schemes(document)
    for row in result.endpoints:
        if row.endpoint.kind == RouteKind.WEBSOCKET or "*" in row.endpoint.template:
            continue
        item = paths.setdefault(row.endpoint.template, {})
        names = _NAME.findall(row.endpoint.template)
        if names:
            schema = {"type": "string"}
            item["parameters"] = [{"name": name, "in": "path", "required": True, "schema": schema} for name in names]
        for method in ("get", "post", "put", "patch", "delete") if row.method == ANY else (row.method.lower(),):
            if method in _OPERATIONS and method not in item:
                item[method] = operation = _operation(row)
                if access is not None:
                    access.of(row.line, row.rules, method.upper(), row.template).fill_in(operation, schemes)
    schemes.declare()
    title = result.policy.title if result.policy is not None and result.policy.title else "Surveyed endpoints"
    document["info"] = {"title": title, "version": "0"}
    return json.dumps(document, indent=2, ensure_ascii=False) + "\n"


def _operation(row: Surveyed) -> dict[str, Any]:
    endpoint = row.endpoint
    operation: dict[str, Any] = {}
    if endpoint.operation:
        operation["operationId"] = endpoint.operation
    if endpoint.summary:
        operation["summary"] = endpoint.summary
    if endpoint.tags:
        operation["tags"] = list(endpoint.tags)
    statuses = {str(status): {"description": "observed"} for status in sorted(endpoint.statuses)}
    return {**operation, "responses": statuses or {"default": {"description": "not known"}}}
