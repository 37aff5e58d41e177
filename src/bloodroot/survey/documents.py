"""Endpoints of an OpenAPI document, version 3.0 or 3.1, as JSON or YAML."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import unquote, urlsplit

from ..core.binding import Route, template_of
from . import yaml_text
from .endpoints import Endpoint, Found, SurveyError

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
_LARGEST = 256 * 1024 * 1024
_MOST_LEADS = 50  # references that lead to references
_VERSION = re.compile(r"3\.[01](\.|$)")


def survey_openapi(file: Path) -> Found:
    """The operations of an OpenAPI document; webhooks and callbacks, which are others' endpoints, are left out.

    Args:
        file: the document. What it refers to with ``$ref`` must be in its folder or below.

    Raises:
        SurveyError: it cannot be read, or is not an OpenAPI document; the message has the place.
    """
    return _Document(file).survey()


class _Document:
    """An OpenAPI document, and the files that it refers to."""

    def __init__(self, file: Path) -> None:
        self.file = file
        self.folder = file.resolve().parent
        self.files: dict[Path, Any] = {}
        self.notes: list[str] = []

    def survey(self) -> Found:
        whole = self.load(self.file.resolve())
        if not isinstance(whole, Mapping):
            raise self.error("", "this is not an OpenAPI document: it is no object")
        version = str(whole.get("openapi", ""))
        if "swagger" in whole:
            raise self.error("swagger", "this is Swagger 2.0; convert it to OpenAPI 3 first")
        if not _VERSION.match(version):
            said = f'its version is "{version}"' if version else "it has no openapi: 3.0 or 3.1"
            raise self.error("openapi", f"this is not an OpenAPI document of version 3.0 or 3.1: {said}")
        endpoints: list[Endpoint] = []
        for path, item in self.table(whole, "paths", "").items():
            place = f"paths.{path}"
            if isinstance(path, str) and path.startswith("x-"):
                continue  # an extension (OpenAPI 3.1.1, section 4.9), and no path
            if not isinstance(path, str) or not path.startswith("/"):
                raise self.error(place, "a path begins with /")
            endpoints += self.operations(whole, path, self.resolved(item, self.file.resolve(), place), place)
        if whole.get("webhooks"):
            self.notes.append(f"{self.file}: webhooks are left out: others serve them")
        return Found(str(self.file), tuple(endpoints), tuple(self.notes))

    def operations(self, whole: Mapping[str, Any], path: str, item: Any, place: str) -> Iterator[Endpoint]:
        """The operations of one path."""
        if not isinstance(item, Mapping):
            raise self.error(place, "this must be an object with an operation for each method")
        for method in _METHODS:
            if method not in item:
                continue
            operation, at = item[method], f"{place}.{method}"
            if not isinstance(operation, Mapping):
                raise self.error(at, "this must be an object: an operation")
            for base in self.bases(operation.get("servers") or item.get("servers") or whole.get("servers"), at):
                spelling = base + path
                template, exact = template_of(Route("", (), spelling.split("?")[0].split("#")[0]))
                yield Endpoint(
                    (method.upper(),),
                    template.text,
                    str(self.file),
                    at,
                    exact and "?" not in spelling and "#" not in spelling,
                    spelling,
                    operation=_string(operation.get("operationId")),
                    summary=_string(operation.get("summary")) or "",
                    tags=tuple(str(tag) for tag in operation.get("tags") or ()),
                    security=_security(operation.get("security", whole.get("security"))),
                )

    def bases(self, servers: Any, place: str) -> list[str]:
        """The paths that servers put before every path; they differ seldom."""
        if not servers:
            return [""]
        if not isinstance(servers, list) or not all(isinstance(server, Mapping) for server in servers):
            raise self.error(place, "servers must be a list of objects")
        found: dict[str, None] = {}
        for server in servers:
            url = str(server.get("url", "/"))
            variables = server.get("variables")
            for name, variable in (variables if isinstance(variables, Mapping) else {}).items():
                if isinstance(variable, Mapping):
                    url = url.replace(f"{{{name}}}", str(variable.get("default", "")))
            try:
                found[urlsplit(url).path.rstrip("/")] = None
            except ValueError as error:
                raise self.error(place, f'the url of a server cannot be read: "{url}"') from error
        return list(found)

    def table(self, whole: Mapping[str, Any], key: str, place: str) -> Mapping[Any, Any]:
        found = whole.get(key) or {}
        if not isinstance(found, Mapping):
            raise self.error(f"{place}.{key}".strip("."), "this must be an object")
        return found

    # References --------------------------------------------------------------------------------

    def resolved(self, item: Any, file: Path, place: str) -> Any:
        """What is behind a ``$ref``, with what is beside it; the item itself where it is none."""
        for _ in range(_MOST_LEADS):
            if not isinstance(item, Mapping) or "$ref" not in item:
                return item
            reference = str(item["$ref"])
            beside = {key: value for key, value in item.items() if key != "$ref"}
            address, _, pointer = reference.partition("#")
            if address:
                file = self.beside(file, address, place)
            pointed = self.pointed_at(self.load(file), pointer, place, reference)
            item = {**pointed, **beside} if isinstance(pointed, Mapping) else pointed
        raise self.error(place, "references lead to references without an end")

    def beside(self, file: Path, address: str, place: str) -> Path:
        """A file that another one refers to."""
        try:
            parts = urlsplit(address)
            wanted = (file.parent / unquote(parts.path)).resolve()
        except ValueError as error:
            raise self.error(place, f'the reference "{address}" cannot be read') from error
        if parts.scheme or parts.netloc:
            raise self.error(place, f"{address} is on the network, and nothing is fetched from there; save it beside")
        if not wanted.is_relative_to(self.folder):
            raise self.error(place, f"{address} leaves the folder of the document")
        return wanted

    def pointed_at(self, value: Any, pointer: str, place: str, reference: str) -> Any:
        """What a JSON Pointer leads to (RFC 6901)."""
        for part in pointer.split("/")[1:]:
            name = unquote(part).replace("~1", "/").replace("~0", "~")
            if isinstance(value, Mapping) and name in value:
                value = value[name]
            elif isinstance(value, list) and name.isdecimal() and int(name) < len(value):
                value = value[int(name)]
            else:
                raise self.error(place, f'the reference "{reference}" leads nowhere')
        return value

    def load(self, file: Path) -> Any:
        """A file as data."""
        if file not in self.files:
            self.files[file] = _read(file, self.file if file == self.file.resolve() else file.relative_to(self.folder))
        return self.files[file]

    def error(self, place: str, message: str) -> SurveyError:
        return SurveyError(f"{self.file}: {place + ': ' if place else ''}{message}")


def _read(file: Path, name: Path) -> Any:
    try:
        if file.stat().st_size > _LARGEST:
            raise SurveyError(f"{name}: this file is larger than {_LARGEST // 2**20} MiB")
        data = file.read_bytes()
    except FileNotFoundError as error:
        raise SurveyError(f"{name}: there is no such file") from error
    except OSError as error:
        raise SurveyError(f"{name}: this file cannot be read: {error.strerror}") from error
    if file.suffix.lower() == ".json" or data.lstrip()[:1] == b"{":
        try:
            return json.loads(data)
        except json.JSONDecodeError as error:
            raise SurveyError(f"{name}:{error.lineno}:{error.colno}: this is not JSON: {error.msg}") from error
        except (UnicodeDecodeError, RecursionError) as error:
            raise SurveyError(f"{name}: this is not JSON: {error}") from error
    return read_yaml(data, name)


def read_yaml(data: bytes, name: Path) -> Any:
    """A YAML document.

    Raises:
        SurveyError: it cannot be read; the message has the place.
    """
    import yaml

    try:
        return yaml_text.load(data)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        place = f":{mark.line + 1}:{mark.column + 1}" if mark is not None else ""
        raise SurveyError(f"{name}{place}: this is not YAML: {error.problem or error.context}") from error
    except (yaml.YAMLError, UnicodeDecodeError, RecursionError, ValueError) as error:
        raise SurveyError(f"{name}: this is not YAML: {error}") from error


def _string(value: Any) -> str | None:
    return " ".join(value.split()) if isinstance(value, str) and value.strip() else None


def _security(value: Any) -> tuple[str, ...] | None:
    """Security requirements in words, alternatives one by one; empty where nothing is needed."""
    if not isinstance(value, list):
        return None
    names = []
    for alternative in value:
        if not isinstance(alternative, Mapping) or not alternative:
            return ()  # an empty alternative: nothing is needed
        schemes = (" ".join([str(name), *map(str, scopes or ())]) for name, scopes in alternative.items())
        names.append(" and ".join(schemes))
    return tuple(names)
