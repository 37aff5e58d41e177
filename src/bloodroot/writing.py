"""Files written so that nothing is ever half written."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path


def write_text(path: Path, text: str, *, private: bool = False) -> None:
    """`write_bytes` of a text in UTF-8, with line ends as they are in Unix."""
    write_pieces(path, (text.encode("utf-8"),), private=private)


def write_bytes(path: Path, data: bytes, *, private: bool = False) -> None:
    """`write_pieces` of one piece."""
    write_pieces(path, (data,), private=private)


def write_pieces(path: Path, pieces: Iterable[bytes], *, private: bool = False) -> None:
    """Write a file beside its place and then rename it, so that readers see the old one or the new, never a part.

    Args:
        path: the file.
        pieces: all that it is to hold, as it is made.
        private: whether its owner alone may read it.

    Raises:
        OSError: the folder cannot be written.
    """
    handle, beside = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as file:
            file.writelines(pieces)
        # mkstemp makes files for their owner alone; a report is as readable as any other new file.
        mask = os.umask(0)
        os.umask(mask)
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~mask
        Path(beside).chmod(mode & 0o700 if private else mode)
        Path(beside).replace(path)
    except BaseException:
        Path(beside).unlink(missing_ok=True)
        raise
