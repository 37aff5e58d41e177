"""Denials, fields, scopes, guarded lines and lines that name actions."""

import io
import unittest
from dataclasses import dataclass
from datetime import UTC, datetime

from rich.console import Console

import bloodroot
from bloodroot import Caller, FieldsRefused, PolicyError, Route
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.report.registry import Format, write
from bloodroot.report.results import MatrixResult

BASE = """
roles
  helper   default
  keeper   includes helper
  clerk
conditions
  own      record.by == caller.id     "It is not yours."
  awake    caller.status == "awake"
permissions
  lot:read      helper
  lot:edit      keeper, helper if own
  parcel:*      clerk
"""


class Answers(unittest.TestCase):
    policy = bloodroot.parse(
        BASE
        + """
endpoints
  GET        /                 anyone
  GET        /in               signed-out
  GET        /desk             signed-in
  GET POST   /lots/{lot_id}    lot:edit
  GET POST   /office/{room}    keeper
  GET        /dreams           awake
  GET        /mine/{x}         own if awake
  GET        /api/lots         keeper
denials
  signed-out               go /in
  /api/**     signed-out   status 401 "Bring a token."
  /api/**     any          status 418
  signed-in                go /desk
  POST        role         status 409 "Not now."
  GET /office/{room}  role status 410
  /office/**  any          hide
  /office/*   role         status 411
  own                      status 423
  closed                   status 404 "There is nothing here."
  awake                    status 423 "Wake up first."
  any                      status 403 "No."
""",
        "t",
    )
    cases = (
        (None, "GET", "/desk", 303, "Sign in to use this.", "/in"),
        (None, "POST", "/lots/7", 303, "Sign in to use this.", "/in"),
        (None, "GET", "/api/lots", 401, "Bring a token.", None),
        (Caller(1), "GET", "/api/lots", 418, "You do not have access to this.", None),
        (Caller(1), "GET", "/in", 303, "This is only for people who are not signed in.", "/desk"),
        (Caller(1), "GET", "/office/3", 410, "You do not have access to this.", None),
        (Caller(1), "HEAD", "/office/3", 410, "You do not have access to this.", None),
        (Caller(1), "POST", "/office/3", 411, "You do not have access to this.", None),
        (Caller(1), "GET", "/office/3/x", 404, "There is nothing here.", None),
        (Caller(1, attributes={"status": "x"}), "GET", "/dreams", 423, "Wake up first.", None),
        (Caller(1), "GET", "/nowhere", 404, "There is nothing here.", None),
        (Caller(1), "DELETE", "/lots/7", 404, "There is nothing here.", None),
        (Caller(1), "GET", "/a//b", 400, "This address can be read in more than one way.", None),
    )

    def test_the_most_specific_denial_answers(self) -> None:
        for caller, method, path, status, message, location in self.cases:
            with self.subTest(f"{method} {path} as {caller}"):
                answer = self.policy.decide(caller, method, path).answer
                self.assertEqual((answer.status, answer.location), (status, location))
                self.assertTrue(answer.message.startswith(message), answer.message)

    def test_a_condition_has_its_own_message_unless_the_denial_has_one(self) -> None:
        answer = self.policy.decide(Caller(1), "GET", "/lots/7", record={"by": 2}).answer
        self.assertEqual((answer.status, answer.message, answer.place.at), (423, "It is not yours.", "t:32"))

    def test_a_text_for_any_reason_does_not_drown_out_a_condition(self) -> None:
        policy = bloodroot.parse(BASE + 'endpoints\n  GET /a own\n  GET /b awake\ndenials\n  any status 409 "No."\n')
        caller = Caller(1, attributes={"status": "x"})
        answers = [policy.decide(caller, "GET", path, record={"by": 2}).answer for path in ("/a", "/b")]
        self.assertEqual([(each.status, each.message) for each in answers], [(409, "It is not yours."), (409, "No.")])

    def test_hidden_is_told_apart_inside_and_not_outside(self) -> None:
        self.assertTrue(self.policy.decide(Caller(1), "GET", "/office/3/x").answer.hidden)


