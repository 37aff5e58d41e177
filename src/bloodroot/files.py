"""Policies read from disk, and files written so that nothing is ever half written."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path

from .core.policy import Policy, parse
from .language.problems import Place, PolicyError, Problem, Source

_LARGEST = 32 * 1024 * 1024


def load(path: str | os.PathLike[str]) -> Policy:
    """Read and compile the policy in a file.

    Args:
        path: a UTF-8 text file, such as ``access.bloodroot``.

    Returns:
        The compiled policy.

    Raises:
        PolicyError: with every mistake found, or with the reason why the file cannot be read.
    """
    return parse(read_text(path), os.fspath(path))


def read_text(path: str | os.PathLike[str]) -> str:
    """The text of a policy file, with line ends as they are in Unix.

    Raises:
        PolicyError: the file cannot be read, or is not UTF-8.
    """
    name = os.fspath(path)
    try:
        if Path(name).is_dir():
            raise _unreadable(name, "this is a folder, not a policy file")
        data = Path(name).read_bytes()
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


def write_text(path: Path, text: str) -> None:
    """Write a file beside its place and then rename it, so that readers see the old text or the new, never a part.

    Raises:
        OSError: the folder cannot be written.
    """
    handle, beside = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "w", encoding="utf-8", newline="\n") as file:
            file.write(text)
        # mkstemp makes files for their owner alone; a report is as readable as any other new file.
        mask = os.umask(0)
        os.umask(mask)
        Path(beside).chmod(path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~mask)
        Path(beside).replace(path)
    except BaseException:
        Path(beside).unlink(missing_ok=True)
        raise
