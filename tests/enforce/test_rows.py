"""A list shows exactly the records that a single read allows: on random policies, callers and data."""

import datetime
import decimal
import itertools
import unittest
from typing import Any

import sqlalchemy as sa
from hypothesis import given
from hypothesis import strategies as st
from sqlalchemy.orm import DeclarativeBase, Mapped, Session, aliased, mapped_column, relationship

import bloodroot
from bloodroot import Caller
from bloodroot.enforce.rows import RowsError, check_rows, rows
from tests.examples import examples
from tests.postgres import new_database


class Base(DeclarativeBase):
    pass


class Team(Base):
    __tablename__ = "teams"
    id: Mapped[int] = mapped_column(primary_key=True)
    site: Mapped[str | None] = mapped_column(sa.String(20))


class Plot(Base):
    __tablename__ = "plots"
    id: Mapped[int] = mapped_column(primary_key=True)
    grower_id: Mapped[int | None]
    other_id: Mapped[int | None]
    # A collation of its own, which a list must not go by.
    state: Mapped[str | None] = mapped_column(sa.String(20).with_variant(sa.String(20, collation="NOCASE"), "sqlite"))
    secret: Mapped[bool | None]
    price: Mapped[float | None] = mapped_column(sa.Double())
    weight: Mapped[decimal.Decimal | None] = mapped_column(sa.Numeric(6, 2))
    sown: Mapped[str | None] = mapped_column(sa.CHAR(4))
    team_id: Mapped[int | None] = mapped_column(sa.ForeignKey("teams.id"))
    team: Mapped[Team | None] = relationship()


class Crew(Base):
    __tablename__ = "crews"
    id: Mapped[int] = mapped_column(primary_key=True)
    team_id: Mapped[int] = mapped_column(sa.ForeignKey("teams.id"))
    team: Mapped[Team] = relationship(backref="crews")


NUMBERS, STATES = (None, 1, 2, 3), (None, "dug", "sown", "2")
DATA = [
    {
        "grower_id": grower,
        "other_id": other,
        "state": state,
        "secret": secret,
        "price": price,
        "weight": price if price is None else decimal.Decimal(str(price)) * many,
        "team_id": team,
    }
    for (grower, other), (state, secret), (price, team, many) in itertools.product(
        [(None, None), (1, 1), (2, 1), (3, None)],
        [(None, None), ("dug", True), ("sown", False), ("2", None), ("Dug", True), ("dug ", False)],
        [(None, None, 1), (1.0, 1, 1), (2.5, 2, 1), (0.1, 1, 1), (0.1, 1, 3)],
    )
]

references = st.sampled_from(
    [
        "record.grower_id",
        "record.other_id?",
        "record.state",
        "record.secret",
        "record.price",
        "record.weight",
        "record.team.site",
    ]
)
values = st.sampled_from(
    [
        "caller.id",
        "caller.team",
        "caller.none",
        "caller.missing",
        "1",
        "2",
        "2.5",
        "0.1",
        "0.30",
        "0.111",
        "caller.tenth",
        "caller.odd",
        '"dug"',
        '"2"',
        '"DUG"',
        "99999999999999999999",
        "caller.huge",
        "true",
        "none",
    ]
)
lists = st.sampled_from(["[1, 2]", '["dug", none]', '["sown", 2]', "[]", "caller.teams", "[caller.id, 3]", "caller.id"])


def ordered(reference: str) -> bool:
    return reference not in ("record.state", "record.team.site")


