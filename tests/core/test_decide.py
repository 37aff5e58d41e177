"""Given this policy and this caller, this is the answer."""

import sqlite3
import unittest
import uuid
from datetime import UTC, datetime
from decimal import Decimal
from types import SimpleNamespace
from uuid import UUID

import bloodroot
from bloodroot import Caller
from tests.policies import POLICY

OUT = None
NEW = Caller(id=1, attributes={"status": "active"})
GROWER = Caller(id=3, roles={"grower"}, attributes={"status": "active"})
ASLEEP = Caller(id=3, roles={"grower"}, attributes={"status": "asleep"})
KEEPER = Caller(id=4, roles={"keeper"}, attributes={"status": "active"})
CLERK = Caller(id=5, roles={"clerk"}, attributes={"status": "active"})
REVIEWER = Caller(id=6, roles={"reviewer"}, attributes={"status": "active"})
TORN = Caller(id=7, roles={"clerk", "reviewer"}, attributes={"status": "active"})
GROUPED = Caller(id=3, groups={"field-staff", "choir"}, attributes={"status": "active"})
STRANGE = Caller(id=8, roles={"Keeper", "keep", "keeper-emeritus"})


class Requests(unittest.TestCase):
    cases = (
        (OUT, "GET", "/", "allow"),
        (OUT, "HEAD", "/", "allow"),
        (OUT, "POST", "/", "deny closed"),
        (OUT, "GET", "/sign-in", "allow"),
        (NEW, "GET", "/sign-in", "deny signed-in"),
        (OUT, "POST", "/sign-out", "sign-in signed-out"),
        (OUT, "GET", "/lots", "sign-in signed-out"),
        (NEW, "GET", "/lots", "allow"),
        (NEW, "GET", "/lots/", "allow"),
        (NEW, "GET", "/lots/../lots", "deny ambiguous-path"),
        (OUT, "GET", "/lots%2f7", "deny ambiguous-path"),
        (NEW, "GET", "/lots/new", "deny role"),
        (KEEPER, "GET", "/lots/new", "allow"),
        (NEW, "GET", "/lots/7.csv", "deny role"),
        (REVIEWER, "GET", "/lots/7.csv", "allow"),
        (KEEPER, "PUT", "/lots/7", "allow"),
        (GROWER, "PUT", "/lots/7", "deny role"),
        (KEEPER, "DELETE", "/lots/7", "allow"),
        (KEEPER, "GET", "/lots/7/history", "deny role"),
        (OUT, "GET", "/lots/7/history", "deny role"),
        (GROWER, "PATCH", "/plots/7", "depends"),
        (GROUPED, "PATCH", "/plots/7", "depends"),
        (KEEPER, "PATCH", "/plots/7", "allow"),
        (NEW, "PATCH", "/plots/7", "deny role"),
        (ASLEEP, "PATCH", "/plots/7", "deny active"),
        (STRANGE, "PATCH", "/plots/7", "deny active"),
        (OUT, "PATCH", "/plots/7", "sign-in signed-out"),
        (CLERK, "POST", "/parcels", "allow"),
        (KEEPER, "POST", "/parcels", "deny role"),
        (GROWER, "POST", "/parcels/weigh", "allow"),
        (CLERK, "POST", "/parcels/weigh", "allow"),
        (NEW, "GET", "/people/1", "allow"),
        (NEW, "GET", "/people/2", "deny self"),
        (NEW, "GET", "/people/01", "deny self"),
        (NEW, "GET", "/people/x", "deny self"),
        (OUT, "GET", "/people/1", "sign-in signed-out"),
        (CLERK, "DELETE", "/people/1", "allow"),
        (CLERK, "DELETE", "/people/5", "deny condition"),
        (KEEPER, "GET", "/rota", "allow"),
        (CLERK, "GET", "/rota", "deny role"),
        (OUT, "GET", "/rota", "sign-in signed-out"),
        (STRANGE, "GET", "/lots/new", "deny role"),
        (TORN, "GET", "/", "allow"),
        (TORN, "GET", "/memos", "allow"),
        (TORN, "GET", "/lots", "deny apart"),
        (NEW, "get", "/memos", "deny method"),
    )

    def test_outcomes_and_reasons(self) -> None:
        for caller, method, path, expected in self.cases:
            with self.subTest(f"{caller} {method} {path}"):
                decision = POLICY.decide(caller, method, path)
                result = f"{decision.outcome} {decision.reason or ''}".strip()
                self.assertEqual(result, expected)
                self.assertEqual(decision.allowed, expected == "allow")

    def test_the_steps_tell_the_same_story(self) -> None:
        for caller, method, path, expected in self.cases:
            with self.subTest(f"{caller} {method} {path}"):
                verdicts = [step.verdict for step in POLICY.decide(caller, method, path).steps]
                self.assertEqual("refused" in verdicts, expected.startswith(("deny", "sign-in")))
                self.assertEqual("open" in verdicts, expected == "depends")
                self.assertNotIn("refused", verdicts[:-1], "a refusal is the last step")

    def test_answers(self) -> None:
        for caller, method, path, status, message in (
            (OUT, "GET", "/lots", 401, "Sign in to use this."),
            (NEW, "GET", "/lots/new", 403, "You do not have access to this."),
            (ASLEEP, "PATCH", "/plots/7", 403, "Your account is asleep."),
            (NEW, "GET", "/a//b", 400, "This address can be read"),
        ):
            answer = POLICY.decide(caller, method, path).answer
            self.assertIsNotNone(answer)
            self.assertEqual(answer.status, status)
            self.assertIn(message, answer.message)
        self.assertIsNone(POLICY.decide(OUT, "GET", "/").answer)

    def test_unknown_roles_are_told_in_the_steps(self) -> None:
        result = " ".join(step.text for step in POLICY.decide(STRANGE, "GET", "/lots").steps)
        self.assertIn('does not know the role "Keeper"', result)

    def test_a_method_that_is_none_is_told(self) -> None:
        self.assertIn("get is not a method", POLICY.decide(None, "get", "/lots").steps[0].text)

    def test_alternatives_that_are_open_to_anyone_together(self) -> None:
        for asks, is_open in (("signed-in or signed-out", True), ("signed-in or r", False), ("r or anyone", True)):
            policy = bloodroot.parse(f"roles\n  r\nendpoints\n  GET / {asks}\n")
            self.assertEqual(policy.endpoints[0].open_to_anyone, is_open, asks)

    def test_a_refusal_names_what_was_found(self) -> None:
        steps = POLICY.decide(GROWER, "PATCH", "/plots/7", record={"grower_id": 9}).steps
        self.assertIn("record.grower_id is 9", steps[-1].text)
        self.assertEqual(steps[-1].where, "tarn.bloodroot:40")
        steps = POLICY.decide(GROWER, "PATCH", "/plots/7", record={}).steps
        self.assertIn("own-plot is faulty", steps[-1].text)
        self.assertIn("the record has no grower_id", steps[-1].text)


