"""A repository with two services that share one policy file: what is checked where, and under which names."""

import json
import re
import shlex
import subprocess
from pathlib import Path

import yaml

import bloodroot
from bloodroot import PolicyError
from tests.program import PROGRAM, InFolder

SHARED = "roles\n  member\n  keeper   includes member\n  auditor\n"
DESK = """
include "../../shared/roles.bloodroot"
endpoints
  GET   /        member
  GET   /ledger  auditor
  POST  /desk    keeper
"""
API = """
include "../../shared/roles.bloodroot"
endpoints
  GET   /things  member
  PUT   /things  keeper
"""
FINDING = (
    'shared/roles.bloodroot:4:3: warning: No line, grant, field or guard names the role "auditor". [unused-role]\n'
)


class TwoServices(InFolder):
    def setUp(self) -> None:
        super().setUp()
        subprocess.run(["git", "init", "-q", "-b", "main"], cwd=self.folder, check=True)
        self.write("shared/roles.bloodroot", SHARED)
        for name, policy in (("desk", DESK), ("api", API)):
            self.write(f"services/{name}/access.bloodroot", policy)
            self.write(f"services/{name}/bloodroot.toml", 'policy = "access.bloodroot"\n')

    def at(self, folder: str, *words: str) -> tuple[int, str]:
        done = subprocess.run(
            [PROGRAM, *words], cwd=self.folder / folder, capture_output=True, text=True, timeout=60, check=False
        )
        return done.returncode, done.stdout + done.stderr

    def test_one_shared_role_is_idle_in_one_service(self) -> None:
        # Wherever it is run, names begin at the top of the repository.
        for folder, settings in (
            (".", "services/api/bloodroot.toml"),
            ("services/api", "bloodroot.toml"),
            ("services/desk", "../api/bloodroot.toml"),
            ("shared", str(self.folder / "services/api/bloodroot.toml")),
        ):
            with self.subTest(folder):
                self.assertEqual(self.at(folder, "check", "--settings", settings, "--format", "lines"), (1, FINDING))
                _, sarif = self.at(folder, "check", "--settings", settings, "--format", "sarif")
                results = json.loads(sarif)["runs"][0]["results"]
                places = [each["locations"][0]["physicalLocation"]["artifactLocation"]["uri"] for each in results]
                self.assertEqual(places, ["shared/roles.bloodroot"])
        self.assertEqual(self.at("services/desk", "check", "--format", "lines"), (0, ""))
        # Accepted in the one service, it is not stale in the other.
        accepted = 'policy = "access.bloodroot"\n[accept]\n"unused-role auditor" = "the desk alone has auditors"\n'
        self.write("services/api/bloodroot.toml", accepted)
        status, said = self.at("services/api", "check")
        self.assertEqual(status, 0, said)
        self.assertIn("unused-role: the desk alone has auditors", said)
        for name, message in (
            ("unused-role curator", 'No entry that begins with "curator" has the finding unused-role.'),
            ("unusd-role auditor", 'There is no finding of the name "unusd-role"; did you mean "unused-role"?'),
            ("unused-role", "Write how the entry begins that accepts it"),
        ):
            self.write("services/api/bloodroot.toml", f'{accepted}"{name}" = "x"\n')
            status, said = self.at(".", "check", "--settings", "services/api/bloodroot.toml", "--format", "lines")
            self.assertEqual(status, 1)
            self.assertIn(f"services/api/bloodroot.toml:4:1: warning: {message}", said)

    def test_what_is_included_stays_within_the_root(self) -> None:
        self.assertIn("GET /things", self.at("services/api", "matrix")[1])
        self.write("services/api/bloodroot.toml", 'policy = "access.bloodroot"\nroot = ".."\n')
        status, said = self.at("services/api", "matrix")
        self.assertEqual(status, 2)
        self.assertIn("this leaves the folder services", said)
        policy = self.folder / "services/api/access.bloodroot"
        self.assertEqual(len(bloodroot.load(policy, root=self.folder).endpoints), 2)
        self.assertEqual(len(bloodroot.watched(policy).policy.endpoints), 2)
        for root in (policy.parent, self.folder / "services"):
            with self.assertRaisesRegex(PolicyError, "this leaves the folder"):
                bloodroot.load(policy, root=root)
        # Outside of the repository there is nothing to include, by a link neither.
        outside = self.folder.parent / f"{self.folder.name}-outside.bloodroot"
        outside.write_text("roles\n  member\n", "utf-8")
        self.addCleanup(outside.unlink)
        (self.folder / "shared/link.bloodroot").symlink_to(outside)
        for name in (f"../../../{outside.name}", "../../shared/link.bloodroot", "/etc/hostname"):
            self.write("services/api/access.bloodroot", f'include "{name}"\n')
            with self.assertRaisesRegex(PolicyError, "this leaves the folder"):
                bloodroot.load(policy)
        # Without a repository it is the folder of the policy.
        (self.folder / ".git").rename(self.folder / "no-git")
        self.write("services/api/access.bloodroot", API)
        with self.assertRaisesRegex(PolicyError, 'by load\\(..., root="..."\\)'):
            bloodroot.load(policy)

    def test_the_recipes_as_they_are_written(self) -> None:
        page = (Path(__file__).parents[2] / "docs" / "findings.md").read_text("utf-8")
        part = page.partition("## Several services in one repository")[2].partition("\n## ")[0]
        job, hooks = re.findall(r"```(?:sh|yaml)\n(.*?)```", part, re.S)
        commands = [line.partition("#")[0] for line in job.splitlines() if line.strip()]
        found = [self.at(".", *shlex.split(command)[1:])[0] for command in commands]
        self.assertEqual(found, [0, 0, 0, 1])  # written, fine for the desk, written, and not for the API
        sarif = json.loads((self.folder / "api.sarif").read_text("utf-8"))
        self.assertEqual(len(sarif["runs"][0]["results"]), 1)
        entries = [hook["entry"] for hook in yaml.safe_load(hooks)["repos"][0]["hooks"]]
        self.assertEqual([self.at(".", *shlex.split(entry)[1:])[0] for entry in entries], [0, 1])
