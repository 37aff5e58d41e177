"""What changes between two policies: each case is a policy, what is replaced in it, and all that is to be said."""

import unittest

import bloodroot
from bloodroot.checks.proving import prove
from bloodroot.comparison.changes import PolicyComparison, Side
from bloodroot.comparison.comparing import compare
from bloodroot.comparison.regions import meets, regions_of
from bloodroot.core.paths import parse_template

POLICY = """
roles
  helper    default
  grower    includes helper
  keeper    includes grower
  clerk
  reviewer
  apart     clerk, reviewer

groups
  "field-staff"  grower

permissions
  lot:read       helper, reviewer
  lot:edit       grower if own, keeper

conditions
  own            record.owner == caller.id         "Only its owner may change a lot."
  self           path.person_id == caller.id
  active         caller.status == "active"

endpoints
  GET            /                       anyone
  GET POST       /sign-in                signed-out
  GET            /lots                   lot:read
  GET            /lots/{lot_id}          lot:read
  PUT DELETE     /lots/{lot_id}          lot:edit
  GET            /people/{person_id}     clerk or self
  any            /office/**              clerk

denials
  signed-out     go /sign-in
  /office/** role hide
  any            status 403

always
  PUT /lots/**   active

fields lot
  price          read clerk
  *              read lot:read          change lot:edit
"""


def compared(*replacements: tuple[str, str], solver: object = None) -> PolicyComparison:
    text = POLICY
    for old, new in replacements:
        assert old in text, old
        text = text.replace(old, new)
    return compare(Side(bloodroot.parse(POLICY), "old"), Side(bloodroot.parse(text), "new"))


def said(result: PolicyComparison) -> set[str]:
    """Every change in a line of its own; holdings and answers of single roles included."""
    found = {
        f"{cell.method} {cell.path} {cell.role}{f' ({cell.holding})' if cell.holding else ''} {cell.change}: "
        f"{cell.old} -> {cell.new}"
        for cell in result.cells
    }
    named = (*result.fields, *result.permissions, *result.conditions)
    found |= {" ".join(filter(None, (each.verb, each.name, each.role, each.change))) for each in named}
    return found | {f"{each.kind} {each.name}: {each.old} -> {each.new}" for each in result.declared}


LOSING = """
roles
  reader
  clerk    includes keeper
  keeper
  auditor
  apart    keeper, auditor
groups
  "staff"  keeper
conditions
  own      record.owner == caller.id and record.owner.id != 3
  other    record.owner == caller.id
endpoints
  GET /a   auditor
  GET /b   reader and not keeper
  GET /c   reader if own
denials
  any      hide
"""


class WhoGains(unittest.TestCase):
    def test_losing_a_role_opens_what_others_do_not_have(self) -> None:
        for replacements, gains in (
            ((("clerk    includes keeper", "clerk"),), {("/a", "auditor with clerk"), ("/b", "reader with clerk")}),
            (
                (('"staff"  keeper', '"staff"  reader'),),
                {("/a", 'auditor with group "staff"'), ("/b", 'group "staff"')},
            ),
            ((("  apart    keeper, auditor\n", ""),), set()),
            ((("hide", "status 403"),), None),
        ):
            text = LOSING
            for old, new in replacements:
                text = text.replace(old, new)
            with self.subTest(replacements):
                found = compare(Side(bloodroot.parse(LOSING), "old"), Side(bloodroot.parse(text), "new"))
                self.assertIs(found.opens, gains is not None)
                self.assertFalse(found.same_access)
                opened = {(cell.path, cell.role) for cell in found.cells if cell.change.opens}
                self.assertLessEqual(gains or set(), opened)
                self.assertTrue(all(cell.shown is not None for cell in found.cells if cell.path != "/c"))

    def test_a_reference_beside_one_that_leads_through_it(self) -> None:
        text = LOSING.replace("if own", "if other")
        found = compare(Side(bloodroot.parse(LOSING), "old"), Side(bloodroot.parse(text), "new"), prove)
        self.assertTrue(found.opens)


