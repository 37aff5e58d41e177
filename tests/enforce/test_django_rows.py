"""The same promise for Django: a list shows exactly the records that a single read allows."""

import contextlib
import unittest
from typing import Any

import django.db
from django.db import models
from django.db.models import Q
from hypothesis import given

import bloodroot
from bloodroot import Caller
from bloodroot.enforce.django_rows import RowsError, check_rows, rows
from tests.django_project import project
from tests.enforce.test_rows import CALLERS, DATA, only, tests
from tests.examples import examples
from tests.postgres import new_database

Team: Any = None
Plot: Any = None


def make_models() -> None:
    """The tables of the other test as models; Django has to be set up before."""
    global Team, Plot
    if Team is not None:
        return

    class DjangoTeam(models.Model):
        site = models.CharField(max_length=20, null=True)

        class Meta:
            app_label = "tarn"

    class DjangoPlot(models.Model):
        grower_id = models.IntegerField(null=True)
        other_id = models.BigIntegerField(null=True)
        state = models.CharField(max_length=20, null=True)
        secret = models.BooleanField(null=True)
        price = models.FloatField(null=True)
        weight = models.DecimalField(max_digits=6, decimal_places=2, null=True)
        sown = models.DateTimeField(null=True)
        team = models.ForeignKey(DjangoTeam, models.CASCADE, null=True)

        class Meta:
            app_label = "tarn"

    Team, Plot = DjangoTeam, DjangoPlot


class Rows:
    """The property, whichever database it is in."""

    @classmethod
    def setUpClass(cls) -> None:
        stack = contextlib.ExitStack()
        cls.addClassCleanup(stack.close)
        stack.enter_context(project([]))
        connections = django.db.connections
        connections.settings["rows"] = {**connections.settings["default"], **cls.database()}
        stack.callback(connections.settings.pop, "rows")
        cls.connection = connections["rows"]
        stack.callback(connections.__delitem__, "rows")
        stack.callback(cls.connection.close)
        make_models()
        with cls.connection.schema_editor() as editor:
            editor.create_model(Team)
            editor.create_model(Plot)
        cls.collate()
        Team.objects.using("rows").bulk_create([Team(id=1, site="dug"), Team(id=2, site=None)])
        Plot.objects.using("rows").bulk_create([Plot(**row) for row in DATA])

    @classmethod
    def collate(cls) -> None:
        """Give the texts of the table a collation that no model tells of."""

    def hold(self, one: str, other: str) -> None:
        policy = bloodroot.parse(
            f"roles\n  grower\n  keeper\npermissions\n  plot:read grower if one, keeper if one or other, anyone if other\n"
            f"  plot:edit grower\nconditions\n  one {one}\n  other {other}\nendpoints\n  GET / anyone\n"
        )
        every = list(Plot.objects.using("rows").select_related("team").order_by("id"))
        for caller in CALLERS:
            found = (
                Plot.objects.using("rows").filter(rows(policy, caller, "plot:read", Plot, using="rows")).order_by("id")
            )
            single = [plot.id for plot in every if policy.may(caller, "plot:read", record=plot)]
            self.assertEqual([plot.id for plot in found], single, (caller, one, other))  # type: ignore[attr-defined]
        check_rows(policy, "plot:read", Plot, using="rows")


class OnSQLite(Rows, unittest.TestCase):
    @staticmethod
    def database() -> dict[str, Any]:
        return {"ENGINE": "django.db.backends.sqlite3", "NAME": ":memory:"}

    @examples(35, 1500)
    @given(tests, tests)
    def test_the_list_shows_what_a_single_read_allows(self, one: str, other: str) -> None:
        self.hold(one, other)

    def test_what_cannot_be_asked_of_a_table_is_told_at_start(self) -> None:
        for test, message in (
            ("record.grower == caller.id", "DjangoPlot has no column for record.grower"),
            ("record.team == caller.team", "DjangoPlot has no column for record.team"),
            ("record.team.sites == 1", "DjangoTeam has no column for record.team.sites"),
            ("record.grower_id.x == 1", "leads to more than one record"),
            ('record.state < "x"', "another order than Python"),
            ("record.sown == caller.sown", "columns of the type DateTimeField are not compared alike everywhere"),
            ("path.plot_id == caller.id", "path.plot_id is not about the record"),
        ):
            policy = bloodroot.parse(
                f"roles\n  grower\npermissions\n  plot:read grower if one\nconditions\n  one {test}\nendpoints\n  GET / anyone\n"
            )
            with self.subTest(test):
                with self.assertRaisesRegex(RowsError, f"plot:read cannot be asked of DjangoPlot: .*{message}"):
                    check_rows(policy, "plot:read", Plot, using="rows")
                with self.assertRaises(RowsError):
                    caller = Caller(1, {"grower"}, attributes={"x": "y", "team": 1, "sown": "x"})
                    rows(policy, caller, "plot:read", Plot, using="rows")

    def test_4_columns_that_may_differ_and_other_models(self) -> None:
        """4: a list never shows more than a single read; where that is not sure, there is no list."""
        kept = {"__module__": __name__, "Meta": type("Meta", (), {"app_label": "tarn"})}
        fields = {"notes": models.JSONField(null=True), "big": models.DecimalField(max_digits=20, decimal_places=0)}
        odd = type("DjangoOdd", (models.Model,), {**kept, **fields})
        caller = Caller(1, attributes={"big": 2**53 + 1})
        for condition, message in (
            ("record.notes != none", "may have a value that is read as none"),
            ("record.notes == none", "may have a value that is read as none"),
            ("record.big == caller.big", "SQLite keeps numbers of more than 15 digits"),
        ):
            with self.subTest(condition), self.assertRaisesRegex(RowsError, message):
                rows(only(condition), caller, "odd:read", odd, using="rows")
        for condition in ("record.id == 1", "caller.id == 1"):
            found = rows(only(condition), caller, "odd:read", odd, using="rows")
            self.assertTrue(odd.objects.filter(found).query.get_compiler("rows").as_sql()[0])
            for query in (
                lambda found=found: Plot.objects.using("rows").filter(found),
                lambda found=found: Plot.objects.using("rows").exclude(~found),
                lambda found=found: Team.objects.using("rows").filter(Q(site="dug") & found),
            ):
                with self.assertRaisesRegex(RowsError, "rows was made for DjangoOdd, and this is a query of"):
                    query()


class OnPostgreSQL(Rows, unittest.TestCase):
    @staticmethod
    def database() -> dict[str, Any]:
        from sqlalchemy import make_url

        url = make_url(new_database())
        return {
            "ENGINE": "django.db.backends.postgresql",
            "NAME": url.database,
            "HOST": url.host or url.query.get("host", ""),
            "PORT": str(url.port or url.query.get("port", "")),
            "USER": url.username or "",
        }

    @classmethod
    def collate(cls) -> None:
        with cls.connection.cursor() as cursor:
            cursor.execute(
                "create collation ignores_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
            )
            cursor.execute(f"alter table {Plot._meta.db_table} alter state type varchar(20) collate ignores_case")
            cursor.execute(f"insert into {Plot._meta.db_table} (price, weight, secret) values ('NaN', 'NaN', false)")

    @examples(20, 600)
    @given(tests, tests)
    def test_the_list_shows_what_a_single_read_allows(self, one: str, other: str) -> None:
        self.hold(one, other)
