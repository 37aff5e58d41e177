"""Tree to text: the one tidy form of a policy, its comments kept."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from decimal import Decimal
from typing import NamedTuple

from . import tree
from .parser import parse
from .tokenizer import Entry, comment_in, read_entries

_INDENT = "  "
_WIDEST = 118
# A cell longer than this pushes what follows instead of widening its column.
_WIDEST_COLUMN = 48

# A cell is a list of pieces: they go on one line where they fit, and a line may break between them.
Cell = list[str]


def tidy(text: str, name: str = "<text>") -> str:
    """A policy text in its tidy form: columns aligned, blank lines and comments in their places.

    Args:
        text: the policy.
        name: what to call it in messages.

    Returns:
        The text. Reading it gives an equal tree, and tidying it again changes nothing.

    Raises:
        PolicyError: the text cannot be read.
    """
    return tidy_tree(parse(text, name))


def tidy_tree(document: tree.Document, added: Mapping[int, list[tree.Entry]] | None = None) -> str:
    """A tree that was read from a text, and perhaps changed, in the tidy form, with the comments of the text.

    Args:
        document: the tree, with as many entries as were read.
        added: entries to put behind those that begin on these lines of the text, or None.
    """
    return _laid_out(_sheets(document, added or {}))


def printed(document: tree.Document) -> str:
    """A tree as text, in the tidy form. There are no comments in a tree."""
    sheets = []
    for section in document.sections:
        rows: list[_Row | str | None] = [_Row(_cells(entry)) for entry in section.entries]
        sheets.append(_Layout([], _head(section), "", rows))
    return _laid_out(sheets)


# What goes where -----------------------------------------------------------------------------------------------


@dataclass(slots=True)
class _Row:
    """An entry: its cells, and the comment behind it."""

    cells: list[Cell]
    comment: str = ""


@dataclass(slots=True)
class _Layout:
    """A section: what is above its header, the header, and its rows. A string is a comment, None a blank line."""

    above: list[str | None]
    head: str
    comment: str
    rows: list[_Row | str | None] = field(default_factory=list)


def _sheets(document: tree.Document, added: Mapping[int, list[tree.Entry]]) -> list[_Layout]:
    """A document with its comments and blank lines, gathered from the lines between its entries."""
    lines = document.source.lines
    entries = read_entries(document.source, [])
    sheets: list[_Layout] = []
    at = 0
    for section in document.sections:
        header = next(entries)
        above = _above_header(sheets, lines[at : header.line - 1])
        inner, comment, at = _comments_of(header, lines)
        sheet = _Layout([*above, *inner], _head(section), comment)
        sheets.append(sheet)
        for node in section.entries:
            entry = next(entries)
            inner, comment, after = _comments_of(entry, lines)
            sheet.rows += [*_between(lines[at : entry.line - 1]), *inner, _Row(_cells(node), comment)]
            sheet.rows += [_Row(_cells(more)) for more in added.get(entry.line, ())]
            at = after
    rest = _above_header(sheets, lines[at:])
    if any(rest):
        sheets.append(_Layout(rest, "", ""))
    return sheets


class _Comments(NamedTuple):
    """The comments of an entry.

    Attributes:
        inner: those on the lines that continue it.
        beside: the one on its first line.
        last: how many lines are behind it.
    """

    inner: list[str]
    beside: str
    last: int


def _comments_of(entry: Entry, lines: tuple[str, ...]) -> _Comments:
    """The comments of an entry."""
    last = entry.more[-1][0] if entry.more else entry.line
    inner = [comment for line in lines[entry.line : last] if (comment := comment_in(line))]
    return _Comments(inner, comment_in(entry.text), last)


def _between(lines: tuple[str, ...]) -> list[_Row | str | None]:
    """The comments and blank lines between two entries."""
    return [line.strip() or None for line in lines]


def _above_header(sheets: list[_Layout], lines: tuple[str, ...]) -> list[str | None]:
    """What is above a header. Indented comments that come first still belong to the section before."""
    own = list(lines)
    if sheets:
        while own and (not own[0].strip() or own[0].startswith((" ", "\t"))):
            if not any(line.strip() and line.startswith((" ", "\t")) for line in own):
                break
            sheets[-1].rows.append(own.pop(0).strip() or None)
    return [line.strip() or None for line in own]


# Laying out ------------------------------------------------------------------------------------------------------


def _laid_out(sheets: list[_Layout]) -> str:
    out: list[str] = []
    before = ""
    for sheet in sheets:
        keyword = sheet.head.partition(" ")[0]
        above = _single_blanks(sheet.above)
        if out and not (keyword == before == "include" and not above):
            out.append("")
        out += above
        if sheet.head:
            out.append(_commented(sheet.head, sheet.comment))
        before = keyword
        widths = _widths([row.cells for row in sheet.rows if isinstance(row, _Row)])
        body: list[str | None] = []
        for row in sheet.rows:
            if isinstance(row, _Row):
                body.append(_commented(_INDENT + _line(row.cells, widths), row.comment))
            else:
                body.append(None if row is None else _INDENT + row)
        out += _single_blanks(body)
    return "\n".join(out) + "\n" if out else ""


def _single_blanks(lines: list[str | None]) -> list[str]:
    """Lines with one blank line where there were several, and none at the beginning or the end."""
    out: list[str] = []
    for line in lines:
        if line is not None:
            out.append(line)
        elif out and out[-1]:
            out.append("")
    while out and not out[-1]:
        out.pop()
    return out


def _commented(text: str, comment: str) -> str:
    if not comment:
        return text
    first, newline, rest = text.partition("\n")
    return f"{first}  {comment}{newline}{rest}"


def _widths(rows: list[list[Cell]]) -> list[int]:
    """How wide each column is; the last one of a row does not count."""
    widths: list[int] = []
    for cells in rows:
        for number, cell in enumerate(cells):
            length = len(" ".join(cell))
            if number == len(widths):
                widths.append(0)
            if length <= _WIDEST_COLUMN and any(cells[number + 1 :]):
                widths[number] = max(widths[number], length)
    return widths


def _line(cells: list[Cell], widths: list[int]) -> str:
    """One entry. Columns that are empty in every row take no room."""
    lines = [""]
    for number, cell in enumerate(cells):
        if not cell:
            if any(cells[number + 1 :]) and widths[number]:
                lines[-1] += " " * (widths[number] + 2)
            continue
        start = len(lines[-1])
        for place, piece in enumerate(cell):
            if place and len(_INDENT) + len(lines[-1]) + 1 + len(piece) > _WIDEST:
                lines.append(" " * (min(start, _WIDEST // 2) + 2) + piece)
            else:
                lines[-1] += (" " if place else "") + piece
        if any(cells[number + 1 :]):
            short = len(" ".join(cell)) <= widths[number] and len(lines) == 1
            lines[-1] += " " * (widths[number] - len(" ".join(cell)) + 2) if short else "  "
    return ("\n" + _INDENT).join(line.rstrip() for line in lines)


# Entries as cells ------------------------------------------------------------------------------------------------


def _head(section: tree.Section) -> str:
    if section.argument is None:
        return section.keyword
    quoted = section.keyword in ("policy", "include")
    zone = f" zone {_quoted(section.zone)}" if section.zone is not None else ""
    return f"{section.keyword} {_quoted(section.argument) if quoted else section.argument}{zone}"


def _cells(entry: tree.Entry) -> list[Cell]:
    """An entry as the cells of a row; empty ones keep columns in line."""
    match entry:
        case tree.Role():
            includes = [f"includes {_listed(entry.includes)}"] if entry.includes else []
            modifiers = includes + (["default"] if entry.default else [])
            return [[entry.name.text], modifiers, _accepts(entry) + _text(entry.description)]
        case tree.Apart():
            return [["apart"], _pieces([role.text for role in entry.roles], ","), _accepts(entry)]
        case tree.Thing():
            parameters = [parameter.text for parameter in entry.parameters]
            belongs = f"in {entry.parent.text} by {'.'.join(entry.by)}" if entry.parent is not None else ""
            about = _accepts(entry) + _text(entry.description)
            return [[entry.name.text], parameters, [belongs] if belongs else [], about]
        case tree.Group():
            return [[_quoted(entry.name)], _pieces([role.text for role in entry.roles], ","), _accepts(entry)]
        case tree.Permission():
            grants = [_grant(grant) for grant in entry.grants]
            return [[entry.name.text], _pieces(grants, ","), _accepts(entry) + _text(entry.description)]
        case tree.Condition():
            return [[entry.name.text], _breakable(entry.expression), _accepts(entry) + _text(entry.message)]
        case tree.Endpoint():
            where = _where(entry)
            return [*where, _breakable(entry.requirement), _accepts(entry) + _text(entry.description)]
        case tree.Standing():
            excepts = [f"except {path.text}" for path in entry.excepts]
            about = _accepts(entry) + _text(entry.description)
            return [[*entry.methods, entry.path.text], _breakable(entry.requirement), excepts, about]
        case tree.Denial():
            path = [entry.path.text] if entry.path is not None else []
            lead = [*(entry.methods or ()), *path, entry.reason.text]
            return [lead, _answer(entry) + _accepts(entry)]
        case tree.Field():
            read = [f"read {words(entry.read)}"] if entry.read is not None else []
            change = [f"change {words(entry.change)}"] if entry.change is not None else []
            return [[entry.name], read, change, _accepts(entry)]


def _accepts(entry: tree.Entry) -> Cell:
    return [f"accept {accept.finding} {_quoted(accept.reason)}" for accept in entry.accepts]


def _where(entry: tree.Endpoint) -> list[Cell]:
    if entry.path is None:
        return [["action"], _pieces([action.text for action in entry.actions], ",")]
    return [[*(entry.methods or ("any",))], [entry.path.text]]


def _answer(entry: tree.Denial) -> Cell:
    if entry.kind == "hide":
        return ["hide"]
    to = str(entry.status) if entry.kind == "status" else entry.to.text if entry.to is not None else ""
    return [f"{entry.kind} {to}", *_text(entry.message)]


def _grant(grant: tree.Grant) -> str:
    return grant.to.text if grant.condition is None else f"{grant.to.text} if {words(grant.condition)}"


def _listed(names: list[tree.Word]) -> str:
    return ", ".join(name.text for name in names)


def _pieces(parts: list[str], joint: str) -> Cell:
    """Parts with what joins them at the end of each but the last."""
    return [part + joint for part in parts[:-1]] + parts[-1:]


def _breakable(node: tree.Node) -> Cell:
    """A requirement or an expression that may break where its outermost parts are joined."""
    if isinstance(node, tree.AnyOf):
        return _pieces([_part(part, last=part is node.parts[-1]) for part in node.parts], " or")
    if isinstance(node, tree.AllOf):
        return _pieces([_inner(part) for part in node.parts], " and")
    return [words(node)]


def words(node: tree.Node) -> str:
    """A requirement or an expression as the language writes it, with no more parentheses than it needs."""
    match node:
        case tree.Word():
            return node.text
        case tree.Held():
            where = f"any {node.thing.text}" if node.thing is not None else ""
            return f"{node.role.text} in {where or words(node.reference)}"  # type: ignore[arg-type]
        case tree.Negation():
            return f"not {_inner(node.part)}"
        case tree.AllOf() | tree.AnyOf():
            return " ".join(_breakable(node))
        case tree.Given():
            asked = words(node.requirement)
            if isinstance(node.requirement, tree.AnyOf | tree.Given):
                asked = f"({asked})"
            test = words(node.condition)
            return f"{asked} if ({test})" if isinstance(node.condition, tree.AnyOf) else f"{asked} if {test}"
        case tree.Comparison():
            return f"{words(node.left)} {node.operator} {words(node.right)}"
        case tree.Reference():
            return ".".join((node.root, *node.names)) + ("?" if node.optional else "")
        case tree.Literal():
            return _literal(node.value)
        case tree.Now():
            return "now"
        case tree.Clock():
            return f"now.{node.part}"
        case tree.Moment():
            return node.text
        case tree.Shifted():
            return f"{words(node.moment)} {node.sign} {node.duration}"
        case tree.Listing():
            return f"[{', '.join(words(item) for item in node.items)}]"


def _inner(node: tree.Node) -> str:
    """A part of a conjunction, or what follows "not"."""
    return f"({words(node)})" if isinstance(node, tree.AllOf | tree.AnyOf | tree.Given) else words(node)


def _part(node: tree.Node, *, last: bool) -> str:
    """A part of a disjunction. An "if" needs parentheses unless nothing follows it."""
    if isinstance(node, tree.AnyOf) or (isinstance(node, tree.Given) and not last):
        return f"({words(node)})"
    return words(node)


def _literal(value: str | float | bool | None) -> str:
    if value is None:
        return "none"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, str):
        return _quoted(value)
    if isinstance(value, float):
        text = format(Decimal(repr(value)), "f")
        return text if "." in text else f"{text}.0"
    return str(value)


def _quoted(text: str) -> str:
    escaped = text.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _text(text: str | None) -> Cell:
    return [] if text is None else [_quoted(text)]
