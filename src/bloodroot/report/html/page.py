"""Templates of pages, and data inside of them."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from importlib import resources
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

# Inside of a script these would end it, or begin a comment.
_ESCAPES = {ord(character): f"\\u{ord(character):04x}" for character in "<>&\u2028\u2029"}


def page(name: str, **values: Any) -> str:
    """A page made of a template."""
    environment = Environment(
        loader=PackageLoader("bloodroot.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template(name).render(**values)


def part(name: str) -> Markup:
    """A style sheet or a script of ours, to be put into a page as it is."""
    return Markup(resources.files("bloodroot.report").joinpath("templates", name).read_text("utf-8"))  # noqa: S704


def pieces_of_page(name: str, data: Mapping[str, Any], **values: Any) -> Iterator[str]:
    """A page with a script's data in it, in pieces: of a large matrix it is most of the page.

    Args:
        name: the template.
        data: what takes the place of ``data``, with lists written part by part.
        values: everything else.
    """
    before, after = page(name, data=Markup(_DATA), **values).split(_DATA)  # noqa: S704
    yield before
    separator = "{"
    for key, value in data.items():
        yield f"{separator}{as_script(key)}:"
        separator = ","
        if isinstance(value, list):
            yield "["
            for start in range(0, len(value), _TOGETHER):
                yield ("," if start else "") + as_script(value[start : start + _TOGETHER])[1:-1]
            yield "]"
        else:
            yield str(as_script(value))
    yield "}"
    yield after


_DATA = "\0data\0"
_TOGETHER = 1000  # items of a list


def as_script(data: object) -> Markup:
    """Data as JSON that can be put into a script element as it is."""
    text = json.dumps(data, ensure_ascii=False, separators=(",", ":"), allow_nan=False)
    return Markup(text.translate(_ESCAPES))  # noqa: S704
