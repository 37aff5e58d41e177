"""Policies read from disk, with all that they include."""

from __future__ import annotations

import os
from pathlib import Path
from typing import TYPE_CHECKING

from .core.compiler import collector_paused, compile_documents, merged
from .language.parser import parse_with_problems
from .language.problems import Place, PolicyError, Problem, Source

if TYPE_CHECKING:
    from .core.policy import Policy
    from .language import tree

_LARGEST = 32 * 1024 * 1024
_DEEPEST = 20


def load(path: str | os.PathLike[str]) -> Policy:
    """Read and compile the policy in a file, with all that it includes.

    Args:
        path: a UTF-8 text file, such as ``access.bloodroot``. What it includes is looked for beside each file, and
            must be in the folder of this one or below.

    Returns:
        The compiled policy.

    Raises:
        PolicyError: with every mistake found, or with the reason why a file cannot be read.
    """
    return load_with_tree(path)[0]


def load_with_tree(path: str | os.PathLike[str]) -> tuple[Policy, tree.Document]:
    """`load`, and the text of the policy as a tree, with all that it includes.

    Raises:
        PolicyError: as `load`.
    """
    reading = _Reading()
    with collector_paused():
        reading.read(Path(path), None, ())
        return compile_documents(reading.documents, reading.problems), merged(reading.documents)


class _Reading:
    """The files of one policy."""

    def __init__(self) -> None:
        self.folder = Path()
        self.documents: list[tree.Document] = []
        self.problems: list[Problem] = []
        self.seen: dict[Path, Place] = {}

    def read(self, file: Path, asked: Place | None, above: tuple[Path, ...]) -> None:
        """Read a file and those it includes."""
        try:
            text = read_text(file)
        except PolicyError as error:
            if asked is None:
                raise
            self.problems.append(Problem(f"{file}: {error.problems[0].message}", asked))
            return
        document, problems = parse_with_problems(text, os.fspath(file))
        self.documents.append(document)
        self.problems += problems
        if asked is None:
            self.folder = file.resolve().parent
        above = (*above, file.resolve())
        for section in document.headed("include"):
            wanted = file.parent / (section.argument or "")
            problem = self._problem(wanted, above)
            if problem is not None:
                self.problems.append(Problem(problem, section.place))
            else:
                self.seen[wanted.resolve()] = section.place
                self.read(wanted, section.place, above)

    def _problem(self, wanted: Path, above: tuple[Path, ...]) -> str | None:
        """Why a file cannot be included, or None."""
        try:
            real = wanted.resolve()
        except (OSError, RuntimeError, ValueError):
            return "this name leads nowhere"
        if not real.is_relative_to(self.folder):
            return f"this leaves the policy's folder, {self.folder.name}; what is included must be inside it"
        if real.exists() and not (real.is_file() or real.is_dir()):
            return "this is a pipe or a device, and no file"
        if real in above:
            way = " → ".join(each.name for each in (*above[above.index(real) :], real))
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
            raise _unreadable(name, "this is a folder, not a policy file")
        with Path(name).open("rb") as file:
            # No more than that: a pipe or a device may have no end.
            data = file.read(_LARGEST + 1)
    except FileNotFoundError:
        raise _unreadable(name, "there is no such file") from None
    except (OSError, ValueError) as error:
        raise _unreadable(name, f"this file cannot be read: {getattr(error, 'strerror', None) or error}") from None
    if len(data) > _LARGEST:
        raise _unreadable(name, f"this file is larger than {_LARGEST // 2**20} MiB; a policy is not")
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = data.count(b"\n", 0, error.start) + 1
        column = error.start - (data.rfind(b"\n", 0, error.start) + 1) + 1
        raise _unreadable(name, "this is not UTF-8 text; save the file as UTF-8", line, column) from None
    return text.replace("\r\n", "\n")


def _unreadable(name: str, message: str, line: int = 1, column: int = 1) -> PolicyError:
    return PolicyError([Problem(message, Place(Source(name, ()), line, column, 1))])
