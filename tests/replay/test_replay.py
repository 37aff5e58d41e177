"""Recorded requests decided once more: held to decisions with all facts, in parts, from every kind of log."""

import gzip
import json
import os
import random
import re
import signal
import subprocess
import tempfile
import threading
import unittest
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import distributed
import fsspec
from hypothesis import given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from bloodroot.language.parser import parse as parse_tree
from bloodroot.replay.cluster import counted_by
from bloodroot.replay.counted import Counted, Redecided, together
from bloodroot.replay.partitions import Recipe, count_part, counted_here
from bloodroot.replay.recorded import Reader
from bloodroot.replay.replaying import replay
from bloodroot.survey.log_lines import Part, parts_of
from tests.core.random_policies import ROLES, policies, written
from tests.examples import examples
from tests.program import InFolder

PATHS = ["/", "/a", "/a/b", "/a/1", "/a/b/c", "/a/1/d", "/b/x.csv", "/b/7", "/b/7/8", "/c/1/2", "/nowhere", "//a"]
METHODS = ["GET", "POST", "HEAD", "DELETE"]
SIGNED_OUT = None


def recipe(text: str) -> Recipe:
    return Recipe("/tmp/access.bloodroot", "/tmp", {"/tmp/access.bloodroot": text}, "/tmp")


def audited(caller: Caller | None, method: str, path: str, outcome: str, second: int = 0, **more: Any) -> str:
    """A line as an audit log has it."""
    held: dict[str, Any] = {"caller": None, "actor": None, "roles": None, "groups": None, "scopes": None}
    if caller is not None:
        held |= {"caller": caller.id, "roles": sorted(caller.roles), "groups": []}
        held["scopes"] = sorted(caller.scopes) if caller.scopes is not None else None
        held["granted"] = sorted(caller.granted)
    begins = {"time": f"2026-10-01T10:{second // 60 % 60:02}:{second % 60:02}.000+00:00", "request": "r"}
    ends = {"method": method, "path": path, "things": {}, "line": "x:1", "outcome": outcome, "reason": None}
    return json.dumps({**begins, **held, "scoped_roles": None, **ends, "enforced": True, "seconds": 0.1, **more}) + "\n"


def outcome_of(allowed: bool, caller: Caller | None) -> str:
    return "allow" if allowed else "deny" if caller is not None else "sign-in"


