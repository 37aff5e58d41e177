"""Applications with holes planted on purpose: what the survey, the checks and the probe say of them."""

import json
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "bloodroot"
DATA = Path(__file__).parents[1] / "data"


def written(text: str, thing: str) -> str:
    """What is written for each thing, for one of them."""
    return text.replace("THING", thing).replace("Kind", thing.title())


class Planted(unittest.TestCase):
    def run_in(self, folder: Path, *words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(list(words), cwd=folder, capture_output=True, text=True, timeout=900)

    def see(self, project: Callable[..., None], expected: set[str], endpoints: str) -> None:
        """See that it is green where it is sound, and that each hole is found where it is not.

        Args:
            project: writes the application into a folder, sound or with its holes.
            expected: the endpoints with holes.
            endpoints: how the survey begins.
        """
        for faulty in (False, True):
            with self.subTest(faulty=faulty), tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                project(folder, faulty=faulty)
                if not faulty:
                    survey = self.run_in(folder, str(PROGRAM), "survey")
                    self.assertEqual(survey.returncode, 0, survey.stdout[-2000:] + survey.stderr[-2000:])
                    self.assertIn(endpoints, survey.stdout.splitlines()[0])
                    check = self.run_in(folder, str(PROGRAM), "check")
                    self.assertEqual(check.returncode, 0, check.stdout[-3000:] + check.stderr[-2000:])
                probed = self.run_in(folder, str(PROGRAM), "probe", "--format", "json")
                self.assertTrue(probed.stdout, probed.stderr[-2000:])
                result = json.loads(probed.stdout)
                seen = result["observations"]
                holes = {f"{each['method']} {each['template']}" for each in seen if each["verdict"] == "hole"}
                if faulty:
                    self.assertEqual(expected - holes, set(), "not found")
                    others = sorted(holes - expected)
                    print(f"{len(expected)} planted, {len(holes)} endpoints with holes: {others} beside")
                else:
                    self.assertEqual((probed.returncode, holes), (0, set()), result["counts"])
                print(result["counts"])