equal = st.builds(lambda left, sign, right: f"{left} {sign} {right}", references, st.sampled_from(["==", "!="]), values)
turned = st.builds(lambda left, right: f"{right} == {left}", references, values)
columns = st.builds(
    lambda left, sign, right: f"{left} {sign} {right}", references, st.sampled_from(["==", "!="]), references
).filter(lambda text: "team.site" not in text and text.count("price") in (0, 2))
compared = st.builds(
    lambda left, sign, right: f"{left} {sign} {right}",
    references.filter(ordered),
    st.sampled_from(["<", "<=", ">", ">="]),
    values,
)
among = st.builds(
    lambda left, sign, right: f"{left} {sign} {right}", references, st.sampled_from(["in", "not in"]), lists
)
alone = st.sampled_from(["record.secret", "record.state", "record.price", "true", "caller.here"])
tests = st.recursive(
    equal | turned | columns | compared | among | alone,
    lambda inner: (
        st.builds(lambda a, b: f"({a}) and ({b})", inner, inner)
        | st.builds(lambda a, b: f"({a}) or ({b})", inner, inner)
        | st.builds(lambda a: f"not ({a})", inner)
    ),
    max_leaves=5,
)
CALLERS = [
    Caller(
        1,
        {"grower"},
        attributes={
            "team": "dug",
            "none": None,
            "teams": [1, None, "dug"],
            "here": True,
            "tenth": decimal.Decimal("0.1"),
        },
    ),
    Caller(2, {"grower", "keeper"}, attributes={"team": 2.5, "none": None, "teams": {2, 3}, "here": "yes"}),
    Caller("2", {"keeper"}, attributes={"teams": "dug", "tenth": 0.1, "odd": decimal.Decimal("0.1000000000000000055")}),
    Caller("0.1", {"grower"}, attributes={"tenth": decimal.Decimal("1e999999"), "odd": decimal.Decimal("nan")}),
    Caller("0.10000000000000000001", {"grower"}, attributes={"tenth": decimal.Decimal("-Infinity"), "odd": 0.1 + 0.2}),
    Caller("1.0", {"grower", "keeper"}, attributes={"teams": ["1", 2**70, float("inf")], "huge": -(2**80)}),
    Caller("99999999999999999999999", {"grower"}, attributes={"teams": [], "huge": float("inf")}),
    Caller(3, granted={"plot:read": "the directory"}),
    Caller(1, {"grower"}, attributes={"team": "dug"}, scopes={"plot:edit"}),
    Caller(),
    None,
]


class Rows:
    """The property, whichever database it is in."""

    @classmethod
    def setUpClass(cls) -> None:
        cls.engine = sa.create_engine(cls.url())
        cls.addClassCleanup(cls.engine.dispose)
        Base.metadata.create_all(cls.engine)
        cls.collate(cls.engine)
        with Session(cls.engine) as session:
            session.add_all([Team(id=1, site="dug"), Team(id=2, site=None)])
            session.flush()
            session.add_all([Plot(**row) for row in (*DATA, *cls.MORE)])
            session.commit()

    MORE: tuple[dict[str, Any], ...] = ()

    @staticmethod
    def collate(engine: sa.Engine) -> None:
        """Give the texts of the table a collation that no model tells of."""

    def hold(self, one: str, other: str) -> None:
        policy = bloodroot.parse(
            f"roles\n  grower\n  keeper\npermissions\n  plot:read grower if one, keeper if one or other, anyone if other\n"
            f"  plot:edit grower\nconditions\n  one {one}\n  other {other}\nendpoints\n  GET / anyone\n"
        )
        with Session(self.engine) as session:
            every = session.scalars(sa.select(Plot).order_by(Plot.id)).all()
            for caller in CALLERS:
                asked = sa.select(Plot.id).where(rows(policy, caller, "plot:read", Plot)).order_by(Plot.id)
                single = [plot.id for plot in every if policy.may(caller, "plot:read", record=plot)]
                self.assertEqual(list(session.scalars(asked)), single, (caller, one, other))
        check_rows(policy, "plot:read", Plot)


class OnSQLite(Rows, unittest.TestCase):
    @staticmethod
    def url() -> str:
        return "sqlite://"

    @examples(40, 1500)
    @given(tests, tests)
    def test_the_list_shows_what_a_single_read_allows(self, one: str, other: str) -> None:
        self.hold(one, other)


