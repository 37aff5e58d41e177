"""The policies that open files belong to: what is in the editor counts before what is on the disk."""

from __future__ import annotations

import threading
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ..files import Disk, load_from
from ..language import tree
from ..language.problems import PolicyError, Problem
from ..settings import Settings, SettingsError, find_settings, read_settings
from .occurrences import EntryAt, Kind, Occurrence, entries_of

if TYPE_CHECKING:
    from ..core.policy import Policy


@dataclass(slots=True)
class Compiled:
    """A policy as it was compiled last.

    Attributes:
        main: the file that includes the others.
        files: those that were read.
        policy: what they mean; None where they have mistakes.
        document: their tree; None likewise.
        problems: the mistakes.
        settings: the settings of the project, or None.
        settings_problem: why there are none, where they cannot be used.
    """

    main: Path
    files: frozenset[Path] = frozenset()
    policy: Policy | None = None
    document: tree.Document | None = None
    problems: tuple[Problem, ...] = ()
    settings: Settings | None = None
    settings_problem: str = ""


class OpenFiles(Disk):
    """Files of which some are open in an editor.

    Args:
        texts: the texts of those, by their real names.
    """

    def __init__(self, texts: dict[Path, str]) -> None:
        self._texts = texts
        self.read_files: set[Path] = set()

    def read(self, file: Path) -> str:
        """As `Disk.read`."""
        real = file.resolve()
        self.read_files.add(real)
        text = self._texts.get(real)
        return text.replace("\r\n", "\n") if text is not None else super().read(file)

    def name_of(self, file: Path) -> str:
        """The real name of a file: places lead to what is open."""
        return str(file.resolve())


@dataclass
class Projects:
    """The files that are open, and the policies that they belong to.

    Attributes:
        texts: the texts of open files, by their real names.
    """

    texts: dict[Path, str] = field(default_factory=dict)
    _good: dict[Path, Compiled] = field(default_factory=dict)  # by main file, as it was without mistakes last
    _last: dict[Path, Compiled] = field(default_factory=dict)
    _entries: dict[Path, tuple[str, list[EntryAt]]] = field(default_factory=dict)
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def open(self, file: Path, text: str) -> None:
        """A file was opened, or has changed."""
        self.texts[file.resolve()] = text

    def close(self, file: Path) -> None:
        """A file was closed: what is on the disk counts."""
        self.texts.pop(file.resolve(), None)

    def compiled(self, file: Path) -> Compiled:
        """The policy that a file belongs to, compiled anew: of the settings, one seen before, or the file alone."""
        real = file.resolve()
        settings, problem = settings_above(real)
        mains = [settings.policy.resolve()] if settings is not None and settings.policy.exists() else []
        mains += [known.main for known in list(self._last.values()) if real in known.files]
        for main in dict.fromkeys((*mains, real)):
            found = self._compiled(main, settings)
            if real in found.files:
                break
        found.settings_problem = problem
        with self._lock:
            self._last[found.main] = found
            if found.policy is not None:
                self._good[found.main] = found
        return found

    def _compiled(self, main: Path, settings: Settings | None) -> Compiled:
        files = OpenFiles(dict(self.texts))
        compiled = Compiled(main, settings=settings)
        try:
            compiled.policy, compiled.document = load_from(files, main, settings.root if settings is not None else None)
        except PolicyError as error:
            compiled.problems = error.problems
        compiled.files = frozenset(files.read_files) | {main}
        return compiled

    def last(self, file: Path) -> Compiled | None:
        """The policy that a file belongs to as it was compiled last; without mistakes where it ever was."""
        real = file.resolve()
        with self._lock:
            known = [*self._good.values(), *self._last.values()]
        return next((each for each in known if real in each.files), None)

    def is_outdated(self, compiled: Compiled) -> bool:
        """Whether the policy has mistakes since."""
        with self._lock:
            return self._last.get(compiled.main) is not compiled

    def entries(self, file: Path) -> list[EntryAt]:
        """The entries of a file, as it is now."""
        text, real = self.text(file), file.resolve()
        known = self._entries.get(real)
        if known is None or known[0] != text:
            known = self._entries[real] = text, entries_of(text)
        return known[1]

    def text(self, file: Path) -> str:
        """The text of a file, as it is now; an empty one where it cannot be read."""
        real = file.resolve()
        if real in self.texts:
            return self.texts[real]
        try:
            return Disk().read(real)
        except PolicyError:
            return ""

    def files_with(self, file: Path) -> list[Path]:
        """A file and the others of its policy."""
        last = self.last(file)
        real = file.resolve()
        return [real, *sorted((last.files if last is not None else frozenset()) - {real})]

    def declared(self, file: Path) -> list[tuple[Path, Occurrence]]:
        """Every name that the policy of a file declares, with where."""
        return [
            (other, name)
            for other in self.files_with(file)
            for entry in self.entries(other)
            if entry.section in _DECLARING and not entry.header
            for name in entry.names
            if name.is_declared
        ]

    def kind_of(self, file: Path, name: Occurrence) -> Kind:
        """What a name is the name of: of one that is used, what is declared says so."""
        if name.kind is not Kind.USE:
            return name.kind
        usable = (Kind.ROLE, Kind.PERMISSION, Kind.CONDITION)
        known = (each.kind for _, each in self.declared(file) if each.name == name.name and each.kind in usable)
        return next(known, Kind.PERMISSION if ":" in name.name else Kind.USE)

    def places(self, file: Path, kind: Kind, name: str) -> list[tuple[Path, Occurrence]]:
        """Every place of a name in the policy of a file, what declares it first."""
        kinds = (kind, Kind.USE) if kind in (Kind.ROLE, Kind.PERMISSION, Kind.CONDITION) else (kind,)
        found = [
            (other, each._replace(line=each.line + entry.first, kind=kind))
            for other in self.files_with(file)
            for entry in self.entries(other)
            for each in entry.inner
            if each.name == name and each.kind in kinds
        ]
        return sorted(found, key=lambda each: (not each[1].is_declared, each[0], each[1].line, each[1].start))


_DECLARING = ("roles", "roles in", "things", "groups", "permissions", "conditions")


class SettingsAbove(NamedTuple):
    """The settings of the project that a file is in.

    Attributes:
        settings: the settings; None where there are none, or none that can be used.
        problem: why they cannot be used; else an empty string.
    """

    settings: Settings | None
    problem: str


def settings_above(file: Path) -> SettingsAbove:
    """The settings of the project that a file is in."""
    try:
        found = find_settings(file.parent)
        return SettingsAbove((read_settings(found) if found is not None else None), "")
    except (SettingsError, OSError) as error:
        return SettingsAbove(None, str(error))
