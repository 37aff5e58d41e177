"""A list shows exactly the records that a single read allows, whatever they belong to and how far up the role is held."""

from __future__ import annotations

import contextlib
import unittest
from typing import Any

import django.db
import sqlalchemy as sa
from django.db import models
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, mapped_column, relationship

import bloodroot
from bloodroot import Caller, Policy
from bloodroot.enforce import django_rows
from bloodroot.enforce.rows import RowsError, check_rows, rows
from tests.django_project import project
from tests.examples import examples
from tests.postgres import new_database


class Base(DeclarativeBase):
    pass


class Town(Base):
    __tablename__ = "towns"
    id: Mapped[int] = mapped_column(primary_key=True)
    owner_id: Mapped[int | None]


class House(Base):
    __tablename__ = "houses"
    id: Mapped[str] = mapped_column(sa.String(10), primary_key=True)
    town_id: Mapped[int | None] = mapped_column(sa.ForeignKey("towns.id"))
    owner_id: Mapped[int | None]


class Room(Base):
    __tablename__ = "rooms"
    id: Mapped[int] = mapped_column(primary_key=True)
    house_id: Mapped[str | None] = mapped_column(sa.ForeignKey("houses.id"))
    owner_id: Mapped[int | None]
    house: Mapped[House | None] = relationship()


class Bed(Base):
    __tablename__ = "beds"
    id: Mapped[int] = mapped_column(primary_key=True)
    room_id: Mapped[int | None] = mapped_column(sa.ForeignKey("rooms.id"))
    owner_id: Mapped[int | None]
    room: Mapped[Room | None] = relationship()


MODELS = {"town": Town, "house": House, "room": Room, "bed": Bed}
DATA: dict[str, list[dict[str, Any]]] = {
    "town": [{"id": number} for number in (1, 2, 3)],
    "house": [{"id": name, "town_id": town} for name, town in (("1", 1), ("h2", 2), ("H2", 1), ("h2 ", 3), ("x", None))],
    "room": [
        {"id": number, "house_id": house}
        for number, house in enumerate(["1", "h2", "H2", "h2 ", "x", None, "1"], 1)
    ],
    "bed": [{"id": number, "room_id": room} for number, room in enumerate([1, 2, 3, 4, 5, 6, 7, None, 2], 1)],
}  # fmt: skip
for _entries in DATA.values():
    for _number, _entry in enumerate(_entries):
        _entry["owner_id"] = (None, 1, 2)[_number % 3]
IDS = {"town": (1, 2, "3", 2.0, True), "house": ("1", 1, "h2", "H2", "x"), "room": (1, 2, "3", 5), "bed": (1, "4", 8)}
ROLES = {"town": ("mayor", "clerk"), "house": ("owner", "lodger"), "room": ("sleeper",), "bed": ("napper",)}
BELOW = {
    "mayor": ("clerk", "owner", "lodger", "sleeper", "napper"),
    "owner": ("lodger", "sleeper", "napper"),
    "sleeper": ("napper",),
    "chief": ("mayor", "owner", "lodger", "napper"),
}
PLAIN, BY_RECORD = ("house_id", "room_id"), ("house.id", "room.id")


@st.composite
def policies(draw: st.DrawFn) -> tuple[str, str]:
    """The name of a permission, and a policy that grants it, as text."""
    ways = draw(st.sampled_from([PLAIN, BY_RECORD]))
    thing = draw(st.sampled_from(list(MODELS)))
    below = {role: draw(st.sets(st.sampled_from(names), max_size=2)) for role, names in BELOW.items()}
    roles = {thing: [f"  {role}{_includes(below.get(role))}" for role in names] for thing, names in ROLES.items()}
    if (
        draw(st.booleans())
        and "lodger" not in below["owner"]
        and not any({"owner", "lodger"} <= b for b in below.values())
        and not (below["chief"] & {"mayor"} and below["mayor"] & {"owner", "lodger"})
    ):
        roles["house"].append("  apart owner, lodger")
    possible = [role for other, names in ROLES.items() for role in names if thing in _within(other)]
    grants = draw(
        st.lists(st.tuples(st.sampled_from([*possible, *possible, "chief"]), st.booleans()), min_size=1, max_size=3)
    )
    given = ", ".join(f"{role} if mine" if mine else role for role, mine in grants)
    text = "\n".join(
        [
            f"roles\n  chief{_includes(below['chief'])}",
            f"things\n  town {{town_id}}\n  house {{house_id}} in town by town_id\n  room {{room_id}} in house by {ways[0]}",
            f"  bed {{bed_id}} in room by {ways[1]}",
            *(line for name, lines in roles.items() for line in (f"roles in {name}", *lines)),
            "conditions\n  mine record.owner_id == caller.id",
            f"permissions\n  {thing}:read {given}",
            f"endpoints\n  GET /{thing}s/{{{thing}_id}} {thing}:read",
        ]
    )
    return f"{thing}:read", text


