"""Policy text to tree. Each function's first line is its piece of the grammar."""

from __future__ import annotations

from typing import TYPE_CHECKING, NoReturn, TypeVar

from . import tree
from .problems import Place, PolicyError, Problem, Source, suggestion
from .tokens import Entry, Section, Token, read_sections

if TYPE_CHECKING:
    from collections.abc import Callable

_T = TypeVar("_T")

AUDIENCES = ("anyone", "signed-in", "signed-out", "nobody")
ROOTS = ("caller", "record", "path", "query", "args")
METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT")
# Words of the language: none of them can be the name of a role or a condition.
RESERVED = frozenset(
    (
        *AUDIENCES,
        *ROOTS,
        *("and", "or", "not", "if", "in", "true", "false", "none", "now", "any", "includes", "default", "apart"),
        *("guarded", "action", "accept", "go", "hide", "status", "read", "change"),
    )
)
_COMPARISONS = frozenset(("==", "!=", "<", "<=", ">", ">="))
# A path, and brackets inside brackets, are limited so that no text can exhaust the interpreter's stack.
_DEEPEST = 40


def parse(text: str, name: str = "<text>") -> tree.Document:
    """Read a policy text into its tree.

    Args:
        text: the policy.
        name: what to call the text in messages, as a rule its file name.

    Returns:
        The tree of what was written. Names are not resolved yet.

    Raises:
        PolicyError: with every mistake in the text.
    """
    document, problems = parse_with_problems(text, name)
    if problems:
        raise PolicyError(problems)
    return document


def parse_with_problems(text: str, name: str = "<text>") -> tuple[tree.Document, list[Problem]]:
    """Read as much of a policy text as can be read, and every problem met on the way."""
    source = Source(name, tuple(text.split("\n")))
    sections, problems = read_sections(source)
    document = tree.Document(source)
    for section in sections:
        _section(document, section, problems)
    return document, problems


class _Mistake(Exception):
    """The entry at hand cannot be read."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem


class _Reader:
    """The tokens of one entry, read from left to right."""

    __slots__ = ("depth", "kind", "position", "source", "text", "tokens")

    def __init__(self, source: Source, entry: Entry) -> None:
        self.source = source
        self.tokens = entry.tokens
        self.depth = 0
        self.position = 0
        self.kind, self.text = entry.tokens[0][:2]

    def take(self) -> Token:
        """The token at hand; the next one becomes the token at hand."""
        token = self.tokens[self.position]
        if token.kind != "end":
            self.position += 1
            self.kind, self.text = self.tokens[self.position][:2]
        return token

    def place(self, token: Token | None = None) -> Place:
        """Where a token stands, by default the one at hand."""
        _, text, line, column = token or self.tokens[self.position]
        return Place(self.source, line, column, len(text) or 1)

    def word(self, token: Token | None = None) -> tree.Word:
        """The token at hand, or the one given, as a node."""
        _, text, line, column = token or self.take()
        return tree.Word(text, Place(self.source, line, column, len(text)))

    def at(self, text: str) -> bool:
        """Whether the word or mark at hand is this one."""
        return self.text == text and (self.kind == "word" or self.kind == "mark")

    def skip(self, text: str) -> bool:
        """Pass over this word or mark where it is at hand."""
        if self.at(text):
            self.take()
            return True
        return False

    def name(self, what: str) -> tree.Word:
        """NAME, and not one of the language's own words."""
        if self.kind != "word":
            self.fail(f"expected {what}, found {self.found()}")
        if "." in self.text or ":" in self.text:
            self.fail(f'"{self.text}" is not a name for {what}: letters, digits, - and _')
        if self.text in RESERVED:
            self.fail(f'"{self.text}" is a word of the language and cannot name {what}')
        return self.word()

    def string(self, what: str) -> str:
        """STRING, with its quotes off and its escapes undone."""
        if self.kind != "string":
            self.fail(f"expected {what} between double quotes, found {self.found()}")
        return _unquoted(self.take().text)

    def optional_string(self) -> str | None:
        """[ STRING ]"""
        return _unquoted(self.take().text) if self.kind == "string" else None

    def end(self, hint: str = "") -> None:
        """Nothing may be left of the entry."""
        if self.kind != "end":
            self.fail(f"did not expect {self.found()} here{hint}")

    def found(self) -> str:
        """The token at hand as a message calls it."""
        if self.kind == "end":
            return "the end of the line"
        return self.text if self.kind == "string" else f'"{self.text}"'

    def fail(self, message: str, place: Place | None = None) -> NoReturn:
        """Give up this entry."""
        raise _Mistake(Problem(message, place or self.place()))


