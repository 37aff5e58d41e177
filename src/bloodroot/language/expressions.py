"""Requirements and expressions: tokens to tree. Each function's first line is its piece of the grammar."""

from __future__ import annotations

from collections.abc import Callable

from . import tree
from .operators import OPERATORS
from .problems import Place, suggestion
from .reader import AUDIENCES, ROOTS, Reader

_LONGEST_NUMBER = 40
# Brackets inside brackets are limited so that no text can exhaust the interpreter's stack.
_DEEPEST = 40


# Requirements ----------------------------------------------------------------------------------------------------


def read_requirement(reader: Reader) -> tree.Node:
    """requirement = alternative { "or" alternative }"""
    first, conditional = _alternative(reader)
    if reader.text != "or":
        return first
    parts = [first]
    while reader.text == "or":
        if conditional:
            reader.fail(
                'what follows "or" here could belong to the condition or be another alternative; '
                "put what belongs together between parentheses"
            )
        reader.take()
        part, conditional = _alternative(reader)
        parts.append(part)
    return tree.AnyOf(parts)


def _alternative(reader: Reader) -> tuple[tree.Node, bool]:
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


def _term(reader: Reader) -> tree.Node:
    """term = [ "not" ] ( held | PERMISSION | audience | "guarded" | "(" requirement ")" )"""
    if reader.skip("not"):
        return tree.Negation(_deeper(reader, _term))
    if reader.text == "(":
        return _bracketed(reader, read_requirement)
    if reader.inline and _begins_comparison(reader):
        return _comparison(reader)
    if reader.kind == "word":
        if ":" in reader.text:
            if reader.text.endswith("*"):
                reader.fail("what is asked for must be one permission; * may only be granted")
            check_permission(reader)
            return reader.word()
        if reader.text in AUDIENCES or reader.text == "guarded":
            return reader.word()
    return _held(reader)


def _held(reader: Reader) -> tree.Node:
    """held = NAME [ "in" ( "any" NAME | reference ) ]"""
    name = reader.name("a role, a permission or a condition")
    if not reader.skip("in"):
        return name
    if reader.skip("any"):
        return tree.Held(name, reader.name("a thing"), None)
    if reader.kind != "word" or "." not in reader.text:
        reader.fail(
            f'expected "any" and a thing, or what identifies the record, such as args.studio_id, found {reader.found()}'
        )
    return tree.Held(name, None, _reference(reader))


def _begins_comparison(reader: Reader) -> bool:
    """Whether the token at hand can only be an operand of a comparison."""
    if reader.kind in ("string", "number", "date", "time") or reader.text == "[":
        return True
    return reader.kind == "word" and (reader.text.split(".")[0] in (*ROOTS, "now") or reader.text in _CONSTANTS)


# Expressions -----------------------------------------------------------------------------------------------------


def read_expression(reader: Reader) -> tree.Node:
    """expression = conjunction { "or" conjunction }"""
    first = _conjunction(reader)
    if reader.text != "or":
        return first
    parts = [first]
    while reader.skip("or"):
        parts.append(_conjunction(reader))
    return tree.AnyOf(parts)


def _conjunction(reader: Reader) -> tree.Node:
    """conjunction = negation { "and" negation }"""
    first = _negation(reader)
    if reader.text != "and":
        return first
    parts = [first]
    while reader.skip("and"):
        parts.append(_negation(reader))
    return tree.AllOf(parts)


def _negation(reader: Reader) -> tree.Node:
    """negation = "not" negation | comparison"""
    if reader.skip("not"):
        return tree.Negation(_deeper(reader, _negation))
    return _comparison(reader)


def _comparison(reader: Reader) -> tree.Node:
    """comparison = operand [ ( "==" | "!=" | "<" | "<=" | ">" | ">=" | "in" | "not" "in" ) operand ]"""
    start = reader.place()
    left = _operand(reader)
    if reader.text in OPERATORS:
        operator = reader.take()[1]
    elif reader.skip("in"):
        operator = "in"
    elif reader.skip("not"):
        if not reader.skip("in"):
            reader.fail(f'expected "in" after "not", found {reader.found()}')
        operator = "not in"
    else:
        if isinstance(left, tree.Now | tree.Clock | tree.Moment | tree.Shifted | tree.Listing) or (
            isinstance(left, tree.Literal) and not isinstance(left.value, bool)
        ):
            reader.fail("a value alone is not a condition; compare it with something", start)
        return left
    _check_operand(reader, left, start)
    start = reader.place()
    right = _operand(reader)
    _check_operand(reader, right, start)
    if reader.text in OPERATORS:
        reader.fail('comparisons do not chain; join two of them with "and"')
    return tree.Comparison(left, operator, right)


