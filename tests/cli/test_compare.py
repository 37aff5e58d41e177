"""bloodroot compare: files, and revisions of a real git repository."""

import json
import os
import shlex
import subprocess

from tests.cli.test_demo import RESULT
from tests.comparison.test_comparing import POLICY
from tests.program import InFolder

GIT = {
    "GIT_AUTHOR_NAME": "Ash Delany",
    "GIT_AUTHOR_EMAIL": "ash@fernhollow.example",
    "GIT_COMMITTER_NAME": "Ash Delany",
    "GIT_COMMITTER_EMAIL": "ash@fernhollow.example",
    "GIT_CONFIG_GLOBAL": os.devnull,
}
WIDER = POLICY.replace("record.owner == caller.id ", "record.owner == caller.id or record.open ").replace(
    "any            /office/**              clerk", "any /office/** clerk or keeper"
)


class Files(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("old.bloodroot", POLICY)
        self.write("new.bloodroot", WIDER)

    def test_every_witness_is_confirmed_by_why(self) -> None:
        run = self.bloodroot("compare", "old.bloodroot", "new.bloodroot", "--format", "json")
        self.assertEqual((run.status, run.err), (0, ""))
        found = json.loads(run.out)
        RESULT.validate(found)
        commands = [cell["witness"] for cell in found["cells"] if cell["witness"] and cell["witness"]["command"]]
        self.assertGreater(len(commands), 2)
        for witness in commands:
            for side in ("old", "new"):
                with self.subTest(witness["command"], side=side):
                    words = shlex.split(witness["command"])[1:]
                    explained = self.bloodroot(*words, "--policy", f"{side}.bloodroot", "--format", "json")
                    self.assertEqual(json.loads(explained.out)["outcome"], witness[side], explained.err)

    def test_what_ci_asks(self) -> None:
        for words, status in (
            (("old.bloodroot", "new.bloodroot"), 0),
            (("old.bloodroot", "new.bloodroot", "--fail", "gained"), 1),
            (("new.bloodroot", "old.bloodroot", "--fail", "gained"), 0),
            (("new.bloodroot", "old.bloodroot", "--fail", "any"), 1),
            (("old.bloodroot", "old.bloodroot", "--fail", "any"), 0),
        ):
            with self.subTest(words):
                self.assertEqual(self.bloodroot("compare", *words).status, status)
        out = self.bloodroot("compare", "old.bloodroot", "old.bloodroot").out
        self.assertTrue(out.startswith("No one's access changes.\n"))

    def test_tokens_that_count_for_some_roles_alone_are_said_to_be_left_out(self) -> None:
        # The same for everyone, but for such tokens: these do not have what is held by default.
        old = "roles\n  member default\n  keeper\nendpoints\n  GET /lots signed-in\n"
        self.write("old.bloodroot", old)
        session = '[identity]\nfrom = "session"\nid = "id"\nscopes = "scopes"\n'
        counting = f'{session}scope_names = {{ "lots" = ["role keeper"] }}\n'
        permissions = f'{session}scope_names = {{ "lots" = ["*"] }}\n'
        key = '[identity]\nfrom = "key"\n[directory]\nurl = "sqlite:///lots.db"\n'
        by_permission = old.replace("endpoints", "permissions\n  lot:read member\nendpoints")
        for new, more, said in (
            (old.replace("signed-in", "member"), counting, True),
            (old.replace("signed-in", "signed-in and member"), key, True),
            (old.replace("signed-in", "member"), permissions, False),
            (old.replace("signed-in", "member"), "", False),
            (old.replace("keeper", "keeper includes member"), counting, False),
            (by_permission, counting, False),
        ):
            with self.subTest(new=new, more=more):
                self.write("new.bloodroot", new)
                self.write("bloodroot.toml", f'policy = "new.bloodroot"\n{more}')
                run = self.bloodroot("compare", "old.bloodroot", "--fail", "gained")
                self.assertEqual("Not compared: tokens and keys" in run.out, said, run.out + run.err)
                self.assertEqual(run.status, int(said or "includes" in new), run.out)
        self.write("old.bloodroot", old.replace("signed-in", "member"))
        self.write("new.bloodroot", old.replace("signed-in", "member").replace("keeper", "keeper includes member"))
        self.write("bloodroot.toml", f'policy = "new.bloodroot"\n{counting}')
        self.assertIn("Not compared: tokens", self.bloodroot("compare", "old.bloodroot").out)

    def test_a_comment_for_a_pull_request(self) -> None:
        self.write("old.bloodroot", POLICY.replace('"Only its owner may change a lot."', '"Own | `lots` <b>alone</b>"'))
        self.write("new.bloodroot", POLICY.replace('"Only its owner may change a lot."', '"@all [x](y)"'))
        out = self.ran("compare", "old.bloodroot", "new.bloodroot", "--format", "markdown")
        self.assertTrue(out.startswith("### Cells: 2 answered otherwise, at 2 endpoints."))
        rows = [line for line in out.splitlines() if line.startswith("| `")]
        # Whatever a message holds, a row has its five cells, and the message is code.
        self.assertEqual({line.replace("\\|", "").count("|") for line in rows}, {6})
        self.assertIn('``deny, status 403 "Own \\| `lots` <b>alone</b>"``', rows[0])

    def test_what_cannot_be_compared(self) -> None:
        self.write("broken.bloodroot", "roles\n  a includes b\n")
        for words, message in (
            (("gone.bloodroot", "new.bloodroot"), "is no file, and"),
            (("broken.bloodroot", "new.bloodroot"), 'broken.bloodroot:2:14: unknown role "b"'),
            (("old.bloodroot",), "there is no file access.bloodroot; there is broken.bloodroot, new.bloodroot"),
        ):
            with self.subTest(words):
                run = self.bloodroot("compare", *words, GIT_CEILING_DIRECTORIES=str(self.folder.parent))
                self.assertEqual(run.status, 2)
                self.assertIn(message, run.err)


class Revisions(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.git("init", "--quiet")
        self.write("bank/access.bloodroot", POLICY + '\ninclude "parts/more.bloodroot"\n')
        self.write("bank/parts/more.bloodroot", "endpoints\n  GET /more helper\n")
        self.git("add", ".")
        self.git("commit", "--quiet", "-m", "the first")
        self.git("tag", "v1")
        self.write("bank/parts/more.bloodroot", "endpoints\n  GET /more anyone\n")
        self.git("commit", "--quiet", "-a", "-m", "the second")
        self.write("bank/access.bloodroot", WIDER + '\ninclude "parts/more.bloodroot"\n')
        self.top, self.folder = self.folder, self.folder / "bank"

    def git(self, *words: str) -> None:
        subprocess.run(["git", *words], cwd=self.folder, env={**os.environ, **GIT}, check=True, capture_output=True)

    def counts(self, *words: str) -> dict[str, int]:
        run = self.bloodroot("compare", *words, "--format", "json")
        self.assertEqual((run.status, run.err), (0, ""))
        return {name: count for name, count in json.loads(run.out)["counts"].items() if count}

    def test_revisions_against_each_other_and_the_work_tree(self) -> None:
        gained = {"gained": 2}  # signed-out callers, and those who hold roles that are kept apart
        self.assertEqual(self.counts("v1", "HEAD"), gained)  # what is included is of the same revision
        self.assertEqual(self.counts("HEAD", "v1"), {"lost": 2})
        self.assertEqual(self.counts("HEAD", "HEAD"), {})
        self.assertEqual(self.counts("HEAD"), {"gained": 1, "widened": 2})
        self.assertEqual(self.counts("v1"), {"gained": 3, "widened": 2})
        self.assertEqual(self.counts("v1:bank/access.bloodroot", "HEAD:./access.bloodroot"), gained)
        self.assertEqual(self.counts("HEAD", "access.bloodroot"), {"gained": 1, "widened": 2})

    def test_other_commands_read_revisions_too(self) -> None:
        for revision, outcome in (("v1", "sign-in"), ("HEAD", "allow")):
            policy = f"{revision}:bank/access.bloodroot"
            out = self.ran("why", "signed-out", "GET", "/more", "--policy", policy)
            self.assertIn(f"GET /more as signed-out: {outcome}", out)
            self.assertIn(f"{revision}:bank/parts/more.bloodroot:2", out)

    def test_what_no_revision_has(self) -> None:
        (self.folder / "link.bloodroot").symlink_to("/etc/passwd")
        self.git("add", ".")
        self.git("commit", "--quiet", "-m", "a link")
        for words, message in (
            (("v2",), f'"v2" is neither a file nor a revision of the git repository in {self.top}'),
            (("--", "--output=x"), '"--output=x" is neither a file nor a revision'),
            (("v1:bank/gone.bloodroot",), "v1:bank/gone.bloodroot:1:1: there is no such file in this revision"),
            (("v1:../../outside.bloodroot",), "this is outside of the repository"),
            (("v1:bank",), "this is a folder"),
            (("HEAD:bank/link.bloodroot",), "this is a link that leads out of the revision"),
        ):
            with self.subTest(words):
                run = self.bloodroot("compare", *words)
                self.assertEqual(run.status, 2, run.out)
                self.assertIn(message, run.err)
