"""What the documents show can be used as it stands."""

import ast
import importlib
import re
import unittest
from pathlib import Path

from bloodroot.identity.seed_file import read_seed
from bloodroot.settings import identity, read_settings
from tests.program import InFolder

DOCS = Path(__file__).parent.parent / "docs"


class Identity(InFolder):
    TEXT = (DOCS / "identity.md").read_text("utf-8")

    def test_settings_can_be_read(self) -> None:
        blocks = re.findall(r"```toml\n(.*?)```", self.TEXT, re.S)
        self.assertGreater(len(blocks), 6)
        for block in blocks:
            with self.subTest(block):
                read_settings(self.write("bloodroot.toml", block))

    def test_the_seed_can_be_read(self) -> None:
        (block,) = (each for each in re.findall(r"\n\n```\n(.*?)```", self.TEXT, re.S) if "[[members]]" in each)
        seed = read_seed(self.write("seed.toml", block))
        self.assertEqual((seed.members[0].groups, seed.groups[0].name), (("science-staff",), "stock-taking"))

    def test_every_key_is_told_of(self) -> None:
        keys = {key for keys in identity._KEYS.values() for key in keys} | set(identity.QUERIES)
        for key in sorted(keys):
            self.assertRegex(self.TEXT, rf"\b{key} = ", key)


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