def _unquoted(text: str) -> str:
    return text[1:-1].replace('\\"', '"').replace("\\\\", "\\") if "\\" in text else text[1:-1]


def _section(document: tree.Document, section: Section, problems: list[Problem]) -> None:
    """A header and its entries. A mistake spoils its own entry and nothing else."""
    if section.header.spoiled:
        _note_broken(document, section.entries)
        return
    head = _Reader(document.source, section.header)
    keyword = head.text
    try:
        read = _header(document, head)
    except _Mistake as mistake:
        problems.append(mistake.problem)
        _note_broken(document, section.entries)
        return
    if read is None:
        if section.entries:
            first = _Reader(document.source, section.entries[0])
            problems.append(Problem(f"the section {keyword} has no entries", first.place()))
        return
    source = document.source
    for entry in section.entries:
        if entry.spoiled:
            _note_broken(document, [entry])
            continue
        try:
            read(document, _Reader(source, entry))
        except _Mistake as mistake:
            problems.append(mistake.problem)
            _note_broken(document, [entry])


def _note_broken(document: tree.Document, entries: list[Entry]) -> None:
    document.broken.update(entry.tokens[0].text for entry in entries if entry.tokens)


def _header(document: tree.Document, head: _Reader) -> Callable[[tree.Document, _Reader], None] | None:
    """ "policy" STRING | "roles" | "groups" | "permissions" | "conditions" | "endpoints" | "always" """
    keyword = head.take()
    if keyword.text == "policy":
        title = head.string("the name of the policy")
        head.end()
        if document.title is not None:
            head.fail("this policy has a name already", head.place(keyword))
        document.title = title
        return None
    read = _SECTIONS.get(keyword.text)
    if read is None:
        words = ("policy", *_SECTIONS)
        guess = suggestion(keyword.text, words) or f"; sections are {', '.join(words)}, and entries are indented"
        head.fail(f'unknown section "{keyword.text}"{guess}', head.place(keyword))
    head.end("; entries stand under the header, one to a line and indented")
    return read


def _role(document: tree.Document, reader: _Reader) -> None:
    """NAME { "includes" names | "default" } [ STRING ]  |  "apart" names"""
    if reader.at("apart"):
        place = reader.place(reader.take())
        roles = _names(reader, "a role")
        reader.end()
        if len(roles) < 2:
            reader.fail("apart needs at least two roles, with commas between them", place)
        document.apart.append(tree.Apart(roles, place))
        return
    name = reader.name("a role")
    includes: list[tree.Word] = []
    default = False
    while reader.kind == "word":
        if reader.skip("includes"):
            includes += _names(reader, "a role")
        elif reader.skip("default"):
            default = True
        else:
            guess = suggestion(reader.text, ("includes", "default")) or '; write "includes", "default" or a text'
            reader.fail(f"did not expect {reader.found()} after the name of a role{guess}")
    description = reader.optional_string()
    reader.end()
    document.roles.append(tree.Role(name, includes, default, description))


def _group(document: tree.Document, reader: _Reader) -> None:
    """STRING names"""
    token = reader.tokens[0]
    name = tree.Word(reader.string("the name of a group"), reader.place(token))
    document.groups.append(tree.Group(name, _names(reader, "a role")))
    reader.end()


def _permission(document: tree.Document, reader: _Reader) -> None:
    """PERMISSION [ grant { "," grant } ] [ STRING ]"""
    if reader.kind != "word" or ":" not in reader.text:
        reader.fail(f"expected a permission such as thing:verb, found {reader.found()}")
    name = reader.word()
    _check_permission(reader, name)
    grants: list[tree.Grant] = []
    if reader.kind == "word":
        grants.append(_grant(reader))
        while reader.skip(","):
            grants.append(_grant(reader))
    description = reader.optional_string()
    reader.end("; grants have commas between them")
    document.permissions.append(tree.Permission(name, grants, description))


def _check_permission(reader: _Reader, name: tree.Word) -> None:
    """A permission has names between colons; a star may stand as the last part."""
    if "." in name.text:
        reader.fail("a permission has colons between its parts, not dots", name.place)
    if "*" in name.text[:-1]:
        reader.fail("in a permission, * may stand only as the last part", name.place)


def _grant(reader: _Reader) -> tree.Grant:
    """( NAME | audience ) [ "if" expression ]"""
    to = reader.word() if reader.text in AUDIENCES and reader.kind == "word" else reader.name("a role")
    condition = _expression(reader) if reader.skip("if") else None
    return tree.Grant(to, condition)


