"""The database that a directory is kept in."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import sqlalchemy as sa
from sqlalchemy.exc import ArgumentError, DBAPIError, NoSuchModuleError, SQLAlchemyError

from ..settings import SettingsError

T = TypeVar("T")
_WAITS = 30  # seconds, for another writer of the same SQLite file
_TRIES = 20
_LOCK = 0x626C6F6F  # one number, for all that write to the directory of a PostgreSQL database


def open_database(url: str, folder: Path) -> sa.Engine:
    """A database by its URL; a relative SQLite file is looked for in ``folder``.

    Raises:
        SettingsError: the URL cannot be read, or its driver is not installed.
    """
    try:
        where = sa.make_url(url)
        if where.get_backend_name() != "sqlite":
            return sa.create_engine(where, pool_pre_ping=True)
        if where.database and where.database != ":memory:":
            where = where.set(database=str(folder / where.database))
        engine = sa.create_engine(where, connect_args={"timeout": _WAITS})
    except (ArgumentError, NoSuchModuleError, ValueError) as error:
        raise SettingsError(
            "directory.url: not a database URL that SQLAlchemy knows, such as sqlite:///members.db or "
            "postgresql+psycopg://localhost/members"
        ) from error
    except ModuleNotFoundError as error:
        raise SettingsError(
            f"directory.url: the driver {error.name} is not installed; install it with: pip install {error.name}"
        ) from error
    _with_real_transactions(engine)
    return engine


def _with_real_transactions(engine: sa.Engine) -> None:
    """Make SQLite begin transactions when asked to, so that tables made in one are undone with it."""

    @sa.event.listens_for(engine, "connect")
    def connected(connection: Any, record: object) -> None:  # noqa: ARG001
        connection.isolation_level = None
        connection.execute("pragma foreign_keys = on")

    @sa.event.listens_for(engine, "begin")
    def begin(connection: sa.Connection) -> None:
        writes = connection.get_execution_options().get("writes", False)
        connection.exec_driver_sql("begin immediate" if writes else "begin")


def file_of(engine: sa.Engine) -> Path | None:
    """The file of an SQLite database; None for another database, and for one in memory."""
    if engine.url.get_backend_name() != "sqlite" or engine.url.database in (None, "", ":memory:"):
        return None
    return Path(str(engine.url.database))


def in_one_transaction(engine: sa.Engine, work: Callable[[sa.Connection], T], *, keep: bool = True) -> T:
    """Do some writing as a whole or not at all, one writer after another.

    Args:
        engine: the database.
        work: what to do. It may be called again from the beginning, where another writer came between.
        keep: False undoes everything at the end.

    Returns:
        What ``work`` returns.
    """
    for attempt in range(_TRIES):
        with engine.connect().execution_options(writes=True) as connection:
            transaction = connection.begin()
            try:
                if connection.dialect.name == "postgresql":
                    connection.execute(sa.select(sa.func.pg_advisory_xact_lock(_LOCK)))
                result = work(connection)
                if keep:
                    transaction.commit()
                else:
                    transaction.rollback()
                return result
            except DBAPIError as error:
                transaction.rollback()
                # Databases without such a lock refuse the second of two equal rows where another writer came first.
                if not isinstance(error, sa.exc.IntegrityError) or attempt == _TRIES - 1:
                    raise
            except BaseException:
                transaction.rollback()
                raise
    raise AssertionError("the last attempt returns or raises")


def reason_of(error: SQLAlchemyError, engine: sa.Engine) -> str:
    """What a database has to say, in one line, without anything that may be a secret."""
    text = str(getattr(error, "orig", None) or error)
    url = engine.url
    for secret in (url.password, *(value for value in url.query.values() if isinstance(value, str))):
        if secret:
            text = text.replace(str(secret), "***")
    return (text.strip().splitlines() or ["it does not say why"])[0]


def storable(text: str) -> bool:
    """Whether a string can be asked of any database: Unicode without lone surrogates and without zero."""
    try:
        text.encode()
    except UnicodeEncodeError:
        return False
    return "\0" not in text
