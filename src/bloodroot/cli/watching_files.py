"""bloodroot probe --watch: check, matrix and probe, again whenever a file of the project changes."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import typer

from .inputs import NO_SETTINGS
from .options import ProjectFiles
from .output import UsageError

_SUFFIXES = (".bloodroot", ".py", ".toml", ".html", ".jinja", ".json", ".yaml", ".yml", ".env")
_COMMANDS = ("check", "matrix", "probe")


def watch_project(files: ProjectFiles) -> None:
    """Run the three commands now, and again after each change, each in a process of its own.

    Args:
        files: the files that options name.

    Raises:
        UsageError: there are no settings.
    """
    from watchfiles import DefaultFilter, watch

    from ..settings import find_settings

    file = files.settings or find_settings()
    if file is None:
        raise UsageError(NO_SETTINGS)
    folder = file.resolve().parent

    class OfProject(DefaultFilter):
        def __call__(self, change: object, path: str) -> bool:
            # What a probe writes itself is no change.
            return path.endswith(_SUFFIXES) and ".bloodroot/" not in path and super().__call__(change, path)  # type: ignore[arg-type]

    options = files.words()
    _run_all(options)
    typer.echo(f"watching {folder}; Ctrl+C ends it", err=True)
    try:
        for changes in watch(folder, watch_filter=OfProject(), raise_interrupt=False):
            names = sorted({str(Path(path).relative_to(folder)) for _, path in changes})
            typer.echo(f"\n{', '.join(names[:4])}{' and others' if len(names) > 4 else ''} changed", err=True)
            _run_all(options)
    except KeyboardInterrupt:
        return


def _run_all(options: list[str]) -> None:
    for command in _COMMANDS:
        typer.secho(f"\n── bloodroot {command}", bold=True)
        sys.stdout.flush()
        words = [sys.executable, "-c", "from bloodroot.cli import run; run()", command, *options]
        # What one says is wrong, the next may not be able to work with.
        if subprocess.run(words, check=False).returncode == 2:  # noqa: S603
            return