class Fields(unittest.TestCase):
    policy = bloodroot.parse(
        BASE
        + """
endpoints
  GET  /  anyone
fields lot
  place   read keeper or own   change keeper
  donor   read clerk
  note                         change helper
  *       read lot:read        change lot:edit
fields parcel
  weight  read anyone
"""
    )

    @dataclass(frozen=True)
    class Lot:
        id: int
        place: str
        donor: str
        note: str
        by: int

    def test_who_reads_what(self) -> None:
        lot = self.Lot(7, "a wood", "Ash", "dry", 1)
        for caller, kind, record, names in (
            (None, "lot", lot, set()),
            (Caller(2), "lot", lot, {"id", "by"}),
            (Caller(1), "lot", lot, {"id", "by", "place"}),
            (Caller(2), "lot", {"place": 1, "by": 2}, {"place", "by"}),
            (Caller(2), "lot", {"place": 1}, set()),
            (Caller(2, {"keeper"}), "lot", lot, {"id", "by", "place"}),
            (Caller(2, {"clerk"}), "lot", lot, {"id", "by", "donor"}),
            (Caller(2, {"keeper", "clerk"}), "lot", None, {"place", "donor"}),
            (None, "parcel", {"weight": 3, "to": "Ash"}, {"weight"}),
            (None, "memo", {"a": 1, "b": 2}, {"a", "b"}),
        ):
            with self.subTest(f"{caller} {kind} {record}"):
                self.assertEqual(self.policy.readable(caller, kind, record), names)

    def test_every_field_that_may_not_be_changed_is_named(self) -> None:
        lot = self.Lot(7, "a wood", "Ash", "dry", 1)
        self.policy.changeable(Caller(1), "lot", {"note": "wet", "id": 8}, lot)
        for caller, changes, refused in (
            (Caller(1), {"note": 1, "place": 1, "donor": 1}, ("place", "donor")),
            (Caller(2), ["id", "note"], ("id",)),
            (Caller(2, {"keeper"}), ["id", "place", "donor"], ("donor",)),
            (None, ["note"], ("note",)),
        ):
            with self.assertRaises(FieldsRefused) as caught:
                self.policy.changeable(caller, "lot", changes, lot)
            self.assertEqual(caught.exception.fields, refused)

    def test_a_kind_with_a_slip_in_its_name_opens_nothing(self) -> None:
        with self.assertRaisesRegex(LookupError, 'did you mean "lot"'):
            self.policy.readable(Caller(1), "lots", {"place": 1})

    def test_flags(self) -> None:
        flags = self.policy.flags(Caller(1), ["lot:read", "lot:edit", "parcel:send"], record={"by": 1})
        self.assertEqual(flags, {"lot:read": True, "lot:edit": True, "parcel:send": False})


class BoundRedirects(unittest.TestCase):
    def test_circles_that_only_the_routes_close_are_found(self) -> None:
        text = BASE + "endpoints\n  action enter keeper\ndenials\n  signed-out go /in\n"
        policy = bloodroot.parse(text)
        with self.assertRaisesRegex(PolicyError, "goes in a circle when nobody is signed in: /in → /in"):
            policy.bind([Route("enter", ("GET",), "/in")])
        with self.assertRaisesRegex(PolicyError, "leads to /in, which no line covers"):
            policy.bind([Route("enter", ("GET",), "/elsewhere")])


class Scopes(unittest.TestCase):
    def test_they_take_away_and_never_add(self) -> None:
        policy = bloodroot.parse(BASE + "endpoints\n  GET /a lot:read\n  GET /b parcel:send\n  GET /c clerk\n")
        for roles, scopes, opened in (
            ({"clerk"}, None, "abc"),
            ({"clerk"}, [], "c"),
            ({"clerk"}, ["lot:read"], "ac"),
            ({"clerk"}, ["parcel:*"], "bc"),
            ({"clerk"}, ["parcel:send", "lot:edit"], "bc"),
            (set(), ["parcel:send", "lot:read"], "a"),
        ):
            caller = Caller(1, roles, scopes=scopes)
            self.assertEqual("".join(p for p in "abc" if policy.decide(caller, "GET", f"/{p}").allowed), opened)
            self.assertEqual(policy.may(caller, "parcel:send"), "b" in opened)

    def test_a_token_for_less_gets_nowhere_its_owner_does_not(self) -> None:
        policy = bloodroot.parse(
            BASE + "endpoints\n  GET /a not parcel:send\n  GET /b signed-in and not (parcel:send or own)\n"
        )
        for scopes in (None, [], ["lot:read"]):
            for path in ("/a", "/b"):
                self.assertFalse(
                    policy.decide(Caller(1, {"clerk"}, scopes=scopes), "GET", path, record={"by": 2}).allowed
                )


class Apart(unittest.TestCase):
    def test_who_holds_both_gets_what_is_open_to_anyone_and_nothing_else(self) -> None:
        policy = bloodroot.parse(
            BASE.replace("  clerk\n", "  clerk\n  judge\n  apart clerk, judge\n", 1)
            + "endpoints\n  GET /a anyone\n  GET /b awake\n  GET /c signed-in\n  GET /d not helper\n  GET /e signed-out\n"
            "  GET /f anyone if record.open\n"
        )
        both = Caller(1, {"clerk", "judge"}, attributes={"status": "awake"})
        opened = [p for p in "abcdef" if policy.decide(both, "GET", f"/{p}", record={"open": True, "by": 1}).allowed]
        self.assertEqual(opened, ["a", "f"])
        for path in ("/b", "/c", "/d", "/e", "/nowhere"):
            self.assertEqual(policy.decide(both, "GET", path).reason, "apart")
        self.assertFalse(policy.may(both, "lot:read"))


class Reasons(unittest.TestCase):
    def test_a_condition_about_time_is_not_taken_for_a_page_of_visitors(self) -> None:
        policy = bloodroot.parse("conditions\n  soon record.due > now\nendpoints\n  GET /a anyone if soon\n")
        record = {"due": datetime(2026, 1, 1, tzinfo=UTC)}
        now = datetime(2026, 2, 1, tzinfo=UTC)
        self.assertEqual(policy.decide(Caller(1), "GET", "/a", record=record, now=now).reason, "soon")
        self.assertEqual(policy.decide(None, "GET", "/a", record=record, now=now).reason, "soon")


