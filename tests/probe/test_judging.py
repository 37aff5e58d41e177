"""Verdicts, held against applications of which it is known whom they let in."""

import itertools
import logging
import random
import unittest
from types import SimpleNamespace
from typing import Any

import httpx

from bloodroot.core.answers import Answer
from bloodroot.core.decision import Outcome
from bloodroot.core.paths import parse_template
from bloodroot.probe.asked_endpoints import AskedEndpoint
from bloodroot.probe.facts import AnsweredBy, AnswerSettings, Exchanged, ResponseKind, Seen, facts_of
from bloodroot.probe.judging import is_not_served, judge
from bloodroot.probe.not_judged import only_let_in
from bloodroot.probe.plan import Case, Plan, Secret
from bloodroot.probe.verdicts import Verdict
from bloodroot.probe.watching import WatchedRequest, request
from bloodroot.probe.watching import watched as watch
from bloodroot.settings import KnownAnswer, Persona

PEOPLE = [Persona("visitor", signed_in=False), *(Persona(name) for name in ("ash", "wren", "hazel", "rowan"))]
ANSWERS = {
    "403": Answer(403, ""),
    "hidden": Answer(404, "", hidden=True),
    "home": Answer(303, "", "/home"),
    "sign-in": Answer(303, "", "/sign-in", otherwise=401),
}


def case(asked: AskedEndpoint, persona: Persona, declared: Outcome, answer: Answer | None) -> Case:
    return Case(asked, "/plots/7", "", persona, declared, answer)


def handler() -> None: ...


class Application:
    """An application that lets in whom it likes, and says so in its own way.

    Attributes:
        success: what those get who are let in.
        refusal: what signed-in callers get who are not.
        here: whether its handlers are seen.
        checked_late: whether it refuses within its handler, and not around it.
        forged: whether a check of the request refuses all that change data, before anything else.
        looks: whether it is seen when the data changes.
    """

    def __init__(self, chance: random.Random) -> None:
        self.success = chance.choice(("page", "page", "redirect", "invalid", "fails"))
        self.refusal = chance.choice(("403", "hidden", "home", "sign-in", "page"))
        self.here = chance.random() < 0.5
        self.checked_late = chance.random() < 0.5
        self.forged = chance.random() < 0.15
        self.looks = chance.random() < 0.5
        self.acts_first = chance.random() < 0.1

    def answer(self, asked: Case, let_in: bool) -> tuple[httpx.Response, WatchedRequest, bool | None]:
        watched = WatchedRequest()
        if self.forged and not asked.safe:
            return httpx.Response(403, text="no"), watched, False if self.looks else None
        if self.here:
            watched.handler = handler
            watched.reached = let_in or self.checked_late
        done = (let_in and self.success in ("page", "redirect")) or (self.acts_first and not asked.safe)
        changed = (done and not asked.safe) if self.looks else None
        if let_in:
            made = {"page": (200, ""), "redirect": (303, "/plots/7"), "invalid": (400, ""), "fails": (500, "")}
            status, location = made[self.success]
        elif not asked.persona.signed_in:
            status, location = 303, "/sign-in"
        else:
            refused = {
                "403": (403, ""),
                "hidden": (404, ""),
                "home": (303, "/home"),
                "sign-in": (303, "/sign-in"),
                "page": (200, ""),
            }
            status, location = refused[self.refusal]
        return httpx.Response(status, headers={"location": location} if location else {}, text="text"), watched, changed


