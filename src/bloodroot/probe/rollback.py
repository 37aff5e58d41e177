"""Changing requests within transactions that are rolled back, so that they leave no trace in the database."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from ..frameworks.adapter import Around
from ..settings import Settings, SettingsError
from ..survey.applications import imported

if TYPE_CHECKING:
    from sqlalchemy import Engine

    from .application import Application


def rollback(settings: Settings, application: Application) -> Around:
    """What a request is made within, to be rolled back.

    Raises:
        SettingsError: the application runs elsewhere, or neither its Django databases nor an engine are known.
    """
    if application.here and settings.probe.engine is not None:
        return _of_engine(imported(settings.probe.engine, settings.folder, "probe.engine"), settings)
    if application.here and getattr(application, "wsgi", False) and application.made_with is not None:
        function = application.made_with.adapter.rollback()
        if function is not None:
            return function
    raise SettingsError(
        f'{settings.file.name}: probe.reset = "rollback" works in this process, for Django over WSGI, and with '
        'engine = "module:name" for SQLAlchemy; write a command, or "module:function", that puts the data back'
    )


def _commits_at_once(engine: Any) -> bool:
    """Whether what is changed over the connections of an engine is there at once, without a commit."""
    with engine.connect() as connection:
        inner = connection.connection.dbapi_connection
        by_driver = engine.dialect.name == "sqlite" and getattr(inner, "isolation_level", "") is None
        return by_driver or connection.get_isolation_level() == "AUTOCOMMIT"


_POINT = "bloodroot_probe"


def _of_engine(engine: Any, settings: Settings) -> Around:
    """One connection of an engine of SQLAlchemy for all that a request does; what it commits is rolled back."""
    from sqlalchemy import Engine

    engine = getattr(engine, "sync_engine", engine)
    if not isinstance(engine, Engine):
        kind = type(engine).__name__
        raise SettingsError(f"{settings.file.name}: probe.engine is a {kind}, and no engine of SQLAlchemy")
    if _commits_at_once(engine):
        raise SettingsError(
            f"{settings.file.name}: probe.engine commits each statement at once (AUTOCOMMIT), so that nothing could be "
            'rolled back; write a command, or "module:function", that puts the data back'
        )

    return lambda: _one_connection(engine)


@contextmanager
def _one_connection(engine: Engine) -> Iterator[None]:
    """One connection for all that is done here; it is rolled back at the end."""
    from sqlalchemy.pool import StaticPool

    pool, commit, rollback = engine.pool, engine.dialect.do_commit, engine.dialect.do_rollback
    committed = False

    def kept_so_far(connection: Any) -> None:
        """In the place of a commit: a point to come back to."""
        nonlocal committed
        committed = True
        connection.cursor().execute(f"SAVEPOINT {_POINT}")

    def back(connection: Any) -> None:
        """In the place of a rollback: what was committed in this request is there until its end."""
        if committed:
            connection.cursor().execute(f"ROLLBACK TO SAVEPOINT {_POINT}")
        else:
            rollback(connection)

    kept = engine.raw_connection()
    inner: Any = kept.dbapi_connection
    # All that ask the engine for a connection get this one, and nothing comes back to the database by a return.
    engine.pool = StaticPool(lambda: inner, reset_on_return=None, dialect=engine.dialect)
    engine.dialect.do_commit = kept_so_far  # type: ignore[method-assign,assignment]
    engine.dialect.do_rollback = back  # type: ignore[method-assign,assignment]
    try:
        yield
    finally:
        engine.pool = pool
        engine.dialect.do_commit = commit  # type: ignore[method-assign]
        engine.dialect.do_rollback = rollback  # type: ignore[method-assign]
        engine.dialect.do_rollback(kept)
        kept.close()
