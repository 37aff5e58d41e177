"""The tree of a policy as plain data, fit for JSON, and back. ``docs/policy.schema.json`` describes it."""

from __future__ import annotations

from typing import Any

from . import tree
from .errors import BloodrootError
from .parser import parse
from .printer import printed
from .problems import Place, PolicyError, Source

Data = dict[str, Any]


class DataError(BloodrootError, ValueError):
    """Data that is no policy. The message says where it fails."""


def to_data(document: tree.Document) -> Data:
    """A tree as dicts, lists, texts and numbers. Places and comments are left out."""
    return {"sections": [_section(section) for section in document.sections]}


def from_data(data: Any) -> tree.Document:
    """A tree from its data.

    Raises:
        DataError: the data has not the form of the schema, or says something that no policy can say.
    """
    try:
        document = tree.Document(Source("<data>", ()), [_to_section(section) for section in data["sections"]])
        text = printed(document)
    except (KeyError, TypeError, AttributeError, ValueError, RecursionError) as error:
        raise DataError(f"this is not the data of a policy: {type(error).__name__}: {error}") from error
    try:
        again = parse(text, "<data>")
    except PolicyError as error:
        raise DataError(str(error)) from error
    if again != document:
        raise DataError("this data says something that a policy cannot say")
    # What was read has places, in the text that the data describes.
    return again


# To data ---------------------------------------------------------------------------------------------------------

_ARGUMENTS = {"policy": "name", "include": "file", "fields": "kind"}


def _section(section: tree.Section) -> Data:
    data: Data = {"section": section.keyword}
    if section.argument is not None:
        data[_ARGUMENTS[section.keyword]] = section.argument
    if section.keyword not in ("policy", "include"):
        data["entries"] = [_entry(entry) for entry in section.entries]
    return data


def _entry(entry: tree.Entry) -> Data:
    match entry:
        case tree.Role():
            data: Data = {
                "role": entry.name.text,
                "includes": _texts(entry.includes),
                "default": entry.default,
                "description": entry.description,
            }
        case tree.Apart():
            data = {"apart": _texts(entry.roles)}
        case tree.Group():
            data = {"group": entry.name, "roles": _texts(entry.roles)}
        case tree.Permission():
            data = {
                "permission": entry.name.text,
                "grants": [_filled({"to": grant.to.text, "if": _optional(grant.condition)}) for grant in entry.grants],
                "description": entry.description,
            }
        case tree.Condition():
            data = {"condition": entry.name.text, "test": _node(entry.expression), "message": entry.message}
        case tree.Endpoint():
            data = {
                "methods": list(entry.methods),
                "path": entry.path.text if entry.path is not None else None,
                "actions": _texts(entry.actions),
                "requirement": _node(entry.requirement),
                "description": entry.description,
            }
        case tree.Standing():
            data = {
                "methods": list(entry.methods),
                "path": entry.path.text,
                "requirement": _node(entry.requirement),
                "description": entry.description,
            }
        case tree.Denial():
            data = {
                "methods": list(entry.methods),
                "path": entry.path.text if entry.path is not None else None,
                "reason": entry.reason.text,
                "answer": entry.kind,
                "status": entry.status,
                "to": entry.to.text if entry.to is not None else None,
                "message": entry.message,
            }
        case tree.Field():
            data = {"field": entry.name, "read": _optional(entry.read), "change": _optional(entry.change)}
    data["accepts"] = [{"finding": each.finding, "reason": each.reason} for each in entry.accepts]
    return _filled(data)


def _filled(data: Data) -> Data:
    """Without what says nothing."""
    return {name: value for name, value in data.items() if value is not None and value != [] and value is not False}


def _texts(words: list[tree.Word]) -> list[str]:
    return [word.text for word in words]


def _optional(node: tree.Node | None) -> Any:
    return None if node is None else _node(node)


def _node(node: tree.Node) -> Any:
    match node:
        case tree.Word():
            return node.text
        case tree.Negation():
            return {"not": _node(node.part)}
        case tree.AllOf():
            return {"all": [_node(part) for part in node.parts]}
        case tree.AnyOf():
            return {"any": [_node(part) for part in node.parts]}
        case tree.Given():
            return {"requirement": _node(node.requirement), "if": _node(node.condition)}
        case tree.Comparison():
            return {"left": _node(node.left), "operator": node.operator, "right": _node(node.right)}
        case tree.Reference():
            return {"reference": [node.root, *node.names]}
        case tree.Literal():
            return {"value": node.value}
        case tree.Now():
            return {"now": True}
        case tree.Listing():
            return {"list": [_node(item) for item in node.items]}


