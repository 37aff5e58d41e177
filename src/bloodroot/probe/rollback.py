"""Changing requests within transactions that are rolled back, so that they leave no trace in the database."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, ExitStack, contextmanager
from typing import TYPE_CHECKING, Any

from ..settings import Settings, SettingsError
from ..survey.applications import imported

if TYPE_CHECKING:
    from .application import Application

Around = Callable[[], AbstractContextManager[None]]


def rollback(settings: Settings, application: Application) -> Around:
    """What a request is made within, to be rolled back.

    Raises:
        SettingsError: the application runs elsewhere, or neither its Django databases nor an engine are known.
    """
    if application.here and settings.probe.engine is not None:
        return _of_engine(imported(settings.probe.engine, settings.folder, "probe.engine"), settings)
    if application.here and getattr(application, "wsgi", False) and application.framework == "django":
        return _of_django()
    raise SettingsError(
        f'{settings.file.name}: probe.reset = "rollback" works in this process, for Django over WSGI, and with '
        'engine = "module:name" for SQLAlchemy; write a command, or "module:function", that puts the data back'
    )


def _of_django() -> Around:
    """Transactions of every database of a Django project."""
    from django.core.signals import request_finished, request_started
    from django.db import close_old_connections, connections

    names = list(connections)
    for name in names:
        if not connections[name].features.supports_transactions:
            raise SettingsError(f'probe.reset = "rollback": the database "{name}" has no transactions')

    @contextmanager
    def around() -> Iterator[None]:
        # Between requests Django closes connections that are in a transaction, which is what is wanted here.
        signals = (request_started, request_finished)
        for signal in signals:
            signal.disconnect(close_old_connections)
        try:
            with rolled_back(names):
                yield
        finally:
            for signal in signals:
                signal.connect(close_old_connections)
            connections.close_all()

    return around


def _commits_at_once(engine: Any) -> bool:
    """Whether what is changed over the connections of an engine is there at once, without a commit."""
    with engine.connect() as connection:
        inner = connection.connection.dbapi_connection
        by_driver = engine.dialect.name == "sqlite" and getattr(inner, "isolation_level", "") is None
        return by_driver or connection.get_isolation_level() == "AUTOCOMMIT"


@contextmanager
def rolled_back(databases: list[str]) -> Iterator[None]:
    """A transaction, or a savepoint, of each of these databases of Django, that is gone back on."""
    from django.db import transaction

    with ExitStack() as stack:
        for name in databases:
            stack.enter_context(transaction.atomic(using=name))
        try:
            yield
        finally:
            for name in databases:
                transaction.set_rollback(True, using=name)


def _of_engine(engine: Any, settings: Settings) -> Around:
    """One connection of an engine of SQLAlchemy for all that a request does; what it commits is rolled back."""
    from sqlalchemy import Engine
    from sqlalchemy.pool import StaticPool

    engine = getattr(engine, "sync_engine", engine)
    if not isinstance(engine, Engine):
        kind = type(engine).__name__
        raise SettingsError(f"{settings.file.name}: probe.engine is a {kind}, and no engine of SQLAlchemy")
    if _commits_at_once(engine):
        raise SettingsError(
            f"{settings.file.name}: probe.engine commits each statement at once (AUTOCOMMIT), so that nothing could be "
            'rolled back; write a command, or "module:function", that puts the data back'
        )

    def nothing(connection: Any) -> None:
        """What is done in the place of a commit."""

    @contextmanager
    def around() -> Iterator[None]:
        pool, commit = engine.pool, engine.dialect.do_commit
        kept = engine.raw_connection()
        inner: Any = kept.dbapi_connection
        # Whoever asks the engine for a connection gets this one, and nothing comes back to the database by a return.
        engine.pool = StaticPool(lambda: inner, reset_on_return=None, dialect=engine.dialect)
        engine.dialect.do_commit = nothing  # type: ignore[method-assign,assignment]
        try:
            yield
        finally:
            engine.pool = pool
            engine.dialect.do_commit = commit  # type: ignore[method-assign]
            engine.dialect.do_rollback(kept)
            kept.close()

    return around