def _row(grower: int) -> sqlite3.Row:
    database = sqlite3.connect(":memory:")
    database.row_factory = sqlite3.Row
    (row,) = database.execute("select ? as grower_id", (grower,))
    database.close()
    return row


class Records(unittest.TestCase):
    def test_a_record_settles_what_depended_on_it(self) -> None:
        for caller, record, expected in (
            (GROWER, {"grower_id": 3}, "allow"),
            (GROWER, SimpleNamespace(grower_id=3), "allow"),
            (GROWER, _row(3), "allow"),
            (GROWER, _row(4), "deny"),
            (GROWER, {"grower_id": 4}, "deny"),
            (GROWER, {"grower_id": "3"}, "deny"),
            (GROWER, {"grower_id": None}, "deny"),
            (GROWER, {}, "deny"),
            (GROWER, 3, "deny"),
            (Caller(roles={"grower"}, attributes={"status": "active"}), {"grower_id": None}, "deny"),
            (KEEPER, {}, "allow"),
        ):
            with self.subTest(f"{caller} {record}"):
                decision = POLICY.decide(caller, "PATCH", "/plots/7", record=record)
                self.assertEqual(decision.outcome.value, expected)

    def test_what_remains_is_told_with_the_caller_folded_in(self) -> None:
        decision = POLICY.decide(GROWER, "POST", "/plots/7/sow")
        self.assertEqual(decision.remainder.words(), "ready")
        self.assertEqual(decision.remainder.test.parts[0].test.words(), "record.grower_id == 3")

    def test_may_asks_for_a_permission_in_any_layer(self) -> None:
        for caller, permission, record, expected in (
            (GROWER, "plot:edit", {"grower_id": 3}, True),
            (GROWER, "plot:edit", {"grower_id": 4}, False),
            (GROWER, "plot:edit", None, False),
            (KEEPER, "plot:edit", None, True),
            (OUT, "lot:read", None, False),
            (OUT, "memo:read", None, True),
            (CLERK, "parcel:open", None, True),
            (TORN, "parcel:open", None, False),
        ):
            with self.subTest(f"{caller} {permission}"):
                self.assertIs(POLICY.may(caller, permission, record=record), expected)
        with self.assertRaisesRegex(LookupError, 'did you mean "plot:edit"'):
            POLICY.may(KEEPER, "plot:edt")