# From data -------------------------------------------------------------------------------------------------------

_NOWHERE = Place(Source("<data>", ()), 1, 1, 1)


def _to_section(data: Data) -> tree.Section:
    keyword = data["section"]
    argument = data[_ARGUMENTS[keyword]] if keyword in _ARGUMENTS else None
    entries = [_to_entry(keyword, entry) for entry in data.get("entries", ())]
    return tree.Section(keyword, argument, entries, _NOWHERE)


def _to_entry(keyword: str, data: Data) -> tree.Entry:
    said = data.get("description")
    accepts = tuple(tree.Accept(each["finding"], each["reason"]) for each in data.get("accepts", ()))
    methods = tuple(data.get("methods", ()))
    path = _to_word(data["path"]) if data.get("path") is not None else None
    match keyword:
        case "roles" if "apart" in data:
            return tree.Apart(_to_words(data["apart"]), _NOWHERE, accepts)
        case "roles":
            includes = _to_words(data.get("includes", []))
            return tree.Role(_to_word(data["role"]), includes, data.get("default", False), said, _NOWHERE, accepts)
        case "groups":
            return tree.Group(data["group"], _to_words(data["roles"]), _NOWHERE, accepts)
        case "permissions":
            grants = [
                tree.Grant(_to_word(grant["to"]), _to_optional(grant.get("if"))) for grant in data.get("grants", [])
            ]
            return tree.Permission(_to_word(data["permission"]), grants, said, _NOWHERE, accepts)
        case "conditions":
            test = _to_node(data["test"])
            return tree.Condition(_to_word(data["condition"]), test, data.get("message"), _NOWHERE, accepts)
        case "endpoints":
            actions = _to_words(data.get("actions", []))
            requirement = _to_node(data["requirement"])
            return tree.Endpoint(methods, path, actions, requirement, said, _NOWHERE, _NOWHERE, accepts)
        case "always" if path is not None:
            return tree.Standing(methods, path, _to_node(data["requirement"]), said, _NOWHERE, _NOWHERE, accepts)
        case "denials":
            to = _to_word(data["to"]) if "to" in data else None
            about = (data["answer"], data.get("status"), to, data.get("message"))
            return tree.Denial(methods, path, _to_word(data["reason"]), *about, _NOWHERE, accepts)
        case "fields":
            read, change = _to_optional(data.get("read")), _to_optional(data.get("change"))
            return tree.Field(data["field"], read, change, _NOWHERE, accepts)
    raise DataError(f"there is no section {keyword} with such an entry")


def _to_word(text: Any) -> tree.Word:
    if not isinstance(text, str):
        raise TypeError(f"a string was expected, not {text!r}")
    return tree.Word(text, 0, 0)


def _to_words(texts: Any) -> list[tree.Word]:
    return [_to_word(text) for text in texts]


def _to_optional(data: Any) -> tree.Node | None:
    return None if data is None else _to_node(data)


def _to_node(data: Any) -> tree.Node:
    if isinstance(data, str):
        return _to_word(data)
    match data:
        case {"not": part}:
            return tree.Negation(_to_node(part))
        case {"all": [*parts]}:
            return tree.AllOf([_to_node(part) for part in parts])
        case {"any": [*parts]}:
            return tree.AnyOf([_to_node(part) for part in parts])
        case {"requirement": requirement, "if": condition}:
            return tree.Given(_to_node(requirement), _to_node(condition))
        case {"left": left, "operator": str(operator), "right": right}:
            return tree.Comparison(_to_node(left), operator, _to_node(right))
        case {"reference": [str(root), *names]}:
            return tree.Reference(root, tuple(names))
        case {"value": value}:
            return tree.Literal(value)
        case {"now": True}:
            return tree.Now()
        case {"list": [*items]}:
            return tree.Listing([_to_node(item) for item in items])
    raise TypeError(f"no requirement and no expression: {data!r}")
