"""The installed program, run as a user runs it."""

import contextlib
import gc
import importlib
import io
import multiprocessing
import os
import pkgutil
import runpy
import subprocess
import sys
import tempfile
import unittest
import weakref
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from textwrap import dedent
from unittest import mock

import argon2

import bloodroot
from bloodroot.cli import run
from bloodroot.demo import write_demo
from bloodroot.enforce import active_policies
from bloodroot.identity import passwords

PROGRAM = Path(sys.executable).parent / "bloodroot"
# What commands and the applications of tests import; a process that is forked has it already.
_LIMIT = 400  # seconds; machines stall
_LIBRARIES = ("django.test", "fastapi", "flask", "httpx", "matplotlib.figure", "sqlalchemy.orm", "uvicorn", "z3")


@dataclass(frozen=True)
class Run:
    """What came of one run."""

    status: int
    out: str
    err: str


@cache
def _cheap_hasher() -> argon2.PasswordHasher:
    """Hashes of what only tests sign in with; those that users get are tested in the tests of passwords."""
    return argon2.PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)


@cache
def _import_all() -> None:
    """Import what any command imports, once in this process."""
    for module in pkgutil.walk_packages(bloodroot.__path__, "bloodroot."):
        if ".demo.files" not in module.name and ".enforce." not in module.name:
            importlib.import_module(module.name)
    for name in _LIBRARIES:
        importlib.import_module(name)
    # Nothing of all this is ever garbage: it is not looked through again and again.
    gc.collect()
    gc.freeze()


def _nothing_in_force() -> dict[str, object]:
    """What the program begins with: no policy, no guard, no loader."""
    by_policy = {name: weakref.WeakKeyDictionary() for name in ("_loaders", "_reported")}
    return {"_policies": [], "_guards": weakref.WeakSet(), **by_policy}


def _begin(folder: Path, words: list[str], streams: tuple[int, int, int], environment: dict[str, str]) -> None:
    """In a process just forked: become the program, a module or a file of Python."""
    os.chdir(folder)
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
    sys.stdin, sys.stdout, sys.stderr = (
        open(number, mode, encoding=environment.get("PYTHONIOENCODING", "utf-8"), closefd=False)  # noqa: SIM115
        for number, mode in enumerate("rww")
    )
    os.environ.update(environment)
    passwords._hasher = _cheap_hasher
    for name, value in _nothing_in_force().items():
        setattr(active_policies, name, value)
    for name in [name for name in sys.modules if name.startswith(("tests.", "seedbank"))]:
        del sys.modules[name]
    sys.path[0] = str(PROGRAM.parent)
    sys.path[1:1] = [part for part in environment.get("PYTHONPATH", "").split(os.pathsep) if part]
    sys.argv = words
    if words[0] == "bloodroot":
        run()
    elif words[0] == "-m":
        sys.argv = words[1:]
        runpy.run_module(words[1], run_name="__main__", alter_sys=True)
    else:
        runpy.run_path(words[0], run_name="__main__")


def forked(folder: Path, *words: object, stdin: str = "", **environment: str) -> Run:
    """Run the program in a folder, in a process forked from this one: nothing is imported again, nothing is shared."""
    return forked_python(folder, "bloodroot", *words, stdin=stdin, **environment)


def alone(folder: Path, *words: object, stdin: str = "", **environment: str) -> Run:
    """Run the program where an application may set up Django, which can be done once in a process."""
    if _has_django():
        return in_new_process(folder, PROGRAM, *words, stdin=stdin, **environment)
    return forked(folder, *words, stdin=stdin, **environment)


def python_alone(folder: Path, *words: object, **environment: str) -> Run:
    """The same for ``-m MODULE ...`` or ``FILE ...``."""
    if _has_django():
        return in_new_process(folder, sys.executable, *words, **environment)
    return forked_python(folder, *words, **environment)


def _has_django() -> bool:
    """Whether a test before has set up Django in this process."""
    conf = sys.modules.get("django.conf")
    return conf is not None and bool(conf.settings.configured)