class Sound(unittest.TestCase):
    """What is said of requests of which a log has less than was known when they were decided."""

    def requests(self, numbers: random.Random, count: int) -> list[tuple[Caller | None, str, str, dict[str, Any]]]:
        found = []
        for number in range(count):
            roles = numbers.sample(ROLES, numbers.choice((0, 1, 1, 2)))
            status, kind = numbers.choice(("awake", "asleep")), numbers.choice(("seed", "root"))
            caller = Caller(number % 5, roles, attributes={"status": status, "kind": kind})
            record = {"owner": numbers.randrange(5), "age": numbers.randrange(6), "kind": kind, "helper": None}
            who = caller if numbers.random() < 0.85 else SIGNED_OUT
            found.append((who, numbers.choice(METHODS), numbers.choice(PATHS), record))
        return found

    def test_what_is_certain_is_so_whatever_the_records_are(self) -> None:
        @examples(60)
        @given(policies(), policies(), st.integers(0, 2**32))
        def sound(old: Any, new: Any, seed: int) -> None:
            before, after = bloodroot.parse(written(*old)), bloodroot.parse(written(*new))
            said: Counter[tuple[bool, bool]] = Counter()
            lines = []
            for number, (caller, method, path, record) in enumerate(self.requests(random.Random(seed), 40)):
                was, now = (each.decide(caller, method, path, record=record).allowed for each in (before, after))
                said[was, now] += 1
                lines.append(audited(caller, method, path, outcome_of(was, caller), number))
            counted = Counted()
            for line in lines:
                # One at a time, so that each has a verdict of its own.
                again = recipe(written(*new)).redecider()
                again.count([line.encode()], Reader())
                counted.add(again.counted)
            whole = recipe(written(*new)).redecider()
            whole.count([line.encode() for line in lines], Reader())
            totals = [Counter(), Counter()]
            for total, each in zip(totals, (counted, whole.counted), strict=True):
                for difference, times in each.differences.items():
                    total[difference.now] += times.count
            self.assertEqual(*totals)
            self.assertLessEqual(totals[0][Redecided.REFUSED], said[True, False])
            self.assertLessEqual(totals[0][Redecided.LET_IN], said[False, True])
            self.assertLessEqual(said[True, False] + said[False, True], sum(totals[0].values()))

        sound()

    def test_each_verdict(self) -> None:
        @examples(60)
        @given(policies(), policies(), st.integers(0, 2**32))
        def each(old: Any, new: Any, seed: int) -> None:
            before, after = bloodroot.parse(written(*old)), bloodroot.parse(written(*new))
            for caller, method, path, record in self.requests(random.Random(seed), 25):
                was, now = (policy.decide(caller, method, path, record=record).allowed for policy in (before, after))
                again = recipe(written(*new)).redecider()
                again.count([audited(caller, method, path, outcome_of(was, caller)).encode()], Reader())
                verdicts = [difference.now for difference in again.counted.differences]
                facts = f"{caller} {method} {path} {record} {verdicts}\n{written(*new)}"
                if verdicts == [Redecided.REFUSED]:
                    self.assertEqual((was, now), (True, False), facts)
                elif verdicts == [Redecided.LET_IN]:
                    self.assertEqual((was, now), (False, True), facts)
                elif not verdicts:
                    self.assertIs(was, now, facts)

        each()

    def test_the_tighter_policy_keeps_what_was_used_and_opens_nothing(self) -> None:
        @examples(120)
        @given(policies(), st.integers(0, 2**32))
        def tighter(policy: Any, seed: int) -> None:
            text = written(*policy)
            before = bloodroot.parse(text)
            requests = self.requests(random.Random(seed), 30)
            lines = []
            for caller, method, path, record in requests:
                allowed = before.decide(caller, method, path, record=record).allowed
                lines.append(audited(caller, method, path, outcome_of(allowed, caller)).encode())

            def count(recipe: Recipe, parts: list[Part]) -> Counted:
                again = recipe.redecider()
                again.count(lines, Reader())
                return again.counted

            made = recipe(text)
            log = Path(__file__)  # it is not read
            result = replay(made, parse_tree(text, "access.bloodroot"), [str(log)], count)
            if result.tighter is None:
                return
            made_tighter.append(result.tighter)
            after = bloodroot.parse(applied(text, result.tighter.diff))
            for caller, method, path, record in requests:
                was, now = (each.decide(caller, method, path, record=record).allowed for each in (before, after))
                self.assertEqual(was, now, f"{caller} {method} {path} {record}\n{result.tighter.diff}")
            for caller, method, path, record in self.requests(random.Random(seed + 1), 60):
                was, now = (each.decide(caller, method, path, record=record).allowed for each in (before, after))
                self.assertLessEqual(now, was, f"{caller} {method} {path} {record}\n{result.tighter.diff}")

        made_tighter: list[Any] = []
        tighter()
        self.assertTrue(any(each.lines for each in made_tighter))
        self.assertTrue(any(each.grants for each in made_tighter))


def applied(text: str, diff: str) -> str:
    """A text with a diff applied by the patch of this machine."""
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "x").write_text(text, "utf-8")
        subprocess.run(["patch", "-s", f"{folder}/x"], input=diff, text=True, check=True)
        return (Path(folder) / "x").read_text("utf-8")


POLICY = """
policy "Kilns"

roles
  member
  keeper  includes member
  warden

conditions
  own   record.owner == caller.id
  self  path.member_id == caller.id
  day   now.time >= 08:00 and now.time < 20:00

permissions
  kiln:read  member, warden
  kiln:edit  keeper, member if own

endpoints
  GET        /kilns                 kiln:read
  GET  PUT   /kilns/{kiln_id}       kiln:edit
  GET        /members/{member_id}   self or warden
  GET        /about                 anyone
  POST       /night                 member if day
  WEBSOCKET  /live                  member
  any        /office/**             warden
"""


