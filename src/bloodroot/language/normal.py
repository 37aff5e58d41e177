"""One spelling for requirements that differ only in the order of their terms."""

from __future__ import annotations

from dataclasses import replace

from . import tree
from .parser import parse_guard
from .printer import words
from .problems import Place, PolicyError, SourceText


def normal(node: tree.Node) -> tree.Node:
    """A requirement or an expression with the parts of each ``and``, ``or`` and list in one order, none twice."""
    match node:
        case tree.AllOf() | tree.AnyOf():
            kind = type(node)
            parts: dict[str, tree.Node] = {}
            for part in map(normal, node.parts):
                for each in part.parts if isinstance(part, kind) else (part,):
                    parts.setdefault(words(each), each)
            ordered = [parts[text] for text in sorted(parts)]
            return ordered[0] if len(ordered) == 1 else kind(ordered)
        case tree.Negation():
            return tree.Negation(normal(node.part))
        case tree.Given():
            return tree.Given(normal(node.requirement), normal(node.condition))
        case tree.Listing():
            items = {words(item): item for item in node.items}
            return tree.Listing([items[text] for text in sorted(items)])
        case tree.Comparison():
            return replace(node, left=normal(node.left), right=normal(node.right))
    return node


def normal_words(node: tree.Node) -> str:
    """The text of `normal`."""
    return words(normal(node))


def normal_text(text: str) -> str:
    """A requirement as text, in its one spelling; a text that is no requirement stays as it is."""
    try:
        return normal_words(parse_guard(text, Place(SourceText("", (text,)), 1, 1, len(text))))
    except PolicyError:
        return text
