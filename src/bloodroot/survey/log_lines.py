"""Logs cut into parts by bytes, and the lines of access logs in the common and the combined format."""

from __future__ import annotations

import gzip
import os
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from ..language.errors import BloodrootError

PART = 64 * 1024 * 1024  # bytes that one process reads at a time
LONGEST = 64 * 1024  # bytes of a line
_ZIPPED = b"\x1f\x8b"
# Host, identity, user, time, request, status; what the combined format has behind them does not matter here. Each part
# is bounded by what cannot be in it, so that no line takes longer than its length. Groups: user, time, method, target,
# status.
access_line = re.compile(
    rb'\S+ \S+ (\S+|"[^"]*"|.+?) \[([^\[\]"]{1,64})\] "([A-Za-z]+) (\S+)(?: HTTP/[\d.]+)?" (\d{3}) '
).match


class LogError(BloodrootError):
    """A log that cannot be read."""


@dataclass(frozen=True, slots=True)
class Part:
    """A part of a log: the lines that begin in it.

    Attributes:
        name: the file, or what fsspec takes, as in ``s3://logs/access.log``.
        start: where it begins, in bytes.
        stop: where it ends; None for the whole of a file that is packed with gzip.
    """

    name: str
    start: int = 0
    stop: int | None = None


def parts_of(names: Iterable[str], size: int = PART) -> list[Part]:
    """Logs cut into parts of some bytes.

    Raises:
        LogError: one cannot be read.
    """
    parts = []
    for name in names:
        with opened(name) as log:
            if log.read(2) == _ZIPPED:
                parts.append(Part(name))
                continue
            end = log.seek(0, os.SEEK_END)
        parts += [Part(name, start, min(start + size, end)) for start in range(0, end, size)]
    return parts


def opened(name: str) -> IO[bytes]:
    """A log, opened.

    Raises:
        LogError: it cannot be read.
    """
    try:
        if "://" not in name:
            return Path(name).open("rb")
        import fsspec

        found: IO[bytes] = fsspec.open(name, "rb").open()
        return found
    except ModuleNotFoundError as error:
        raise LogError(f"{name}: this needs {error.name}; install it with: pip install 'bloodroot[replay]'") from error
    except FileNotFoundError as error:
        raise LogError(f"{name}: there is no such file") from error
    except (OSError, ValueError) as error:
        raise LogError(f"{name}: this file cannot be read: {getattr(error, 'strerror', None) or error}") from error


def lines_of(part: Part) -> Iterator[bytes]:
    """The lines of a part.

    Raises:
        LogError: it cannot be read.
    """
    with opened(part.name) as log:
        try:
            if part.stop is None:
                with gzip.open(log, "rb") as packed:
                    yield from packed
                return
            place = part.start
            if place:
                # The line that a part begins in belongs to the part before.
                log.seek(place - 1)
                place += len(log.readline()) - 1
            for line in log if place < part.stop else ():
                yield line
                place += len(line)
                if place >= part.stop:
                    return
        except (OSError, EOFError) as error:
            reason = getattr(error, "strerror", None) or error
            raise LogError(f"{part.name}: this file cannot be read: {reason}") from error


def path_of(target: bytes) -> bytes:
    """The path of a target: without its query, and without the host that a proxy is asked with."""
    path = target.partition(b"?")[0]
    return b"/" + path.split(b"://", 1)[1].partition(b"/")[2] if b"://" in path else path