class Logs(InFolder):
    """What lines of logs are read as."""

    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)

    def said(self, *lines: str, **fields: str) -> Counter[tuple[str, str, str]]:
        """What is said of lines: the verdict, the endpoint and the caller, each with how often."""
        again = recipe(POLICY.replace("zone", "zone")).redecider()
        again.count([line.rstrip("\n").encode() + b"\n" for line in lines], Reader(fields, {"can_edit": "edit"}))
        self.counted = again.counted
        return Counter(
            {
                (
                    difference.now.value,
                    f"{difference.asked.method} {difference.asked.path}",
                    difference.who.words(),
                ): times.count
                for difference, times in again.counted.differences.items()
            }
        )

    def test_audit_logs(self) -> None:
        ash, fern = Caller("ash", ["member"]), Caller("fern", ["keeper"])
        scoped = replace(fern, scopes=["kiln:read"])
        granted = replace(ash, granted={"kiln:edit": "the directory"})
        for line, expected in (
            (audited(ash, "GET", "/kilns", "allow"), None),
            (audited(ash, "GET", "/office/1", "allow"), ("refused", "GET /office/**", "member")),
            (audited(ash, "GET", "/kilns", "deny"), ("let in", "GET /kilns", "member")),
            (audited(ash, "PUT", "/kilns/7", "allow"), ("depends", "PUT /kilns/{kiln_id}", "member")),
            (audited(fern, "PUT", "/kilns/7", "allow"), None),
            (audited(scoped, "PUT", "/kilns/7", "allow"), ("refused", "PUT /kilns/{kiln_id}", "keeper (a token for kiln:read)")),
            (audited(granted, "PUT", "/kilns/7", "allow"), None),
            (audited(granted, "PUT", "/kilns/7", "deny"), ("let in", "PUT /kilns/{kiln_id}", "member, granted kiln:edit")),
            # A time that cannot be read is not the present one.
            (audited(ash, "POST", "/night", "allow", time="at noon"), ("depends", "POST /night", "member")),
            (audited(ash, "GET", "/members/ash", "allow"), None),
            (audited(ash, "GET", "/members/fern", "allow"), ("refused", "GET /members/{member_id}", "member")),
            (audited(ash, "GET", "/members/ash", "deny"), ("let in", "GET /members/{member_id}", "member")),
            (audited(None, "GET", "/kilns", "sign-in"), None),
            (audited(None, "GET", "/kilns", "allow"), ("refused", "GET /kilns", "signed-out")),
            (audited(None, "GET", "/about", "sign-in"), ("let in", "GET /about", "signed-out")),
            (audited(ash, "GET", "/gone/1", "allow"), ("refused", "GET /gone/...", "member")),
            (audited(ash, "GET", "//kilns", "allow"), ("refused", "GET an address that can be read in more than one way", "member")),
            (audited(ash, "GET", "/kilns/9", "missing"), None),
            (audited(ash, "GET", "/kilns/9", "withheld"), None),
            (audited(ash, "GET", "/office/1", "deny", enforced=False), ("refused", "GET /office/**", "member")),
            (audited(ash, "GET", "/kilns", "deny", enforced=False), None),
            # As the time was then.
            (audited(ash, "POST", "/night", "allow"), None),
            (audited(ash, "POST", "/night", "allow").replace("T10:", "T23:"), ("refused", "POST /night", "member")),
            # Texts that look like something else.
            (audited(Caller('x", "roles": ["warden"], "groups": [', ["member"]), "GET", "/office/1", "allow"), ("refused", "GET /office/**", "member")),
            (audited(ash, "GET", "/office/1", "allow", things={"outcome": "deny"}), ("refused", "GET /office/**", "member")),
            (audited(ash, "GET", "/kilns", "allow", reason='", "outcome": "deny'), None),
            (json.dumps({**json.loads(audited(ash, "", "", "allow")), "method": "can_edit", "path": None, "resource": "kiln 7"}), ("depends", "permission kiln:edit", "member")),
            (json.dumps({**json.loads(audited(fern, "", "", "deny")), "method": "edit", "path": None, "resource": "kiln 7"}), ("let in", "permission kiln:edit", "keeper")),
            (json.dumps({**json.loads(audited(ash, "", "", "allow")), "method": "burn", "path": None, "resource": "kiln 7"}), ("refused", "permission kiln:burn", "member")),
        ):  # fmt: skip
            with self.subTest(line):
                # Read as text, and by what it has in common with the line before.
                self.assertEqual(self.said(line), Counter([expected] if expected else []))
                self.assertEqual(self.said(*[line] * 3), Counter([expected] * 3 if expected else []))
                self.assertEqual((self.counted.requests, self.counted.unread), (3, 0))
        for line in (
            "{",
            "[]",
            '{"time": "x"}',
            audited(ash, "GET", "/kilns", "allow")[:-40],
            "hello",
            "x" * 100_000,
            "{" * 2000,
        ):
            with self.subTest(line[:40]):
                self.assertEqual((self.said(line), self.counted.requests, self.counted.unread), (Counter(), 0, 1))

    def test_access_logs(self) -> None:
        for line, expected in (
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /kilns HTTP/1.1" 200 512 "-" "x"', None),
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /gone HTTP/1.1" 200 512', ("refused", "GET /gone", "unknown")),
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /gone HTTP/1.1" 404 512', None),
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "DELETE /kilns HTTP/1.1" 204 0', ("refused", "DELETE /kilns", "unknown")),
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /about?x=1 HTTP/1.1" 403 0', ("let in", "GET /about", "unknown")),
            ('1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /about HTTP/1.1" 302 0', None),
            ('1.1.1.1 - ash lee [04/Oct/2026:12:00:00 +0000] "GET http://x/about HTTP/1.1" 401 0', ("let in", "GET /about", "a user")),
            ('1.1.1.1 - ash [04/Oct/2026:12:00:00 +0000] "GET /live HTTP/1.1" 101 0', None),
            ('1.1.1.1 - ash [04/Oct/2026:12:00:00 +0000] "GET /kilns HTTP/1.1" 101 0', ("refused", "WEBSOCKET /kilns", "a user")),
            ('{"method": "GET", "uri": "/gone?x", "status": 200, "time": "2026-10-04T12:00:00Z"}', ("refused", "GET /gone", "unknown")),
            ('{"request": "GET /gone HTTP/1.1", "status": "200", "ts": 1790000000}', ("refused", "GET /gone", "unknown")),
            ('{"method": "GET", "path": "/office/1", "status": 200, "user": "ash", "roles": ["member"]}', ("refused", "GET /office/**", "member")),
            ('{"method": "GET", "path": "/kilns", "status": 200, "user": null, "roles": []}', ("refused", "GET /kilns", "signed-out")),
            ('{"http": {"verb": "GET"}, "path": "/gone", "status": 200}', ("refused", "GET /gone", "unknown")),
        ):  # fmt: skip
            with self.subTest(line):
                fields = {"method": "http.verb"} if "verb" in line else {}
                self.assertEqual(self.said(*[line] * 2, **fields), Counter([expected] * 2 if expected else []))
                self.assertEqual(self.counted.requests, 2)
        self.assertEqual(self.counted.first, "")
        self.said('1.1.1.1 - - [04/Oct/2026:12:00:00 +0200] "GET /gone HTTP/1.1" 200 512')
        self.assertEqual(self.counted.first, "2026-10-04T10:00:00+00:00")

    def written(self, count: int) -> bytes:
        """An audit log with access log lines between, and half a line."""
        numbers = random.Random(7)
        lines = []
        for number in range(count):
            caller = Caller(numbers.randrange(900), [numbers.choice(("member", "keeper"))]) if number % 5 else None
            path = numbers.choice(("/kilns", "/kilns/7", "/members/3", "/office/1", "/gone", "/about"))
            lines.append(audited(caller, "GET", path, numbers.choice(("allow", "deny")), number))
            if number % 7 == 0:
                lines.append(f'1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "PUT {path} HTTP/1.1" 200 512\n')
        return "".join(lines).encode() + b'{"time": "2026'

    def test_parts_come_to_the_same_as_the_whole(self) -> None:
        made, log = recipe(POLICY), self.folder / "audit.jsonl"
        # In no order, as several servers write.
        lines = self.written(400).replace(b"/members/3", b"/office/3").splitlines(True)
        lines = [*random.Random(1).sample(lines[:-1], len(lines) - 1), lines[-1]]
        log.write_bytes(b"".join(lines))
        whole = counted_here(made, parts_of([str(log)]), 1)
        self.assertEqual((whole.requests, whole.unread), (458, 1))
        for size in (37, 511, 4096, 100_000):
            parts = [count_part(made, part) for part in parts_of([str(log)], size)]
            random.Random(size).shuffle(parts)
            half = len(parts) // 2
            self.assertEqual(together([together(parts[half:]), together(parts[:half])]), whole, size)
        packed = self.folder / "audit.jsonl.gz"
        packed.write_bytes(gzip.compress(log.read_bytes()))
        self.assertEqual(counted_here(made, parts_of([str(packed)]), 1), whole)
        self.assertEqual(counted_here(made, parts_of([str(log)], 20_000), 2), whole)

    def test_a_cluster_comes_to_the_same(self) -> None:
        made, log = recipe(POLICY), self.folder / "audit.jsonl"
        log.write_bytes(self.written(600))
        whole = counted_here(made, parts_of([str(log)]), 1)
        how: dict[str, Any] = {"dashboard_address": None, "threads_per_worker": 1, "silence_logs": 50}
        with distributed.LocalCluster(n_workers=2, **how) as cluster, distributed.Client(cluster) as client:
            parts = parts_of([str(log)], 4000)
            # A worker that ends in the middle: what it has counted is counted again.
            killed = next(iter(cluster.workers.values())).pid
            threading.Timer(0.3, os.kill, (killed, signal.SIGKILL)).start()
            self.assertEqual(counted_by(client, made, parts * 20).requests, whole.requests * 20)
            self.assertEqual(counted_by(client, made, parts), whole)
        # What other names of files lead to: here in the memory of one process, whose files have one place for all readers.
        with fsspec.open("memory://logs/audit.jsonl", "wb") as kept:
            kept.write(self.written(600))
        with (
            distributed.LocalCluster(n_workers=1, processes=False, **how) as cluster,
            distributed.Client(cluster) as client,
        ):
            self.assertEqual(counted_by(client, made, parts_of(["memory://logs/audit.jsonl"], 4000)), whole)


