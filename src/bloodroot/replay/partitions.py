"""Logs cut into parts by bytes, each part counted by itself, on the cores of one machine or of many."""

from __future__ import annotations

import dataclasses
import gzip
import os
from collections.abc import Callable, Iterable, Iterator, Mapping
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from multiprocessing import get_context
from pathlib import Path
from typing import IO, TYPE_CHECKING, Any

from ..files import Disk, load_from
from ..language.errors import BloodrootError
from ..settings import Settings, read_settings
from .counted import Counted
from .deciding_again import Again
from .recorded import Reader

if TYPE_CHECKING:
    from ..core.policy import Policy

PART = 64 * 1024 * 1024  # bytes
_ZIPPED = b"\x1f\x8b"


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


class Texts(Disk):
    """Files whose text is kept, or given: the policy can be read where its files are not.

    Args:
        texts: what is known, by absolute names.
        folder: where names in messages begin, by default the present one.

    Attributes:
        texts: all that was read.
    """

    def __init__(self, texts: Mapping[str, str] | None = None, folder: Path | None = None) -> None:
        self.texts: dict[str, str] = dict(texts or {})
        self._folder = folder or Path.cwd()

    def name_of(self, file: Path) -> str:
        """As `Disk.name_of`: from one folder, wherever it is read."""
        return str(file.relative_to(self._folder)) if file.is_relative_to(self._folder) else str(file)

    def read(self, file: Path) -> str:
        """As `Disk.read`."""
        name = str(file.absolute())
        if name not in self.texts:
            self.texts[name] = super().read(file)
        return self.texts[name]


@dataclass(frozen=True)
class Recipe:
    """What another process needs to count a part, as plain data.

    Attributes:
        file: the policy.
        folder: where names in messages begin.
        texts: its text, and that of all that it includes, by name.
        root: the folder that what it includes must be in, or None.
        settings: the settings, where routes or members are read by them; else None.
        binds: whether the policy is bound to the routes of the settings' application.
        fields: where the parts of JSON access logs are.
        actions: names of actions as askers of the decision service have them.
    """

    file: str
    folder: str
    texts: Mapping[str, str]
    root: str | None = None
    settings: str | None = None
    binds: bool = False
    fields: Mapping[str, str] = field(default_factory=dict)
    actions: Mapping[str, str] = field(default_factory=dict)

    def __getstate__(self) -> dict[str, Any]:
        # A policy that was made of it cannot be sent.
        return {each.name: getattr(self, each.name) for each in dataclasses.fields(self)}

    @cached_property
    def policy(self) -> Policy:
        """The policy."""
        root = Path(self.root) if self.root is not None else None
        policy = load_from(Texts(self.texts, Path(self.folder)), Path(self.file), root)[0]
        if not self.binds or self._project is None:
            return policy
        from ..survey.applications import bound

        return bound(policy, self._project)

    @cached_property
    def _project(self) -> Settings | None:
        return read_settings(Path(self.settings)) if self.settings is not None else None

    def users(self) -> Callable[[str], tuple[str, ...] | None] | None:
        """What finds the members of the directory; None where there is none."""
        if self._project is None or self._project.directory is None:
            return None
        from .members_found import Members

        return Members(self._project)

    def again(self) -> Again:
        """What decides."""
        return Again(self.policy, self.users())


def count_part(recipe: Recipe, part: Part) -> Counted:
    """What a part comes to.

    Raises:
        LogError: it cannot be read.
    """
    again = Again(recipe.policy, recipe.users())
    again.count(lines_of(part), Reader(recipe.fields, recipe.actions))
    return again.counted


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


def counted_here(recipe: Recipe, parts: list[Part], processes: int) -> Counted:
    """All parts, counted by processes of this machine.

    Raises:
        LogError: a log cannot be read.
    """
    if len(parts) <= 1 or processes <= 1:
        again = recipe.again()
        reader = Reader(recipe.fields, recipe.actions)
        for part in parts:
            again.count(lines_of(part), reader)
        return again.counted
    found = Counted()
    with ProcessPoolExecutor(min(processes, len(parts)), get_context("spawn"), _begin, (recipe,)) as pool:
        for counted in pool.map(_count, parts):
            found.add(counted)
    return found


_here: dict[str, Any] = {}


def _begin(recipe: Recipe) -> None:
    """Keep the recipe in a process that counts many parts: its policy is compiled once."""
    _here["recipe"] = recipe


def _count(part: Part) -> Counted:
    return count_part(_here["recipe"], part)