def in_new_process(folder: Path, *words: object, stdin: str = "", **environment: str) -> Run:
    """Run a program in a folder, in a process of its own, as a user does. It takes a second or two to begin."""
    done = subprocess.run(
        list(map(str, words)),
        cwd=folder,
        env={**os.environ, **environment},
        input=stdin,
        capture_output=True,
        text=True,
        timeout=_LIMIT,
    )
    return Run(done.returncode, done.stdout, done.stderr)


def forked_python(folder: Path, *words: object, stdin: str = "", **environment: str) -> Run:
    """The same for ``-m MODULE ...`` or ``FILE ...``."""
    _import_all()
    with tempfile.TemporaryFile() as given, tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        given.write(stdin.encode())
        given.seek(0)
        streams = given.fileno(), out.fileno(), err.fileno()
        process = multiprocessing.get_context("fork").Process(
            target=_begin, args=(folder, list(map(str, words)), streams, environment)
        )
        process.start()
        process.join(_LIMIT)
        if process.exitcode is None:
            process.kill()
            process.join()
        out.seek(0)
        err.seek(0)
        return Run(process.exitcode or 0, out.read().decode(), err.read().decode())


def _forget_modules() -> None:
    """Forget what was imported from temporary folders: another folder may have modules of the same names."""
    for name, module in [*sys.modules.items()]:
        file = str(getattr(module, "__file__", None) or "")
        if name != "__main__" and file.startswith(f"{tempfile.gettempdir()}{os.sep}"):
            del sys.modules[name]


def inside(folder: Path, *words: object, stdin: str = "", **environment: str) -> Run:
    """Run the program in a folder, in this process: what it imports from the folder is forgotten afterwards."""
    _forget_modules()
    given, out, err = (
        io.TextIOWrapper(io.BytesIO(text.encode()), environment.get("PYTHONIOENCODING", "utf-8"), write_through=True)
        for text in (stdin, "", "")
    )
    status = 0
    path = [*sys.path]
    with (
        contextlib.chdir(folder),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        mock.patch.object(sys, "argv", ["bloodroot", *map(str, words)]),
        mock.patch.object(sys, "stdin", given),
        mock.patch.dict(os.environ, environment),
        mock.patch.multiple(active_policies, **_nothing_in_force()),
        mock.patch.object(passwords, "_hasher", _cheap_hasher),
    ):
        try:
            run()
        except SystemExit as ended:
            status = int(ended.code or 0)
        finally:
            sys.path[:] = path
            _forget_modules()
    return Run(status, *(stream.buffer.getvalue().decode() for stream in (out, err)))  # type: ignore[attr-defined]


def write_bank(folder: Path) -> Path:
    """The files of the example and its members, without the run of everything that ``bloodroot demo`` does."""
    write_demo(folder, faulty=False)
    done = forked(folder, "seed", "members.toml")
    assert done.status == 0, done.err
    return folder


class InFolder(unittest.TestCase):
    """A test that works in a temporary folder of its own."""

    # How the program is run; forked where an application can be made but once in a process.
    runs = staticmethod(inside)

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

    def installed(self, *words: object, stdin: str = "", **environment: str) -> Run:
        """Run the installed program in the folder, as a user does."""
        done = in_new_process(self.folder, PROGRAM, *words, stdin=stdin, **{"COLUMNS": "160", **environment})
        self.assertNotIn("Traceback", done.err + done.out)
        return done

    def bloodroot(self, *words: object, stdin: str = "", **environment: str) -> Run:
        """Run the program in the folder, without the start of a process."""
        done = self.runs(self.folder, *words, stdin=stdin, **{"COLUMNS": "160", **environment})
        self.assertNotIn("Traceback", done.err + done.out)
        return done

    def ran(self, *words: object, status: int = 0, **environment: str) -> str:
        """What the program prints, when it ends with this status."""
        run = self.bloodroot(*words, **environment)
        self.assertEqual(run.status, status, run.out + run.err)
        return run.out