def _includes(names: Any) -> str:
    return f" includes {', '.join(sorted(names))}" if names else ""


def _within(thing: str) -> tuple[str, ...]:
    return tuple(MODELS)[tuple(MODELS).index(thing) :]


@st.composite
def callers(draw: st.DrawFn) -> Caller:
    held: dict[str, dict[Any, set[str]]] = {}
    for thing, ids in IDS.items():
        for identifier in draw(st.lists(st.sampled_from(ids), unique_by=repr, max_size=2)):
            held.setdefault(thing, {})[identifier] = draw(st.sets(st.sampled_from(ROLES[thing]), max_size=2))
    return Caller(1, draw(st.sets(st.just("chief"))), roles_in=held)


def is_read(policy: Policy, caller: Caller, thing: str, way: dict[str, Any]) -> bool:
    """Whether a single record is read, with all that it belongs to at hand."""
    record = way[thing]
    records = {f"{thing}_id": record, **{name: each for name, each in way.items() if name != thing}}
    path = f"/{thing}s/{str(record.id).replace(' ', '%20')}"
    return policy.decide(caller, "GET", path, record=record, records=records).allowed


def way_up(record: Any, thing: str, find: Any) -> dict[str, Any]:
    """A record, and those that it belongs to, by thing."""
    found = {thing: record}
    names = list(MODELS)
    for name in reversed(names[: names.index(thing)]):
        parent = getattr(record, f"{name}_id")
        record = None if parent is None else find(name, parent)
        if record is None:
            break
        found[name] = record
    return found


class Rows:
    """The property, whichever database it is in."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.engine = sa.create_engine(cls.url())
        cls.addClassCleanup(cls.engine.dispose)
        Base.metadata.create_all(cls.engine)
        with Session(cls.engine) as session:
            for thing, model in MODELS.items():
                session.add_all([model(**entry) for entry in DATA[thing]])
                session.flush()
            session.commit()

    def hold(self, permission: str, text: str, who: list[Caller]) -> None:
        policy = bloodroot.parse(text)
        thing = permission.split(":")[0]
        model = MODELS[thing]
        check_rows(policy, permission, model)
        with Session(self.engine) as session:
            every = session.scalars(sa.select(model).order_by(model.id)).all()
            ways = [way_up(record, thing, lambda name, key: session.get(MODELS[name], key)) for record in every]
            for caller in who:
                asked = sa.select(model.id).where(rows(policy, caller, permission, model)).order_by(model.id)
                single = [way[thing].id for way in ways if is_read(policy, caller, thing, way)]
                self.assertEqual(
                    list(session.scalars(asked)), single, f"{permission} {caller.roles_in} {caller}\n{text}"
                )


some = st.lists(callers(), min_size=4, max_size=4)


class OnSQLite(Rows, unittest.TestCase):
    @staticmethod
    def url() -> str:
        return "sqlite://"

    @examples(60, 1500)
    @given(policies(), some)
    def test_the_list_shows_what_a_single_read_allows(self, policy: tuple[str, str], who: list[Caller]) -> None:
        self.hold(*policy, who)

    def test_identifiers_are_bound_and_never_listed_for_who_holds_a_role_everywhere(self) -> None:
        policy = bloodroot.parse(POLICY)
        many = Caller(1, roles_in={"town": {number: {"mayor"} for number in range(5_000)}})
        statement = sa.select(Bed.id).where(rows(policy, many, "bed:read", Bed))
        self.assertNotIn("4999", str(statement.compile(self.engine)))
        with Session(self.engine) as session:
            self.assertEqual(len(session.scalars(statement).all()), 6)
        everywhere = sa.select(Bed.id).where(rows(policy, Caller(1, {"chief"}), "bed:read", Bed))
        self.assertNotIn("rooms", str(everywhere.compile(self.engine)))


class OnPostgreSQL(Rows, unittest.TestCase):
    @staticmethod
    def url() -> str:
        return new_database()

    @examples(30, 600)
    @given(policies(), some)
    def test_the_list_shows_what_a_single_read_allows(self, policy: tuple[str, str], who: list[Caller]) -> None:
        self.hold(*policy, who)


POLICY = """
roles
  chief includes mayor
