"""What is wrong in the files of a policy: mistakes, and what checks find; and the ways out that an editor can take."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from ..checks.checking import KINDS, check
from ..checks.preparing import prepare
from ..core.finding import Severity
from ..language.operators import OPERATORS
from ..language.problems import Place, SourceText
from ..language.tokenizer import Entry, tokens_of
from .projects import Compiled

_MEANT = re.compile(r'did you mean "([^"]+)"\?').search


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """Something at a place.

    Attributes:
        file: the file.
        line: the line, counted from 0.
        start: where it begins in the line, counted from 0.
        end: where it ends.
        message: what is wrong, and what to do.
        severity: how bad it is; an error for a mistake.
        finding: the name of the finding; None for a mistake.
        meant: what is to be written in its place; None where that is not known.
    """

    file: Path
    line: int
    start: int
    end: int
    message: str
    severity: Severity
    finding: str | None = None
    meant: str | None = None


def mistakes(compiled: Compiled) -> list[Diagnosis]:
    """The mistakes of a policy."""
    diagnoses = []
    for problem in compiled.problems:
        meant = _MEANT(problem.message)
        diagnoses.append(
            _at(problem.place, problem.message, Severity.ERROR, meant=meant[1] if meant is not None else None)
        )
    return diagnoses


def findings(compiled: Compiled) -> list[Diagnosis]:
    """What checks find in a policy without mistakes; what is found in the application is left to the command.

    Raises:
        BloodrootError: the checks cannot run.
    """
    if compiled.policy is None or compiled.document is None:
        return []
    result = check(prepare(compiled.policy, compiled.document, compiled.settings, [], compiled.main.parent))
    names = {str(file) for file in compiled.files}
    return [
        _at(
            finding.place,
            " ".join(filter(None, (finding.message, finding.remedy))),
            finding.severity,
            finding=finding.name,
        )
        for finding in result.findings
        if finding.place.source.name in names
    ]


def _at(
    place: Place, message: str, severity: Severity, *, finding: str | None = None, meant: str | None = None
) -> Diagnosis:
    line, start = max(place.line - 1, 0), max(place.column - 1, 0)
    return Diagnosis(
        Path(place.source.name), line, start, start + max(place.length, 1), message, severity, finding, meant
    )


class Insertion(NamedTuple):
    """What is written into a line.

    Attributes:
        at: the place in the line, counted from 0.
        text: what is written there.
    """

    at: int
    text: str


def accepting(lines: list[str], line: int, finding: str) -> Insertion | None:
    """Where in the line of an entry ``accept`` goes, counted from 0, and its text; None where it cannot.

    Args:
        lines: the lines of the file.
        line: the line of the entry, counted from 0.
        finding: the name of the finding.
    """
    if finding not in KINDS or line >= len(lines):
        return None
    text = lines[line]
    source = SourceText("<editor>", (text,))
    tokens, problem = tokens_of(source, Entry(1, text, len(text) - len(text.lstrip(" "))))
    words = [token for token in tokens if token[0] != "end"]
    if problem is not None or not words or not text.startswith(" "):
        return None
    last = words[-1]
    before = [token[1] for token in words[-3:-1]]
    is_operand = before[-1:] and (before[-1] in OPERATORS or before[-1] in ("in", "[", ","))
    is_description = last[0] == "string" and "accept" not in before and len(words) > 1 and not is_operand
    at = last[3] - 1 if is_description else last[3] - 1 + len(last[1])
    words_of_it = f'accept {finding} "why this is right"'
    return Insertion(at, f"{words_of_it}  ") if is_description else Insertion(at, f"  {words_of_it}")