def _check_operand(reader: Reader, operand: tree.Node, place: Place) -> None:
    """Only values can be compared."""
    if isinstance(operand, tree.Word):
        reader.fail(f'"{operand.text}" is the name of a condition and cannot be compared', place)
    if isinstance(operand, tree.AllOf | tree.AnyOf | tree.Negation | tree.Comparison):
        reader.fail("what is between parentheses is a condition and cannot be compared", place)


def _operand(reader: Reader) -> tree.Node:
    """operand = moment [ ( "+" | "-" ) DURATION ] | reference | STRING | NUMBER | ... | list | NAME | "(" ... ")" """
    operand = _unshifted(reader)
    if reader.text not in ("+", "-") or reader.kind != "mark":
        return operand
    if not isinstance(operand, tree.Now | tree.Reference | tree.Moment):
        reader.fail("only to a moment a duration can be added, as in now + 24h")
    sign = reader.take()[1]
    if reader.kind != "duration":
        reader.fail(f"expected a duration such as 30m, 24h or 7d, found {reader.found()}")
    return tree.Shifted(operand, sign, reader.take()[1])


def _unshifted(reader: Reader) -> tree.Node:
    """moment = "now" [ "." NAME ] | reference; and every other operand"""
    kind, text = reader.kind, reader.text
    if kind == "string":
        return tree.Literal(reader.string("a string"))
    if kind == "number":
        return tree.Literal(_number(reader))
    if kind in ("date", "time"):
        return tree.Moment(reader.take()[1])
    if kind == "word":
        if text.startswith("now."):
            return _clock(reader)
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
        return _bracketed(reader, read_expression)
    if text == "[":
        return _deeper(reader, _listing)
    reader.fail(f"expected something to compare or the name of a condition, found {reader.found()}")


_CONSTANTS = {"true": True, "false": False, "none": None}


def _number(reader: Reader) -> int | float:
    """NUMBER"""
    if len(reader.text) > _LONGEST_NUMBER:
        reader.fail(f"a number has at most {_LONGEST_NUMBER} digits")
    text = reader.take()[1]
    return float(text) if "." in text else int(text)


def _reference(reader: Reader) -> tree.Reference:
    """reference = ( "caller" | "record" | "records" | "path" | "query" | "args" ) "." NAME { "." NAME } [ "?" ]"""
    root, *names = reader.text.removesuffix("?").split(".")
    if root not in ROOTS:
        guess = suggestion(root, ROOTS) or f"; a reference begins with {', '.join(ROOTS[:-1])} or {ROOTS[-1]}"
        reader.fail(f'"{root}" is nothing that can be asked{guess}')
    if ":" in reader.text or "*" in reader.text:
        reader.fail("a reference has names with dots between them")
    if len(names) > _DEEPEST:
        reader.fail(f"a reference has at most {_DEEPEST} names")
    optional = reader.take()[1].endswith("?")
    return tree.Reference(root, tuple(names), optional)


_CLOCK = ("time", "weekday")


def _clock(reader: Reader) -> tree.Clock:
    """ "now" "." ( "time" | "weekday" )"""
    part = reader.text.removeprefix("now.")
    if part not in _CLOCK:
        guess = suggestion(part, _CLOCK) or "; write now.time or now.weekday"
        reader.fail(f'"{reader.text}" is nothing that a clock shows{guess}')
    reader.take()
    return tree.Clock(part)


def _listing(reader: Reader) -> tree.Node:
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


def _bracketed(reader: Reader, inside: Callable[[Reader], tree.Node]) -> tree.Node:
    """ "(" ... ")" """
    opening = reader.place(reader.take())
    node = _deeper(reader, inside)
    if reader.text != ")":
        if reader.kind == "end":
            reader.fail("this parenthesis is not closed", opening)
        reader.fail(f'expected ")", found {reader.found()}')
    reader.take()
    return node


def _deeper(reader: Reader, inside: Callable[[Reader], tree.Node]) -> tree.Node:
    """One level further in, up to a limit."""
    reader.depth += 1
    if reader.depth > _DEEPEST:
        reader.fail(f"this is nested more than {_DEEPEST} deep; give parts of it names of their own")
    node = inside(reader)
    reader.depth -= 1
    return node


def check_permission(reader: Reader) -> None:
    """A permission has names between colons; a star may be the last part."""
    if "." in reader.text:
        reader.fail("a permission has colons between its parts, not dots")
    if "?" in reader.text:
        reader.fail("a permission is there or not; ? is for attributes, as in caller.actor?")
    if "*" in reader.text[:-1]:
        reader.fail("in a permission, * can only be the last part")
