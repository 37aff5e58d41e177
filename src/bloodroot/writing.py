"""Files written so that nothing is ever half written."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


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
