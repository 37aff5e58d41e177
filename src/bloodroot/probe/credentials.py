"""What a persona sends with each request, and what sends requests to an application."""

from __future__ import annotations

import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from email.utils import mktime_tz, parsedate_tz
from typing import Any

import httpx

from .application import Application
from .forms import ForgeryToken, forms_in

# The headers of a browser that asks for a page, and of a program that asks for data.
PAGES = {"accept": "text/html,application/xhtml+xml,*/*;q=0.8"}
PROGRAMS = {"accept": "application/json"}


@dataclass(frozen=True, slots=True)
class Credentials:
    """What a persona sends with each request.

    Attributes:
        cookies: its cookies.
        headers: its headers: what it accepts, and perhaps a token.
        forgery: the token that the application expects back with forms, or None.
        hidden: by the path of a form, the fields that it sends by itself.
    """

    cookies: Mapping[str, str] = field(default_factory=dict)
    headers: Mapping[str, str] = field(default_factory=dict)
    forgery: ForgeryToken | None = None
    hidden: Mapping[str, Mapping[str, str]] = field(default_factory=dict)

    @property
    def sent(self) -> dict[str, str]:
        """The headers of a request, cookies among them."""
        if not self.cookies:
            return dict(self.headers)
        return {**self.headers, "cookie": "; ".join(f"{name}={value}" for name, value in self.cookies.items())}

    @property
    def by_token(self) -> bool:
        """Whether nothing is sent that a browser would send by itself, so that no request can be forged."""
        return not self.cookies and "authorization" in self.headers


def client_of(application: Application, timeout: float) -> httpx.AsyncClient:
    """What sends requests to an application, and follows no redirect by itself."""
    return httpx.AsyncClient(
        transport=application.transport,
        base_url=application.base,
        follow_redirects=False,
        timeout=timeout,
        trust_env=False,
    )


def cookies_of(client: httpx.AsyncClient) -> dict[str, str]:
    """The cookies that a client has been given, by name."""
    return {cookie.name: cookie.value or "" for cookie in client.cookies.jar}


def hidden_in(text: str, page: str) -> dict[str, dict[str, str]]:
    """By the path of each form of a page, the fields that it sends by itself."""
    return {form.action: form.fields for form in forms_in(text, page) if form.method == "POST"}


def referer(application: Application, path: str) -> dict[str, str]:
    """What a browser says of the page that a form is on; over HTTPS it is asked for."""
    return {"referer": f"{application.base}{path}"} if application.base.startswith("https:") else {}


def at(response: httpx.Response, path: str) -> Any:
    """What a JSON answer has at ``a.b.c``, or None."""
    try:
        body = response.json()
    except ValueError:
        return None
    for name in path.split("."):
        body = body.get(name) if isinstance(body, dict) else None
    return body


def taken_away(response: httpx.Response) -> set[str]:
    """The names of the cookies that a response takes away (RFC 6265, sections 3.1 and 5.3)."""
    names = set()
    for header in response.headers.get_list("set-cookie"):
        pair, *attributes = (part.strip() for part in header.split(";"))
        ends = {key.lower(): value for key, _, value in (attribute.partition("=") for attribute in attributes)}
        until = parsedate_tz(ends.get("expires", ""))
        if ends.get("max-age", "").strip() in ("0", "-1") or (until is not None and mktime_tz(until) <= time.time()):
            names.add(pair.partition("=")[0])
    return names
