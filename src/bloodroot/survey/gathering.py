"""Sources of endpoints by name: what each of them is, and all of them read in a useful order."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from pathlib import Path

from ..core.binding import RouteKind
from .applications import imported, is_application, survey_application
from .documents import survey_openapi
from .endpoints import Found, SurveyError
from .har import survey_har
from .logs import survey_log
from .requests import Observed


def gather(names: Iterable[str], folder: Path) -> list[Found]:
    """Read sources: applications and documents first, so that what was observed is held against what they declare.

    Args:
        names: ``module:name``, or files: OpenAPI documents, HAR files and access logs.
        folder: where modules and files are looked for.

    Raises:
        SurveyError: one of them cannot be read.
        SettingsError: an application cannot be imported.
    """
    declared: list[Found] = []
    observing: list[tuple[Path, Callable[[Path, Observed], Found]]] = []
    for name in names:
        if is_application(name, folder):
            declared.append(survey_application(name, imported(name, folder, "app")))
            continue
        file = _shown(folder / name)
        read = _kind_of(file)
        if read is None:
            declared.append(survey_openapi(file))
        else:
            observing.append((file, read))
    endpoints = tuple(
        (endpoint.methods, endpoint.template)
        for found in declared
        for endpoint in found.endpoints
        # What is mounted as a whole says nothing of what is within, and a template that had to be made so much wider
        # than its route would hide requests to what nothing declares.
        if endpoint.kind != RouteKind.MOUNT and (endpoint.exact or "**" not in endpoint.template)
    )
    return [*declared, *(read(file, Observed(endpoints)) for file, read in observing)]


def _shown(file: Path) -> Path:
    try:
        return file.resolve().relative_to(Path.cwd().resolve())
    except ValueError:
        return file


def _kind_of(file: Path) -> Callable[[Path, Observed], Found] | None:
    """How a file of observed requests is read; None for an OpenAPI document."""
    try:
        with file.open("rb") as opened:
            start = opened.read(4096)
    except FileNotFoundError as error:
        raise SurveyError(
            f"{file}: there is no such file; a source is a file, or an application as module:name"
        ) from error
    except OSError as error:
        raise SurveyError(f"{file}: this file cannot be read: {error.strerror}") from error
    if file.suffix.lower() == ".har" or re.match(rb'\s*\{\s*"log"', start):
        return survey_har
    if file.suffix.lower() in (".json", ".yaml", ".yml") or re.search(rb'(?m)^\s*"?(openapi|swagger)"?\s*:', start):
        return None
    return survey_log
