"""Moments: dates, times and durations, in the zone of the policy."""

import datetime as dt
import unittest
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.language.printer import tidy

HEAD = 'policy "X" zone "Europe/Berlin"\nroles\n  a\nconditions\n  c {}\nendpoints\n  GET / a if c\n'
CALLER = Caller(1, {"a"})
NOON = dt.datetime(2026, 11, 30, 11, 0, tzinfo=dt.UTC)  # a Monday, 12:00 in Berlin
SUMMER = dt.datetime(2026, 7, 1, 10, 0, tzinfo=dt.UTC)  # 12:00 in Berlin
YES, NO, FAULTY = True, False, None
# the condition, the record's value, the time, and what comes of it
CASES: list[tuple[str, Any, dt.datetime, bool | None]] = [
    ("now < 2026-12-01", None, NOON, YES),
    ("now >= 2026-11-30", None, NOON, YES),
    ("now == 2026-11-30T12:00", None, NOON, YES),
    ("now == 2026-11-30T11:00Z", None, NOON, YES),
    ("now == 2026-07-01T12:00", None, SUMMER, YES),
    ("now < 2026-12-01", None, dt.datetime(2026, 11, 30, 22, 59, tzinfo=dt.UTC), YES),
    ("now < 2026-12-01", None, dt.datetime(2026, 11, 30, 23, 0, tzinfo=dt.UTC), NO),
    ("now.time == 12:00", None, NOON, YES),
    ("now.time >= 09:00 and now.time < 11:59:59", None, NOON, NO),
    ('now.weekday == "monday"', None, NOON, YES),
    ('now.weekday in ["saturday", "sunday"]', None, NOON, NO),
    ('now.weekday == "tuesday"', None, dt.datetime(2026, 11, 30, 23, 30, tzinfo=dt.UTC), YES),
    ("record.due + 24h > now", "2026-11-29T12:00:00Z", NOON, YES),
    ("record.due + 24h > now", "2026-11-29T11:30:00+01:00", NOON, NO),
    ("record.due + 24h > now", "2026-11-29T12:30", NOON, YES),
    ("record.due + 1d > now", dt.date(2026, 11, 30), NOON, YES),
    ("record.due + 1d > now", dt.date(2026, 11, 29), NOON, NO),
    ("record.due > now - 2h", dt.datetime(2026, 11, 30, 10, 0, tzinfo=dt.UTC), NOON, YES),
    ("record.due > now", dt.datetime(2026, 12, 30, 10, 0), NOON, FAULTY),
    ("record.due + 1h > now", dt.datetime(2026, 12, 30, 10, 0), NOON, FAULTY),
    ("record.due + 1h > now", "soon", NOON, FAULTY),
    ("record.due + 1h > now", 5, NOON, FAULTY),
    ("record.due + 36500d > now", dt.datetime(9999, 1, 1, tzinfo=dt.UTC), NOON, FAULTY),
    ("not record.due + 1h > now", "soon", NOON, FAULTY),
    ("record.due == 2026-12-01", "2026-12-01", NOON, YES),
    ("record.due == 2026-12-01", "2026-11-30T23:00:00Z", NOON, YES),
    ("record.due == 2026-12-01T10:00Z", "2026-12-01T11:00", NOON, YES),
    ("record.due != 2026-12-01", "2026-12-02", NOON, YES),
    ("record.due in [2026-12-01, 2026-12-24]", dt.date(2026, 12, 24), NOON, YES),
    ("record.due < 2026-12-01", "2026-13-01", NOON, FAULTY),
    ("record.due < 2026-12-01", "20261101", NOON, FAULTY),
    ("record.due < 09:30", dt.time(9, 0), NOON, YES),
    ("record.due < 09:30", "09:00", NOON, FAULTY),
    ("record.due < now", True, NOON, FAULTY),
    ("record.absent? == none", 1, NOON, YES),
    ("record.absent? < now", 1, NOON, FAULTY),
]


class Moments(unittest.TestCase):
    def test_each(self) -> None:
        for text, value, now, expected in CASES:
            with self.subTest(text, value=value, now=now):
                policy = bloodroot.parse(HEAD.format(text))
                record = {"due": value} if value is not None else {}
                decision = policy.decide(CALLER, "GET", "/", record=record, now=now)
                self.assertEqual(decision.allowed, expected is YES)
                # The same by folding, which writes the steps.
                words = decision.steps[-1].text
                self.assertEqual("c is faulty" in words, expected is FAULTY, words)
                negated = bloodroot.parse(HEAD.format(f"not ({text})"))
                self.assertEqual(negated.decide(CALLER, "GET", "/", record=record, now=now).allowed, expected is NO)
                self.assertEqual(tidy(tidy(HEAD.format(text))), tidy(HEAD.format(text)))

    def test_mistakes(self) -> None:
        for text, message in (
            ("now < 2027-13-01", "there is no 2027-13-01"),
            ("now.time < 25:00", "there is no 25:00"),
            ("now.tme < 09:00", 'did you mean "time"'),
            ("now + 5 < now", "expected a duration such as 30m, 24h or 7d"),
            ("now.time + 5m < 09:00", "only to a moment a duration can be added"),
            ("now < now + 99999999999d", "is longer than a hundred years"),
            ("2027-01-01", "a value alone is not a condition"),
        ):
            with self.subTest(text), self.assertRaisesRegex(bloodroot.PolicyError, message):
                bloodroot.parse(HEAD.format(text))
        with self.assertRaisesRegex(bloodroot.PolicyError, 'there is no zone "Mars/Base"'):
            bloodroot.parse(HEAD.format("now < 2027-01-01").replace("Europe/Berlin", "Mars/Base"))

    def test_without_a_zone_it_is_utc(self) -> None:
        policy = bloodroot.parse(HEAD.replace(' zone "Europe/Berlin"', "").format("now.time == 11:00"))
        self.assertTrue(policy.decide(CALLER, "GET", "/", now=NOON).allowed)


if __name__ == "__main__":
    unittest.main()