class GuardedLines(unittest.TestCase):
    def test_they_depend_until_a_guard_has_passed(self) -> None:
        policy = bloodroot.parse(BASE + "endpoints\n  GET /a guarded\n  GET /b keeper and guarded\n")
        self.assertEqual(policy.decide(None, "GET", "/a").outcome, "depends")
        self.assertEqual(policy.decide(None, "GET", "/a").remainder.words(), "guarded")
        self.assertTrue(policy.decide(None, "GET", "/a", guarded=True).allowed)
        self.assertEqual(policy.decide(Caller(1), "GET", "/b", guarded=True).reason, "role")
        cells = [cell.words() for cell in matrix_of_roles(policy).cells(matrix_of_roles(policy).rows[1])]
        self.assertEqual(cells, ["sign-in", "deny", "deny", "deny", "if guarded"])


class Actions(unittest.TestCase):
    TEXT = BASE + "endpoints\n  any /lots/** keeper\n  GET /lots/new keeper\n  action lots.show, lots.send lot:read\n"
    ROUTES = (
        Route("lots.show", ("GET",), "/lots/{id}"),
        Route("lots.new", ("GET",), "/lots/new"),
        Route("lots.send", ("POST",), "/lots/{id}/send"),
        Route("odd", ("GET",), "/odd?x"),
    )

    def test_a_bound_action_beats_path_lines_on_its_own_route_alone(self) -> None:
        policy = bloodroot.parse(self.TEXT, "t").bind(self.ROUTES)
        for method, path, allowed in (
            ("GET", "/lots/7", True),
            ("HEAD", "/lots/7", True),
            ("POST", "/lots/7/send", True),
            ("GET", "/lots/new", False),
            ("POST", "/lots/7", False),
            ("GET", "/lots/7/send", False),
        ):
            with self.subTest(f"{method} {path}"):
                self.assertEqual(policy.decide(Caller(1), method, path).allowed, allowed)
        self.assertEqual(policy.lookup.for_request("GET", "/lots/7").place.at, "t:16")
        rows = [(row.method, row.path) for row in matrix_of_roles(policy).rows]
        self.assertIn(("POST", "/lots/{id}/send"), rows)
        self.assertEqual(policy.unbound, ())

    def test_until_it_is_bound_nothing_is_open(self) -> None:
        policy = bloodroot.parse(self.TEXT, "t")
        self.assertFalse(policy.decide(Caller(1), "GET", "/lots/7").allowed)
        self.assertEqual([action.name for action in policy.unbound], ["lots.show", "lots.send"])

    def test_a_route_decides_by_itself_and_not_by_what_resembles_it(self) -> None:
        """What a framework serves has the line of its action, or path lines; templates that look alike do not count."""
        two_names = Route("lots.pair", ("GET",), "/lots/{a}-{b}")
        routes = (two_names, *self.ROUTES)
        policy = bloodroot.parse(self.TEXT, "t").bind(routes)
        # Resembling: the first of two routes, as in most routers.
        self.assertFalse(policy.decide(Caller(1), "GET", "/lots/7").allowed)
        for route, method, path, place in (
            (self.ROUTES[0], "GET", "lots/7", "t:16"),
            (two_names, "GET", "lots/7-8", "t:14"),
            (Route("lots.show", ("GET",), "/elsewhere/{id:x}"), "GET", "elsewhere/7", None),  # it was not bound
            (Route("lots.show", ("GET",), "/elsewhere"), "POST", "elsewhere", None),
        ):
            line = policy.lookup.binding(route).line_for(method, path.split("/"))
            with self.subTest(route.path):
                self.assertEqual(line.place.at if line else None, place)

    def test_the_matrix_says_where_a_path_is_not_the_routes_own(self) -> None:
        text = "roles\n  keeper\nendpoints\n  GET /lots keeper\n  action years keeper\n"
        routes = [Route("lots", ("GET",), "/lots"), Route("years", ("GET",), "/years/**", exact=False)]
        policy = bloodroot.parse(text).bind(routes)
        console = Console(width=100, file=io.TextIOWrapper(io.BytesIO(), "utf-8"))
        shown = write(MatrixResult(policy, matrix_of_roles(policy)), Format.TABLE, console)
        self.assertRegex(shown, r"GET /years/\*\* ~ ")
        self.assertRegex(shown, r"GET /lots  ")
        self.assertIn("~ about: the application's path cannot be written in a policy", shown)

    def test_what_cannot_be_bound(self) -> None:
        for routes, message in (
            (self.ROUTES[:2], 'unknown action "lots.send"; did you mean "lots.'),
            ((), "it serves none of the application's routes"),
            ((*self.ROUTES, Route("lots.send", (), "/lots/new")), "for which t:15 has a line"),
        ):
            with self.subTest(message):
                with self.assertRaises(PolicyError) as caught:
                    bloodroot.parse(self.TEXT, "t").bind(routes)
                self.assertIn(message, str(caught.exception))