class OnPostgreSQL(Rows, unittest.TestCase):
    MORE = ({"price": float("nan"), "weight": decimal.Decimal("NaN"), "secret": False},)

    @staticmethod
    def url() -> str:
        return new_database()

    @staticmethod
    def collate(engine: sa.Engine) -> None:
        with engine.begin() as connection:
            ignores_case = "provider = icu, locale = 'und-u-ks-level2', deterministic = false"
            connection.exec_driver_sql(f"create collation ignores_case ({ignores_case})")
            connection.exec_driver_sql("alter table plots alter state type varchar collate ignores_case")
            count = connection.exec_driver_sql("select 'dug' = 'DUG' collate ignores_case").scalar()
            assert count is True, "the collation ignores case"

    @examples(20, 600)
    @given(tests, tests)
    def test_the_list_shows_what_a_single_read_allows(self, one: str, other: str) -> None:
        self.hold(one, other)


class Errors(unittest.TestCase):
    def test_what_cannot_be_asked_of_a_table_is_told_at_start(self) -> None:
        for test, message in (
            ("record.grower == caller.id", "Plot has no column for record.grower"),
            ("record.team == caller.team", "Plot has no column for record.team"),
            ("record.team.sites == 1", "Team has no column for record.team.sites"),
            ("record.grower_id.x == 1", "Plot has no column for record.grower_id.x"),
            ("caller.id in record.crew", "looks into a collection of the record"),
            ('record.state < "x"', "another order than Python"),
            ("record.state < caller.x", "another order than Python"),
            ('record.sown == "2020"', "are not compared alike everywhere"),
            ("path.plot_id == caller.id", "path.plot_id is not about the record"),
            ("record.grower_id in [record.other_id]", "compares two columns of the record"),
            ("record.team.site == record.state", "compares two records"),
            ("record.price == record.weight", "compares numbers in binary with other numbers"),
        ):
            policy = bloodroot.parse(
                f"roles\n  grower\npermissions\n  plot:read grower if one\nconditions\n  one {test}\nendpoints\n  GET / anyone\n"
            )
            with self.subTest(test):
                with self.assertRaisesRegex(RowsError, f"plot:read cannot be asked of Plot: .*{message}"):
                    check_rows(policy, "plot:read", Plot)
                with self.assertRaises(RowsError):
                    rows(policy, Caller(1, {"grower"}, attributes={"x": "y", "team": 1}), "plot:read", Plot)
        policy = bloodroot.parse(
            "roles\n  grower\npermissions\n  crew:read grower if one\nconditions\n  one record.crews.id == 1\nendpoints\n  GET / anyone\n"
        )
        with self.assertRaisesRegex(RowsError, "leads to more than one record"):
            check_rows(policy, "crew:read", Team)
        with self.assertRaisesRegex(LookupError, 'unknown permission "crew:raed"; did you mean "crew:read"'):
            rows(policy, None, "crew:raed", Team)


class Odd(Base):
    """Columns whose values are others in Python than in some database, or may be."""

    __tablename__ = "odd"
    id: Mapped[int] = mapped_column(sa.BigInteger().with_variant(sa.Integer(), "sqlite"), primary_key=True)
    key: Mapped[str | None] = mapped_column(sa.Uuid(as_uuid=False))
    other: Mapped[Any] = mapped_column(sa.String(40).with_variant(sa.Integer(), "sqlite"), nullable=True)
    notes: Mapped[Any] = mapped_column(sa.JSON, nullable=True)
    big: Mapped[decimal.Decimal | None] = mapped_column(sa.Numeric(20, 0))
    kept: Mapped[Any] = mapped_column(sa.PickleType, nullable=True)
    wide: Mapped[Any] = mapped_column(sa.Numeric(8, 2).with_variant(sa.Numeric(8, 1), "postgresql"), nullable=True)
    loose: Mapped[Any] = mapped_column(sa.Numeric(8, 2).with_variant(sa.Double(), "postgresql"), nullable=True)
    closed: Mapped[datetime.datetime | None]