class Command(InFolder):
    """The installed command, on logs in a folder."""

    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        subprocess.run(["git", "init", "-q"], cwd=self.folder, check=True)
        ash, fern = Caller("ash", ["member"]), Caller("fern", ["keeper"])
        requests = [(ash, "GET", "/kilns"), (fern, "GET", "/kilns/7"), (fern, "GET", "/about"), (ash, "POST", "/night")]
        self.write("audit.jsonl", "".join(audited(*each, "allow", number) for number, each in enumerate(requests)))

    def test_nothing_is_otherwise(self) -> None:
        out = self.ran("replay", "audit.jsonl")
        self.assertIn("0 of 4 requests would be refused, 0 let in, 0 depend on what no log has", out)
        self.assertIn("GET /members/{member_id}  self or warden", out)
        self.assertIn("PUT /kilns/{kiln_id}  kiln:edit, of this line alone", out)
        self.assertIn("kiln:read of warden  access.bloodroot:", out)
        self.assertIn("closes 4 lines and leaves out 1 grant", out)
        found = json.loads(self.ran("replay", "audit.jsonl", "--format", "json"))
        self.assertEqual((found["requests"], found["differences"]), (4, []))
        self.assertEqual(found["unused"]["roles"], ["warden"])
        self.assertEqual(found["unused"]["grants"][0]["to"], "warden")

    def test_a_role_of_before_may_be_any_role_now(self) -> None:
        former = audited(Caller("ash", ["watcher"]), "GET", "/kilns", "allow")
        self.write("former.jsonl", (self.folder / "audit.jsonl").read_text("utf-8") + former)
        found = json.loads(self.bloodroot("replay", "former.jsonl", "--format", "json").out)
        self.assertEqual((found["unused"]["grants"], found["unused"]["roles"]), ([], []))

    def test_the_diff_is_one_that_git_applies_and_compare_explains(self) -> None:
        self.write("old.bloodroot", POLICY)
        diff = self.ran("replay", "audit.jsonl", "--diff")
        self.write("tighter.diff", "").write_text(diff, "utf-8")
        subprocess.run(["git", "apply", "tighter.diff"], cwd=self.folder, check=True)
        after = (self.folder / "access.bloodroot").read_text("utf-8")
        for line in ("GET        /kilns/{kiln_id}      kiln:edit", "PUT        /kilns/{kiln_id}      nobody"):
            self.assertIn(line, after)
        self.assertIn("any        /office/**            nobody", after)
        out = self.ran("compare", "old.bloodroot", "access.bloodroot", "--fail", "gained")
        self.assertIn("lost", out)
        self.assertIn("0 of 4 requests would be refused", self.ran("replay", "audit.jsonl"))

    def test_what_would_be_otherwise(self) -> None:
        self.write(
            "access.bloodroot", POLICY.replace("POST       /night                 member if day", "GET /x keeper")
        )
        out = self.ran("replay", "audit.jsonl", status=1)
        self.assertIn("1 of 4 requests would be refused", out)
        self.assertIn("POST /night  as member (closed): 1 ×", out)
        self.assertIn("such as /night", out)
        listed = self.ran("replay", "audit.jsonl", "--format", "csv", status=1)
        self.assertIn("refused,POST,/night,member,closed,1,1,2026-10-01T10:00:03+00:00", listed)

    def test_the_page_does_what_it_says(self) -> None:
        page = (Path(__file__).parents[2] / "docs" / "replay.md").read_text("utf-8")
        for name, text in re.findall(r"In `([\w.]+)`(?:, [\w ]+)?:\n\n```\w*\n(.*?)```", page, re.S):
            self.write(name, text)
        self.assertEqual(self.bloodroot("format", "--check").status, 0)
        shown = re.findall(r"```sh\nbloodroot (.*?)\n```\n```(\w*)\n(.*?)```", page, re.S)
        self.assertEqual([kind for _, kind, _ in shown], ["", "diff"])
        for words, kind, expected in shown:
            out = self.ran(*words.partition(" >")[0].split(), status=0 if kind else 1)
            self.assertEqual(out.partition("endpoints\n")[2] if kind else out, expected)

    def test_what_is_not_judged_is_not_well(self) -> None:
        depends = audited(Caller("ash", ["member"]), "PUT", "/kilns/7", "allow")
        unknown = '1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /kilns HTTP/1.1" 200 512\n'
        missed = '1.1.1.1 - - [04/Oct/2026:12:00:00 +0000] "GET /kilns/9 HTTP/1.1" 404 512\n'
        for line, status in ((depends, 3), (unknown, 3), (missed, 3), (audited(None, "GET", "/about", "allow"), 0)):
            self.write("one.log", "").write_text(line, "utf-8")
            self.assertEqual(self.bloodroot("replay", "one.log").status, status, line)
            self.assertEqual(self.bloodroot("replay", "one.log", "--allow-unjudged").status, 0, line)

    def test_members_of_the_directory(self) -> None:
        self.write("bloodroot.toml", '[directory]\nurl = "sqlite:///members.db"\n')
        self.write("seed.toml", '[[members]]\nid = 1\nlogin = "ash"\nroles = ["member"]\n')
        self.ran("seed", "seed.toml")
        line = '1.1.1.1 - {} [04/Oct/2026:12:00:00 +0000] "GET /office/1 HTTP/1.1" 200 512\n'
        self.write("access.log", line.format("ash") + line.format("wren"))
        out = self.ran("replay", "access.log", status=1)
        self.assertIn("1 of 2 requests would be refused", out)
        self.assertIn("GET /office/**  as member (role): 1 ×", out)
        self.assertIn("of 1 request the roles of the caller are not known", out)

    def test_what_cannot_be_read(self) -> None:
        self.write("nothing.log", "hello\n")
        (self.folder / "broken.gz").write_bytes(gzip.compress(self.read("audit.jsonl"))[:-9])
        for words, message in (
            (("gone.log",), "gone.log: there is no such file"),
            (("nothing.log",), "no line records a request"),
            (("broken.gz",), "broken.gz: this file cannot be read"),
            (("s3://logs/x", "--diff", "--format", "json"), "leave out --format and --out"),
            (("nowhere://logs/x",), "nowhere://logs/x: this file cannot be read"),
        ):
            run = self.bloodroot("replay", *words)
            self.assertEqual((run.status, message in run.err), (2, True), run.err)
        self.write("torn.jsonl", (self.folder / "audit.jsonl").read_text("utf-8") + '{"time": "2026')
        out = self.bloodroot("replay", "torn.jsonl")
        self.assertEqual((out.status, "1 line of the logs could not be read" in out.out), (3, True))
        self.assertEqual(self.bloodroot("replay", "torn.jsonl", "--allow-unjudged").status, 0)
        refused = audited(Caller("ash", ["member"]), "GET", "/office/1", "deny")
        self.write("refused.jsonl", refused)
        self.assertIn("nothing is said of what was never used", self.ran("replay", "refused.jsonl"))
        self.assertIn(
            "there is no diff: no request was let in", self.bloodroot("replay", "refused.jsonl", "--diff").err
        )
        self.write("bloodroot.toml", '[replay]\nscheduler = "there"\n[replay.fields]\nwho = "x"\n')
        run = self.bloodroot("replay", "audit.jsonl")
        self.assertIn("this must be an address", run.err)
        self.assertIn("this is none of method, path", run.err)
        self.write("bloodroot.toml", '[replay]\nscheduler = "tcp://127.0.0.1:9"\n')
        self.assertIn("cannot be reached", self.bloodroot("replay", "audit.jsonl").err)

    def read(self, name: str) -> bytes:
        return (self.folder / name).read_bytes()
