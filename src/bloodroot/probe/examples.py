"""Values of parameters, and bodies, from what an OpenAPI document says of an endpoint: its examples and schemas."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

from ..core.binding import Route, template_of
from ..core.paths import read_path, specificity
from ..settings import Body, Settings

if TYPE_CHECKING:
    from .application import Application
    from .asked_endpoints import AskedEndpoint

_DEEPEST = 12
_MOST_VALUES = 4  # of one parameter of the query
_BY_FORMAT = {
    "date": "2026-05-04",
    "date-time": "2026-05-04T10:00:00Z",
    "email": "fern@fernhollow.example",
    "uuid": "00000000-0000-4000-8000-000000000001",
    "uri": "https://fernhollow.example/",
    "time": "10:00:00Z",
    "ipv4": "127.0.0.1",
}
_FORMS = ("application/x-www-form-urlencoded", "multipart/form-data")


class _Described(NamedTuple):
    """What a document says of an endpoint.

    Attributes:
        operation: the operation.
        item: the path that it is of.
    """

    operation: Mapping[str, Any]
    item: Mapping[str, Any]


class Examples:
    """What a document says of each endpoint.

    Args:
        document: the document, as plain data; an empty mapping for none.
        recorded: paths that were once read, each with the parameters of its query.
    """

    def __init__(
        self, document: Mapping[str, Any], recorded: Sequence[tuple[str, Mapping[str, list[str]]]] = ()
    ) -> None:
        self._document = document
        self._recorded = recorded
        self._operations: dict[tuple[str, object], tuple[Mapping[str, Any], Mapping[str, Any]]] = {}
        paths = document.get("paths")
        for path, item in paths.items() if isinstance(paths, Mapping) else ():
            item = self._resolved(item)
            if not isinstance(path, str) or not path.startswith("/") or not isinstance(item, Mapping):
                continue
            shape = specificity(template_of(Route("", (), path)).template, exact=True)
            for method, operation in item.items():
                if isinstance(operation, Mapping):
                    self._operations[str(method).upper(), shape] = operation, item

    def values(self, endpoint: AskedEndpoint) -> Mapping[str, str]:
        """Values for the parameters of a path."""
        operation, item = self._of(endpoint)
        found: dict[str, str] = {}
        listed = [*(item.get("parameters") or ()), *(operation.get("parameters") or ())]
        for parameter in map(self._resolved, listed):
            if not isinstance(parameter, Mapping) or parameter.get("in") != "path":
                continue
            value = self._given(parameter)
            if value is None:
                schema = self._resolved(parameter.get("schema"))
                value = self._given(schema) if isinstance(schema, Mapping) else None
            if isinstance(value, str | int | float) and not isinstance(value, bool):
                found[str(parameter.get("name"))] = str(value)
        return found

    def parameters(self, endpoint: AskedEndpoint) -> dict[str, tuple[str, ...]]:
        """The parameters of the query that an endpoint takes, each with values; none for one that may be anything."""
        operation, item = self._of(endpoint)
        found: dict[str, tuple[str, ...]] = {}
        for path, query in self._recorded:
            segments = read_path(path)
            if segments is not None and endpoint.template.covers(segments):
                for name, sent in query.items():
                    found[name] = tuple(dict.fromkeys((*found.get(name, ()), *sent)))[:_MOST_VALUES]
        for parameter in map(self._resolved, [*(item.get("parameters") or ()), *(operation.get("parameters") or ())]):
            if not isinstance(parameter, Mapping) or parameter.get("in") != "query":
                continue
            schema = self._resolved(parameter.get("schema"))
            schema = schema if isinstance(schema, Mapping) else {}
            values = schema.get("enum")
            kind = schema.get("type")
            if isinstance(values, list):
                several = [str(value) for value in values if isinstance(value, str | int)][:_MOST_VALUES]
            elif kind == "boolean":
                several = ["true", "false"]
            elif kind in ("integer", "number"):
                several = [str(self.made(schema))]
            else:
                given = parameter.get("example"), schema.get("example")
                several = [str(value) for value in given if value is not None]
            name = str(parameter.get("name"))
            found[name] = tuple(dict.fromkeys((*several, *found.get(name, ()))))
        return found

    def body(self, endpoint: AskedEndpoint) -> Body | None:
        """A body that is as the document says, or None where it says nothing."""
        operation = self._of(endpoint).operation
        body = self._resolved(operation.get("requestBody"))
        content = body.get("content") if isinstance(body, Mapping) else None
        for kind, media in content.items() if isinstance(content, Mapping) else ():
            if not isinstance(media, Mapping):
                continue
            value = self._given(media)
            if value is None:
                value = self.made(media.get("schema"))
            if kind.endswith("json"):
                return Body("json", value)
            if kind in _FORMS and isinstance(value, Mapping):
                return Body("form", {name: str(item) for name, item in value.items() if item is not None})
        return None

    def made(self, schema: Any, depth: int = 0) -> Any:
        """A value that a schema allows, as far as its type, its examples and its limits say."""
        schema = self._resolved(schema)
        if not isinstance(schema, Mapping) or depth > _DEEPEST:
            return None
        given = self._given(schema)
        if given is not None:
            return given
        for several in ("allOf", "oneOf", "anyOf"):
            parts = schema.get(several)
            if isinstance(parts, list) and parts:
                made = [self.made(part, depth + 1) for part in parts]
                if several == "allOf" and all(isinstance(body, Mapping) for body in made):
                    return {name: value for body in made for name, value in body.items()}
                return next((body for body in made if body is not None), None)
        kind = schema.get("type")
        if isinstance(kind, list):
            kind = next((kind_name for kind_name in kind if kind_name != "null"), None)
        return self._of_kind(kind, schema, depth)

    def _of_kind(self, kind: Any, schema: Mapping[str, Any], depth: int) -> Any:
        if kind == "object" or "properties" in schema:
            properties = schema.get("properties")
            required = schema.get("required") or ()
            pairs = properties.items() if isinstance(properties, Mapping) else ()
            made = {name: self.made(item, depth + 1) for name, item in pairs}
            return {name: value for name, value in made.items() if value is not None or name in required}
        if kind == "array":
            return [self.made(schema.get("items"), depth + 1)] if schema.get("minItems", 0) else []
        if kind in ("integer", "number"):
            least = schema.get("minimum", schema.get("exclusiveMinimum"))
            return 1 if not isinstance(least, int | float) or least < 1 else least + ("exclusiveMinimum" in schema)
        if kind == "boolean":
            return True
        if kind == "string":
            return _BY_FORMAT.get(str(schema.get("format")), "fern".ljust(int(schema.get("minLength") or 0), "n"))
        return None

    def _given(self, schema: Mapping[str, Any]) -> Any:
        """A value that is written down: an example, the default, the first of an enumeration."""
        for key in ("example", "default", "const"):
            if schema.get(key) is not None:
                return schema[key]
        for key in ("examples", "enum"):
            several = schema.get(key)
            if isinstance(several, list) and several:
                return several[0]
            if isinstance(several, Mapping) and several:
                first = self._resolved(next(iter(several.values())))
                return first.get("value") if isinstance(first, Mapping) else None
        return None

    def _of(self, endpoint: AskedEndpoint) -> _Described:
        return _Described(
            *self._operations.get((endpoint.method, specificity(endpoint.template, exact=True)), ({}, {}))
        )

    def _resolved(self, value: Any) -> Any:
        """What a reference within the document leads to."""
        for _ in range(_DEEPEST):
            reference = value.get("$ref") if isinstance(value, Mapping) else None
            if not isinstance(reference, str) or not reference.startswith("#/"):
                return value
            value = self._document
            for name in reference[2:].split("/"):
                value = value.get(name.replace("~1", "/").replace("~0", "~")) if isinstance(value, Mapping) else None
        return None


def examples_of(settings: Settings, application: Application) -> Examples:
    """What is known of an application's endpoints: by a document of the settings, or one that it makes of itself."""
    return Examples(
        _document(settings, application), [each for file in settings.probe.recorded for each in _read_har(file)]
    )


def _document(settings: Settings, application: Application) -> Mapping[str, Any]:
    if settings.openapi is not None:
        return _read(settings.openapi)
    if application.made_with is None or not application.here:
        return {}
    adapter, app = application.made_with
    try:
        return adapter.document(app) or {}
    except Exception:
        # The application's own code makes it; without it there are no examples.
        return {}


def _read_har(file: Path) -> list[tuple[str, dict[str, list[str]]]]:
    from ..survey.har import queries_in

    return queries_in(file)


def _read(file: Path) -> Mapping[str, Any]:
    """A document, as JSON or YAML; `survey.documents` says what is wrong with one that cannot be read."""
    from ..survey.documents import survey_openapi

    survey_openapi(file)
    text = file.read_text("utf-8-sig")
    try:
        value = json.loads(text)
    except ValueError:
        from ..survey import yaml_text

        value = yaml_text.load(text)
    return value if isinstance(value, Mapping) else {}
