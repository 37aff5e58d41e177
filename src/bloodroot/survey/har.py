"""Endpoints in a HAR file (HTTP Archive 1.2), which browsers write of what they have sent."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import parse_qs, urlsplit

from .endpoints import Found, SurveyError
from .requests import Observed

_LARGEST = 512 * 1024 * 1024


def survey_har(file: Path, observed: Observed) -> Found:
    """The endpoints that a HAR file has requests for, at the host that most of them are for.

    Args:
        file: the file.
        observed: what its requests are counted in.

    Raises:
        SurveyError: it cannot be read, or is no HAR file.
    """
    entries = _entries(file)
    requests = [_request(file, number, entry) for number, entry in enumerate(entries)]
    hosts = Counter(host for host, *_ in requests)
    if not hosts:
        return observed.found(str(file), [f"{file}: there are no requests in it"])
    main = hosts.most_common(1)[0][0]
    for host, method, path, status in requests:
        if host == main:
            observed.add(method, path, status)
    others = [f"{host} ({count})" for host, count in hosts.most_common() if host != main]
    notes = [f"{file}: requests for other hosts than {main} are left out: {', '.join(others[:8])}"] if others else []
    return observed.found(str(file), notes)


def queries_in(file: Path) -> list[tuple[str, dict[str, list[str]]]]:
    """The paths of a HAR file that were read with a query, each with the values of its parameters.

    Raises:
        SurveyError: it cannot be read, or is no HAR file.
    """
    found = []
    for entry in _entries(file):
        request = entry.get("request") if isinstance(entry, Mapping) else None
        if not isinstance(request, Mapping) or request.get("method") != "GET":
            continue
        parts = urlsplit(str(request.get("url", "")))
        if parts.query:
            found.append((parts.path, parse_qs(parts.query, keep_blank_values=True)))
    return found


def _entries(file: Path) -> list[Any]:
    try:
        if file.stat().st_size > _LARGEST:
            raise SurveyError(f"{file}: this file is larger than {_LARGEST // 2**20} MiB; record less at once")
        whole = json.loads(file.read_bytes())
    except OSError as error:
        raise SurveyError(f"{file}: this file cannot be read: {error.strerror}") from error
    except json.JSONDecodeError as error:
        raise SurveyError(f"{file}:{error.lineno}:{error.colno}: this is not JSON: {error.msg}") from error
    except (UnicodeDecodeError, RecursionError) as error:
        raise SurveyError(f"{file}: this is not JSON: {error}") from error
    log = whole.get("log") if isinstance(whole, Mapping) else None
    entries = log.get("entries") if isinstance(log, Mapping) else None
    if not isinstance(entries, list):
        raise SurveyError(f'{file}: not a HAR file: it has no list "log.entries"')
    return entries


class _Entry(NamedTuple):
    """What one entry of a HAR file says.

    Attributes:
        host: the host.
        method: the method.
        path: the path.
        status: the status of the answer.
    """

    host: str
    method: str
    path: str
    status: int


def _request(file: Path, number: int, entry: Any) -> _Entry:
    """What an entry says."""
    try:
        request, response = entry["request"], entry["response"]
        parts = urlsplit(str(request["url"]))
        return _Entry(parts.netloc, str(request["method"]).upper(), parts.path or "/", int(response["status"]))
    except (KeyError, TypeError, ValueError) as error:
        raise SurveyError(f"{file}: log.entries[{number}]: not a request with a response: {error!r}") from error
