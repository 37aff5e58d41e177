"""Applications with holes planted on purpose: what the survey, the checks and the probe say of them."""

import json
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "bloodroot"
DATA = Path(__file__).parents[1] / "data"


def written(text: str, thing: str) -> str:
    """What is written for each thing, for one of them."""
    return text.replace("THING", thing).replace("Kind", thing.title())


def with_models(app: str, things: tuple[str, ...]) -> str:
    """An application with a table for each thing."""
    models = "\n\n".join(f'class {each.title()}(Owned, Base):\n    __tablename__ = "{each}"' for each in things)
    models += f"\n\n\nALL = {{{', '.join(f'{each!r}: {each.title()}' for each in things)}}}"
    return app.replace("# MODELS", models)


def exchanged(text: str, holes: Iterable[tuple[str, str]]) -> str:
    """A text with each hole in the place of what is sound, which is there once."""
    for one, other in holes:
        assert text.count(one) == 1, one
        text = text.replace(one, other)
    return text


def samples_of(things: tuple[str, ...]) -> str:
    """The settings of records that are a persona's own, and of those that are not."""
    ids = ", ".join(f'{thing}_id = "{{persona.KEY}}"' for thing in things)
    found = "".join(f"{thing}_id = 1\n" for thing in things)
    found += f"\n[samples.own]\nholds = {{ {ids.replace('KEY', 'mine')} }}\n"
    return found + f'fails = {{ {ids.replace("KEY", "other")}, mark = "{{persona.of_other}}" }}\n\n[bodies]\n'


def write_all(folder: Path, made: Mapping[str, str]) -> None:
    """Write files into a folder, by name."""
    for name, text in made.items():
        (folder / name).parent.mkdir(exist_ok=True)
        (folder / name).write_text(text, "utf-8")


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