things
  town {town_id}
  house {house_id} in town by town_id
  room {room_id} in house by house_id
  bed {bed_id} in room by room_id
  chair {chair_id} in room by room_id
  pot {pot_id} in town by weight
roles in town
  mayor
permissions
  bed:read mayor
  chair:read mayor
  pot:read mayor
  house:read mayor
endpoints
  GET /beds/{bed_id} bed:read
"""


class Errors(unittest.TestCase):
    def test_what_cannot_be_followed_is_told_at_start(self) -> None:
        class Others(DeclarativeBase):
            pass

        class Chair(Others):
            __tablename__ = "chairs"
            id: Mapped[int] = mapped_column(primary_key=True)
            room_id: Mapped[int]

        class Pot(Others):
            __tablename__ = "pots"
            id: Mapped[int] = mapped_column(primary_key=True)
            weight: Mapped[float]

        policy = bloodroot.parse(POLICY)
        caller = Caller(1, roles_in={"town": {1: {"mayor"}}})
        for permission, model, message in (
            ("chair:read", Chair, "record.room_id has no foreign key"),
            ("pot:read", Pot, "identifiers are integers, texts or UUIDs, not DOUBLE"),
            ("house:read", Pot, "Pot has no column for record.town_id"),
        ):
            with self.subTest(permission):
                with self.assertRaisesRegex(RowsError, message):
                    check_rows(policy, permission, model)
                with self.assertRaisesRegex(RowsError, message):
                    rows(policy, caller, permission, model)


DJANGO: dict[str, Any] = {}


def make_models() -> None:
    """The same tables as models of Django's."""
    if DJANGO:
        return

    class DjangoTown(models.Model):
        owner_id = models.IntegerField(null=True)

        class Meta:
            app_label = "tarn"

    class DjangoHouse(models.Model):
        id = models.CharField(max_length=10, primary_key=True)
        town = models.ForeignKey(DjangoTown, models.CASCADE, null=True)
        owner_id = models.IntegerField(null=True)

        class Meta:
            app_label = "tarn"

    class DjangoRoom(models.Model):
        house = models.ForeignKey(DjangoHouse, models.CASCADE, null=True)
        owner_id = models.IntegerField(null=True)

        class Meta:
            app_label = "tarn"

    class DjangoBed(models.Model):
        room = models.ForeignKey(DjangoRoom, models.CASCADE, null=True)
        owner_id = models.IntegerField(null=True)

        class Meta:
            app_label = "tarn"

    DJANGO.update(town=DjangoTown, house=DjangoHouse, room=DjangoRoom, bed=DjangoBed)


class OnDjango(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        stack = contextlib.ExitStack()
        cls.addClassCleanup(stack.close)
        stack.enter_context(project([]))
        connections = django.db.connections
        connections.settings["things"] = {
            **connections.settings["default"],
            "ENGINE": "django.db.backends.sqlite3",
            "NAME": ":memory:",
        }
        stack.callback(connections.settings.pop, "things")
        connection = connections["things"]
        stack.callback(connections.__delitem__, "things")
        stack.callback(connection.close)
        make_models()
        with connection.schema_editor() as editor:
            for model in DJANGO.values():
                editor.create_model(model)
        for thing, model in DJANGO.items():
            model.objects.using("things").bulk_create([model(**entry) for entry in DATA[thing]])

    @examples(60, 1500)
    @given(policies(), some)
    def test_the_list_shows_what_a_single_read_allows(self, drawn: tuple[str, str], who: list[Caller]) -> None:
        permission, text = drawn
        policy = bloodroot.parse(text)
        thing = permission.split(":")[0]
        model = DJANGO[thing]
        django_rows.check_rows(policy, permission, model, using="things")
        every = list(model.objects.using("things").order_by("id"))
        ways = [
            way_up(record, thing, lambda name, key: DJANGO[name].objects.using("things").get(pk=key))
            for record in every
        ]
        for caller in who:
            condition = django_rows.rows(policy, caller, permission, model, using="things")
            found = {record.id for record in model.objects.using("things").filter(condition)}
            single = {way[thing].id for way in ways if is_read(policy, caller, thing, way)}
            self.assertEqual(found, single, f"{permission} {caller.roles_in} {caller}\n{text}")


if __name__ == "__main__":
    unittest.main()
