"""An OpenAPI document with what a policy requires filled in, and nothing else of it changed."""

from __future__ import annotations

import copy
import io
import json
import re
from collections.abc import Iterable, MutableMapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from ..api_access import OperationAccess, Schemes
from ..language.errors import BloodrootError
from .security import Keys


class ExportError(BloodrootError):
    """Something cannot be exported. The message says what, and the way out."""


@dataclass(frozen=True, slots=True)
class Filled:
    """A document with requirements.

    Attributes:
        text: the document.
        operations: how many operations were filled in.
        notes: what was left out, and why.
    """

    text: str
    operations: int
    notes: tuple[str, ...]


def filled(file: Path, operations: Iterable[tuple[Keys, OperationAccess]]) -> Filled:
    """A document with ``security``, requirements and the answers to refused callers in each operation.

    Args:
        file: the document, JSON or YAML. Comments, order and layout stay as they are.
        operations: what its operations require, each with where it is.

    Raises:
        ExportError: the document cannot be read.
    """
    text = _text_of(file)
    is_json = file.suffix.lower() == ".json" or text.lstrip().startswith("{")
    whole = json.loads(text) if is_json else _read_yaml(text, file)
    notes: list[str] = []
    count = 0
    schemes = Schemes(whole)
    shared = _shared(whole)
    for keys, access in operations:
        operation = _operation(whole, keys, shared)
        if operation is None:
            notes.append(f"{keys[2].upper()} {keys[1]} is behind a $ref; it was left as it is")
            continue
        if "responses" in operation:
            _unshare(operation, "responses", shared)
        access.fill_in(operation, schemes, str if is_json else _quoted)
        count += 1
    schemes.declare()
    return Filled(_written_json(whole, text) if is_json else _written_yaml(whole, text), count, tuple(notes))


def _text_of(file: Path) -> str:
    try:
        return file.read_bytes().decode("utf-8-sig")
    except FileNotFoundError as error:
        raise ExportError(f"{file}: there is no such file") from error
    except OSError as error:
        raise ExportError(f"{file}: this file cannot be read: {error.strerror}") from error
    except UnicodeDecodeError as error:
        raise ExportError(f"{file}: this is not UTF-8 text") from error


def _operation(whole: Any, keys: tuple[str, str, str], shared: frozenset[int]) -> MutableMapping[str, Any] | None:
    """An operation in the document itself; None for one that a reference leads to."""
    node = whole
    for key in keys:
        if not isinstance(node, MutableMapping) or key not in node:
            return None
        _unshare(node, key, shared)
        node = node[key]
    return node if isinstance(node, MutableMapping) else None


def _shared(whole: Any) -> frozenset[int]:
    """The objects that a YAML document has in several places, by anchors and aliases: by their ids."""
    seen: set[int] = set()
    twice: set[int] = set()
    waiting = [whole]
    while waiting:
        node = waiting.pop()
        if isinstance(node, MutableMapping | list):
            if id(node) in seen:
                twice.add(id(node))
                continue
            seen.add(id(node))
            waiting += node.values() if isinstance(node, MutableMapping) else node
    return frozenset(twice)


def _unshare(inside: MutableMapping[str, Any], key: str, shared: frozenset[int]) -> None:
    """Put a copy in the place of something that is elsewhere too: what is filled in here is not for there."""
    if id(inside[key]) in shared:
        made = copy.copy(inside[key])
        if hasattr(made, "yaml_set_anchor"):
            # An anchor is the name of one object.
            made.yaml_set_anchor("", always_dump=False)
            del made.anchor.value
        inside[key] = made


def _quoted(status: str) -> str:
    """A status as a string, not a number, in YAML."""
    from ruamel.yaml.scalarstring import DoubleQuotedScalarString

    quoted: str = DoubleQuotedScalarString(status)
    return quoted


# Texts --------------------------------------------------------------------------------------


def _written_json(whole: Any, before: str) -> str:
    """JSON with the indentation that the text had."""
    search = re.search(r"\n([ \t]+)\S", before)
    indent = search[1] if search else None
    separators = (",", ":") if search is None and '": ' not in before else None
    escaped = "\\u" in before and before.isascii()
    text = json.dumps(whole, indent=indent, separators=separators, ensure_ascii=escaped)
    return text + ("\n" if before.endswith("\n") else "")


def _yaml(before: str) -> Any:
    from ruamel.yaml import YAML

    yaml = YAML()
    yaml.preserve_quotes = True
    yaml.width = 1 << 20
    yaml.allow_duplicate_keys = False
    mapping = re.search(r"^\S[^\n]*:[ \t]*\n( +)[^\s#-]", before, re.MULTILINE)
    sequence = re.search(r"^( *)[^\s#-][^\n]*:[ \t]*\n( *)- ", before, re.MULTILINE)
    depth = len(mapping[1]) if mapping else 2
    offset = max(0, len(sequence[2]) - len(sequence[1])) if sequence else 2
    yaml.indent(mapping=depth, sequence=offset + 2, offset=offset)
    yaml.explicit_start = before.startswith("---")
    return yaml


def _read_yaml(text: str, file: Path) -> Any:
    from ruamel.yaml.error import YAMLError

    from ..survey.documents import read_yaml

    # What reads YAML and keeps its comments writes aliases out as it goes.
    read_yaml(text.encode(), file)
    try:
        return _yaml(text).load(text)
    except YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        place = f":{mark.line + 1}:{mark.column + 1}" if mark is not None else ""
        problem = getattr(error, "problem", None) or str(error).splitlines()[0]
        raise ExportError(f"{file}{place}: this is not YAML: {problem}") from error


def _written_yaml(whole: Any, before: str) -> str:
    buffer = io.StringIO()
    _yaml(before).dump(whole, buffer)
    return buffer.getvalue()
