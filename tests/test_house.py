"""What may import what, and what a production service loads."""

import ast
import subprocess
import sys
import unittest
from graphlib import TopologicalSorter
from pathlib import Path

ROOT = Path(__file__).parent.parent / "src" / "bloodroot"
ROOMS = (
    "cli",
    "editing",
    "serving",
    "testing",
    "report",
    "replay",
    "exporting",
    "review",
    "comparison",
    "checks",
    "probe",
    "demo",
    "survey",
    "frameworks",
    "enforce",
    "identity",
    "settings",
    "clusters",
    "revisions",
    "files",
    "writing",
    "endings",
    "request",
    "api_access",
    "core",
    "language",
)
# Each room may import from those to its right, and from itself.
ALLOWED = {room: ROOMS[number:] for number, room in enumerate(ROOMS)}


def imports(file: Path) -> set[str]:
    """The modules of ours that a file imports, as dotted names below the package."""
    package = ("bloodroot", *file.relative_to(ROOT).parent.parts)
    found = set()
    for node in ast.walk(ast.parse(file.read_text("utf-8"))):
        if isinstance(node, ast.ImportFrom):
            base = package[: len(package) - node.level + 1] if node.level else ()
            module = (*base, *(node.module or "").split("."))
            if module[0] == "bloodroot":
                found |= {".".join((*filter(None, module[1:]), alias.name)) for alias in node.names}
    return found


class House(unittest.TestCase):
    def test_imports_run_one_way(self) -> None:
        for file in ROOT.rglob("*.py"):
            parts = file.relative_to(ROOT).parts
            room = parts[0].removesuffix(".py")
            if room not in ALLOWED or "files" in parts[1:]:
                continue
            for name in imports(file):
                other = name.split(".")[0]
                if other in ALLOWED:
                    self.assertIn(other, ALLOWED[room], f"{'/'.join(parts)} imports {name}")

    def test_no_imports_go_in_a_circle_not_even_for_type_checkers(self) -> None:
        modules = {".".join(file.relative_to(ROOT).with_suffix("").parts): file for file in ROOT.rglob("*.py")}
        modules = {name: file for name, file in modules.items() if ".files." not in name}
        needs = {}
        for name, file in modules.items():
            found = imports(file)
            needs[name] = {each for each in found if each in modules}
            needs[name] |= {each.rpartition(".")[0] for each in found if each not in modules} & modules.keys()
        TopologicalSorter({name: others - {name} for name, others in needs.items()}).prepare()

    def test_every_error_is_one_of_ours(self) -> None:
        for file in ROOT.rglob("*.py"):
            if "files" in file.relative_to(ROOT).parts[:-1]:
                continue
            for node in ast.walk(ast.parse(file.read_text("utf-8"))):
                # A mistake in one entry, which the parser turns into a problem.
                if isinstance(node, ast.ClassDef) and node.name not in ("BloodrootError", "Mistake"):
                    bases = [base.id for base in node.bases if isinstance(base, ast.Name)]
                    errors = {"Exception", "RuntimeError", "ValueError", "LookupError", "TypeError"} & set(bases)
                    self.assertTrue(not errors or "BloodrootError" in bases, f"{file.name}: {node.name}")

    def test_no_error_hides_its_cause(self) -> None:
        for file in ROOT.rglob("*.py"):
            for node in ast.walk(ast.parse(file.read_text("utf-8"))):
                hides = isinstance(node, ast.Raise) and isinstance(node.cause, ast.Constant)
                self.assertFalse(hides, f"{file}:{getattr(node, 'lineno', '')}")

    def test_no_two_files_of_one_name_mean_different_things(self) -> None:
        # A command, the tables of its result, and what it is about may have one name; each room may have its errors.
        alike = {
            "__init__.py",
            # How it is enforced, and what else is asked of a framework.
            *("aiohttp.py", "django.py", "falcon.py", "fastapi.py", "flask.py"),
            *("litestar.py", "quart.py", "sanic.py", "starlette.py"),
            "ask.py",
            "check.py",
            "compare.py",
            "entrance.py",
            "errors.py",
            "expected.py",
            "matrix.py",
            "members.py",
            "probe.py",
            "replay.py",
            "review.py",
            "roles.py",
            "roles_added.py",
            "survey.py",
            "tried.py",
            "why.py",
        }
        names = [
            file.name
            for file in ROOT.rglob("*.py")
            if not {"files", "tenants"} & set(file.relative_to(ROOT).parts[:-1])
        ]
        self.assertEqual({name for name in names if names.count(name) > 1} - alike, set())

    def test_the_heart_needs_the_standard_library_alone(self) -> None:
        code = (
            "import sys; before = set(sys.modules); import bloodroot, bloodroot.core.matrix; "
            "[getattr(bloodroot, name) for name in bloodroot.__all__]; "
            "print(*{m.split('.')[0] for m in set(sys.modules) - before})"
        )
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        others = {name for name in done.stdout.split() if name not in sys.stdlib_module_names}
        self.assertEqual(others, {"bloodroot"})

    def test_enforcement_needs_no_framework(self) -> None:
        code = "import sys, bloodroot.enforce.asgi; print(*sorted({m.split('.')[0] for m in sys.modules}))"
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
        for name in ("starlette", "httpx", "rich", "typer", "jwt", "sqlalchemy", "numpy"):
            self.assertNotIn(name, done.stdout.split())