def _condition(document: tree.Document, reader: _Reader) -> None:
    """NAME expression [ STRING ]"""
    name = reader.name("a condition")
    expression = _expression(reader)
    message = reader.optional_string()
    reader.end()
    document.conditions.append(tree.Condition(name, expression, message))


def _endpoint(document: tree.Document, reader: _Reader) -> None:
    """methods PATH requirement [ STRING ]"""
    place = reader.place()
    methods = _methods(reader)
    if methods is None:
        reader.fail(f"expected a method such as GET, or any, found {reader.found()}")
    path = _path(reader, "expected a path that begins with /")
    requirement = _requirement(reader)
    description = reader.optional_string()
    reader.end()
    document.endpoints.append(tree.Endpoint(methods, path, requirement, description, place))


def _standing(document: tree.Document, reader: _Reader) -> None:
    """[ methods ] PATH requirement [ STRING ]"""
    place = reader.place()
    methods = _methods(reader) or ()
    path = _path(reader, "expected a path that begins with /, or methods and a path")
    requirement = _requirement(reader)
    description = reader.optional_string()
    reader.end()
    document.standing.append(tree.Standing(methods, path, requirement, description, place))


def _methods(reader: _Reader) -> tuple[str, ...] | None:
    """METHOD { METHOD } | "any" """
    if reader.skip("any"):
        return ()
    methods: list[str] = []
    while reader.kind == "word":
        method = reader.text
        if not method.isalpha() or not method.isupper():
            upper = method.upper()
            way_out = f"; write {upper}" if upper in METHODS else "; methods are written in capitals, such as GET"
            reader.fail(f'"{method}" is not a method{way_out}')
        if method in methods:
            reader.fail(f"{method} stands here twice")
        methods.append(method)
        reader.take()
        if reader.at(","):
            reader.fail("methods have blanks between them, not commas")
    return tuple(methods) or None


def _path(reader: _Reader, expected: str) -> tree.Word:
    """PATH"""
    if reader.kind != "path":
        reader.fail(f"{expected}, found {reader.found()}")
    return reader.word()


def _requirement(reader: _Reader) -> tree.Node:
    """alternative { "or" alternative }"""
    first = _alternative(reader)
    if not reader.at("or"):
        return first
    parts = [first]
    while reader.at("or"):
        if isinstance(parts[-1], tree.Given):
            reader.fail(
                'what follows "or" here could belong to the condition or stand beside it; '
                "put what belongs together between parentheses"
            )
        reader.take()
        parts.append(_alternative(reader))
    return tree.AnyOf(parts)


def _alternative(reader: _Reader) -> tree.Node:
    """term { "and" term } [ "if" expression ]"""
    part = _term(reader)
    if reader.at("and"):
        parts = [part]
        while reader.skip("and"):
            parts.append(_term(reader))
        part = tree.AllOf(parts)
    if reader.skip("if"):
        return tree.Given(part, _conjunction(reader))
    return part


def _term(reader: _Reader) -> tree.Node:
    """[ "not" ] ( NAME | PERMISSION | audience | "guarded" | "(" requirement ")" )"""
    if reader.at("not"):
        place = reader.place(reader.take())
        return tree.Negation(_deeper(reader, _term), place)
    if reader.at("("):
        return _bracketed(reader, _requirement)
    if reader.kind == "word":
        text = reader.text
        if ":" in text:
            permission = reader.word()
            if text.endswith("*"):
                reader.fail("what is asked for must be one permission; * may only be granted", permission.place)
            _check_permission(reader, permission)
            return permission
        if text in AUDIENCES or text == "guarded":
            return reader.word()
    return reader.name("a role, a permission or a condition")


def _expression(reader: _Reader) -> tree.Node:
    """conjunction { "or" conjunction }"""
    first = _conjunction(reader)
    if not reader.at("or"):
        return first
    parts = [first]
    while reader.skip("or"):
        parts.append(_conjunction(reader))
    return tree.AnyOf(parts)


def _conjunction(reader: _Reader) -> tree.Node:
    """negation { "and" negation }"""
    first = _negation(reader)
    if not reader.at("and"):
        return first
    parts = [first]
    while reader.skip("and"):
        parts.append(_negation(reader))
    return tree.AllOf(parts)


def _negation(reader: _Reader) -> tree.Node:
    """ "not" negation | comparison"""
    if reader.at("not"):
        place = reader.place(reader.take())
        return tree.Negation(_deeper(reader, _negation), place)
    return _comparison(reader)


