"""python docs/make_python.py: write docs/python.md, every public name with its docstring, from the code."""

from __future__ import annotations

import enum
import importlib
import inspect
from collections.abc import Iterator
from pathlib import Path
from typing import Any

PAGE = Path(__file__).parent / "python.md"
MODULES = {
    "bloodroot": "The policy, and the questions that it answers.",
    "bloodroot.enforce": "What handlers, services and jobs use, whatever the framework.",
    "bloodroot.enforce.starlette": "Starlette.",
    "bloodroot.enforce.fastapi": "FastAPI.",
    "bloodroot.enforce.flask": "Flask.",
    "bloodroot.enforce.django": "Django.",
    "bloodroot.enforce.django_rest": "The REST framework of Django.",
    "bloodroot.enforce.django_templates": "Templates of Django.",
    "bloodroot.enforce.asgi": "Any ASGI application.",
    "bloodroot.enforce.wsgi": "Any WSGI application.",
    "bloodroot.enforce.rows": "Lists of records, for SQLAlchemy.",
    "bloodroot.enforce.django_rows": "Lists of records, for Django.",
    "bloodroot.identity": "Who is calling.",
    "bloodroot.testing": "Access in an application's own tests.",
}
# Classes that users make themselves; all others come from functions and methods.
MADE = {"AccessMiddleware", "Audit", "Caller", "JsonLines", "Route", "Unidentified", "on_behalf_of"}


def public(module: str) -> list[tuple[str, Any]]:
    """The public names of a module, with what they are."""
    found = importlib.import_module(module)
    return [(name, getattr(found, name)) for name in found.__all__]


def members(what: type) -> Iterator[tuple[str, Any]]:
    """The public methods and properties of a class, its own and those of our classes that it derives from."""
    seen = set()
    for kind in what.__mro__:
        if not kind.__module__.startswith("bloodroot"):
            continue
        for name, value in vars(kind).items():
            value = getattr(value, "__func__", value)
            if (
                not name.startswith("_")
                and name not in seen
                and (inspect.isfunction(value) or isinstance(value, property))
            ):
                seen.add(name)
                yield name, value


def page() -> str:
    """The text of the page."""
    parts = [
        "# Python",
        "",
        "What is promised: the names below keep their meaning within a major version. Whatever is not on this page may",
        "change. The page is made from the code, by `python docs/make_python.py`.",
    ]
    for module, text in MODULES.items():
        parts += ["", f"## `{module}`", "", text]
        for name, what in public(module):
            parts += ["", f"### `{name}`", "", *_about(name, what)]
    return "\n".join(parts) + "\n"


def _about(name: str, what: Any) -> Iterator[str]:
    if inspect.isclass(what):
        signature = _signature(what) if name in MADE else ""
        yield from _block(f"class {name}{signature}", what)
        if not issubclass(what, enum.Enum | Exception):
            for member, value in members(what):
                head = f"{name}.{member}" + ("" if isinstance(value, property) else _signature(value))
                yield from ("", *_block(head, value))
    elif inspect.isroutine(what):
        yield from _block(f"{name}{_signature(what)}", what)
    else:
        yield from (f"`{name} = {_plain(what)}`",)


def _block(head: str, what: Any) -> Iterator[str]:
    yield from ("```text", head, "")
    yield from (f"    {line}".rstrip() for line in (inspect.getdoc(what) or "").splitlines())
    yield "```"


def _signature(what: Any) -> str:
    try:
        found = inspect.signature(what)
    except (TypeError, ValueError):
        return "(...)"
    if inspect.isclass(what):
        found = found.replace(return_annotation=inspect.Signature.empty)
    parameters = [each for each in found.parameters.values() if each.name not in ("self", "cls")]
    shown = str(found.replace(parameters=parameters))
    return shown.replace("'", "").replace("<factory>", "{}")


def _plain(what: Any) -> str:
    return str(what).replace("typing.", "").replace("collections.abc.", "").replace("bloodroot.core.", "")


if __name__ == "__main__":
    PAGE.write_text(page(), "utf-8")