class ChangesOfForm(unittest.TestCase):
    def test_no_ones_access_changes(self) -> None:
        for what, replacements in {
            "nothing": (),
            "names of parts of the path": (("{lot_id}", "{id}"), ("person_id", "member_id")),
            "the name of a condition": (("  self  ", "  oneself  "), ("clerk or self", "clerk or oneself")),
            "the order of lines": (
                ("  GET            /                       anyone\n", ""),
                ("  any            /office/**              clerk", "  any /office/** clerk\n  GET / anyone"),
            ),
            "the order of a requirement": (("clerk or self", "self or clerk"),),
            "the order of grants and roles": (
                ("helper, reviewer", "reviewer, helper"),
                ("  clerk\n  reviewer\n", "  reviewer\n  clerk\n"),
            ),
            "the other side of a comparison": (("record.owner == caller.id", "caller.id == record.owner"),),
            "what is said of roles": (("  clerk\n", '  clerk  "weighs and sends"\n'),),
            "methods on lines of their own": (
                (
                    "PUT DELETE     /lots/{lot_id}          lot:edit",
                    "PUT /lots/{x} lot:edit\n  DELETE /lots/{y} lot:edit",
                ),
            ),
            "a line beneath a wider one that says the same": (
                ("  any            /office/**              clerk", "  any /office/** clerk\n  GET /office/mail clerk"),
            ),
            "a role where an including one is asked for as well": (
                ("clerk or self", "clerk or self or clerk and helper"),
            ),
        }.items():
            with self.subTest(what):
                result = compared(*replacements)
                self.assertEqual(said(result), set())
                self.assertTrue(result.same_access)

    def test_the_time_of_the_comparison_is_no_change(self) -> None:
        # A role more, so that everything is weighed.
        texts = [
            f"roles\n  a\n{role}conditions\n  late record.until < now\npermissions\n  t:read a if late\n"
            "endpoints\n  GET /t t:read\nfields t\n  x read a if late\n"
            for role in ("", "  b\n")
        ]
        sides = [Side(bloodroot.parse(text), name) for text, name in zip(texts, ("old", "new"), strict=True)]
        self.assertEqual(said(compare(*sides)), {"role b: None -> ()"})


