"""The data behind an application: put back after each change, and looked at to see whether it has changed."""

from __future__ import annotations

import asyncio
import hashlib
import inspect
import shlex
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..frameworks.adapter import Around
from ..settings import Settings, SettingsError
from ..survey.applications import imported
from .rollback import rollback

if TYPE_CHECKING:
    from .application import Application

ROLLBACK = "rollback"
_RESET_SECONDS = 60


class Data:
    """The data of one project.

    Args:
        settings: with ``probe.reset`` and ``probe.state``.
        application: the application that changes it.
        within: what takes changes back in the place of ``probe.reset``, such as the transaction of a test.

    Attributes:
        can_put_back: whether something puts the data back.
        touched: whether it may have changed since it was put back last.
        around: what a changing request is made within, so that it leaves no trace; None where that is not asked for.
        is_put_back: whether the data was the same each time that it was put back, as far as that was looked at.

    Raises:
        SettingsError: a function cannot be imported, or changes cannot be rolled back in this application.
    """

    def __init__(self, settings: Settings, application: Application, within: Around | None = None) -> None:
        self.settings = settings
        self.reset = settings.probe.reset if within is None else ROLLBACK
        self.can_put_back = self.reset is not None
        self.touched = self.reset != ROLLBACK
        self.around: LookedAt | None = None
        self.is_put_back = True
        self._first: str | None = None  # what the data was like after it was put back first
        self._state: Callable[[], Any] | None = None
        if isinstance(settings.probe.state, str):
            self._state = imported(settings.probe.state, settings.folder, "probe.state")
        elif settings.probe.state is not None:
            self._state = _looked_at(settings, settings.probe.state, application)
        if self.reset == ROLLBACK:
            self.around = LookedAt(within or rollback(settings, application), self._state)

    async def put_back(self, *, in_thread: bool = True) -> None:
        """Put the data back, if it may have changed.

        Args:
            in_thread: whether what is not async runs in a thread of its own, so that it holds up nothing else.

        Raises:
            SettingsError: that fails.
        """
        if self.reset is None or self.reset == ROLLBACK or not self.touched:
            return
        self.touched = False
        if ":" not in self.reset or " " in self.reset:
            await called(partial(_run, self.reset, self.settings), "", in_thread=in_thread)
        else:
            function = imported(self.reset, self.settings.folder, "probe.reset")
            await called(function, "probe.reset", in_thread=in_thread)
        if self.can_be_seen:
            now = await self.fingerprint(in_thread=in_thread)
            self._first = self._first or now
            self.is_put_back = self.is_put_back and now == self._first

    @property
    def can_be_seen(self) -> bool:
        """Whether a change of the data would be seen from outside of the request."""
        return self._state is not None and self.around is None

    async def fingerprint(self, *, in_thread: bool = True) -> str:
        """A text that is another when the data is.

        Args:
            in_thread: as `put_back`.

        Raises:
            SettingsError: the project's function fails.
        """
        assert self._state is not None
        return _short(await called(self._state, "probe.state", in_thread=in_thread))


class LookedAt:
    """What a request is made within to be rolled back, and whether it has changed the data by the end of it.

    Args:
        around: what it is made within.
        look: what shows the data from within; None where nothing does.

    Attributes:
        changed: whether the last request has changed the data; None where that is not known.
        after: what the data was like at its end, in short; an empty string where that is not known.
    """

    def __init__(self, around: Around, look: Callable[[], Any] | None) -> None:
        self._around = around
        self._look = look
        self.changed: bool | None = None
        self.after = ""

    @contextmanager
    def __call__(self) -> Iterator[None]:
        """Around one request."""
        self.changed, self.after = None, ""
        with self._around():
            before = self._seen()
            try:
                yield
            finally:
                if before is not None:
                    self.after = self._seen() or ""
                    self.changed = self.after != before

    def _seen(self) -> str | None:
        if self._look is None:
            return None
        try:
            state = self._look()
        except Exception as error:
            raise SettingsError(f"probe.state failed: {type(error).__name__}: {error}") from error
        if inspect.isawaitable(state):
            raise SettingsError('probe.state must be no async function where reset = "rollback"')
        return _short(state)


def _short(state: Any) -> str:
    return hashlib.sha256(repr(state).encode("utf-8", "surrogatepass")).hexdigest()


async def called(function: Callable[[], Any], key: str, *, in_thread: bool) -> Any:
    """What a function of the project returns, sync or async."""
    try:
        if inspect.iscoroutinefunction(function):
            return await function()
        result = await asyncio.to_thread(function) if in_thread else function()
        return await result if inspect.isawaitable(result) else result
    except SettingsError:
        raise
    except (Exception, SystemExit) as error:
        raise SettingsError(f"{key} failed: {type(error).__name__}: {error}") from error


def _looked_at(settings: Settings, names: tuple[str, ...], application: Application) -> Callable[[], Any]:
    """What gives the contents of files and of tables.

    Raises:
        SettingsError: a name is that of no file, and there is no engine to find a table with.
    """
    engine = None
    if settings.probe.engine is not None:
        engine = imported(settings.probe.engine, settings.folder, "probe.engine")
        engine = getattr(engine, "sync_engine", engine)
    rows: Callable[[str], list[Any]] | None = partial(_rows, engine) if engine is not None else None
    if engine is None and application.made_with is not None:
        # The databases of a framework that has its own.
        rows = application.made_with.adapter.rows_of_table
    for name in names:
        if rows is None and not (settings.folder / name).is_file():
            raise SettingsError(
                f'{settings.file.name}: probe.state: "{name}" is no file in {settings.folder}; for a table, write '
                'engine = "module:name" beside it'
            )

    def look() -> list[Any]:
        return [_contents(settings.folder / name) or (rows(name) if rows else []) for name in names]

    return look


def _contents(file: Path) -> list[str]:
    """The contents of a file, in short. Of a database of SQLite the rows: the file itself is never the same again."""
    if not file.is_file():
        return []
    with file.open("rb") as opened:
        if opened.read(16) != b"SQLite format 3\0":
            return [hashlib.sha256(file.read_bytes()).hexdigest()]
    with closing(sqlite3.connect(file.as_uri() + "?mode=ro", uri=True)) as connection:
        lines = connection.iterdump()
        return [line for line in lines if '"sqlite_sequence"' not in line]


def _rows(engine: Any, table: str) -> list[Any]:
    """The rows of a table."""
    import sqlalchemy as sa

    schema, _, name = table.rpartition(".")
    with engine.connect() as connection:
        rows = connection.execute(sa.select(sa.text("*")).select_from(sa.table(name, schema=schema or None)))
        return sorted(map(repr, map(tuple, rows)))


def _run(command: str, settings: Settings) -> None:
    """Run the reset command in the project's folder."""
    try:
        words = shlex.split(command)
    except ValueError as error:
        raise SettingsError(f"probe.reset cannot be read as a command: {error}") from error
    if words and words[0] in ("python", "python3"):
        words[0] = sys.executable  # the interpreter that has the application's packages
    try:
        done = subprocess.run(  # noqa: S603
            words, cwd=settings.folder, capture_output=True, text=True, timeout=_RESET_SECONDS, check=False
        )
    except (OSError, IndexError) as error:
        raise SettingsError(f"probe.reset cannot run: {error}") from error
    except subprocess.TimeoutExpired as error:
        raise SettingsError(f"probe.reset did not end within {_RESET_SECONDS} seconds") from error
    if done.returncode:
        last = (done.stderr.strip() or done.stdout.strip() or "it says nothing").splitlines()[-1]
        raise SettingsError(f"probe.reset ended with status {done.returncode}: {last}")
