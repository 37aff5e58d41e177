"""Names of files as code hosts know them: from the top of the repository, wherever a command was run."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from ..files import repository_of


@lru_cache(maxsize=1024)
def in_repository(name: str) -> str:
    """A file that messages call by this name, from the top of its git repository; the name itself where it is in none.

    Args:
        name: relative to the current folder, or absolute.
    """
    file = Path(name)
    if not file.is_file():
        return name
    top = repository_of(file)
    return file.resolve().relative_to(top).as_posix() if top is not None else name