class Judging(unittest.TestCase):
    def test_no_leak_is_agreed_to_and_nothing_sound_is_a_hole(self) -> None:
        chance = random.Random(7900)
        found: dict[Verdict, int] = dict.fromkeys(Verdict, 0)
        for _ in range(4000):
            application = Application(chance)
            method = chance.choice(("GET", "POST"))
            asked = AskedEndpoint(method, parse_template("/plots/{plot_id}"), object(), handler=handler)  # type: ignore[arg-type]
            declared_refusal = ANSWERS[chance.choice(("403", "hidden", "home"))]
            cases, seen, truth = [], {}, {}
            for persona in PEOPLE:
                allowed = chance.random() < 0.5
                refusal = (
                    (Outcome.SIGN_IN, ANSWERS["sign-in"]) if not persona.signed_in else (Outcome.DENY, declared_refusal)
                )
                mine = case(asked, persona, *((Outcome.ALLOW, None) if allowed else refusal))
                let_in = allowed if chance.random() < 0.8 else not allowed
                response, watched, changed = application.answer(mine, let_in)
                facts = facts_of(
                    mine, Exchanged(response, watched), AnswerSettings({"/sign-in"}, here=application.here)
                )
                seen[mine] = Seen(**{**{name: getattr(facts, name) for name in Seen.__slots__}, "changed": changed})
                cases.append(mine)
                truth[mine] = let_in and not (application.forged and method == "POST")
            for each in judge(Plan(tuple(cases), (), {}), seen):
                mine, verdict = each.case, each.verdict
                found[verdict] += 1
                what = f"{vars(application)} {method} {mine.persona.name} {mine.declared} let in: {truth[mine]}: {each}"
                if not mine.allowed and truth[mine]:
                    self.assertNotEqual(verdict, Verdict.AGREE, what)
                if not mine.allowed and not truth[mine] and verdict is Verdict.HOLE:
                    # What cannot be told from those who may, or has changed the data, is one.
                    sent = {
                        other.location for one, other in seen.items() if one.allowed and other.came is ResponseKind.SENT
                    }
                    alike = application.refusal == "page" or each.seen.location in sent
                    self.assertTrue(alike or each.seen.changed, what)
                if not mine.allowed and each.seen.changed:
                    self.assertEqual(verdict, Verdict.HOLE, what)
                if mine.allowed and not truth[mine]:
                    # A page that says no looks like any other, and so does what the handler says to all who may.
                    others = {
                        (seen[one].came, seen[one].location)
                        for one in cases
                        if one.allowed and seen[one].came in (ResponseKind.MADE, ResponseKind.SENT)
                    }
                    alike = application.refusal == "page" or len(others) == 1
                    self.assertTrue(verdict is not Verdict.AGREE or alike or each.seen.changed, what)
                if mine.allowed and truth[mine]:
                    self.assertNotIn(verdict, (Verdict.HOLE, Verdict.BLOCKED, Verdict.OTHER), what)
        self.assertTrue(all(count > 100 for count in found.values()), found)

    def test_what_each_status_means(self) -> None:
        asked = AskedEndpoint("POST", parse_template("/plots/{plot_id}"), object(), handler=handler)  # type: ignore[arg-type]
        mine = case(asked, PEOPLE[1], Outcome.DENY, ANSWERS["403"])
        taught = (
            KnownAnswer("refused", 200, "You may not"),
            KnownAnswer("done", 303, "/plots/**", parse_template("/plots/**")),
        )
        ways = AnswerSettings({"/sign-in"}, taught, True, {"/sign-in": "/desk"})
        for status, location, text, came in (
            (200, "", "", ResponseKind.MADE), (204, "", "", ResponseKind.MADE), (304, "", "", ResponseKind.MADE),
            (200, "", "You may not see this", ResponseKind.REFUSED),
            (401, "", "", ResponseKind.SIGN_IN), (302, "/sign-in?next=/x", "", ResponseKind.SIGN_IN), (302, "/sign-in/", "", ResponseKind.SIGN_IN),
            (302, "/sign-in-help", "", ResponseKind.SENT), (303, "/home", "", ResponseKind.SENT), (303, "/plots/9", "", ResponseKind.DONE),
            (403, "", "no", ResponseKind.REFUSED), (403, "", "<h1>CSRF verification failed</h1>", ResponseKind.UNPROVEN),
            (400, "", "The CSRF token is missing.", ResponseKind.UNPROVEN), (403, "", '<input name="csrf">no', ResponseKind.REFUSED),
            (404, "", "", ResponseKind.NOT_FOUND), (410, "", "", ResponseKind.NOT_FOUND), (405, "", "", ResponseKind.NOT_SERVED), (501, "", "", ResponseKind.NOT_SERVED),
            (429, "", "", ResponseKind.LIMITED), (400, "", "", ResponseKind.UNFIT), (409, "", "", ResponseKind.UNFIT), (415, "", "", ResponseKind.UNFIT), (422, "", "", ResponseKind.UNFIT),
            (500, "", "", ResponseKind.FAILED), (503, "", "", ResponseKind.FAILED),
        ):  # fmt: skip
            with self.subTest(f"{status} {location} {text}"):
                response = httpx.Response(status, headers={"location": location} if location else {}, text=text)
                self.assertEqual(facts_of(mine, Exchanged(response, WatchedRequest()), ways).came, came)

    def test_a_method_that_was_guessed_is_left_out_on_evidence_alone(self) -> None:
        asked = AskedEndpoint("PUT", parse_template("/plots/{plot_id}"), object(), guessed=True)  # type: ignore[arg-type]
        refused = case(asked, PEOPLE[1], Outcome.DENY, ANSWERS["403"])
        one, other = (case(asked, PEOPLE[number], Outcome.ALLOW, None) for number in (2, 3))
        none = Seen(ResponseKind.NOT_SERVED, status=405)
        for seen, left_out in (
            ({one: none, other: none, refused: Seen(ResponseKind.REFUSED, status=403)}, True),
            ({one: none, other: none, refused: none}, True),
            ({refused: Seen(ResponseKind.REFUSED, status=403)}, False),
            ({one: none, other: Seen(ResponseKind.FAILED, status=500)}, False),
            ({one: none, other: Seen(ResponseKind.REFUSED, status=403)}, False),
            ({one: none, other: Seen(ResponseKind.MADE, status=200)}, False),
            ({one: none, refused: Seen(ResponseKind.MADE, status=200)}, False),
            ({one: none, refused: Seen(ResponseKind.FAILED, status=500)}, False),
            ({one: none, refused: Seen(ResponseKind.REFUSED, status=403, changed=True)}, False),
        ):
            self.assertIs(is_not_served(judge(Plan(tuple(seen), (), {}), seen)), left_out, seen)

    def test_a_missing_record_is_no_refusal_by_policy(self) -> None:
        log, watched = logging.getLogger("bloodroot.audit"), WatchedRequest()
        token = request.set(watched)
        try:
            with watch(None):
                for outcome in ("allow", "missing", "deny"):
                    log.info("a decision", extra={"outcome": outcome, "reason": None})
        finally:
            request.reset(token)
        self.assertEqual(watched.refusals, [("deny", None)])

    def test_what_is_noted_is_in_the_order_of_the_plan_whichever_answer_comes_first(self) -> None:
        pages = [AskedEndpoint("GET", parse_template(f"/plots/{name}"), object()) for name in "abc"]  # type: ignore[arg-type]
        cases = [case(page, PEOPLE[1], Outcome.ALLOW, None) for page in pages]
        plan = Plan(tuple(cases), (), {PEOPLE[1].name: (Secret("mark", ""),)})
        settings: Any = SimpleNamespace(probe=SimpleNamespace(sign_ins=()))
        for order in itertools.permutations(cases):
            (note,) = only_let_in(plan, dict.fromkeys(order, Seen(ResponseKind.MADE)), settings)
            self.assertIn("GET /plots/a, GET /plots/b, GET /plots/c", note)

    def test_nothing_of_a_response_reaches_a_terminal_as_a_command(self) -> None:
        asked = AskedEndpoint("POST", parse_template("/plots/{plot_id}"), object())  # type: ignore[arg-type]
        mine = case(asked, PEOPLE[1], Outcome.DENY, ANSWERS["403"])
        watched = WatchedRequest()
        watched.failed(ValueError("\x1b[2J"))
        response = httpx.Response(303, headers=[(b"location", b"/a\x1b[31m")])
        seen = facts_of(mine, Exchanged(response, watched), AnswerSettings())
        self.assertEqual((seen.location, seen.note), ("/a?[31m", "ValueError: ?[2J"))

    def test_a_refusal_of_the_request_is_none_of_the_caller(self) -> None:
        asked = AskedEndpoint("POST", parse_template("/plots/{plot_id}"), object())  # type: ignore[arg-type]
        refused = case(asked, PEOPLE[1], Outcome.DENY, ANSWERS["403"])
        allowed = case(asked, PEOPLE[3], Outcome.ALLOW, None)
        for others, sent, wanted in (
            ({}, Seen(ResponseKind.REFUSED, status=403), Verdict.INCONCLUSIVE),
            ({}, Seen(ResponseKind.REFUSED, AnsweredBy.ROUTE, 403), Verdict.INCONCLUSIVE),
            ({}, Seen(ResponseKind.REFUSED, AnsweredBy.POLICY, 403), Verdict.AGREE),
            ({}, Seen(ResponseKind.REFUSED, status=403, by_token=True), Verdict.AGREE),
            (
                {allowed: Seen(ResponseKind.REFUSED, status=403)},
                Seen(ResponseKind.REFUSED, status=403),
                Verdict.INCONCLUSIVE,
            ),
            (
                {allowed: Seen(ResponseKind.FAILED, status=500)},
                Seen(ResponseKind.REFUSED, status=403),
                Verdict.INCONCLUSIVE,
            ),
            ({allowed: Seen(ResponseKind.MADE, status=200)}, Seen(ResponseKind.REFUSED, status=403), Verdict.AGREE),
            (
                {allowed: Seen(ResponseKind.MADE, AnsweredBy.BEFORE, 200)},
                Seen(ResponseKind.REFUSED, status=403),
                Verdict.INCONCLUSIVE,
            ),
        ):
            cases = (refused, *others)
            verdicts = {each.case: each.verdict for each in judge(Plan(cases, (), {}), {refused: sent, **others})}
            self.assertEqual(verdicts[refused], wanted, (others, sent))
