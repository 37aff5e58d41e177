"""Files written so that nothing is ever half written."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_text(path: Path, text: str, *, private: bool = False) -> None:
    """Write a file beside its place and then rename it, so that readers see the old text or the new, never a part.

    Args:
        path: the file.
        text: all that it is to hold.
        private: whether its owner alone may read it.

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
        mode = path.stat().st_mode & 0o777 if path.exists() else 0o666 & ~mask
        Path(beside).chmod(mode & 0o700 if private else mode)
        Path(beside).replace(path)
    except BaseException:
        Path(beside).unlink(missing_ok=True)
        raise
