"""Endpoints in an access log in the common or the combined format, plain or packed with gzip."""

from __future__ import annotations

import gzip
import os
import re
from collections.abc import Iterable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from multiprocessing import get_context
from pathlib import Path

from .endpoints import Found, SurveyError
from .requests import Observed

# Host, identity, user, time, request, status; what the combined format has behind them does not matter here.
# Each part is bounded by what cannot be in it, so that no line takes longer than its length.
_LINE = re.compile(
    rb'\S+ \S+ (?:\S+|"[^"]*"|.+?) \[[^\[\]"]{1,64}\] "([A-Za-z]+) (\S+)(?: HTTP/[\d.]+)?" (\d{3}) '
).match
_PART = 64 * 1024 * 1024  # bytes that one process reads at a time
_LONGEST = 64 * 1024  # bytes of a line


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
        size = file.stat().st_size
        with file.open("rb") as opened:
            packed = opened.read(2) == b"\x1f\x8b"
        if size > _PART and not packed:
            counted = _by_many(file, size, observed)
        else:
            with gzip.open(file, "rb") if packed else file.open("rb") as lines_of_it:
                counted = _counted(lines_of_it, observed)
    except (OSError, EOFError) as error:
        raise SurveyError(f"{file}: this file cannot be read: {getattr(error, 'strerror', None) or error}") from error
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
        match = _LINE(line) if len(line) < _LONGEST else None
        if match is None:
            others += bool(line.strip())
            continue
        lines += 1
        method, target, status = match.groups()
        key = method, target.partition(b"?")[0], status
        times[key] = times.get(key, 0) + 1
        if len(times) >= 50_000:
            _add(observed, times)
    _add(observed, times)
    return lines, others


def _add(observed: Observed, times: dict[tuple[bytes, bytes, bytes], int]) -> None:
    for (method, target, status), count in times.items():
        path = target.decode("latin-1")
        if "://" in path:
            # What a proxy is asked for has the host before it.
            path = "/" + path.split("://", 1)[1].partition("/")[2]
        observed.add(method.decode("latin-1"), path, int(status), count)
    times.clear()


def _by_many(file: Path, size: int, observed: Observed) -> tuple[int, int]:
    """Have several processes read a file, a part at a time."""
    starts = range(0, size, _PART)
    lines = others = 0
    with ProcessPoolExecutor(os.cpu_count() or 1, get_context("spawn")) as pool:
        for part, counted in pool.map(_part, [file] * len(starts), starts, [observed.known] * len(starts)):
            observed.merge(part)
            lines, others = lines + counted[0], others + counted[1]
    return lines, others


def _part(
    file: Path, start: int, endpoints: tuple[tuple[tuple[str, ...], str], ...]
) -> tuple[Observed, tuple[int, int]]:
    """The lines that begin in one part of a file."""
    observed = Observed(endpoints)
    with file.open("rb") as opened:
        if start:
            # The line that a part begins in belongs to the part before.
            opened.seek(start - 1)
            opened.readline()

        def lines() -> Iterable[bytes]:
            while opened.tell() < start + _PART:
                line = opened.readline()
                if not line:
                    return
                yield line

        counted = _counted(lines(), observed)
    observed._index = None  # it is made anew where it is needed
    return observed, counted
