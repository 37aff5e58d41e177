"""YAML read without its bombs: a few lines of anchors and aliases may stand for more than any memory holds."""

from __future__ import annotations

from typing import Any

from ..language.errors import BloodrootError

# What a document may come to with its aliases written out, beside the nodes that it has.
_MOST_NODES = 2_000_000
_MOST_TIMES = 20


class TooLarge(BloodrootError, ValueError):
    """A document that comes to too much with its aliases written out, or that contains itself."""


def load(data: bytes | str) -> Any:
    """What a YAML document says.

    Raises:
        yaml.YAMLError: it is not YAML.
        TooLarge: it stands for much more than it is.
        RecursionError: it is nested too deeply.
    """
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)(data)
    try:
        node = loader.get_single_node()
        if node is None:
            return None
        _check(node)
        return loader.construct_document(node)
    finally:
        loader.dispose()


def _check(root: Any) -> None:
    """See what a document comes to before anything is made of it: what has children is counted after these."""
    sizes: dict[int, int] = {}
    waiting = [root]
    open_nodes: set[int] = set()
    while waiting:
        node = waiting[-1]
        children = _children(node)
        if id(node) in sizes:
            waiting.pop()
        elif id(node) in open_nodes:
            open_nodes.discard(id(node))
            sizes[id(node)] = 1 + sum(sizes[id(child)] for child in children)
            waiting.pop()
        else:
            open_nodes.add(id(node))
            for each in children:
                if id(each) in open_nodes:
                    raise TooLarge("an alias is within what it stands for")
                if id(each) not in sizes:
                    waiting.append(each)
    if sizes[id(root)] > max(_MOST_NODES, _MOST_TIMES * len(sizes)):
        raise TooLarge(f"with its aliases written out it has {sizes[id(root)]:,} parts, and {len(sizes):,} as it is")


def _children(node: Any) -> list[Any]:
    value = node.value
    if not isinstance(value, list):
        return []
    return [part for child in value for part in (child if isinstance(child, tuple) else (child,))]