class Conditions(unittest.TestCase):
    """Expressions over four values, each decided by a policy of one endpoint."""

    now = datetime(2026, 3, 1, 12, tzinfo=UTC)
    record = SimpleNamespace(
        id=7, name="Fern", tags=["a", "b"], open=True, shut=False, none=None, size=1.5,
        uuid=UUID("12345678-1234-5678-1234-567812345678"), due=datetime(2026, 4, 1, tzinfo=UTC),
        naive=datetime(2026, 4, 1), owner={"id": 3, "team": {"name": "north"}}, text="a,b",
        owners={"id": 4}, gaps=[7, None], pair=(1, 7), listed=[1, 7], members={7, 8},
        decimal=Decimal("7.50"), half=7.5, tenth=0.1, exact=Decimal("0.1"),
        nan=float("nan"), quiet=Decimal("NaN"), signalling=Decimal("sNaN"),
    )  # fmt: skip
    cases = (
        ("record.id == 7", "allow"),
        ("record.id != 7", "deny"),
        ("record.id == 7.0", "allow"),
        ('record.id == "7"', "faulty"),
        ("record.id < 8 and record.id >= 7", "allow"),
        ('record.name > "Ash"', "allow"),
        ("record.name > 1", "faulty"),
        ("record.open", "allow"),
        ("not record.shut", "allow"),
        ("record.shut", "deny"),
        ("record.id", "faulty"),
        ("not record.id", "faulty"),
        ("record.open == 1", "faulty"),
        ("record.open == true", "allow"),
        ("record.gone == 1", "faulty"),
        ("not record.gone == 1", "faulty"),
        ("record.gone != 1", "faulty"),
        ("record.gone", "faulty"),
        ("record.gone == 1 or record.id == 7", "allow"),
        ("record.gone == 1 and record.id == 8", "deny"),
        ("not (record.gone == 1 and record.id == 7)", "faulty"),
        ("record.none == none", "allow"),
        ("record.id == none", "deny"),
        ("record.id != none", "allow"),
        ("record.none == record.none", "faulty"),
        ("record.none != record.none", "faulty"),
        ("record.none < 3", "faulty"),
        ("record.id in [1, 7]", "allow"),
        ("record.id not in [1, 7]", "deny"),
        ('record.id in ["7"]', "faulty"),
        ('record.id in ["7", 7]', "allow"),
        ("record.id in []", "deny"),
        ('"a" in record.tags', "allow"),
        ('"c" in record.tags', "deny"),
        ('"c" not in record.tags', "allow"),
        ('"a" in record.text', "faulty"),
        ('"a" not in record.text', "faulty"),
        ("record.owner.team.name == caller.team", "allow"),
        ("record.owner.team.gone == caller.team", "faulty"),
        ("record.owner.id == caller.id", "allow"),
        ("caller.gone == 1", "faulty"),
        ("record.due > now", "allow"),
        ("record.naive > now", "faulty"),
        ("path.x == record.id", "allow"),
        ("path.x < 8", "allow"),
        ("path.x != record.id", "deny"),
        ("path.x == 8", "deny"),
        ("path.x == 7.5", "deny"),
        ("path.x != 8", "allow"),
        ("path.x == 7.0", "allow"),
        ("query.zero == 7", "faulty"),
        ("query.zero != 7", "faulty"),
        ("not query.zero == 7", "faulty"),
        ("query.zero < 9", "faulty"),
        ("query.point != 7", "faulty"),
        ("query.word != 7", "faulty"),
        ("query.blank != 7", "faulty"),
        ("query.arabic != 7", "faulty"),
        ("query.word != record.uuid", "faulty"),
        ("query.word != record.name", "allow"),
        ('path.x == "7"', "allow"),
        ("path.x == record.name", "deny"),
        ("path.x == record.open", "faulty"),
        ("query.u == record.uuid", "allow"),
        ('query.u == "12345678-1234-5678-1234-567812345678"', "allow"),
        ("query.hex != record.uuid", "faulty"),
        ("query.many == 1", "faulty"),
        ("query.gone == 1", "faulty"),
        ("query.gone != 1", "faulty"),
        ("query.gone == none", "allow"),
        ("query.u == none", "deny"),
        ("query.u != none", "allow"),
        ("query.gone == none or query.u == record.uuid", "allow"),
        ("query.u.x == none", "faulty"),
        ("query.minus != 0", "faulty"),
        ("query.half == 7.5", "allow"),
        ("query.half != record.decimal", "deny"),
        ("query.more != 7.5", "faulty"),
        ("query.tenth != record.tenth", "faulty"),
        # A value that is none compares with the word alone.
        ("record.none == 1", "faulty"),
        ("record.none != 1", "faulty"),
        ("record.none not in [1, 2]", "faulty"),
        ("record.none in [1, none]", "allow"),
        ("none in record.gaps", "allow"),
        ("7 in record.gaps", "allow"),
        ("8 in record.gaps", "faulty"),
        ("8 not in record.gaps", "faulty"),
        ("record.none in record.gaps", "faulty"),
        # Lists compare member by member.
        ('record.tags == ["a", "b"]', "allow"),
        ('record.tags != ["a", "b"]', "deny"),
        ('record.tags == ["a"]', "deny"),
        ('record.tags != ["a", "c"]', "allow"),
        ("record.pair == [1, 7]", "allow"),
        ("record.pair == record.listed", "allow"),
        ("record.pair != record.listed", "deny"),
        ("record.pair == [true, 7]", "faulty"),
        ("record.pair != [true, 7]", "faulty"),
        ("record.pair != [2, true]", "faulty"),
        ('record.pair != "1,7"', "faulty"),
        ("record.pair < [2, 8]", "faulty"),
        ("record.open > record.shut", "faulty"),
        ("record.gaps != [7, 1]", "faulty"),
        ("record.gaps == [7, none]", "allow"),
        ("[path.x, 1] == [7, 1]", "allow"),
        ("[1, 7] in [[2], record.pair]", "allow"),
        ("record.owner != record.owners", "faulty"),
        ("record.owner == record.owner", "faulty"),
        ("record.members == record.members", "faulty"),
        ("7 in record.members", "allow"),
        ("true in record.members", "faulty"),
        # Numbers, whatever their type; not a number is none; moments with and without a zone are not compared.
        ("record.decimal == 7.5", "allow"),
        ("record.decimal == record.half", "allow"),
        ("record.tenth == 0.1", "allow"),
        ("record.exact == 0.1", "allow"),
        ("record.exact == record.tenth", "allow"),
        ("record.exact < 0.1", "deny"),
        ("record.exact > record.tenth", "deny"),
        ("record.nan == record.nan", "faulty"),
        ("record.nan != 1", "faulty"),
        ("record.nan < 1", "faulty"),
        ("record.quiet != 1", "faulty"),
        ("record.signalling != 1", "faulty"),
        ("record.nan not in [1]", "faulty"),
        ("[record.nan] != [1]", "faulty"),
        ("record.naive != now", "faulty"),
        ("record.naive == record.due", "faulty"),
        ("record.naive != record.due", "faulty"),
        ("record.naive == record.naive", "allow"),
        ("args.y == 1", "depends"),
        ("args.y == 1 or record.id == 7", "allow"),
        ("args.y == 1 and record.id == 8", "deny"),
        ("args.y == 1 and record.gone == 1", "faulty"),
        ("args.y == 1 or record.gone == 1", "depends"),
        ("true", "allow"),
        ("false", "deny"),
        ("record.id == 7 # a comment", "allow"),
    )

    def test_each_expression(self) -> None:
        caller = Caller(id=3, attributes={"team": "north"})
        query = {"u": "12345678-1234-5678-1234-567812345678", "many": ["1", "2"], "hex": "1" * 32}
        query |= {"minus": "-0", "half": "7.5", "more": "7.50", "tenth": "0.1000000000000000055"}
        query |= {"zero": "07", "point": "7.0", "word": "seven", "blank": " 7", "arabic": "\u0667"}
        for text, expected in self.cases:
            with self.subTest(text):
                policy = bloodroot.parse(f"conditions\n  test {text}\nendpoints\n  GET /a/{{x}} signed-in and test")
                decision = policy.decide(caller, "GET", "/a/7", record=self.record, query=query, now=self.now)
                if expected == "faulty":
                    self.assertEqual(decision.outcome, "deny")
                    if "args" not in text:
                        self.assertIn("test is faulty", decision.steps[-1].text)
                else:
                    self.assertEqual(decision.outcome, expected)

    def test_what_a_record_lacks_is_missing_and_what_cannot_be_read_is_raised(self) -> None:
        class Broken:
            @property
            def id(self) -> int:
                raise RuntimeError("the database has gone")

            @property
            def owner(self) -> int:
                return self.connection.owner  # an attribute of another name

            @property
            def parent(self) -> int:
                return None.parent  # an attribute of the same name, of something else

            @property
            def late(self) -> int:
                raise KeyError("late")

            def __eq__(self, other: object) -> bool:
                raise RuntimeError("nothing is like me")

            __hash__ = None

        policy = bloodroot.parse(
            "endpoints\n  GET /a anyone if record.id == 3\n  GET /b anyone if record.it == record.it\n"
            "  GET /owner anyone if record.owner == 3\n  GET /late anyone if record.late == 3\n"
            "  GET /parent anyone if record.parent == 3\n"
        )
        for path, error in (
            ("/a", RuntimeError),
            ("/owner", AttributeError),
            ("/parent", AttributeError),
            ("/late", KeyError),
        ):
            with self.subTest(path), self.assertRaises(error):
                policy.decide(None, "GET", path, record=Broken())
        connection = sqlite3.connect(":memory:")
        connection.row_factory = sqlite3.Row
        for lacking in ({}, object(), connection.execute("select 1 as other").fetchone()):
            with self.subTest(lacking):
                self.assertEqual(policy.decide(None, "GET", "/a", record=lacking).outcome, "deny")
        connection.close()
        self.assertEqual(policy.decide(None, "GET", "/b", record={"it": Broken()}).outcome, "deny")