def only(condition: str) -> bloodroot.Policy:
    return bloodroot.parse(
        f"permissions\n  odd:read signed-in if one\nconditions\n  one {condition}\nendpoints\n  GET / anyone\n"
    )


class NoMoreThanASingleRead(unittest.TestCase):
    """4: a list never shows more than a single read; where that is not sure, there is no list."""

    KEY = "6fa459ea-ee8a-3ca4-894e-db77e160355e"

    def setUp(self) -> None:
        engine = sa.create_engine("sqlite://")
        self.addCleanup(engine.dispose)
        Base.metadata.create_all(engine)
        self.session = self.enterContext(Session(engine))
        closed = datetime.datetime(2026, 5, 4, tzinfo=None)
        self.session.add(Odd(id=1, key=self.KEY, other=1, notes=None, big=decimal.Decimal(2**53), kept=1))
        self.session.add(Odd(id=2, key=None, other=None, notes={}, big=None, kept=None, closed=closed))
        self.session.commit()

    def test_4_columns_that_may_differ(self) -> None:
        caller = Caller(1, attributes={"key": self.KEY, "big": decimal.Decimal(2**53 + 1)})
        for condition in (
            "record.key != caller.key",
            "record.key == caller.key",
            "record.other == 1",
            "record.notes != none",
            "record.notes == none",
            "record.kept != none",
            "record.big == caller.big",
            "record.big != 3",
            "record.wide == 1.25",
            "record.loose == 1.25",
        ):
            with self.subTest(condition), self.assertRaises(RowsError):
                found = rows(only(condition), caller, "odd:read", Odd)
                self.session.scalars(sa.select(Odd.id).where(found)).all()
        for condition, expected in (
            ("record.id == 1", [1]),
            ("record.closed == none", [1]),
            ("record.closed != none", [2]),
            ("record.big == none", [2]),
            ("record.other == none", [2]),
        ):
            found = rows(only(condition), caller, "odd:read", Odd)
            self.assertEqual(self.session.scalars(sa.select(Odd.id).where(found)).all(), expected)

    def test_4_an_entity_that_is_not_the_one_selected(self) -> None:
        caller = Caller(1)
        other = aliased(Odd)
        for condition in ("record.id == 1", "caller.id == 1"):
            policy = only(condition)
            with self.assertRaisesRegex(RowsError, "use the class"):
                rows(policy, caller, "odd:read", other)
            found = rows(policy, caller, "odd:read", Odd)
            wrong = (
                sa.select(other).where(found),
                sa.select(other.id).join(Plot, Plot.id == other.id).where(found),
                sa.select(sa.func.count()).select_from(other).where(found),
                sa.select(Plot).where(sa.select(other.id).where(found, other.id == Plot.id).exists()),
            )
            for number, query in enumerate(wrong):
                with self.subTest(number), self.assertRaisesRegex(RowsError, "an alias of a class"):
                    self.session.execute(query)
            expected = [1] if "record" in condition else [1, 2]
            right = (
                sa.select(Odd.id).where(found),
                sa.select(Odd.id).where(Odd.id.in_(sa.select(Odd.id).where(found))),
                sa.select(other.id).where(other.id.in_(sa.select(Odd.id).where(found))),
                sa.select(other.id).where(sa.select(Odd.id).where(found, Odd.id == other.id).exists()),
                sa.select(sa.select(Odd.id).where(found).subquery().c.id),
            )
            for query in right:
                self.assertEqual(sorted(self.session.scalars(query)), expected, query)
            with self.assertRaisesRegex(RowsError, "an alias of a class"):
                self.session.execute(sa.update(Plot).where(found).values(other_id=2))
            count = self.session.scalar(sa.select(sa.func.count()).where(found))
            self.assertEqual(count, len(expected))
            self.assertEqual(self.session.execute(sa.update(Odd).where(found).values(other=2)).rowcount, len(expected))
