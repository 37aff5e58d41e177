"""Colours of the policy language: each token is where the tokenizer has it, for Pygments and for TextMate grammars."""

import json
import re
import shutil
import subprocess
import sys
import unittest
from pathlib import Path

from pygments.lexers import get_lexer_by_name, get_lexer_for_filename
from pygments.token import Comment, Error, Keyword, Name, Number, String

from bloodroot.language.problems import SourceText
from bloodroot.language.tokenizer import comment_in, read_entries, tokens_of
from tests.editing.policies import policies_of_the_repository

ROOT = Path(__file__).parents[2]
EDITORS = ROOT / "editors"
GRAMMAR = EDITORS / "vscode" / "syntaxes" / "bloodroot.tmLanguage.json"


def by_tokenizer(text: str) -> list[tuple[int, int, str]]:
    """The tokens of a policy: line, column and text."""
    source = SourceText("", tuple(text.split("\n")))
    found = []
    for entry in read_entries(source, []):
        tokens, problem = tokens_of(source, entry)
        assert problem is None, problem
        found += [(line, column, word) for kind, word, line, column in tokens if kind != "end"]
    return sorted(found)


def by_grammar(text: str) -> list[tuple[int, int, str, str]]:
    """The same by the TextMate grammar: at each place the first match, of several the first in the grammar."""
    rules = [(re.compile(rule["match"]), rule["name"]) for rule in json.loads(GRAMMAR.read_text("utf-8"))["patterns"]]
    found = []
    for number, line in enumerate(text.split("\n"), 1):
        place = 0
        while place < len(line):
            matches = [(match, name) for rule, name in rules if (match := rule.search(line, place)) and match[0]]
            if not matches:
                break
            match, name = min(matches, key=lambda each: each[0].start())
            found.append((number, match.start() + 1, match[0], name))
            place = match.end()
    return found


class Colours(unittest.TestCase):
    def test_tokens_are_those_of_the_language(self) -> None:
        lexer = get_lexer_by_name("bloodroot")
        for text in policies_of_the_repository():
            expected = by_tokenizer(text)
            found, line, column = [], 1, 1
            for _, token, word in lexer.get_tokens_unprocessed(text):
                self.assertIsNot(token, Error)
                if word.strip() and token is not Comment.Single:
                    found.append((line, column, word))
                line, column = (line + 1, 1) if word == "\n" else (line, column + len(word))
            self.assertEqual(found, expected)
            plain = [each[:3] for each in by_grammar(text) if not each[3].startswith("comment")]
            self.assertEqual(plain, expected)
            comments = [each[2] for each in by_grammar(text) if each[3].startswith("comment")]
            self.assertEqual(comments, [found for each in text.split("\n") if (found := comment_in(each))])

    def test_what_they_are_called(self) -> None:
        lexer = get_lexer_for_filename("x.bloodroot")
        text = (
            'endpoints\n  GET  /a/{b}  kiln:read or keeper if late  accept x "why"  # so\nconditions\n'
            "  late  record.due >= 2026-01-01 and now.time < 09:00 and 3 in [3]\n"
        )
        named = {word: token for _, token, word in lexer.get_tokens_unprocessed(text)}
        for word, token in (
            *(("endpoints", Keyword.Namespace), ("GET", Name.Function), ("/a/{b}", Name.Entity)),
            *(("kiln:read", Name.Constant), ("keeper", Name), ("accept", Keyword), ('"why"', String.Double)),
            *(("# so", Comment.Single), ("record.due", Name.Attribute), ("2026-01-01", Number.Date)),
            *(("now.time", Keyword.Constant), ("09:00", Number.Time), ("3", Number)),
        ):
            self.assertIs(named[word], token, word)

    def test_the_grammar_is_made_of_the_rules(self) -> None:
        done = subprocess.run(
            [sys.executable, "-c", "import make; print(make.text(), end='')"],
            cwd=EDITORS,
            capture_output=True,
            text=True,
            check=True,
        )
        self.assertEqual(GRAMMAR.read_text("utf-8"), done.stdout, "run python editors/make.py")

    def test_the_extension_has_what_it_names(self) -> None:
        folder = EDITORS / "vscode"
        package = json.loads((folder / "package.json").read_text("utf-8"))
        for name in (package["main"], *package["files"], package["contributes"]["grammars"][0]["path"]):
            self.assertTrue((folder / name).exists(), name)
        if shutil.which("npm") is None:
            return  # what the machine has is tried
        done = subprocess.run(
            ["npm", "pack", "--dry-run", "--json", "--offline"], cwd=folder, capture_output=True, text=True, check=True
        )
        packed = {each["path"] for each in json.loads(done.stdout)[0]["files"]}
        self.assertLessEqual({"extension.js", "package.json", "syntaxes/bloodroot.tmLanguage.json"}, packed)
        subprocess.run(["node", "--check", "extension.js"], cwd=folder, check=True)