class Callers(unittest.TestCase):
    def test_an_id_that_a_token_has_as_text(self) -> None:
        policy = bloodroot.parse(
            "conditions\n  own record.owner == caller.id\n  self path.id == caller.id\nendpoints\n"
            "  GET /a signed-in and own\n  GET /b signed-in and not own\n"
            "  GET /c/{id} signed-in and self\n  GET /d/{id} signed-in and not self\n"
        )
        number = uuid.UUID("12345678123456781234567812345678")
        for who, owner, path, same in (
            ("3", 3, "3", True),
            (3, 3, "3", True),
            ("4", 3, "3", False),
            ("03", 3, "3", None),
            ("3", 3, "03", None),
            (3, 3, "03", None),
            ("3.0", 3, "3", None),
            ("ash", "ash", "ash", True),
            ("ash", "Ash", "Ash", False),
            (str(number), number, str(number), True),
            (str(number), number, number.hex, None),
        ):
            with self.subTest(who=who, owner=owner, path=path):
                caller = Caller(who)
                if path != number.hex and path != "03":
                    for target, expected in (("/a", same is True), ("/b", same is False)):
                        self.assertEqual(
                            policy.decide(caller, "GET", target, record={"owner": owner}).allowed, expected
                        )
                for target, expected in ((f"/c/{path}", same is True), (f"/d/{path}", same is False)):
                    self.assertEqual(policy.decide(caller, "GET", target).allowed, expected, target)

    def test_a_caller_is_made_of_collections_of_names(self) -> None:
        with self.assertRaisesRegex(TypeError, "collection of names"):
            Caller(roles="keeper")
        with self.assertRaises(TypeError):
            Caller(attributes=["status"])

    def test_roles_from_strangers_do_not_fill_the_memory(self) -> None:
        for number in range(10_000):
            POLICY.decide(Caller(roles={f"role-{number}"}), "GET", "/lots")
            POLICY.decide(Caller(groups={f"group-{number}"}), "GET", "/lots")
        self.assertLess(len(POLICY.roles.held_by_roles), 5000)
        self.assertLess(len(POLICY.roles.held_by_groups), 5000)