class Changes(unittest.TestCase):
    def check(self, replacements: tuple[tuple[str, str], ...], *expected: str) -> PolicyComparison:
        result = compared(*replacements)
        self.assertEqual(said(result), set(expected))
        self.assertFalse(result.same_access)
        return result

    def test_moments_that_stay_are_no_change(self) -> None:
        tests = (
            "now > 2026-01-01",
            "now.time >= 08:00 and now.time < 20:00",
            "record.due + 24h > now",
            "now < 2026-01-01T09:00Z",
        )
        for test in tests:
            with self.subTest(test):
                text = f"roles\n  a\n  b\nconditions\n  day {test}\nendpoints\n  GET /x a if day\n  GET /y a or b\n"
                sides = [Side(bloodroot.parse(each), "") for each in (text, text.replace("a or b", "a"))]
                self.assertEqual([(cell.path, cell.role) for cell in compare(*sides).cells], [("/y", "b")])

    def test_gained_and_lost(self) -> None:
        result = self.check(
            (("any            /office/**              clerk", "any /office/** keeper"),),
            *(
                f"any /office/** {role} {change}"
                for role, change in (("keeper", "gained: deny -> allow"), ("clerk", "lost: allow -> deny"))
            ),
        )
        self.assertTrue(result.opens)
        for cell in result.cells:
            shown = cell.shown
            assert shown is not None
            self.assertEqual((shown.old, shown.new), tuple(f"{cell.old} {cell.new}".split()))

    def test_conditions_widened_narrowed_and_different(self) -> None:
        for test, change in (
            ("record.owner == caller.id or record.open", "widened"),
            ("record.owner == caller.id and record.open", "narrowed"),
            ("record.keeper == caller.id", "different"),
        ):
            with self.subTest(change):
                result = compared(("own            record.owner == caller.id ", f"own {test} "))
                cells = {(cell.method, cell.path, cell.role): cell for cell in result.cells}
                cell = cells["PUT", "/lots/{lot_id}", "grower"]
                self.assertEqual((cell.change, cell.proved), (change, True))
                # The name stays, so that what it asks is said.
                self.assertIn("own is record.owner == caller.id", cell.old)
                self.assertIsNotNone(cell.shown)
                self.assertEqual({each.change for each in result.conditions}, {change})
                self.assertEqual({each.change for each in result.permissions}, {change})
                self.assertTrue({each.change for each in result.fields} <= {change})
                self.assertEqual(result.opens, change != "narrowed")

    def test_a_line_that_begins_to_overlap(self) -> None:
        self.check(
            (("  GET            /lots/{lot_id}", "  GET /office/{name} helper\n  GET            /lots/{lot_id}"),),
            *(
                f"GET /office/{{name}} {role} gained: deny -> allow"
                for role in ("signed-in", "helper", "grower", "keeper", "reviewer")
            ),
        )

    def test_a_standing_rule(self) -> None:
        self.check(
            (("PUT /lots/**   active", "PUT /lots/**   active\n  any /office/** active"),),
            "any /office/** clerk narrowed: allow -> if active",
            # A rule is asked before the line, so that another refusal is heard first.
            *(
                f'any /office/** {role} answer: deny, hide "There is nothing here." -> '
                'deny, status 403 "You do not have access to this."'
                for role in ("signed-in", "helper", "grower", "keeper", "reviewer")
            ),
        )

    def test_answers(self) -> None:
        result = compared(("/office/** role hide", "/office/** role status 410"))
        self.assertEqual({(cell.path, cell.change) for cell in result.cells}, {("/office/**", "answer")})
        self.assertEqual({cell.role for cell in result.cells}, {"signed-in", "helper", "grower", "keeper", "reviewer"})
        self.assertFalse(result.opens)
        # What only a record decides is found as well.
        result = compared(('"Only its owner may change a lot."', '"It is not yours."'))
        self.assertEqual(
            {(cell.method, cell.path, cell.role, cell.change) for cell in result.cells},
            {(method, "/lots/{lot_id}", "grower", "answer") for method in ("PUT", "DELETE")},
        )

    def test_a_signed_out_caller_who_is_no_longer_sent_to_sign_in(self) -> None:
        result = compared(("  GET            /lots                   lot:read\n", ""))
        cell = next(cell for cell in result.cells if cell.role == "signed-out")
        self.assertEqual(cell.change, "answer")
        self.assertTrue(cell.old.startswith("sign-in, go /sign-in") and cell.new.startswith("deny, status 403"))
        self.assertEqual([(each.method, each.path, each.new) for each in result.endpoints], [("GET", "/lots", False)])

    def test_roles_that_something_requires_together(self) -> None:
        result = compared(
            ("any            /office/**              clerk", "any /office/** clerk or grower and reviewer")
        )
        self.assertEqual(said(result), {"any /office/** grower with reviewer gained: deny -> allow"})
        # A role that excludes another one: who holds both is another kind of caller.
        result = compared(("any            /office/**              clerk", "any /office/** clerk and not grower"))
        self.assertIn("any /office/** clerk with grower lost: allow -> deny", said(result))

    def test_permissions_given_one_by_one_and_tokens_for_less(self) -> None:
        result = compared(("  GET            /lots                   lot:read\n", "  GET /lots helper or reviewer\n"))
        self.assertEqual(
            said(result),
            {
                "GET /lots signed-in (a token for no permission) gained: deny -> allow",
                "GET /lots signed-in (a token for lot:read alone, for which roles of its owner do not count) lost: "
                "allow -> deny",
            },
        )
        result = compared(("any            /office/**              clerk", "any /office/** lot:edit"))
        self.assertIn("any /office/** signed-in (granted lot:edit) gained: deny -> allow", said(result))

    def test_fields(self) -> None:
        self.check(
            (("price          read clerk", "price          read clerk or keeper    change clerk"),),
            "read lot.price keeper gained",
            "change lot.price clerk gained",
        )
        result = compared(
            ("fields lot\n  price          read clerk\n  *              read lot:read          change lot:edit\n", "")
        )
        self.assertIn("read lot.price signed-out gained", said(result))
        self.assertTrue(result.opens)

    def test_what_code_may_ask_for(self) -> None:
        for replacement, expected, opens in (
            (
                ('"field-staff"  grower', '"field-staff"  keeper'),
                "group field-staff: ('helper', 'grower') -> ('helper', 'grower', 'keeper')",
                True,
            ),
            (
                ("apart     clerk, reviewer", "apart     clerk, keeper"),
                "apart clerk and reviewer: ('clerk', 'reviewer') -> None",
                True,
            ),
            (("  clerk\n  reviewer", "  clerk\n  weigher\n  reviewer"), "role weigher: None -> ()", False),
            (
                ("lot:edit       grower", "lot:weigh      clerk\n  lot:edit       grower"),
                "permission lot:weigh: None -> ()",
                False,
            ),
        ):
            with self.subTest(expected):
                result = compared(replacement)
                self.assertIn(expected, said(result))
                self.assertFalse(result.same_access)
                self.assertEqual(result.opens, opens)

    def test_what_cannot_be_proved_is_said_to_be_so(self) -> None:
        names = "abcdefghij"
        old = " and ".join(f'record.{name} == "{name}"' for name in names)
        new = " and ".join(f'"{name}" == record.{name}' for name in reversed(names))
        texts = [f"roles\n  a\nconditions\n  c {test}\nendpoints\n  GET /x a if c\n" for test in (old, new)]
        sides = [Side(bloodroot.parse(text), name) for text, name in zip(texts, ("old", "new"), strict=True)]
        (cell,) = compare(*sides).cells
        self.assertEqual((cell.change, cell.proved, cell.shown), ("different", False, None))
        # With the solver it is proved that nothing changes.
        from bloodroot.checks.preparing import solver_if_any

        self.assertTrue(compare(*sides, solver_if_any()).same_access)


