"""Endpoints in an access log in the common or the combined format, plain or packed with gzip."""

from __future__ import annotations

import os
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path

from .endpoints import Found, SurveyError
from .log_lines import LONGEST, LogError, Part, access_line, lines_of, parts_of, path_of
from .requests import Observed


def survey_log(file: Path, observed: Observed) -> Found:
    """The endpoints that a log has requests for, in memory that does not grow with the log.

    A large log is read by several processes, each of them a part at a time.

    Args:
        file: the log.
        observed: what its requests are counted in.

    Raises:
        SurveyError: it cannot be read, or has no line in one of these formats.
    """
    try:
        parts = parts_of([str(file)])
        counted = (
            _by_many(parts, observed) if len(parts) > 1 else _counted(lines_of(parts[0]) if parts else (), observed)
        )
    except LogError as error:
        raise SurveyError(str(error)) from error
    lines, others = counted
    if not lines:
        raise SurveyError(
            f"{file}: no line is in the common or the combined log format, such as "
            '127.0.0.1 - - [04/May/2026:12:00:00 +0000] "GET /trials/7 HTTP/1.1" 200 512'
        )
    notes = [f"{file}: lines left out because they are in neither format: {others}"] if others else []
    return replace(observed.found(str(file), notes), unread=others)


def _counted(opened: Iterable[bytes], observed: Observed) -> tuple[int, int]:
    """Count the requests of lines; how many were read, and how many are in no known format."""
    lines = others = 0
    # The same few requests come again and again: they are gathered before they are looked at.
    times: dict[tuple[bytes, bytes, bytes], int] = {}
    for line in opened:
        match = access_line(line) if len(line) < LONGEST else None
        if match is None:
            others += bool(line.strip())
            continue
        lines += 1
        method, target, status = match.group(3, 4, 5)
        key = method, path_of(target), status
        times[key] = times.get(key, 0) + 1
        if len(times) >= 50_000:
            _add(observed, times)
    _add(observed, times)
    return lines, others


def _add(observed: Observed, times: dict[tuple[bytes, bytes, bytes], int]) -> None:
    for (method, target, status), count in times.items():
        observed.add(method.decode("latin-1"), target.decode("latin-1"), int(status), count)
    times.clear()


def _by_many(parts: list[Part], observed: Observed) -> tuple[int, int]:
    """Have several processes read a log, a part at a time."""
    lines = others = 0
    with ProcessPoolExecutor(os.cpu_count() or 1, get_context("spawn")) as pool:
        for part, counted in pool.map(_part, parts, [observed.known] * len(parts)):
            observed.merge(part)
            lines, others = lines + counted[0], others + counted[1]
    return lines, others


def _part(part: Part, endpoints: tuple[tuple[tuple[str, ...], str], ...]) -> tuple[Observed, tuple[int, int]]:
    """The lines that begin in one part of a log."""
    observed = Observed(endpoints)
    counted = _counted(lines_of(part), observed)
    observed._index = None  # it is made anew where it is needed
    return observed, counted
