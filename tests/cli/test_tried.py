"""bloodroot tried: what counts for a cell, and what does not."""

from __future__ import annotations

import json
import unittest

from tests.program import InFolder

POLICY = """
    roles
      helper
    conditions
      own     record.owner == caller.id
      active  caller.active
    endpoints
      GET   /lots/{id}  helper if own
      any   /desk       helper
      GET   /others     helper if not own
    always
      any  /**  active or signed-out
"""


class Tried(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)

    def lacking(self, *entries: dict[str, object], status: int = 0, more: str = "") -> set[tuple[str, str]]:
        """What of the cells of a helper was not tried."""
        roles = {"caller": "1", "roles": ["helper"], "groups": []}
        lines = [json.dumps({**roles, "outcome": "allow", "reason": None, **entry}) for entry in entries]
        (self.folder / "audit.jsonl").write_text("\n".join(lines) + "\n" + more)
        found = json.loads(self.ran("tried", "audit.jsonl", "--format", "json", status=status))
        return {(each["template"], each["side"] or "") for each in found["lacking"] if each["column"] == "helper"}

    def test_a_refusal_counts_for_what_it_is_about(self) -> None:
        lots, other = {"method": "GET", "path": "/lots/1"}, ("/others", "")
        get, post = {"method": "GET", "path": "/desk"}, {"method": "POST", "path": "/desk"}
        refused = {"outcome": "deny", "reason": "own"}
        self.assertEqual(self.lacking(lots, {**lots, **refused}, get, post), {other})
        for entries, lacking in (
            # A standing rule has refused: the condition of the line was never seen to fail.
            ((lots, {**lots, **refused, "reason": "active"}, get, post), ("/lots/{id}", "where own fails")),
            (({**lots, **refused}, get, post), ("/lots/{id}", "where own holds")),
            # One method does not stand for any method.
            ((lots, {**lots, **refused}, get), ("/desk", "with a method that changes")),
            ((lots, {**lots, **refused}, post), ("/desk", "with a method that reads")),
            ((lots, {**lots, **refused}, {**get, "outcome": "deny"}), ("/desk", "only ever refused")),
        ):
            with self.subTest(lacking):
                self.assertIn(lacking, self.lacking(*entries))

    def test_what_was_only_reported(self) -> None:
        refused = {"outcome": "deny", "reason": "own", "enforced": False, "method": "GET", "path": "/lots/1"}
        times = [{**refused, "time": f"2026-11-0{day}T10:00:00.000+00:00", "caller": str(day)} for day in (3, 1, 2)]
        out = {"caller": None, "roles": None, "outcome": "sign-in", "reason": "signed-out", "enforced": False}
        entries = (*times, {**out, "method": "GET", "path": "/desk", "time": "2026-11-02T09:00:00.000+00:00"})
        allowed = {"method": "GET", "path": "/lots/1", "enforced": False}
        # A request that was let through is no refusal that was tried.
        self.assertIn(("/lots/{id}", "where own fails"), self.lacking(*entries, allowed))
        found = json.loads(self.ran("tried", "audit.jsonl", "--format", "json"))["reported"]
        (first, second) = found
        self.assertEqual(
            [first[key] for key in ("template", "who", "count", "callers")], ["/lots/{id}", "helper", 3, 3]
        )
        self.assertEqual((first["first"][:10], first["last"][:10]), ("2026-11-01", "2026-11-03"))
        self.assertEqual((second["who"], second["outcome"], second["reason"]), ("signed-out", "sign-in", "signed-out"))
        text = self.ran("tried", "audit.jsonl")
        self.assertIn("4 requests would have been refused, where the policy is only reported", text)
        self.assertRegex(
            text, r"GET /lots/\{id\} as helper: deny \(own\), 3 ×, 3 callers +2026-11-01T10:00:00 to 2026-11-03"
        )

    def test_what_a_probe_knew_of_its_record(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["helper"]\n')
        line = {"endpoint": "GET /lots/{id}", "verdict": "agree", "status": 200}
        for known, lacks in (
            ({"own": False, "active": True}, False),
            # Both fail: which of them refused is not known.
            ({"own": False, "active": False}, True),
            ({"own": True, "active": False}, True),
            ({}, True),
        ):
            lines = [
                {**line, "judged": ["GET", "/lots/1", "ash", "", ""], "let_in": True, "outcome": "allow", "known": {}},
                {
                    **line,
                    "judged": ["GET", "/lots/2", "ash", "", ""],
                    "let_in": False,
                    "outcome": "deny",
                    "known": known,
                },
            ]
            with self.subTest(known):
                found = self.lacking({"method": "GET", "path": "/desk"}, more="\n".join(map(json.dumps, lines)))
                self.assertIs(("/lots/{id}", "where own fails") in found, lacks)

    def test_one_who_was_let_in_wrongly_counts_for_nothing(self) -> None:
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n[personas.ash]\nroles = ["helper"]\n')
        line = {"endpoint": "GET /lots/{id}", "verdict": "hole", "status": 200, "let_in": True, "outcome": "allow"}
        line |= {"judged": ["GET", "/lots/2", "ash", "", ""], "known": {"own": False}}
        found = self.lacking({"method": "GET", "path": "/desk"}, more=json.dumps(line))
        self.assertIn(("/lots/{id}", ""), found)

    def test_patterns_and_lines_that_say_nothing(self) -> None:
        read = {"method": "GET", "path": "/desk"}
        self.lacking(read)
        for pattern, message in (
            ("delete /desk", '--fail "delete /desk": there is no such endpoint'),
            ("get /lots*", '--fail "get /lots*": there is no such endpoint; write "GET /lots*"'),
            ("/dsek", '--fail "/dsek": there is no such endpoint; did you mean "/desk"?'),
        ):
            run = self.bloodroot("tried", "audit.jsonl", "--fail", pattern)
            self.assertEqual((run.status, run.out), (2, ""))
            self.assertIn(message, run.err)
        self.ran("tried", "audit.jsonl", "--fail", "/desk", status=1)
        # Half a line, and one of another kind: what they had is not known.
        self.lacking(read, status=3, more='{"caller": "1", "rol\n{"level": "info"}\n')
        self.assertIn("2 lines of the logs could not be read", self.ran("tried", "audit.jsonl", status=3))
        self.ran("tried", "audit.jsonl", "--allow-unjudged")

    def test_the_log_of_one_run(self) -> None:
        entry = {"caller": "1", "roles": ["helper"], "groups": [], "outcome": "allow", "method": "GET", "path": "/desk"}
        for name, first in (("tests", '{"run": "a"}'), ("tests-7", '{"run": "a"}'), ("tests-old", '{"x": 1}')):
            (self.folder / f"{name}.jsonl").write_text(f"{first}\n{json.dumps(entry)}\n")
        # Beside it: another process of the run, and a file that happens to be called so.
        self.assertIn("by 2 decisions", self.ran("tried", "tests.jsonl"))
        (self.folder / "tests.jsonl").unlink()
        self.assertIn("by 1 decision ", self.ran("tried", "tests.jsonl"))


if __name__ == "__main__":
    unittest.main()
