"""The policies of the repository."""

import re
from pathlib import Path

import bloodroot
from bloodroot.language.parser import parse


def policies_of_the_repository() -> list[str]:
    """Every policy in files, and in the documents."""
    root = Path(__file__).parents[2]
    files = [
        *root.glob("src/**/*.bloodroot"),
        *root.glob("docs/**/*.bloodroot"),
        *root.glob("tests/data/**/*.bloodroot"),
    ]
    texts = [file.read_text("utf-8") for file in files]
    for page in root.glob("docs/*.md"):
        texts += re.findall(r"```bloodroot\n(.*?)```", page.read_text("utf-8"), re.S)
    found = []
    for text in texts:
        try:
            parse(text)
        except bloodroot.PolicyError:
            continue
        found.append(text)
    assert len(found) > 8, len(found)
    return found
