"""The tables of the cooperative, and its made-up data."""

from __future__ import annotations

import os
from typing import Any

import sqlalchemy as sa
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column

import bloodroot
from bloodroot.identity.seed_file import read_seed
from bloodroot.identity.seeding import seed_directory
from bloodroot.identity.seeds import SeedMember

from .who import FOLDER, directory

engine = sa.create_engine(f"sqlite:///{FOLDER / 'kilnhouse.db'}")


class Base(DeclarativeBase):
    pass


class Studio(Base):
    __tablename__ = "studios"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]


class Kiln(Base):
    __tablename__ = "kilns"
    id: Mapped[int] = mapped_column(primary_key=True)
    studio_id: Mapped[int] = mapped_column(sa.ForeignKey("studios.id"))
    name: Mapped[str]
    top_temperature: Mapped[int]


class Firing(Base):
    __tablename__ = "firings"
    id: Mapped[int] = mapped_column(primary_key=True)
    kiln_id: Mapped[int] = mapped_column(sa.ForeignKey("kilns.id"))
    member_id: Mapped[int]
    glaze: Mapped[str]
    state: Mapped[str]


def _made_up() -> list[Base]:
    return [
        Studio(id=1, name="Lower Yard"),
        Studio(id=2, name="Harrow Lane"),
        Kiln(id=10, studio_id=1, name="Old Bessel", top_temperature=1280),
        Kiln(id=20, studio_id=2, name="The Beehive", top_temperature=1240),
        Firing(id=100, kiln_id=10, member_id=1, glaze="celadon on porcelain", state="cold"),
        Firing(id=200, kiln_id=20, member_id=2, glaze="ash glaze, cone ten", state="firing"),
        Firing(id=201, kiln_id=20, member_id=3, glaze="shino", state="waiting"),
    ]


def load(kind: type[Any], text: str) -> Any:
    """A record by the text of a path, or None where there is none."""
    number = int(text) if text.isascii() and text.isdecimal() and len(text) < 10 else 0
    with Session(engine, expire_on_commit=False) as session:
        return session.get(kind, number)


def select(statement: sa.Select[Any]) -> list[Any]:
    """The records that a statement finds."""
    with Session(engine, expire_on_commit=False) as session:
        return list(session.scalars(statement))


def save(record: Any, **changes: Any) -> Any:
    """A record changed, or a new one kept."""
    with Session(engine, expire_on_commit=False) as session:
        kept = session.merge(record)
        for name, value in changes.items():
            setattr(kept, name, value)
        session.commit()
        return kept


def remove(record: Any) -> None:
    """A record and what belongs to it taken out."""
    with Session(engine) as session:
        session.execute(sa.delete(Firing).where(Firing.kiln_id == record.id))
        session.delete(session.merge(record))
        session.commit()


def plain(record: Any) -> dict[str, Any]:
    """A record as JSON has it."""
    return {column.name: getattr(record, column.name) for column in record.__table__.columns}


def prepare() -> None:
    """Make the tables and their data where they are missing."""
    Base.metadata.create_all(engine)
    with Session(engine) as session:
        if session.get(Studio, 1) is None:
            session.add_all(_made_up())
            session.commit()
    _sow(update=False)


def reset() -> None:
    """Put the made-up data back."""
    with Session(engine) as session:
        for table in (Firing, Kiln, Studio):
            session.execute(sa.delete(table))
        session.add_all(_made_up())
        session.commit()
    _sow(update=True)


def state() -> list[Any]:
    """All that requests can change: another value after each change."""
    with Session(engine) as session:
        return [[plain(record) for record in session.scalars(sa.select(table))] for table in (Studio, Kiln, Firing)]


def _sow(*, update: bool) -> None:
    """Members as members.toml has them; `bloodroot seed members.toml` does the same."""
    seed_directory(directory, _seed, _policy, _password, update=update)


def _password(new: SeedMember) -> str:
    return os.environ[new.variable or ""]


_seed = read_seed(FOLDER / "members.toml")
_policy = bloodroot.load(FOLDER / "access.bloodroot")
prepare()
