"""Policy text to tree. Each function's first line is its piece of the grammar."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NoReturn

from . import tree
from .problems import Place, PolicyError, Problem, Source, suggestion
from .tokens import Entry, Token, read_entries, tokens_of

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
_ANSWERS = ("status", "go", "hide")
_COMPARISONS = frozenset(("==", "!=", "<", "<=", ">", ">="))
_ESCAPED = re.compile(r"\\(.)")
_PLAIN_ENDPOINT = re.compile(r' +([A-Z]+(?: +[A-Z]+)*|any) +(/[^\s#]*) +([^"#]+)').fullmatch
_LONGEST_NUMBER = 40
# Brackets inside brackets are limited so that no text can exhaust the interpreter's stack.
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
    document = tree.Document(Source(name, tuple(text.split("\n"))))
    return document, _Parser(document).run()


class _Parser:
    """One text being read: its document so far, and the problems met."""

    def __init__(self, document: tree.Document) -> None:
        self.document = document
        self.source = document.source
        self.problems: list[Problem] = []
        self.section: tree.Section | None = None
        self.methods: dict[str, tuple[str, ...]] = {}
        self.requirements: dict[str, tree.Node] = {}
        self.terms: set[str] = set()

    def run(self) -> list[Problem]:
        """Read every entry. A mistake spoils its own entry and nothing else."""
        read: _ReadEntry | None = None
        for entry in read_entries(self.source, self.problems):
            if entry.indent and read is _endpoint and not entry.more and self.section is not None:
                known = _known_endpoint(self, entry)
                if known is not None:
                    self.section.entries.append(known)
                    continue
            tokens, problem = tokens_of(self.source, entry)
            try:
                if problem is not None:
                    raise _Mistake(problem)
                if not entry.indent:
                    read = self.section = None
                    read, self.section = _header(self, _Reader(self.source, tokens))
                    self.document.sections.append(self.section)
                elif read is not None and self.section is not None:
                    self.section.entries.append(read(self, _Reader(self.source, tokens)))
                else:
                    self.document.broken.add(tokens[0][1])
            except _Mistake as mistake:
                self.problems.append(mistake.problem)
                # So that a name is not called unknown only because its own line has a mistake in it.
                self.document.broken.add(tokens[0][1])
        return self.problems


class _Mistake(Exception):
    """The entry at hand cannot be read."""

    def __init__(self, problem: Problem) -> None:
        self.problem = problem


class _Reader:
    """The tokens of one entry, read from left to right. Words are placed from an origin, by default the first."""

    __slots__ = ("depth", "kind", "origin", "position", "source", "text", "tokens")

    def __init__(self, source: Source, tokens: list[Token]) -> None:
        self.source = source
        self.tokens = tokens
        self.depth = 0
        self.position = 0
        self.kind, self.text, line, column = tokens[0]
        self.origin = (line, column)

    def take(self) -> Token:
        """The token at hand; the next one becomes the token at hand."""
        token = self.tokens[self.position]
        if token[0] != "end":
            self.position += 1
            self.kind, self.text, _, _ = self.tokens[self.position]
        return token

    def place(self, token: Token | None = None) -> Place:
        """Where a token stands, by default the one at hand."""
        _, text, line, column = token or self.tokens[self.position]
        return Place(self.source, line, column, len(text) or 1)

    def from_here(self) -> Place:
        """Make the token at hand the origin of the words that follow."""
        place = self.place()
        self.origin = (place.line, place.column)
        return place

    def word(self) -> tree.Word:
        """The token at hand, as a node."""
        _, text, line, column = self.take()
        down = line - self.origin[0]
        return tree.Word(text, down, column - (1 if down else self.origin[1]))

    def skip(self, text: str) -> bool:
        """Pass over this word or mark where it is at hand. A string, quotes and all, is never taken for one."""
        if self.text == text:
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
        return _unquoted(self.take()[1])

    def optional_string(self) -> str | None:
        """[ STRING ]"""
        return _unquoted(self.take()[1]) if self.kind == "string" else None

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
    return _ESCAPED.sub(r"\1", text[1:-1]) if "\\" in text else text[1:-1]


# Sections --------------------------------------------------------------------------------------------------------


def _header(parser: _Parser, head: _Reader) -> tuple[_ReadEntry, tree.Section]:
    """section = "policy" STRING | "include" STRING | ( "roles" | ... | "denials" | "fields" NAME )"""
    place = head.place()
    keyword = head.take()[1]
    argument = None
    if keyword in ("policy", "include"):
        argument = head.string("the name of the policy" if keyword == "policy" else "the name of a file")
        if keyword == "policy" and parser.document.headed("policy"):
            head.fail("this policy has a name already", place)
    elif keyword == "fields":
        argument = head.name("a kind of record").text
    elif keyword not in _SECTIONS:
        words = tuple(_SECTIONS)
        guess = suggestion(keyword, words) or f"; sections are {', '.join(words)}, and entries are indented"
        head.fail(f'unknown section "{keyword}"{guess}', place)
    head.end("; entries stand under the header, one to a line and indented")
    return _SECTIONS[keyword], tree.Section(keyword, argument, [], place)


def _nothing(parser: _Parser, reader: _Reader) -> tree.Entry:  # noqa: ARG001
    """A section that is a header and nothing else."""
    reader.fail("this section has no entries; what belongs to it stands in its own line")


def _role(parser: _Parser, reader: _Reader) -> tree.Role | tree.Apart:  # noqa: ARG001
    """role = NAME { "includes" names | "default" } [ STRING ]  |  "apart" names"""
    place = reader.place()
    if reader.skip("apart"):
        roles = _names(reader, "a role")
        reader.end()
        if len({role.text for role in roles}) < 2:
            reader.fail("apart needs at least two roles, with commas between them", place)
        return tree.Apart(roles, place)
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
    return tree.Role(name, includes, default, description, place)


def _group(parser: _Parser, reader: _Reader) -> tree.Group:  # noqa: ARG001
    """group = STRING names"""
    place = reader.place()
    name = reader.string("the name of a group")
    roles = _names(reader, "a role")
    reader.end()
    return tree.Group(name, roles, place)


def _permission(parser: _Parser, reader: _Reader) -> tree.Permission:  # noqa: ARG001
    """permission = PERMISSION [ grant { "," grant } ] [ STRING ]"""
    place = reader.place()
    if reader.kind != "word" or ":" not in reader.text:
        reader.fail(f"expected a permission such as thing:verb, found {reader.found()}")
    _check_permission(reader)
    name = reader.word()
    grants: list[tree.Grant] = []
    if reader.kind == "word":
        grants.append(_grant(reader))
        while reader.skip(","):
            grants.append(_grant(reader))
    description = reader.optional_string()
    reader.end("; grants have commas between them")
    return tree.Permission(name, grants, description, place)


def _check_permission(reader: _Reader) -> None:
    """A permission has names between colons; a star may stand as the last part."""
    if "." in reader.text:
        reader.fail("a permission has colons between its parts, not dots")
    if "*" in reader.text[:-1]:
        reader.fail("in a permission, * may stand only as the last part")


def _grant(reader: _Reader) -> tree.Grant:
    """grant = ( NAME | audience ) [ "if" expression ]"""
    to = reader.word() if reader.text in AUDIENCES else reader.name("a role")
    return tree.Grant(to, _expression(reader) if reader.skip("if") else None)


def _condition(parser: _Parser, reader: _Reader) -> tree.Condition:  # noqa: ARG001
    """condition = NAME expression [ STRING ]"""
    place = reader.place()
    name = reader.name("a condition")
    expression = _expression(reader)
    message = reader.optional_string()
    reader.end()
    return tree.Condition(name, expression, message, place)


def _known_endpoint(parser: _Parser, entry: Entry) -> tree.Endpoint | None:
    """An endpoint of one line of which all but the path has been read before, which is what most lines are.

    Only what differs from line to line is read anew. None leaves the entry to `_endpoint`.
    """
    match = _PLAIN_ENDPOINT(entry.text.rstrip())
    if match is None:
        return None
    methods, path, asked = match.groups()
    known = parser.methods.get(methods)
    requirement = parser.requirements.get(asked) or _known_terms(parser, asked)
    if requirement is None or known is None:
        return None
    at = match.start(1)
    return tree.Endpoint(
        known,
        tree.Word(path, 0, match.start(2) - at),
        [],
        requirement,
        None,
        None,
        Place(parser.source, entry.line, at + 1, len(methods)),
        Place(parser.source, entry.line, match.start(3) + 1, len(asked)),
    )


def _known_terms(parser: _Parser, asked: str) -> tree.Node | None:
    """Terms that have been read before, joined by "or"; None for everything else."""
    terms = asked.split(" or ")
    if not parser.terms.issuperset(terms):
        return None
    words: list[tree.Node] = []
    across = 0
    for term in terms:
        words.append(tree.Word(term, 0, across))
        across += len(term) + len(" or ")
    requirement = parser.requirements[asked] = tree.AnyOf(words) if len(words) > 1 else words[0]
    return requirement


def _endpoint(parser: _Parser, reader: _Reader) -> tree.Endpoint:
    """endpoint = ( methods PATH | "action" names ) requirement [ "accept" FINDING STRING ] [ STRING ]"""
    place = reader.place()
    methods: tuple[str, ...] = ()
    path = None
    actions: list[tree.Word] = []
    if reader.skip("action"):
        actions = _actions(reader)
    else:
        found = _methods(reader)
        if found is None:
            reader.fail(f"expected a method such as GET, any or action, found {reader.found()}")
        methods = found
        path = _path(reader, "expected a path that begins with /")
    asks_at = reader.from_here()
    requirement = _requirement(reader)
    if path is not None and reader.kind == "end" and place.line == reader.place().line:
        end = reader.place().column - 1
        parser.requirements[place.text[asks_at.column - 1 : end]] = requirement
        parser.methods[place.text[place.column - 1 : path.place(place).column - 1].rstrip()] = methods
        parts = requirement.parts if isinstance(requirement, tree.AnyOf) else [requirement]
        parser.terms.update(part.text for part in parts if isinstance(part, tree.Word))
    accept = None
    if reader.skip("accept"):
        finding = reader.name("a finding").text
        accept = tree.Accept(finding, reader.string("why the finding is right"))
    description = reader.optional_string()
    reader.end()
    return tree.Endpoint(methods, path, actions, requirement, accept, description, place, asks_at)


def _actions(reader: _Reader) -> list[tree.Word]:
    """names, each of which may have dots"""
    actions = []
    while True:
        if reader.kind != "word" or "*" in reader.text:
            reader.fail(f"expected the name of an action, found {reader.found()}")
        actions.append(reader.word())
        if not reader.skip(","):
            return actions


def _standing(parser: _Parser, reader: _Reader) -> tree.Standing:  # noqa: ARG001
    """always = [ methods ] PATH requirement [ STRING ]"""
    place = reader.place()
    methods = _methods(reader) or ()
    path = _path(reader, "expected a path that begins with /, or methods and a path")
    asks_at = reader.from_here()
    requirement = _requirement(reader)
    description = reader.optional_string()
    reader.end()
    return tree.Standing(methods, path, requirement, description, place, asks_at)


def _denial(parser: _Parser, reader: _Reader) -> tree.Denial:  # noqa: ARG001
    """denial = [ methods ] [ PATH ] reason answer"""
    place = reader.place()
    methods: list[str] = []
    if reader.text == "any" and reader.tokens[1][1] not in _ANSWERS:
        reader.take()
    else:
        # The word right before the answer is the reason, whatever it looks like.
        while reader.kind == "word" and reader.text.isupper() and reader.tokens[reader.position + 1][1] not in _ANSWERS:
            methods.append(_method(reader, methods))
    path = reader.word() if reader.kind == "path" else None
    if reader.kind != "word" or ":" in reader.text or "." in reader.text:
        reader.fail(f"expected the reason of a refusal, such as signed-out, role or any, found {reader.found()}")
    reason = reader.word()
    status = to = None
    kind = reader.text
    if reader.skip("status"):
        if reader.kind != "number" or not reader.text.isdecimal() or not 400 <= int(reader.text[:9]) <= 599:
            reader.fail(f"expected a status from 400 to 599, found {reader.found()}")
        status = int(reader.take()[1])
    elif reader.skip("go"):
        to = _path(reader, "expected the page to go to, which begins with /")
    elif not reader.skip("hide"):
        reader.fail(f'expected "status", "go" or "hide", found {reader.found()}')
    message = None if kind == "hide" else reader.optional_string()
    reader.end()
    return tree.Denial(tuple(methods), path, reason, kind, status, to, message, place)


def _field(parser: _Parser, reader: _Reader) -> tree.Field:  # noqa: ARG001
    """field = ( NAME | "*" ) [ "read" requirement ] [ "change" requirement ]"""
    place = reader.place()
    name = reader.take()[1] if reader.text == "*" else reader.name("a field").text
    read = _requirement(reader) if reader.skip("read") else None
    change = _requirement(reader) if reader.skip("change") else None
    if read is None and change is None:
        reader.fail(f'expected "read" or "change" and who may, found {reader.found()}')
    reader.end('; a field has "read" first and "change" after it')
    return tree.Field(name, read, change, place)


def _methods(reader: _Reader) -> tuple[str, ...] | None:
    """methods = METHOD { METHOD } | "any" """
    if reader.skip("any"):
        return ()
    methods: list[str] = []
    while reader.kind == "word":
        methods.append(_method(reader, methods))
    return tuple(methods) or None


def _method(reader: _Reader, before: list[str]) -> str:
    """METHOD"""
    method = reader.text
    if not method.isalpha() or not method.isupper():
        upper = method.upper()
        way_out = f"; write {upper}" if upper in METHODS else "; methods are written in capitals, such as GET"
        reader.fail(f'"{method}" is not a method{way_out}')
    if method in before:
        reader.fail(f"{method} stands here twice")
    if method not in METHODS and (guess := suggestion(method, METHODS)):
        reader.fail(f'"{method}" is no method that HTTP knows{guess}')
    reader.take()
    if reader.text == ",":
        reader.fail("methods have blanks between them, not commas")
    return method


def _path(reader: _Reader, expected: str) -> tree.Word:
    """PATH"""
    if reader.kind != "path":
        reader.fail(f"{expected}, found {reader.found()}")
    return reader.word()


# Requirements ----------------------------------------------------------------------------------------------------


def _requirement(reader: _Reader) -> tree.Node:
    """requirement = alternative { "or" alternative }"""
    first, conditional = _alternative(reader)
    if reader.text != "or":
        return first
    parts = [first]
    while reader.text == "or":
        if conditional:
            reader.fail(
                'what follows "or" here could belong to the condition or stand beside it; '
                "put what belongs together between parentheses"
            )
        reader.take()
        part, conditional = _alternative(reader)
        parts.append(part)
    return tree.AnyOf(parts)


def _alternative(reader: _Reader) -> tuple[tree.Node, bool]:
    """alternative = term { "and" term } [ "if" expression ]; and whether it ends in an open "if"."""
    part = _term(reader)
    if reader.text == "and":
        parts = [part]
        while reader.skip("and"):
            parts.append(_term(reader))
        part = tree.AllOf(parts)
    if reader.skip("if"):
        return tree.Given(part, _conjunction(reader)), True
    return part, False


def _term(reader: _Reader) -> tree.Node:
    """term = [ "not" ] ( NAME | PERMISSION | audience | "guarded" | "(" requirement ")" )"""
    if reader.skip("not"):
        return tree.Negation(_deeper(reader, _term))
    if reader.text == "(":
        return _bracketed(reader, _requirement)
    if reader.kind == "word":
        if ":" in reader.text:
            if reader.text.endswith("*"):
                reader.fail("what is asked for must be one permission; * may only be granted")
            _check_permission(reader)
            return reader.word()
        if reader.text in AUDIENCES or reader.text == "guarded":
            return reader.word()
    return reader.name("a role, a permission or a condition")


# Expressions -----------------------------------------------------------------------------------------------------


def _expression(reader: _Reader) -> tree.Node:
    """expression = conjunction { "or" conjunction }"""
    first = _conjunction(reader)
    if reader.text != "or":
        return first
    parts = [first]
    while reader.skip("or"):
        parts.append(_conjunction(reader))
    return tree.AnyOf(parts)


def _conjunction(reader: _Reader) -> tree.Node:
    """conjunction = negation { "and" negation }"""
    first = _negation(reader)
    if reader.text != "and":
        return first
    parts = [first]
    while reader.skip("and"):
        parts.append(_negation(reader))
    return tree.AllOf(parts)


def _negation(reader: _Reader) -> tree.Node:
    """negation = "not" negation | comparison"""
    if reader.skip("not"):
        return tree.Negation(_deeper(reader, _negation))
    return _comparison(reader)


def _comparison(reader: _Reader) -> tree.Node:
    """comparison = operand [ ( "==" | "!=" | "<" | "<=" | ">" | ">=" | "in" | "not" "in" ) operand ]"""
    start = reader.place()
    left = _operand(reader)
    if reader.text in _COMPARISONS:
        operator = reader.take()[1]
    elif reader.skip("in"):
        operator = "in"
    elif reader.skip("not"):
        if not reader.skip("in"):
            reader.fail(f'expected "in" after "not", found {reader.found()}')
        operator = "not in"
    else:
        if isinstance(left, tree.Now | tree.Listing) or (
            isinstance(left, tree.Literal) and not isinstance(left.value, bool)
        ):
            reader.fail("a value alone is not a condition; compare it with something", start)
        return left
    _check_operand(reader, left, start)
    start = reader.place()
    right = _operand(reader)
    _check_operand(reader, right, start)
    if reader.text in _COMPARISONS:
        reader.fail('comparisons do not chain; join two of them with "and"')
    return tree.Comparison(left, operator, right)


def _check_operand(reader: _Reader, operand: tree.Node, place: Place) -> None:
    """Only values can be compared."""
    if isinstance(operand, tree.Word):
        reader.fail(f'"{operand.text}" is the name of a condition and cannot be compared', place)
    if isinstance(operand, tree.AllOf | tree.AnyOf | tree.Negation | tree.Comparison):
        reader.fail("what stands between parentheses is a condition and cannot be compared", place)


def _operand(reader: _Reader) -> tree.Node:
    """operand = reference | STRING | NUMBER | "true" | "false" | "none" | "now" | list | NAME | "(" expression ")" """
    kind, text = reader.kind, reader.text
    if kind == "string":
        return tree.Literal(reader.string("a text"))
    if kind == "number":
        return tree.Literal(_number(reader))
    if kind == "word":
        if "." in text:
            return _reference(reader)
        if text in _CONSTANTS:
            reader.take()
            return tree.Literal(_CONSTANTS[text])
        if reader.skip("now"):
            return tree.Now()
        if text in ROOTS:
            reader.fail(f'"{text}" alone says nothing; write {text}.name')
        return reader.name("a condition")
    if text == "(":
        return _bracketed(reader, _expression)
    if text == "[":
        return _deeper(reader, _listing)
    reader.fail(f"expected something to compare or the name of a condition, found {reader.found()}")


_CONSTANTS = {"true": True, "false": False, "none": None}


def _number(reader: _Reader) -> int | float:
    """NUMBER"""
    if len(reader.text) > _LONGEST_NUMBER:
        reader.fail(f"a number has at most {_LONGEST_NUMBER} digits")
    text = reader.take()[1]
    return float(text) if "." in text else int(text)


def _reference(reader: _Reader) -> tree.Reference:
    """reference = ( "caller" | "record" | "path" | "query" | "args" ) "." NAME { "." NAME }"""
    root, *names = reader.text.split(".")
    if root not in ROOTS:
        guess = suggestion(root, ROOTS) or f"; a reference begins with {', '.join(ROOTS[:-1])} or {ROOTS[-1]}"
        reader.fail(f'"{root}" is nothing that can be asked{guess}')
    if ":" in reader.text or "*" in reader.text:
        reader.fail("a reference has names with dots between them")
    if len(names) > _DEEPEST:
        reader.fail(f"a reference has at most {_DEEPEST} names")
    reader.take()
    return tree.Reference(root, tuple(names))


def _listing(reader: _Reader) -> tree.Node:
    """list = "[" [ operand { "," operand } ] "]" """
    opening = reader.place(reader.take())
    items: list[tree.Node] = []
    while reader.text != "]":
        if reader.kind == "end":
            reader.fail("this bracket is not closed", opening)
        start = reader.place()
        items.append(_operand(reader))
        _check_operand(reader, items[-1], start)
        if not reader.skip(",") and reader.text != "]" and reader.kind != "end":
            reader.fail(f'expected "," or "]", found {reader.found()}')
    reader.take()
    return tree.Listing(items)


# Pieces ----------------------------------------------------------------------------------------------------------


def _bracketed(reader: _Reader, inside: Callable[[_Reader], tree.Node]) -> tree.Node:
    """ "(" ... ")" """
    opening = reader.place(reader.take())
    node = _deeper(reader, inside)
    if reader.text != ")":
        if reader.kind == "end":
            reader.fail("this parenthesis is not closed", opening)
        reader.fail(f'expected ")", found {reader.found()}')
    reader.take()
    return node


def _deeper(reader: _Reader, inside: Callable[[_Reader], tree.Node]) -> tree.Node:
    """One level further in, up to a limit."""
    reader.depth += 1
    if reader.depth > _DEEPEST:
        reader.fail(f"this is nested more than {_DEEPEST} deep; give parts of it names of their own")
    node = inside(reader)
    reader.depth -= 1
    return node


def _names(reader: _Reader, what: str) -> list[tree.Word]:
    """names = NAME { "," NAME }"""
    names = [reader.name(what)]
    while reader.skip(","):
        names.append(reader.name(what))
    return names


_ReadEntry = Callable[[_Parser, _Reader], tree.Entry]
_SECTIONS: dict[str, _ReadEntry] = {
    "policy": _nothing,
    "include": _nothing,
    "roles": _role,
    "groups": _group,
    "permissions": _permission,
    "conditions": _condition,
    "endpoints": _endpoint,
    "always": _standing,
    "denials": _denial,
    "fields": _field,
}
