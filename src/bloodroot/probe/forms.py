"""Forms in pages: where they are sent to, what they hide, and the token against forged requests in them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from html.parser import HTMLParser
from urllib.parse import urljoin, urlsplit

_TOKEN = re.compile(r"csrf|xsrf|forgery|^_token$|authenticity", re.I).search


@dataclass(slots=True)
class Form:
    """A form.

    Attributes:
        action: the path it is sent to.
        method: in capitals.
        fields: what it sends by itself: hidden fields, and others with a value.
        names: the names of all that it sends.
        password: whether it asks for a password.
    """

    action: str
    method: str
    fields: dict[str, str] = field(default_factory=dict)
    names: set[str] = field(default_factory=set)
    password: bool = False


@dataclass(frozen=True, slots=True)
class ForgeryToken:
    """What an application expects back with a form, so that no other site can send it.

    Attributes:
        value: the token.
        field: the name of the form's field, or None where it was in none.
    """

    value: str
    field: str | None = None

    @property
    def headers(self) -> dict[str, str]:
        """The headers that scripts send it in."""
        own = [self.field.lower()] if self.field is not None and "-" in self.field else []
        return dict.fromkeys(("x-csrftoken", "x-csrf-token", "x-xsrf-token", *own), self.value)


class _Forms(HTMLParser):
    def __init__(self, page: str, called: str | None = None) -> None:
        super().__init__()
        self.page = page
        self.called = called
        self.forms: list[Form] = []
        self.meta: str | None = None
        self._open: Form | None = None

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        values = {name: value or "" for name, value in attrs}
        if tag == "form":
            action = urlsplit(urljoin(self.page, values.get("action", ""))).path
            self._open = Form(action, values.get("method", "get").upper())
            self.forms.append(self._open)
        elif tag == "meta" and (_TOKEN(values.get("name", "")) or (self.called and values.get("name") == self.called)):
            self.meta = values.get("content") or self.meta
        elif tag in ("select", "textarea", "button") and self._open is not None and values.get("name"):
            self._open.names.add(values["name"])
        elif tag == "input" and self._open is not None and values.get("name"):
            self._open.names.add(values["name"])
            kind = values.get("type", "text").lower()
            self._open.password = self._open.password or kind == "password"
            if kind == "hidden" or (kind not in ("checkbox", "radio", "submit", "file") and values.get("value")):
                self._open.fields[values["name"]] = values.get("value", "")

    def handle_endtag(self, tag: str) -> None:
        if tag == "form":
            self._open = None


def forms_in(text: str, page: str) -> list[Form]:
    """The forms of a page.

    Args:
        text: HTML.
        page: the path that it was read from.
    """
    return _parsed(text, page).forms


def token_in(text: str, page: str, cookies: Mapping[str, str], called: str | None = None) -> ForgeryToken | None:
    """The token against forged requests that a page, or a cookie beside it, has; None where there is none.

    Args:
        text: HTML.
        page: the path that it was read from.
        cookies: the cookies of the session.
        called: what the application calls it, where that is no usual name.
    """
    parsed = _parsed(text, page, called)
    for form in parsed.forms:
        for name, value in form.fields.items():
            if (_TOKEN(name) or name == called) and value:
                return ForgeryToken(value, name)
    if parsed.meta is not None:
        return ForgeryToken(parsed.meta, called)
    cookie = next((value for name, value in cookies.items() if (_TOKEN(name) or name == called) and value), None)
    return ForgeryToken(cookie, called) if cookie is not None else None


def looks_like_token(value: str) -> bool:
    """Whether the value of a hidden field is one that cannot be guessed, and that is another in each session."""
    return len(value) >= 16 and not value.isspace() and len(set(value)) > 6


def _parsed(text: str, page: str, called: str | None = None) -> _Forms:
    parser = _Forms(page, called)
    parser.feed(text[:1_000_000])
    parser.close()
    return parser
