"""The full example: the sound application has no hole, and each planted mistake in the other is found."""

import subprocess
import sys
from pathlib import Path

from tests.program import InFolder


class Demo(InFolder):
    def test_the_sound_application_agrees(self) -> None:
        out = self.ran("demo", "bank")
        self.assertIn("0 holes, 0 blocked, 382 agree; 38 endpoints as 9 personas", out)
        self.assertIn("The application does what the policy declares.", out)
        self.assertEqual((self.folder / "bank" / "secrets.env").stat().st_mode & 0o077, 0)
        again = self.bloodroot("demo", "bank")
        self.assertEqual(again.status, 2)
        self.assertIn("this file is there already", again.err)
        self.folder /= "bank"
        self.assertIn("0 holes", self.ran("probe"))
        # SQLite finds member 5 by each of these; nobody suspends oneself by writing the number another way.
        for number in ("5", "05", "5.0", "%205", "5e0", "+5"):
            self.assertIn("deny (condition)", self.ran("why", "registrar", "POST", f"/members/{number}/suspend"))
        self.assertIn("allow", self.ran("why", "registrar", "POST", "/members/6/suspend"))
        done = subprocess.run([sys.executable, "-m", "seedbank.reset"], cwd=self.folder, capture_output=True, text=True)
        self.assertEqual((done.returncode, done.stderr), (0, ""))

    def test_each_planted_mistake_is_found(self) -> None:
        out = self.ran("demo", "--faulty", "bank")
        holes = [" ".join(part.split()) for part in out.split("HOLE")[1:]]
        for start, part in (
            ("POST /accessions/{accession_id} ", "declared sign-in for visitor"),
            ("GET /reports/{report} ", "declared sign-in for visitor observed let in"),
            ("GET /members ", "declared deny for guest observed let in"),
            ("GET /accessions ", 'observed shows "Ghost lantern"'),
            ("GET /api/accessions ", 'observed shows "Ghost lantern"'),
            ("POST /exchanges/{exchange_id}/send ", "observed let in"),
        ):
            with self.subTest(start):
                found = [hole for hole in holes if hole.startswith(start)]
                self.assertEqual(len(found), 1, out)
                self.assertIn(part, found[0])
        self.assertEqual(len(holes), 6)
        self.assertIn("0 blocked", out)

    def test_no_secret_is_in_the_files(self) -> None:
        self.ran("demo", "bank")
        secrets = [line.split("=", 1)[1] for line in (self.folder / "bank" / "secrets.env").read_text().split()]
        for file in Path(self.folder / "bank").rglob("*"):
            if file.is_file() and file.name != "secrets.env":
                for secret in secrets:
                    self.assertNotIn(secret.encode(), file.read_bytes(), file.name)
