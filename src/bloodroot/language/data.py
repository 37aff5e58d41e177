"""The tree of a policy as plain data, fit for JSON. ``docs/policy.schema.json`` describes it."""

from __future__ import annotations

from typing import Any

from . import tree

Data = dict[str, Any]


def to_data(document: tree.Document) -> Data:
    """A tree as dicts, lists, texts and numbers. Places and comments are left out."""
    return {"sections": [_section(section) for section in document.sections]}


_ARGUMENTS = {"policy": "name", "include": "file", "fields": "kind", "roles in": "thing"}


def _section(section: tree.Section) -> Data:
    data: Data = {"section": section.keyword.partition(" ")[0]}
    if section.argument is not None:
        data[_ARGUMENTS[section.keyword]] = section.argument
    if section.zone is not None:
        data["zone"] = section.zone
    if section.keyword not in ("policy", "include"):
        data["entries"] = [_entry(entry) for entry in section.entries]
    return data


def _entry(entry: tree.Entry) -> Data:
    data = _of_requests(entry) if isinstance(entry, _OF_REQUESTS) else _of_names(entry)
    data["accepts"] = [{"finding": accept.finding, "reason": accept.reason} for accept in entry.accepts]
    return _filled(data)


_OF_REQUESTS = (tree.Endpoint, tree.Standing, tree.Denial)


def _of_names(entry: tree.Entry) -> Data:
    """An entry that says what a name means."""
    match entry:
        case tree.Role():
            return {
                "role": entry.name.text,
                "includes": _texts(entry.includes),
                "default": entry.default,
                "description": entry.description,
            }
        case tree.Apart():
            return {"apart": _texts(entry.roles)}
        case tree.Thing():
            return {
                "thing": entry.name.text,
                "parameters": [parameter.text[1:-1] for parameter in entry.parameters],
                "in": entry.parent.text if entry.parent is not None else None,
                "by": list(entry.by),
                "description": entry.description,
            }
        case tree.Group():
            return {"group": entry.name, "roles": _texts(entry.roles)}
        case tree.Permission():
            return {
                "permission": entry.name.text,
                "grants": [_filled({"to": grant.to.text, "if": _optional(grant.condition)}) for grant in entry.grants],
                "description": entry.description,
            }
        case tree.Condition():
            return {"condition": entry.name.text, "test": _node(entry.expression), "message": entry.message}
        case tree.Field():
            return {"field": entry.name, "read": _optional(entry.read), "change": _optional(entry.change)}
    raise TypeError(f"no entry that says what a name means: {type(entry).__name__}")


def _of_requests(entry: tree.Endpoint | tree.Standing | tree.Denial) -> Data:
    """An entry about requests."""
    data: Data = {"methods": list(entry.methods), "path": entry.path.text if entry.path is not None else None}
    if isinstance(entry, tree.Denial):
        return data | {
            "reason": entry.reason.text,
            "answer": entry.kind,
            "status": entry.status,
            "to": entry.to.text if entry.to is not None else None,
            "message": entry.message,
        }
    if isinstance(entry, tree.Endpoint):
        data["actions"] = _texts(entry.actions)
    data["requirement"] = _node(entry.requirement)
    if isinstance(entry, tree.Standing):
        data["except"] = _texts(list(entry.excepts))
    return data | {"description": entry.description}


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
        case tree.Held():
            if node.reference is not None:
                return {"role": node.role.text, "in": _node(node.reference)}
            return {"role": node.role.text, "in": {"any": node.thing.text if node.thing is not None else ""}}
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
            return {"reference": [node.root, *node.names], **({"optional": True} if node.optional else {})}
        case tree.Literal():
            return {"value": node.value}
        case tree.Now():
            return {"now": True}
        case tree.Clock():
            return {"now": node.part}
        case tree.Moment():
            return {"moment": node.text}
        case tree.Shifted():
            return {"moment": _node(node.moment), "plus" if node.sign == "+" else "minus": node.duration}
        case tree.Listing():
            return {"list": [_node(item) for item in node.items]}
