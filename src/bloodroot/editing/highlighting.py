"""The policy language in colours: a lexer for Pygments, and the same rules as a TextMate grammar.

Each token of the language is one token here, from its first sign to its last; only what it is called differs.
"""

from __future__ import annotations

from typing import Any, ClassVar, NamedTuple

from pygments.lexer import RegexLexer
from pygments.token import Comment, Keyword, Name, Number, Operator, Punctuation, String, Text

from ..language.operators import PATTERN
from ..language.parser import METHODS, SECTIONS
from ..language.reader import AUDIENCES, ROOTS

# A word ends where none of these follows.
_END = r"(?![\w\-])(?![.:][\w\-*])"


class Rule(NamedTuple):
    """What a piece of text is.

    Attributes:
        pattern: which pieces, as Python and Oniguruma read it alike.
        token: what Pygments calls it.
        scope: what TextMate grammars call it.
    """

    pattern: str
    token: Any
    scope: str


def _words(*words: str) -> str:
    return rf"(?:{'|'.join(sorted(words, key=len, reverse=True))}){_END}"


RULES = (
    Rule(r"#.*", Comment.Single, "comment.line.number-sign"),
    Rule(r'"(?:[^"\\]|\\.)*"', String.Double, "string.quoted.double"),
    Rule(rf"^{_words(*(word for word in SECTIONS if word.isalpha()))}", Keyword.Namespace, "keyword.control.section"),
    Rule(r"\{[^\s{}#]*\}", Name.Variable, "variable.parameter"),
    Rule(r"/[^\s#]*", Name.Entity, "string.unquoted.path"),
    Rule(
        r"\d{4}-\d{2}-\d{2}(?:[Tt]\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?(?:[Zz]|[+-]\d{2}:\d{2})?)?(?![\w.:-])",
        Number.Date,
        "constant.numeric.date",
    ),
    Rule(r"\d{2}:\d{2}(?::\d{2})?(?![\w.:])", Number.Time, "constant.numeric.time"),
    Rule(r"\d+[smhdw](?![\w.])", Number.Duration, "constant.numeric.duration"),
    Rule(r"-?\d+(?:\.\d+)?(?![\w.])", Number, "constant.numeric"),
    Rule(_words(*METHODS, "WEBSOCKET", "any", "action"), Name.Function, "support.function.method"),
    Rule(_words(*AUDIENCES, "guarded"), Name.Builtin, "support.constant.audience"),
    Rule(_words("true", "false", "none", "now", "now.time", "now.weekday"), Keyword.Constant, "constant.language"),
    Rule(_words("and", "or", "not", "in", "if"), Operator.Word, "keyword.operator.word"),
    Rule(
        _words(*("includes", "default", "apart", "by", "read", "change", "status", "go", "hide"))
        + "|"
        + _words("accept", "except", "zone"),
        Keyword,
        "keyword.other",
    ),
    Rule(rf"(?:{'|'.join(ROOTS)})(?:\.[\w\-]+)+\??", Name.Attribute, "variable.other.property"),
    Rule(r"[^\W\d][\w\-]*:(?:\*|[\w\-]+)(?:[.:](?:\*|[\w\-]+))*\??", Name.Constant, "entity.name.function.permission"),
    Rule(r"[^\W\d][\w\-]*(?:[.:](?:\*|[\w\-]+))*\??", Name, "entity.name.type"),
    Rule(PATTERN, Operator, "keyword.operator.comparison"),
    Rule(r"[()\[\],*]|[+-](?=[\s\d])", Punctuation, "punctuation"),
)


class PolicyLexer(RegexLexer):
    """Policies, for Pygments."""

    name = "Bloodroot policy"
    url = "https://pypi.org/project/bloodroot/"
    aliases: ClassVar[list[str]] = ["bloodroot"]
    filenames: ClassVar[list[str]] = ["*.bloodroot"]
    mimetypes: ClassVar[list[str]] = []
    version_added = ""
    tokens: ClassVar[dict[str, Any]] = {
        "root": [(r"[ \t\r]+|\n", Text), *((rule.pattern, rule.token) for rule in RULES), (r".", Text)]
    }


def grammar() -> dict[str, Any]:
    """The same as a TextMate grammar, as plain data."""
    return {
        "name": "Bloodroot policy",
        "scopeName": "source.bloodroot",
        "fileTypes": ["bloodroot"],
        "patterns": [{"match": rule.pattern, "name": f"{rule.scope}.bloodroot"} for rule in RULES],
    }
