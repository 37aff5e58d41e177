"""Policy text cut into entries, and each entry into tokens."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING, NamedTuple

from .operators import PATTERN
from .problems import Place, Problem, SourceText

if TYPE_CHECKING:
    from collections.abc import Iterator

_TOKEN = re.compile(
    r"""
    [ \t]*
    (?:
      (?P<word>[^\W\d][\w\-]*(?:[.:](?:\*|[\w\-]+))*\??)   # name, permission, reference, method
    | (?P<path>/[^\s\#]*)
    | (?P<string>"(?:[^"\\]|\\.)*")
    | (?P<date>\d{4}-\d{2}-\d{2}(?:[Tt]\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:[Zz]|[+-]\d{2}:\d{2})?)?(?![\w.:-]))
    | (?P<time>\d{2}:\d{2}(?::\d{2})?(?![\w.:]))
    | (?P<duration>\d+[smhdw](?![\w.]))
    | (?P<number>-?\d+(?:\.\d+)?(?![\w.]))
    | (?P<parameter>\{[^\s{}\#]*\})
    | (?P<mark>OPERATORS|[()\[\],*]|[+-](?=[\s\d]))
    | (?P<comment>\#.*)
    | (?P<stray>.+)
    )
    """.replace("OPERATORS", PATTERN),
    re.VERBOSE,
)

# What a reader does not see, or sees in another place: control characters and line ends that end no line here, and
# characters that are ignored in display or change the direction (Unicode's Default_Ignorable_Code_Point and
# Bidi_Control, of Unicode 16).
_UNSEEN = re.compile(
    "[\x00-\x08\x0b-\x1f\x7f-\x9f\u00ad\u034f\u061c\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u2028-\u202e"
    "\u2060-\u206f\u3164\ufe00-\ufe0f\ufeff\uffa0\ufff0-\ufff8\U0001bca0-\U0001bca3\U0001d173-\U0001d17a"
    "\U000e0000-\U000e0fff]"
).search


def unseen(line: str) -> re.Match[str] | None:
    """The first character of a line that a reader does not see, or None."""
    # Nearly all lines are plain, which is seen at once.
    if line.isascii() and (line.isprintable() or line.replace("\t", "").isprintable()):
        return None
    return _UNSEEN(line)


# What people type from other languages, and what to write here.
_FOREIGN = {
    "&": 'write "and"',
    "|": 'write "or"',
    "!": 'write "not", or != to compare',
    "=": "compare with ==",
    "'": 'text is written between double quotes: "..."',
    ":": 'a permission is "thing:verb", without blanks',
    ".": 'a reference is "record.name", without blanks',
    "{": "a path begins with /",
    ";": "entries go one to a line",
    "`": 'text is written between double quotes: "..."',
    "-": "a name begins with a letter",
}


# One word of an entry: its kind (``word``, ``path``, ``string``, ``number``, ``mark`` or ``end``), its text, and the
# line and column it begins at. A plain tuple, since a large policy has a hundred thousand of them.
Token = tuple[str, str, int, int]


@dataclass(slots=True)
class Entry:
    """One entry as text.

    Attributes:
        line: the number of its first line, counted from 1.
        text: its first line, indentation and comment included.
        indent: how far it is indented; a section header is not.
        more: its continuation lines with their numbers; None where there are none, as nearly always.
    """

    line: int
    text: str
    indent: int
    more: list[tuple[int, str]] | None = None


def read_entries(source: SourceText, problems: list[Problem]) -> Iterator[Entry]:
    """Cut a source into entries and section headers. Lines that belong to none are added to ``problems``."""
    entry: Entry | None = None
    of_section = -1  # how far the entries of the section at hand are indented: 0 before its first, -1 before a header
    for number, text in enumerate(source.lines, 1):
        unseen_text = unseen(text)
        if unseen_text is not None:
            message = f"an invisible character, U+{ord(unseen_text[0]):04X}, is not shown as what it is"
            problems.append(Problem(f"{message}; leave it out", Place(source, number, unseen_text.start() + 1, 1)))
            continue
        body = text.lstrip(" ")
        if not body or body[0] == "#" or body.isspace():
            continue
        indent = len(text) - len(body)
        if body[0] == "\t":
            problems.append(Problem("a tab in the indentation; use spaces", Place(source, number, indent + 1, 1)))
            continue
        if not indent or not of_section or indent == of_section:
            if entry is not None:
                yield entry
            entry = Entry(number, text, indent)
            of_section = indent
        elif of_section < 0:
            message = "this line belongs to no section; a section header such as endpoints starts in the first column"
            problems.append(Problem(message, Place(source, number, indent + 1, len(body.rstrip()))))
        elif indent > of_section and entry is not None:
            entry.more = entry.more or []
            entry.more.append((number, text))
        else:
            message = f"the entries of this section are indented by {of_section}, this one by {indent}; "
            message += "indent it like the others, or deeper to continue the entry above"
            problems.append(Problem(message, Place(source, number, 1, indent)))
    if entry is not None:
        yield entry


def tokens_of(source: SourceText, entry: Entry) -> Tokens:
    """The tokens of an entry, up to the first character that begins none; the last one has the kind ``end``."""
    tokens, problem = read_tokens(source, entry.line, entry.text, entry.indent)
    for number, text in entry.more or ():
        if problem is not None:
            break
        more, problem = read_tokens(source, number, text, 0)
        tokens[-1:] = more
    return Tokens(tokens, problem)


class Tokens(NamedTuple):
    """The tokens of a line or an entry.

    Attributes:
        tokens: the tokens.
        problem: the mistake that ends them early, if any.
    """

    tokens: list[Token]
    problem: Problem | None


def read_tokens(source: SourceText, number: int, text: str, start: int) -> Tokens:
    """The tokens of a line from one of its characters on, and the mistake that ends them early, if any."""
    tokens = [
        (kind, match[kind], number, match.start(kind) + 1)
        for match in _TOKEN.finditer(text.rstrip(), start)
        if (kind := match.lastgroup)
    ]
    problem = None
    if tokens:
        kind, found, _, column = tokens[-1]
        if kind == "comment":
            tokens.pop()
        elif kind == "stray":
            tokens.pop()
            problem = _stray(source, number, column, found)
    _, last, _, column = tokens[-1] if tokens else ("", "", 0, start + 1)
    tokens.append(("end", "", number, column + len(last)))
    return Tokens(tokens, problem)


def _stray(source: SourceText, number: int, column: int, rest: str) -> Problem:
    """The problem with a character that begins no token, from it to the end of the line."""
    sign = rest[0]
    if sign == '"':
        return Problem(
            'this string is not closed; it ends with " on the same line',
            Place(source, number, column, len(rest)),
        )
    if sign.isdigit():
        length = len(re.match(r"[\w.\-]+", rest)[0])  # type: ignore[index]
        return Problem("a name begins with a letter", Place(source, number, column, length))
    if not sign.isprintable():
        message = f"an invisible character, U+{ord(sign):04X}, which means nothing here; leave it out"
        return Problem(message, Place(source, number, column, 1))
    way_out = _FOREIGN.get(sign)
    return Problem(
        f'the character "{sign}" has no meaning here' + (f"; {way_out}" if way_out else ""),
        Place(source, number, column, 1),
    )


def comment_in(text: str) -> str:
    """The comment at the end of a line, its # included, or an empty string."""
    comment = ""
    for match in _TOKEN.finditer(text.rstrip()):
        if match.lastgroup == "comment":
            comment = match["comment"]
    return comment