class Regions(unittest.TestCase):
    def test_what_two_templates_have_in_common(self) -> None:
        for one, other, expected in (
            ("/a/{x}", "/{y}/b", ["/a/b"]),
            ("/a/**", "/{x}", ["/a"]),
            ("/a/**", "/{x}/{y}/c", ["/a/{y}/c"]),
            ("/{x}/**", "/a/**", ["/a/**"]),
            ("/v{n}", "/{x}.json", ["/v{n}.json", "/v.json"]),
            ("/a{x}", "/{y}a", ["/a{x}a", "/aa"]),
            ("/ab{x}", "/{y}ba", ["/ab{x}ba", "/abba", "/aba"]),
            ("/a", "/b", []),
            ("/a/{x}", "/a", []),
            ("/v{n}", "/w", []),
            ("/*", "/{x}", ["/{x}"]),
        ):
            with self.subTest(one=one, other=other):
                found = [template.text for template in meets(parse_template(one), parse_template(other))]
                self.assertEqual(found, expected)

    def test_each_path_has_a_region_that_the_same_templates_match(self) -> None:
        texts = ("/a/**", "/{x}/b", "/a{x}", "/{x}a", "/a/b/c", "/*/*/{z}", "/a{x}a")
        templates = [parse_template(text) for text in texts]
        regions = regions_of(templates)
        self.assertTrue(regions.complete)
        matched = {frozenset(t.text for t in templates if t.covers(list(region.segments))) for region in regions.found}
        for path in ("a", "aa", "aba", "ab", "za", "a/b", "z/b", "a/z", "a/b/c", "a/b/z", "z/z/z", "a/b/c/d", "aa/b"):
            with self.subTest(path):
                self.assertIn(frozenset(t.text for t in templates if t.covers(path.split("/"))), matched)

    def test_too_many_to_look_at_is_said(self) -> None:
        # Each has paths in common with each: more combinations than are worth waiting for.
        templates = [
            f"/{'/'.join('b' if place == number else '{' + f'p{place}' + '}' for place in range(18))}"
            for number in range(18)
        ]
        lines = "".join(f"  GET {text} a\n" for text in templates)
        policy = bloodroot.parse(f"roles\n  a\nendpoints\n{lines}")
        result = compare(Side(policy, "old"), Side(policy, "new"))
        self.assertEqual(len(result.left_open), 1)
        self.assertFalse(result.same_access)
        self.assertTrue(result.opens)
