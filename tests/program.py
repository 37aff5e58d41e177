"""The installed program, run as a user runs it."""

import contextlib
import io
import os
import subprocess
import sys
import tempfile
import unittest
import weakref
from dataclasses import dataclass
from pathlib import Path
from textwrap import dedent
from unittest import mock

from bloodroot.cli import run
from bloodroot.demo import write_demo
from bloodroot.enforce import in_force

PROGRAM = Path(sys.executable).parent / "bloodroot"


def write_bank(folder: Path) -> Path:
    """The files of the example and its members, without the run of everything that ``bloodroot demo`` does."""
    write_demo(folder, faulty=False)
    subprocess.run([PROGRAM, "seed", "members.toml"], cwd=folder, check=True, capture_output=True, timeout=120)
    return folder


@dataclass(frozen=True)
class Run:
    """What came of one run."""

    status: int
    out: str
    err: str


class InFolder(unittest.TestCase):
    """A test that works in a temporary folder of its own."""

    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name).resolve()

    def write(self, name: str, text: str) -> Path:
        """A file in the folder; the text may be indented with the test."""
        file = self.folder / name
        file.parent.mkdir(parents=True, exist_ok=True)
        file.write_text(dedent(text).lstrip("\n"), "utf-8")
        return file

    def bloodroot(self, *words: object, stdin: str | None = None, **environment: str) -> Run:
        """Run the program in the folder."""
        done = subprocess.run(
            [str(PROGRAM), *map(str, words)],
            cwd=self.folder,
            env={**os.environ, "COLUMNS": "160", **environment},
            input=stdin,
            capture_output=True,
            text=True,
            timeout=400,
        )
        self.assertNotIn("Traceback", done.stderr + done.stdout)
        return Run(done.returncode, done.stdout, done.stderr)

    def in_process(self, *words: object, stdin: str = "", **environment: str) -> Run:
        """The same program without a process of its own, for tables of many cases."""
        out, err = io.StringIO(), io.StringIO()
        status = 0
        path = [*sys.path]
        with (
            contextlib.chdir(self.folder),
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
            mock.patch.object(sys, "argv", ["bloodroot", *map(str, words)]),
            mock.patch.object(sys, "stdin", io.StringIO(stdin)),
            mock.patch.dict(os.environ, {"COLUMNS": "160", **environment}),
            # The program begins with no policy in force and no guard.
            mock.patch.object(in_force, "_policies", []),
            mock.patch.object(in_force, "_guards", weakref.WeakSet()),
            mock.patch.object(in_force, "_loaders", weakref.WeakKeyDictionary()),
        ):
            try:
                run()
            except SystemExit as ended:
                status = int(ended.code or 0)
            finally:
                # The next one may have modules of the same names in a folder of its own.
                sys.path[:] = path
                for name, module in [*sys.modules.items()]:
                    if str(getattr(module, "__file__", None) or "").startswith(f"{self.folder}{os.sep}"):
                        del sys.modules[name]
        self.assertNotIn("Traceback", err.getvalue() + out.getvalue())
        return Run(status, out.getvalue(), err.getvalue())

    def ran(self, *words: object, status: int = 0, alone: bool = True, **environment: str) -> str:
        """What the program prints, when it ends with this status; in a process alone, or in this one."""
        run = (self.bloodroot if alone else self.in_process)(*words, **environment)
        self.assertEqual(run.status, status, run.out + run.err)
        return run.out
