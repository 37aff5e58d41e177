"""What the documents show can be used as it stands."""

import ast
import importlib.util
import inspect
import re
import tomllib
import unittest
from pathlib import Path
from typing import Any

from bloodroot.identity.seed_file import read_seed
from bloodroot.settings import read_settings
from tests.program import InFolder

DOCS = Path(__file__).parent.parent / "docs"


def made_by(name: str) -> Any:
    """A program of the documents, as a module."""
    spec = importlib.util.spec_from_file_location(name, DOCS / f"{name}.py")
    assert spec is not None and spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


make_python, make_settings = made_by("make_python"), made_by("make_settings")


class Identity(InFolder):
    TEXT = (DOCS / "identity.md").read_text("utf-8")

    def test_settings_can_be_read(self) -> None:
        blocks = re.findall(r"```toml\n(.*?)```", self.TEXT, re.S)
        self.assertGreater(len(blocks), 6)
        for block in blocks:
            with self.subTest(block):
                read_settings(self.write("bloodroot.toml", block))

    def test_the_seed_can_be_read(self) -> None:
        blocks = (each for each in re.findall(r"\n\n```\n(.*?)```", self.TEXT, re.S) if "[[members]]" in each)
        in_records, seed = (read_seed(self.write("seed.toml", block)) for block in blocks)
        self.assertEqual([held.role for held in in_records.members[0].roles_in], ["editor", "viewer"])
        self.assertEqual((seed.members[0].groups, seed.groups[0].name), (("science-staff",), "stock-taking"))


class Settings(InFolder):
    TEXT = (DOCS / "settings.md").read_text("utf-8")

    def part(self, heading: str) -> str:
        return re.split(r"(?m)^##", re.split(rf"(?m)^###? {re.escape(heading)}$", self.TEXT)[1])[0]

    def test_every_key_is_there_and_no_other(self) -> None:
        self.assertEqual(make_settings.text(), self.TEXT, "run docs/make_settings.py")

    def test_every_example_can_be_read(self) -> None:
        blocks = re.findall(r"```toml\n(.*?)```", self.TEXT, re.S)
        self.assertEqual(len(blocks), 16)
        for block in blocks:
            with self.subTest(block):
                self.write("secrets.env", "")
                read_settings(self.write("bloodroot.toml", block))

    def test_every_default_is_the_one_in_the_code(self) -> None:
        text = "[directory]\nurl = 'sqlite://'\n[token]\ndevelopment_key = '{env.K}'\n[personas.a]\n"
        text += "[identity]\nfrom = 'jwt'\nkey = '{env.K}'\n[probe.sign_in]\nhow = 'form'\npath = '/in'\n"
        found = read_settings(self.write("bloodroot.toml", text))
        objects = {
            "The project": found,
            "`[identity]`": found.identity[0].token,
            "`[directory]`": found.directory,
            "`[token]`": found.development,
            "`[personas.NAME]`": found.personas["a"],
            "`[probe.sign_in]`": found.probe.sign_ins[0],
            "`[probe]`": found.probe,
        }
        compared = 0
        for heading, about in objects.items():
            for key, default in re.findall(r"(?m)^\| `(\w+)` \| `([^`]*)`", self.part(heading)):
                if hasattr(about, key):
                    value = getattr(about, key)
                    shown = tomllib.loads(f"x = {default}")["x"]
                    shown = tuple(shown) if isinstance(shown, list) else shown
                    self.assertEqual(value.name if isinstance(value, Path) else value, shown, f"{heading} {key}")
                    compared += 1
        self.assertEqual(compared, 18)


class Python(unittest.TestCase):
    def test_what_is_shown_of_python_is_python(self) -> None:
        for file in (DOCS.parent / "README.md", *DOCS.glob("*.md")):
            for block in re.findall(r"```python\n(.*?)```", file.read_text("utf-8"), re.S):
                with self.subTest(f"{file.name}: {block[:40]}"):
                    tree = ast.parse(block)
                    for node in ast.walk(tree):
                        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("bloodroot"):
                            module = importlib.import_module(node.module)
                            for alias in node.names:
                                if not hasattr(module, alias.name):
                                    importlib.import_module(f"{node.module}.{alias.name}")


# Of libraries, or made by our own code alone.
FOREIGN = {
    *(
        "Any",
        "Callable",
        "Formula",
        "Iterable",
        "Iterator",
        "Mapping",
        "Sequence",
        "Path",
        "Unknown",
        "None",
        "Literal",
        "Exception",
        "PathLike",
        "LogRecord",
        "TestResult",
    ),
    *("AbstractContextManager", "ColumnElement", "Response", "HttpRequest", "HttpResponse", "QuerySet", "Q", "Model"),
    *("Starlette", "FastAPI", "Flask", "BaseException", "ASGIApp", "Scope", "Receive", "Send", "Environ", "App"),
}


class PublicSurface(unittest.TestCase):
    def test_the_page_has_every_public_name(self) -> None:
        self.assertEqual(make_python.PAGE.read_text("utf-8"), make_python.page(), "run python docs/make_python.py")

    def test_every_type_in_a_public_signature_is_public(self) -> None:
        names = {name for module in make_python.MODULES for name, _ in make_python.public(module)}
        for module in make_python.MODULES:
            for name, what in make_python.public(module):
                functions = [what] if inspect.isfunction(what) else []
                if inspect.isclass(what):
                    values = [value for _, value in make_python.members(what)]
                    functions = [value.fget if isinstance(value, property) else value for value in values]
                    functions += [what.__init__] if name in make_python.MADE else []
                for function in functions:
                    said = " ".join(map(str, getattr(function, "__annotations__", {}).values()))
                    for word in re.findall(r"\b[A-Z]\w+", said):
                        self.assertIn(word, names | FOREIGN, f"{module}.{name}, {function}")


class Pictures(unittest.TestCase):
    def test_every_picture_is_there_and_shown(self) -> None:
        files = [DOCS.parent / "README.md", *DOCS.glob("*.md")]
        linked = set()
        for file in files:
            for target in re.findall(r"\]\(([^)#:]+)(?:#[^)]*)?\)", file.read_text("utf-8")):
                self.assertTrue((file.parent / target).exists(), f"{file.name} leads to {target}")
                linked.add((file.parent / target).resolve())
        for picture in (DOCS / "screenshots").glob("*.png"):
            self.assertIn(picture.resolve(), linked, picture.name)
