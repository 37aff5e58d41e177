"""Records that the service loads itself: by functions and by mapped classes that the settings name."""

from __future__ import annotations

import uuid
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.orm import InstrumentedAttribute, Session

from ..core.caller import Caller
from ..enforce.rows import rows
from ..identity.database import open_database, storable
from ..settings import Settings, SettingsError
from ..survey.applications import imported
from .questions import BadQuestion

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..enforce.loaders import Records


def loaders_of(settings: Settings) -> Records:
    """The functions, by thing or parameter.

    Raises:
        SettingsError: one cannot be imported, or is no function.
    """
    records: dict[Any, Callable[..., Any]] = {}
    for name, text in settings.serve.records.items():
        loader = imported(text, settings.folder, f"serve.records.{name}")
        if not callable(loader):
            raise SettingsError(f"{settings.file.name}: serve.records.{name}: {text} is no function")
        records[name] = loader
    return records


class Model:
    """The records of a thing, in the table of a mapped class. It waits for the database: call it in a thread.

    Args:
        name: the thing.
        mapped: the class.
        engine: the database.

    Raises:
        SettingsError: it is not mapped, or no one column identifies its records.
    """

    def __init__(self, name: str, mapped: Any, engine: sa.Engine) -> None:
        mapper = sa.inspect(mapped, raiseerr=False) if isinstance(mapped, type) else None
        if mapper is None or len(mapper.primary_key) != 1:
            raise SettingsError(
                f"serve.models.{name}: this must be a class mapped by SQLAlchemy whose records one column identifies"
            )
        self.mapped: type = mapped
        self._engine: sa.Engine = engine
        self._key: InstrumentedAttribute[Any] = getattr(
            mapped, mapper.get_property_by_column(mapper.primary_key[0]).key
        )

    @contextmanager
    def opened(self, text: str) -> Iterator[Any]:
        """The record that a text identifies, or None; what belongs to it can be read as long as the block runs.

        Raises:
            SQLAlchemyError: the database cannot be asked.
        """
        identifier = self._identifier(text)
        if identifier is None:
            yield None
            return
        with Session(self._engine) as session:
            yield session.get(self.mapped, identifier)

    def listed(self, policy: Policy, caller: Caller | None, permission: str, after: str | None, most: int) -> list[str]:
        """Which records a caller has a permission for, in the order of what identifies them.

        Args:
            policy: what decides.
            caller: who asks.
            permission: the permission.
            after: what identifies the record before the first one; None for all.
            most: how many.

        Raises:
            BadQuestion: nothing is identified by ``after``.
            RowsError: the permission cannot be asked of the table.
            SQLAlchemyError: the database cannot be asked.
        """
        query = sa.select(self._key).where(rows(policy, caller, permission, self.mapped)).order_by(self._key)
        if after is not None:
            last = self._identifier(after)
            if last is None:
                raise BadQuestion("page.token is not one of a page before")
            query = query.where(self._key > last)
        with Session(self._engine) as session:
            return [str(scalar) for scalar in session.scalars(query.limit(most))]

    def _identifier(self, text: str) -> Any:
        """What a text identifies, as the column has it; None where it is not written as it is there."""
        kind = self._key.type.python_type
        value: Any
        try:
            value = uuid.UUID(text) if kind is uuid.UUID else kind(text)
        except (ValueError, TypeError):
            return None
        # 07 is not 7: one record has one name. A number beyond what columns hold is none of theirs.
        same = str(value) == text and storable(text)
        return value if same and not (kind is int and abs(value) >= 2**63) else None


def models_of(settings: Settings) -> dict[str, Model]:
    """The mapped classes, by thing.

    Raises:
        SettingsError: one cannot be imported or is not mapped, or the database cannot be opened.
    """
    serve = settings.serve
    if not serve.models or serve.database is None:
        return {}
    engine = open_database(settings.fill(serve.database, None, "serve.database"), settings.folder)
    return {
        name: Model(name, imported(text, settings.folder, f"serve.models.{name}"), engine)
        for name, text in serve.models.items()
    }
