"""Policy text to tree: sections and entries. Each function's first line is its piece of the grammar."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from . import tree
from .expressions import check_permission, read_expression, read_requirement
from .problems import Place, PolicyError, Problem, SourceText, suggestion
from .reader import AUDIENCES, ROOTS, Mistake, Reader, read_names
from .tokenizer import Entry, read_entries, read_tokens, tokens_of, unseen

METHODS = ("GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS", "TRACE", "CONNECT")
_ANSWERS = ("status", "go", "hide")
_PLAIN_ENDPOINT = re.compile(r' +([A-Z]+(?: +[A-Z]+)*|any) +(/[^\s#]*) +([^"#]+)').fullmatch


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


class ParsedPolicy(NamedTuple):
    """What could be read of a policy.

    Attributes:
        document: the tree of all that can be read.
        problems: every problem met on the way.
    """

    document: tree.Document
    problems: list[Problem]


def parse_with_problems(text: str, name: str = "<text>") -> ParsedPolicy:
    """Read as much of a policy text as can be read."""
    document = tree.Document(SourceText(name, tuple(text.replace("\r\n", "\n").split("\n"))))
    return ParsedPolicy(document, _Parser(document).run())


def parse_guard(text: str, place: Place) -> tree.Node:
    """Read what a guard asks: a requirement that may hold comparisons, such as ``keeper or args.id == caller.id``.

    Args:
        text: the requirement.
        place: where it begins in the program that has it.

    Raises:
        PolicyError: it cannot be read.
    """
    # As many blanks before the text as there are signs before it in the program: its places are the program's.
    unseen_text = unseen(text)
    if unseen_text is not None:
        message = f"an invisible character, U+{ord(unseen_text[0]):04X}, is not shown as what it is; leave it out"
        raise PolicyError([Problem(message, place)])
    start = place.column - 1
    tokens, problem = read_tokens(place.source, place.line, " " * start + " ".join(text.split("\n")), start)
    if problem is not None:
        raise PolicyError([problem])
    reader = Reader(place.source, tokens)
    reader.inline = True
    try:
        node = read_requirement(reader)
        reader.end()
    except Mistake as mistake:
        raise PolicyError([mistake.problem]) from mistake
    return node


class _Parser:
    """One string being read: its document so far, and the problems met."""

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
                endpoint = _known_endpoint(self, entry)
                if endpoint is not None:
                    self.section.entries.append(endpoint)
                    continue
            tokens, problem = tokens_of(self.source, entry)
            try:
                if problem is not None:
                    raise Mistake(problem)
                if not entry.indent:
                    read = self.section = None
                    read, self.section = _header(self, Reader(self.source, tokens))
                    self.document.sections.append(self.section)
                elif read is not None and self.section is not None:
                    self.section.entries.append(read(self, Reader(self.source, tokens)))
                else:
                    self.document.broken.add(tokens[0][1])
            except Mistake as mistake:
                self.problems.append(mistake.problem)
                # So that a name is not called unknown only because its own line has a mistake in it.
                self.document.broken.add(tokens[0][1])
        return self.problems


# Sections --------------------------------------------------------------------------------------------------------


def _header(parser: _Parser, head: Reader) -> tuple[_ReadEntry, tree.Section]:
    """section = "policy" STRING [ "zone" STRING ] | "include" STRING | ( "roles" [ "in" NAME ] | ... "fields" NAME )"""
    place = head.place()
    keyword = head.take()[1]
    argument = None
    if keyword in ("policy", "include"):
        argument = head.string("the name of the policy" if keyword == "policy" else "the name of a file")
        if keyword == "policy" and parser.document.headed("policy"):
            head.fail("this policy has a name already", place)
    elif keyword == "fields":
        argument = head.name("a kind of record").text
    elif keyword == "roles" and head.skip("in"):
        keyword, argument = "roles in", head.name("a thing").text
    elif keyword not in SECTIONS:
        words = tuple(word for word in SECTIONS if word.isalpha())
        guess = suggestion(keyword, words) or f"; sections are {', '.join(words)}, and entries are indented"
        head.fail(f'unknown section "{keyword}"{guess}', place)
    zone = None
    if keyword == "policy" and head.skip("zone"):
        zone = head.string('the name of a zone, such as "Europe/Berlin"')
    head.end("; entries follow the header, one to a line and indented")
    return SECTIONS[keyword], tree.Section(keyword, argument, [], place, zone)


def _nothing(parser: _Parser, reader: Reader) -> tree.Entry:  # noqa: ARG001
    """A section that is a header and nothing else."""
    reader.fail("this section has no entries; what belongs to it goes on its own line")


def _role(parser: _Parser, reader: Reader) -> tree.Role | tree.Apart:  # noqa: ARG001
    """role = ( NAME { "includes" names | "default" } accepts [ STRING ] ) | ( "apart" names accepts )"""
    place = reader.place()
    if reader.skip("apart"):
        roles = read_names(reader, "a role")
        accepts = _accepts(reader)
        reader.end()
        if len({role.text for role in roles}) < 2:
            reader.fail("apart needs at least two roles, with commas between them", place)
        return tree.Apart(roles, place, accepts)
    name = reader.name("a role")
    includes: list[tree.Word] = []
    default = False
    while reader.kind == "word" and reader.text != "accept":
        if reader.skip("includes"):
            includes += read_names(reader, "a role")
        elif reader.skip("default"):
            default = True
        else:
            guess = suggestion(reader.text, ("includes", "default")) or '; write "includes", "default" or a string'
            reader.fail(f"did not expect {reader.found()} after the name of a role{guess}")
    accepts = _accepts(reader)
    description = reader.optional_string()
    reader.end()
    return tree.Role(name, includes, default, description, place, accepts)


def _role_in(parser: _Parser, reader: Reader) -> tree.Role | tree.Apart:
    """role = ( NAME { "includes" names } accepts [ STRING ] ) | ( "apart" names accepts )"""
    place = reader.place()
    entry = _role(parser, reader)
    if isinstance(entry, tree.Role) and entry.default:
        reader.fail("a role that is held in particular records cannot be a default: nobody holds it everywhere", place)
    return entry


def _thing(parser: _Parser, reader: Reader) -> tree.Thing:  # noqa: ARG001
    """thing = NAME { PARAMETER } [ "in" NAME "by" NAME { "." NAME } ] accepts [ STRING ]"""
    place = reader.place()
    name = reader.name("a thing")
    parameters: list[tree.Word] = []
    while reader.kind == "parameter":
        parameters.append(reader.word())
    parent = None
    by: tuple[str, ...] = ()
    if reader.skip("in"):
        parent = reader.name("the thing that it belongs to")
        if not reader.skip("by"):
            reader.fail(
                f'expected "by" and the attribute that says which {parent.text} it belongs to, found {reader.found()}'
            )
        by = _attributes(reader)
    accepts = _accepts(reader)
    description = reader.optional_string()
    reader.end("; a thing has its parameters first, then what it belongs to")
    return tree.Thing(name, parameters, parent, by, description, place, accepts)


_MOST_ATTRIBUTES = 5


def _attributes(reader: Reader) -> tuple[str, ...]:
    """NAME { "." NAME }"""
    if reader.kind != "word" or not {":", "*", "?"}.isdisjoint(reader.text):
        reader.fail(f"expected an attribute such as studio_id or kiln.studio_id, found {reader.found()}")
    names = tuple(reader.text.split("."))
    if names[0] in ROOTS:
        reader.fail(f'write the attribute without "{names[0]}.": it is one of the record\'s own')
    if len(names) > _MOST_ATTRIBUTES:
        reader.fail(f"an attribute is at most {_MOST_ATTRIBUTES} names long; declare the things between as well")
    reader.take()
    return names


def _group(parser: _Parser, reader: Reader) -> tree.Group:  # noqa: ARG001
    """group = STRING names accepts"""
    place = reader.place()
    name = reader.string("the name of a group")
    roles = read_names(reader, "a role")
    accepts = _accepts(reader)
    reader.end()
    return tree.Group(name, roles, place, accepts)


def _permission(parser: _Parser, reader: Reader) -> tree.Permission:  # noqa: ARG001
    """permission = PERMISSION [ grant { "," grant } ] accepts [ STRING ]"""
    place = reader.place()
    if reader.kind != "word" or ":" not in reader.text:
        reader.fail(f"expected a permission such as thing:verb, found {reader.found()}")
    check_permission(reader)
    name = reader.word()
    grants: list[tree.Grant] = []
    if reader.kind == "word" and reader.text != "accept":
        grants.append(_grant(reader))
        while reader.skip(","):
            grants.append(_grant(reader))
    accepts = _accepts(reader)
    description = reader.optional_string()
    reader.end("; grants have commas between them")
    return tree.Permission(name, grants, description, place, accepts)


def _grant(reader: Reader) -> tree.Grant:
    """grant = ( NAME | audience ) [ "if" expression ]"""
    to = reader.word() if reader.text in AUDIENCES else reader.name("a role")
    return tree.Grant(to, read_expression(reader) if reader.skip("if") else None)


def _condition(parser: _Parser, reader: Reader) -> tree.Condition:  # noqa: ARG001
    """condition = NAME expression accepts [ STRING ]"""
    place = reader.place()
    name = reader.name("a condition")
    expression = read_expression(reader)
    accepts = _accepts(reader)
    message = reader.optional_string()
    reader.end()
    return tree.Condition(name, expression, message, place, accepts)


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
        Place(parser.source, entry.line, at + 1, len(methods)),
        Place(parser.source, entry.line, match.start(3) + 1, len(asked)),
    )


def _known_terms(parser: _Parser, name: str) -> tree.Node | None:
    """Terms that have been read before, joined by "or"; None for everything else."""
    terms = name.split(" or ")
    if not parser.terms.issuperset(terms):
        return None
    words: list[tree.Node] = []
    across = 0
    for term in terms:
        words.append(tree.Word(term, 0, across))
        across += len(term) + len(" or ")
    requirement = parser.requirements[name] = tree.AnyOf(words) if len(words) > 1 else words[0]
    return requirement


def _endpoint(parser: _Parser, reader: Reader) -> tree.Endpoint:
    """endpoint = ( methods PATH | "action" names ) requirement accepts [ STRING ]"""
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
    requirement = read_requirement(reader)
    if path is not None and reader.kind == "end" and place.line == reader.place().line:
        end = reader.place().column - 1
        parser.requirements[place.text[asks_at.column - 1 : end]] = requirement
        parser.methods[place.text[place.column - 1 : path.place(place).column - 1].rstrip()] = methods
        parts = requirement.parts if isinstance(requirement, tree.AnyOf) else [requirement]
        parser.terms.update(part.text for part in parts if isinstance(part, tree.Word))
    accepts = _accepts(reader)
    description = reader.optional_string()
    reader.end()
    return tree.Endpoint(methods, path, actions, requirement, description, place, asks_at, accepts)


def _accepts(reader: Reader) -> tuple[tree.Accept, ...]:
    """accepts = { "accept" FINDING STRING }"""
    accepts: list[tree.Accept] = []
    while reader.skip("accept"):
        finding = reader.name("a finding").text
        place = reader.place()
        reason = reader.string("why the finding is right")
        if not reason.strip():
            reader.fail("this says nothing; write why the finding is right here", place)
        accepts.append(tree.Accept(finding, reason))
    return tuple(accepts)


def _actions(reader: Reader) -> list[tree.Word]:
    """names, each of which may have dots"""
    actions = []
    while True:
        if reader.kind != "word" or "*" in reader.text or "?" in reader.text:
            reader.fail(f"expected the name of an action, found {reader.found()}")
        actions.append(reader.word())
        if not reader.skip(","):
            return actions


def _standing(parser: _Parser, reader: Reader) -> tree.Standing:  # noqa: ARG001
    """always = [ methods ] PATH requirement { "except" PATH } accepts [ STRING ]"""
    place = reader.place()
    methods = _methods(reader) or ()
    path = _path(reader, "expected a path that begins with /, or methods and a path")
    asks_at = reader.from_here()
    requirement = read_requirement(reader)
    excepts: list[tree.Word] = []
    while reader.skip("except"):
        excepts.append(_path(reader, "expected the path that this rule leaves out, which begins with /"))
    accepts = _accepts(reader)
    description = reader.optional_string()
    reader.end()
    return tree.Standing(methods, path, requirement, description, place, asks_at, accepts, tuple(excepts))


def _denial(parser: _Parser, reader: Reader) -> tree.Denial:  # noqa: ARG001
    """denial = [ methods ] [ PATH ] reason answer accepts"""
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
    accepts = _accepts(reader)
    reader.end()
    return tree.Denial(tuple(methods), path, reason, kind, status, to, message, place, accepts)


def _field(parser: _Parser, reader: Reader) -> tree.Field:  # noqa: ARG001
    """field = ( NAME | "*" ) [ "read" requirement ] [ "change" requirement ] accepts"""
    place = reader.place()
    name = reader.take()[1] if reader.text == "*" else reader.name("a field").text
    read = read_requirement(reader) if reader.skip("read") else None
    change = read_requirement(reader) if reader.skip("change") else None
    if read is None and change is None:
        reader.fail(f'expected "read" or "change" and who may, found {reader.found()}')
    accepts = _accepts(reader)
    reader.end('; a field has "read" first and "change" after it')
    return tree.Field(name, read, change, place, accepts)


def _methods(reader: Reader) -> tuple[str, ...] | None:
    """methods = METHOD { METHOD } | "any" """
    if reader.skip("any"):
        return ()
    methods: list[str] = []
    while reader.kind == "word":
        methods.append(_method(reader, methods))
    return tuple(methods) or None


def _method(reader: Reader, before: list[str]) -> str:
    """METHOD"""
    method = reader.text
    if not method.isalpha() or not method.isupper():
        upper = method.upper()
        way_out = f"; write {upper}" if upper in METHODS else "; methods are written in capitals, such as GET"
        reader.fail(f'"{method}" is not a method{way_out}')
    if method in before:
        reader.fail(f"{method} is here twice")
    if method not in METHODS and (guess := suggestion(method, METHODS)):
        reader.fail(f'"{method}" is no method that HTTP knows{guess}')
    reader.take()
    if reader.text == ",":
        reader.fail("methods have blanks between them, not commas")
    return method


def _path(reader: Reader, expected: str) -> tree.Word:
    """PATH"""
    if reader.kind != "path":
        reader.fail(f"{expected}, found {reader.found()}")
    return reader.word()


_ReadEntry = Callable[[_Parser, Reader], tree.Entry]
SECTIONS: dict[str, _ReadEntry] = {
    "policy": _nothing,
    "include": _nothing,
    "roles": _role,
    "roles in": _role_in,
    "things": _thing,
    "groups": _group,
    "permissions": _permission,
    "conditions": _condition,
    "endpoints": _endpoint,
    "always": _standing,
    "denials": _denial,
    "fields": _field,
}
