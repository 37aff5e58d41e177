"""The probe on a Flask and a Django application, sound, with planted holes, and protected; here and over HTTP."""

import json
import os
import random
import signal
import subprocess
import sys
import time
from unittest import mock
from xml.etree import ElementTree

import distributed

from tests.probe.swap import HOLES
from tests.probe.swap.project import APPS, ROOT, SwapProject
from tests.program import PROGRAM

# Holes that can be there together: which ones hide others is no matter of the probe.
TOGETHER = (
    [name for name in HOLES if name not in ("owner-not-asked", "status-not-asked")],
    ["owner-not-asked"],
    ["status-not-asked"],
)
ALSO = {
    "one-method-guarded": {"DELETE /tools/reindex", "HEAD /tools/reindex"},
    # A function of Django has no methods of its own: what is done before the check is done for each.
    "deletes-first": {f"{method} /packets/{{packet_id}}/delete" for method in ("GET", "PUT", "PATCH", "DELETE")},
}


class Probed(SwapProject):
    def found(self, environment: dict[str, str], status: int, *words: str) -> dict[str, object]:
        return json.loads(self.ran("probe", "--format", "json", *words, status=status, **environment))

    def check_holes(self, result: dict, names: list[str]) -> None:
        """Each planted hole is found, and nothing else is called a hole."""
        holes = {
            (f"{each['method']} {each['template']}", each["persona"])
            for each in result["observations"]
            if each["verdict"] == "hole"
        }
        for name in names:
            self.assertIn(HOLES[name], holes, name)
        wrong = {HOLES[name][0] for name in names}.union(*(ALSO.get(name, set()) for name in names))
        self.assertEqual({endpoint for endpoint, _ in holes} - wrong, set())

    def test_sound_and_protected(self) -> None:
        for framework in APPS:
            for kind in ("bare", "protected"):
                with self.subTest(f"{framework}, {kind}"):
                    app = f"tests.probe.swap.flask_app:{'protected' if kind == 'protected' else 'make'}()"
                    environment = self.project(framework, app if framework == "flask" else None)
                    # With enforcement in front, two personas show what all of them would.
                    fewer = () if kind == "bare" else ("--persona", "visitor", "--persona", "ash")
                    out = self.ran("probe", *fewer, **environment, SWAP_KIND=kind)
                    self.assertIn("0 holes, 0 blocked, ", out.splitlines()[0])
                    self.assertNotIn("inconclusive", out)
                    how = "refused by policy" if kind == "protected" else "refused as declared"
                    self.assertIn(f"requests was answered by its handler or {how}.", out)

    def test_planted_holes(self) -> None:
        # The framework makes a difference to how handlers are seen, and none to single holes.
        for framework, planted in (("flask", TOGETHER), ("django", TOGETHER[:1])):
            for names in planted:
                with self.subTest(f"{framework}, {names}"):
                    environment = self.project(framework)
                    self.check_holes(self.found({**environment, "SWAP_HOLES": ",".join(names)}, 1), names)

    def test_over_http(self) -> None:
        for framework, planted in (("flask", [TOGETHER[0]]), ("django", [[]])):
            for names in planted:
                with self.subTest(f"{framework}, {len(names)} holes"):
                    environment = {**self.project(framework), "SWAP_HOLES": ",".join(names)}
                    with self.served(framework, environment) as port:
                        self.at(port)
                        # An endpoint that nothing declares is known from routes alone.
                        wanted = [name for name in names if name != "not-declared"]
                        result = self.found(environment, 1 if names else 0)
                        self.check_holes(result, wanted)
                        self.assertEqual(result["url"], f"http://127.0.0.1:{port}")
                        self.assertIn("GET /members: the router sends to /members/ first", result["notes"])

    def test_changes_are_rolled_back(self) -> None:
        environment = {**self.project("django"), "SWAP_CONNECTION": "django"}
        code = "from tests.probe import swap; swap.reset(); print(swap.state())"
        before = subprocess.run(
            [sys.executable, "-c", code], cwd=ROOT, env={**os.environ, **environment}, capture_output=True, text=True
        ).stdout
        self.project("django", rollback="yes")
        file = self.folder / "bloodroot.toml"
        file.write_text(file.read_text().replace('state = "tests.probe.swap:state"', 'state = ["packet", "person"]'))
        names = ["update-open", "form-for-anyone", "makes-oneself-steward"]
        self.check_holes(self.found({**environment, "SWAP_HOLES": ",".join(names)}, 1), names)
        self.assertIn(
            "As declared: 0 holes", self.ran("probe", "--persona", "ash", "--persona", "hazel", **environment)
        )
        code = code.replace("swap.reset(); ", "")
        after = subprocess.run(
            [sys.executable, "-c", code], cwd=ROOT, env={**os.environ, **environment}, capture_output=True, text=True
        ).stdout
        self.assertEqual(before, after)

    def test_without_a_look_at_the_data_no_more_is_said_than_was_seen(self) -> None:
        environment = self.project("flask", reset="yes")
        out = self.ran("probe", **environment, SWAP_HOLES="deletes-first", status=3)
        self.assertIn("whether refused requests changed something was not looked at (", out)

    def test_a_run_that_is_killed_goes_on(self) -> None:
        environment = {**self.project("flask"), "SWAP_SENT": str(self.folder / "sent.log")}
        chance = random.Random(5)
        journal = self.folder / ".bloodroot" / "probe.jsonl"
        killed = 0
        for number in range(5):
            words = ["probe", *(["--resume"] if number else [])]
            process = subprocess.Popen(
                [str(PROGRAM), *words],
                cwd=self.folder,
                env={**os.environ, **environment},
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
            lines = journal.read_text().count("\n") if journal.exists() else 0
            for _ in range(2000):
                time.sleep(0.005)
                if process.poll() is not None or (
                    journal.exists() and journal.read_text().count("\n") > lines + chance.randrange(5, 40)
                ):
                    break
            if process.poll() is None:
                process.send_signal(signal.SIGKILL)
                killed += 1
            process.wait(60)
        self.assertGreaterEqual(killed, 3)
        out = self.bloodroot("probe", "--resume", "--format", "json", **environment)
        result = json.loads(out.out)
        self.assertEqual(sum(result["counts"][name] for name in ("agree", "inconclusive")), 221, out.err)
        told = [json.loads(line) for line in journal.read_text().splitlines()]
        self.assertTrue(any("end" in line for line in told))
        sent = [tuple(line["sent"]) for line in told if "sent" in line]
        self.assertEqual(len(sent), len(set(sent)))
        # What the application itself counted: nothing that changes data came twice.
        came = (self.folder / "sent.log").read_text().splitlines()
        self.assertEqual(sorted({line for line in came if came.count(line) > 1}), [])
        unanswered = [each for each in result["observations"] if each["verdict"] == "inconclusive"]
        self.assertLessEqual(len(unanswered), killed)

    def test_parts_are_put_together(self) -> None:
        environment = {**self.project("flask"), "SWAP_HOLES": "desk-open,update-open"}
        whole = self.found(environment, 1)
        for part in (1, 2, 3):
            self.bloodroot("probe", "--shard", f"{part}/3", "--journal", f"{part}.jsonl", **environment)
        merged = self.found(environment, 1, "--merge", "1.jsonl", "2.jsonl", "3.jsonl")
        self.assertEqual(merged["counts"], whole["counts"])
        run = self.bloodroot("probe", "--copies", "2", **environment)
        self.assertIn("nothing says where each copy has its data", run.err)
        file = self.folder / "bloodroot.toml"
        copies = f'SWAP_DATABASE = "{self.folder}/{{copy}}.db"\n'
        file.write_text(f"{file.read_text()}\n[probe.copies]\n{copies}")
        self.assertEqual(self.found(environment, 1, "--copies", "2")["counts"], whole["counts"])
        # By the workers of a cluster of this machine: the same.
        how = {"threads_per_worker": 1, "dashboard_address": None}
        with mock.patch.dict(os.environ, environment), distributed.LocalCluster(n_workers=2, **how) as cluster:
            scheduler = f'[replay]\nscheduler = "{cluster.scheduler_address}"\n'
            file.write_text(f"{file.read_text()}\n{scheduler}")
            self.assertEqual(self.found(environment, 1, "--copies", "2", "--dask")["counts"], whole["counts"])
        self.assertEqual({each.name for each in self.folder.glob("[12].db")}, {"1.db", "2.db"})
        for words, message in (
            (("--merge", "1.jsonl", "3.jsonl"), "parts are missing: 2/3"),
            (("--merge", "1.jsonl", "1.jsonl"), "1.jsonl is part 1/3 as well"),
            (("--merge", "1.jsonl", "--persona", "ash"), "of another plan"),
            (("--resume", "--persona", "ash"), "of another plan"),
            (("--resume", "--journal", "none.jsonl"), "there is no such journal"),
            (("--merge", "bloodroot.toml"), "not a probe's journal"),
            (("--dask",), "--dask is for --copies"),
            (("--copies", "2", "--resume"), "without --merge, --shard, --resume and --stale"),
            (("--shard", "4/3", "--journal", "x"), "write the part and how many there are"),
            (("--persona", "hazle"), 'unknown persona "hazle"; did you mean "hazel"?'),
        ):
            with self.subTest(words):
                run = self.bloodroot("probe", *words, **environment)
                self.assertEqual((run.status, run.out), (2, ""))
                self.assertIn(message, run.err)

    def test_a_part_of_the_plan_and_its_list(self) -> None:
        environment = self.project("flask")
        out = self.ran(
            "probe", "--only", "/packets/{packet_id}*", "--persona", "ash", "--methods", "POST", "--list", **environment
        )
        self.assertEqual(
            [" ".join(line.split()) for line in out.splitlines()],
            [
                "5 requests: 2 endpoints as 1 persona; 4 more with other methods, headers and parameters", "",
                "POST /packets/{packet_id}/edit access.bloodroot:21",
                "POST /packets/11/edit [own holds, draft holds] allow ash",
                "POST /packets/12/edit [own holds, draft fails] deny ash",
                "POST /packets/91/edit [own fails, draft holds] deny ash",
                "POST /packets/92/edit [own fails, draft fails] deny ash", "",
                "POST /packets/{packet_id}/delete access.bloodroot:22",
                "POST /packets/12/delete deny ash", "",
                "Nothing was sent. Next: bloodroot probe asks.",
            ],
        )  # fmt: skip
        self.assertFalse((self.folder / ".bloodroot").exists())

    def test_other_formats(self) -> None:
        environment = {**self.project("flask"), "SWAP_HOLES": "desk-open"}
        self.bloodroot("probe", "--out", "probe.xml", **environment)
        root = ElementTree.parse(self.folder / "probe.xml").getroot()
        failures = root.findall(".//failure")
        self.assertEqual(len(failures), 1)
        self.assertIn("hole: declared sign-in, observed let in", failures[0].attrib["message"])
        self.assertEqual(len(root.findall(".//testcase")), 221)
        self.bloodroot("probe", "--out", "probe.html", **environment)
        page = (self.folder / "probe.html").read_text()
        self.assertIn("1 hole at 1 endpoint", page)
        self.assertIn("Every endpoint as every persona", page)
        self.assertNotIn("src=", page)
        for text in (
            page,
            (self.folder / "probe.xml").read_text(),
            (self.folder / ".bloodroot/probe.jsonl").read_text(),
        ):
            self.assertNotIn("fern", text)

    def test_a_host_elsewhere_is_not_asked(self) -> None:
        self.project("flask")
        file = self.folder / "bloodroot.toml"
        file.write_text(file.read_text().replace('app = "tests', 'url = "http://seeds.example:1"\n#'))
        run = self.bloodroot("probe")
        self.assertEqual((run.status, run.out), (2, ""))
        self.assertIn("is not on this machine, and a probe changes what it asks; --allow-host seeds.example", run.err)