def _comparison(reader: _Reader) -> tree.Node:
    """operand [ ( "==" | "!=" | "<" | "<=" | ">" | ">=" | "in" | "not" "in" ) operand ]"""
    start = reader.position
    left = _operand(reader)
    if reader.kind == "mark" and reader.text in _COMPARISONS:
        operator = reader.take().text
    elif reader.skip("in"):
        operator = "in"
    elif reader.at("not"):
        reader.take()
        if not reader.skip("in"):
            reader.fail(f'expected "in" after "not", found {reader.found()}')
        operator = "not in"
    else:
        if isinstance(left, tree.Literal) and not isinstance(left.value, bool):
            reader.fail("a value alone is not a condition; compare it with something", left.place)
        if isinstance(left, tree.Now | tree.Listing):
            reader.fail("this alone is not a condition; compare it with something", left.place)
        return left
    right = _operand(reader)
    if reader.kind == "mark" and reader.text in _COMPARISONS:
        reader.fail('comparisons do not chain; join two of them with "and"')
    for side in (left, right):
        if isinstance(side, tree.Word):
            reader.fail(f'"{side.text}" is the name of a condition and cannot be compared', side.place)
        if isinstance(side, tree.AllOf | tree.AnyOf | tree.Negation | tree.Comparison):
            reader.fail("what stands between parentheses is a condition and cannot be compared")
    return tree.Comparison(left, operator, right, reader.place(reader.tokens[start]))


def _operand(reader: _Reader) -> tree.Node:
    """reference | STRING | NUMBER | "true" | "false" | "none" | "now" | list | NAME | "(" expression ")" """
    kind, text = reader.kind, reader.text
    place = reader.place()
    if kind == "string":
        return tree.Literal(reader.string("a text"), place)
    if kind == "number":
        reader.take()
        return tree.Literal(float(text) if "." in text else int(text), place)
    if kind == "word":
        if "." in text:
            return _reference(reader)
        if text in _CONSTANTS:
            reader.take()
            return tree.Literal(_CONSTANTS[text], place)
        if text == "now":
            reader.take()
            return tree.Now(place)
        if text in ROOTS:
            reader.fail(f'"{text}" alone says nothing; write {text}.name')
        return reader.name("a condition")
    if reader.at("("):
        return _bracketed(reader, _expression)
    if reader.at("["):
        return _deeper(reader, _listing)
    reader.fail(f"expected something to compare or the name of a condition, found {reader.found()}")


_CONSTANTS = {"true": True, "false": False, "none": None}


def _reference(reader: _Reader) -> tree.Reference:
    """( "caller" | "record" | "path" | "query" | "args" ) "." NAME { "." NAME }"""
    word = reader.word()
    root, *names = word.text.split(".")
    if root not in ROOTS:
        guess = suggestion(root, ROOTS) or f"; a reference begins with {', '.join(ROOTS[:-1])} or {ROOTS[-1]}"
        reader.fail(f'"{root}" is nothing that can be asked{guess}', word.place)
    if ":" in word.text or "*" in word.text:
        reader.fail("a reference has names with dots between them", word.place)
    return tree.Reference(root, tuple(names), word.place)


def _listing(reader: _Reader) -> tree.Listing:
    """ "[" [ operand { "," operand } ] "]" """
    place = reader.place(reader.take())
    items: list[tree.Node] = []
    while not reader.at("]"):
        items.append(_operand(reader))
        if not reader.skip(",") and not reader.at("]"):
            reader.fail(f'expected "," or "]", found {reader.found()}')
    reader.take()
    return tree.Listing(items, place)


def _bracketed(reader: _Reader, inside: Callable[[_Reader], tree.Node]) -> tree.Node:
    """ "(" ... ")" """
    opening = reader.place(reader.take())
    node = _deeper(reader, inside)
    if not reader.at(")"):
        reader.fail(
            "this parenthesis is not closed" if reader.kind == "end" else f'expected ")", found {reader.found()}',
            opening if reader.kind == "end" else None,
        )
    reader.take()
    return node


def _deeper(reader: _Reader, inside: Callable[[_Reader], _T]) -> _T:
    """One level further in, up to a limit."""
    reader.depth += 1
    if reader.depth > _DEEPEST:
        reader.fail(f"this is nested more than {_DEEPEST} deep; give parts of it names of their own")
    node = inside(reader)
    reader.depth -= 1
    return node


def _names(reader: _Reader, what: str) -> list[tree.Word]:
    """NAME { "," NAME }"""
    names = [reader.name(what)]
    while reader.skip(","):
        names.append(reader.name(what))
    return names


_SECTIONS: dict[str, Callable[[tree.Document, _Reader], None]] = {
    "roles": _role,
    "groups": _group,
    "permissions": _permission,
    "conditions": _condition,
    "endpoints": _endpoint,
    "always": _standing,
}
