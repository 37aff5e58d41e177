"""Writes the TextMate grammar from the rules of bloodroot.editing.highlighting: python editors/make.py"""

import json
from pathlib import Path

from bloodroot.editing.highlighting import grammar

FILE = Path(__file__).parent / "vscode" / "syntaxes" / "bloodroot.tmLanguage.json"


def text() -> str:
    """The grammar as it is in the file."""
    return json.dumps(grammar(), indent=2) + "\n"


if __name__ == "__main__":
    FILE.write_text(text(), "utf-8")
