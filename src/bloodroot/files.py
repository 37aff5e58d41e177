"""Policies read from disk, with all that they include."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol

from .core.compiler import collector_paused, compile_documents, merged
from .language.parser import parse_with_problems
from .language.problems import Place, PolicyError, Problem, SourceText

if TYPE_CHECKING:
    from .core.policy import Policy
    from .language import tree

_LARGEST = 32 * 1024 * 1024
_DEEPEST = 20


def load(path: str | os.PathLike[str], *, root: str | os.PathLike[str] | None = None) -> Policy:
    """Read and compile the policy in a file, with all that it includes.

    Args:
        path: a UTF-8 text file, such as ``access.bloodroot``. What it includes is looked for beside each file.
        root: the folder that what is included must be in; None for that of the git repository that the file is in, and
            where there is none, for the folder of the file.

    Returns:
        The compiled policy.

    Raises:
        PolicyError: with every mistake found, or with the reason why a file cannot be read.
    """
    return load_with_tree(path, root).policy


class LoadedPolicy(NamedTuple):
    """A policy, with what it was made of.

    Attributes:
        policy: the policy.
        document: its text as a tree, with all that it includes.
    """

    policy: Policy
    document: tree.Document


def load_with_tree(path: str | os.PathLike[str], root: str | os.PathLike[str] | None = None) -> LoadedPolicy:
    """`load`, and the text of the policy as a tree, with all that it includes.

    Raises:
        PolicyError: as `load`.
    """
    return load_from(Disk(), Path(path), Path(root) if root is not None else None)


def repository_of(file: Path) -> Path | None:
    """The folder of the git repository that a file is in, or None."""
    return next((folder for folder in file.resolve().parents if (folder / ".git").exists()), None)


def load_from(files: Files, path: Path, root: Path | None = None) -> LoadedPolicy:
    """`load_with_tree`, from wherever the files of the policy are.

    Args:
        files: where they are read.
        path: the name of the policy there.
        root: the folder that what is included must be in; None for the one that these files are in.

    Raises:
        PolicyError: as `load`.
    """
    reading = _Reading(files, root)
    with collector_paused():
        reading.read(path, None, ())
        return LoadedPolicy(compile_documents(reading.documents, reading.problems), merged(reading.documents))


class Files(Protocol):
    """Where the files of a policy are."""

    def read(self, file: Path) -> str:
        """The text of a file, with line ends as they are in Unix.

        Raises:
            PolicyError: it cannot be read, or is not UTF-8.
        """
        ...

    def real(self, file: Path) -> Path:
        """The one name of a file that may have several.

        Raises:
            OSError: the name leads nowhere.
        """
        ...

    def spelling_problem(self, real: Path) -> str:
        """Why something that is there cannot be included; an empty string where nothing is wrong with it."""
        ...

    def root(self, real: Path) -> Path:
        """The folder that what a policy includes must be in, where nothing else is said."""
        ...

    def name_of(self, file: Path) -> str:
        """What a file is called in messages."""
        ...


class Disk:
    """Files on this machine."""

    def read(self, file: Path) -> str:
        """As `Files.read`."""
        return read_text(file)

    def real(self, file: Path) -> Path:
        """As `Files.real`."""
        return file.resolve()

    def spelling_problem(self, real: Path) -> str:
        """As `Files.spelling_problem`."""
        is_odd = real.exists() and not (real.is_file() or real.is_dir())
        return "this is a pipe or a device, and no file" if is_odd else ""

    def root(self, real: Path) -> Path:
        """As `Files.root`."""
        return repository_of(real) or real.parent

    def name_of(self, file: Path) -> str:
        """As `Files.name_of`."""
        # Without what leads up and down again, unless a link on the way makes that another file.
        short = os.path.normpath(file)
        return short if os.path.realpath(short) == os.path.realpath(file) else os.fspath(file)


class _Reading:
    """The files of one policy."""

    def __init__(self, files: Files, root: Path | None) -> None:
        self.files = files
        self.root = files.real(root) if root is not None else None
        self.folder = Path()
        self.documents: list[tree.Document] = []
        self.problems: list[Problem] = []
        self.seen: dict[Path, Place] = {}

    def read(self, file: Path, place: Place | None, above: tuple[Path, ...]) -> None:
        """Read a file and those it includes."""
        try:
            text = self.files.read(file)
        except PolicyError as error:
            if place is None:
                raise
            self.problems.append(Problem(f"{self.files.name_of(file)}: {error.problems[0].message}", place))
            return
        document, problems = parse_with_problems(text, self.files.name_of(file))
        self.documents.append(document)
        self.problems += problems
        real = self.files.real(file)
        if place is None:
            self.folder = self.root if self.root is not None else self.files.root(real)
        above = (*above, real)
        for section in document.headed("include"):
            wanted = file.parent / (section.argument or "")
            problem = self._problem(wanted, above)
            if problem is not None:
                self.problems.append(Problem(problem, section.place))
            else:
                self.seen[self.files.real(wanted)] = section.place
                self.read(wanted, section.place, above)

    def _problem(self, wanted: Path, above: tuple[Path, ...]) -> str | None:
        """Why a file cannot be included, or None."""
        try:
            real = self.files.real(wanted)
        except (OSError, RuntimeError, ValueError):
            return "this name leads nowhere"
        if not real.is_relative_to(self.folder) or ".." in real.parts:
            return (
                f"this leaves the folder {self.folder.name}; what is included must be inside it, or inside the one "
                'that is named by root = "..." in the settings, and by load(..., root="...")'
            )
        if spelling_problem := self.files.spelling_problem(real):
            return spelling_problem
        if real in above:
            way = " → ".join(folder.name for folder in (*above[above.index(real) :], real))
            return f"these files include each other in a circle: {way}"
        if real in self.seen:
            return f"this file is included already, in {self.seen[real].at}"
        if len(above) > _DEEPEST:
            return f"files include each other more than {_DEEPEST} deep"
        return None


def read_text(path: str | os.PathLike[str]) -> str:
    """The text of a policy file, with line ends as they are in Unix.

    Raises:
        PolicyError: the file cannot be read, or is not UTF-8.
    """
    name = os.fspath(path)
    try:
        if Path(name).is_dir():
            raise unreadable(name, "this is a folder, not a policy file")
        with Path(name).open("rb") as file:
            # No more than that: a pipe or a device may have no end.
            data = file.read(_LARGEST + 1)
    except FileNotFoundError as error:
        raise unreadable(name, "there is no such file") from error
    except (OSError, ValueError) as error:
        raise unreadable(name, f"this file cannot be read: {getattr(error, 'strerror', None) or error}") from error
    return decoded(name, data)


def decoded(name: str, data: bytes) -> str:
    """The text of a policy file of these bytes, with line ends as they are in Unix.

    Raises:
        PolicyError: it is too large, or not UTF-8.
    """
    if len(data) > _LARGEST:
        raise unreadable(name, f"this file is larger than {_LARGEST // 2**20} MiB; a policy is not")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        column = error.start - (data.rfind(b"\n", 0, error.start) + 1) + 1
        raise unreadable(name, "this is not UTF-8 text; save the file as UTF-8", line, column) from error
    return text.replace("\r\n", "\n")


def unreadable(name: str, message: str, line: int = 1, column: int = 1) -> PolicyError:
    """A file that cannot be read, and why."""
    return PolicyError([Problem(message, Place(SourceText(name, ()), line, column, 1))])
