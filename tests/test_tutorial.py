"""The tutorial does what it says, when its files and commands are taken as they stand."""

import re
import shlex
from pathlib import Path

from tests.program import InFolder

TEXT = (Path(__file__).parent.parent / "docs" / "tutorial.md").read_text("utf-8")


class Tutorial(InFolder):
    def test_from_an_open_application_to_a_proved_one(self) -> None:
        files = dict(re.findall(r"In `([\w.]+)`:\n\n```\w*\n(.*?)```", TEXT, re.S))
        self.assertEqual(set(files), {"app.py", "access.bloodroot", "bloodroot.toml", "guarded.py"})
        for name, text in files.items():
            (self.folder / name).write_text(text, "utf-8")
        self.assertEqual(self.bloodroot("format", "--check").status, 0)
        commands = [line.split()[1:] for line in re.findall(r"^bloodroot .*$", TEXT, re.M)]
        self.assertEqual(
            [words[0] for words in commands], ["matrix", "why", "why", "check", "probe", "probe", "demo", "why"]
        )
        self.assertIn("◐ own-lot", self.ran(*commands[0]))
        self.assertIn("depends", self.ran(*commands[1]))
        self.assertIn("as keeper: allow", self.ran(*commands[2]))
        self.assertIn("No findings: 4 endpoint lines and 4 endpoints of app:app checked", self.ran(*commands[3]))
        member = files["access.bloodroot"].replace("POST  /lots/{lot_id}  lot:edit", "POST  /lots/{lot_id}  member")
        self.write("open.bloodroot", member)
        self.assertIn("change-wider-than-read", self.ran("check", "--policy", "open.bloodroot", status=1))
        out = self.ran(*commands[4], status=1)
        self.assertIn("0 blocked", out.splitlines()[0])
        for endpoint in ("GET /lots", "GET /lots/{lot_id}", "POST /lots/{lot_id}"):
            self.assertIn(f"HOLE    {endpoint}", out)
        self.assertIn('shows "Ghost lantern"', out)
        self.assertIn('app = "guarded:app"', TEXT)
        settings = files["bloodroot.toml"].replace("app:app", "guarded:app")
        (self.folder / "bloodroot.toml").write_text(settings, "utf-8")
        self.assertIn("0 holes, 0 blocked", self.ran(*commands[5]))
        self.assertIn("0 holes, 0 blocked", self.ran(*commands[6]))
        self.folder /= "house"
        words = shlex.split(re.findall(r"^bloodroot (why editor.*)$", TEXT, re.M)[0])
        self.assertIn("kiln 20 is in studio 2; the path says studio 1", self.ran(*words))
