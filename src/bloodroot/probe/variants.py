"""Refused requests once more, spelled otherwise: what reaches a handler then is a hole.

Servers, proxies and frameworks read a path in different ways. What one of them refuses, another may serve.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import replace
from typing import TYPE_CHECKING
from urllib.parse import urlencode, urlsplit

from ..core.decision import Outcome
from ..core.methods import SAFE, WEBSOCKET
from ..core.paths import read_path
from .plan import Case, Plan

_MOST_TEXTS = 2

if TYPE_CHECKING:
    from ..core.policy import Policy
    from .asked_endpoints import AskedEndpoint

    Parameters = Callable[[AskedEndpoint], Mapping[str, tuple[str, ...]]]


def with_variants(plan: Plan, policy: Policy, *, seen: bool, routed: bool, every: bool, parameters: Parameters) -> Plan:
    """A plan with each request that is to be refused in other ways, behind all others.

    Args:
        plan: the plan.
        policy: what is declared.
        every: whether other spellings of the path, and headers that a proxy sends, are among these ways; else they are
            other methods and headers that any client may send, and parameters of the query.
        parameters: the parameters of the query that an endpoint takes, with values for each.
        routed: whether it is known which methods are served where. Where it is not, those that the policy does not
            name are tried.
        seen: whether it can be seen which handler answers. Where it cannot, spellings that are open to the persona by
            themselves are left out: their answers say nothing of what is closed.
    """
    asked: set[tuple[AskedEndpoint, str, Outcome]] = set()
    requests = {(case.method, case.target, case.persona.name) for case in plan.cases}
    changed = {case.path for case in plan.cases if not case.safe}
    more: dict[tuple[str, ...], Case] = {}
    for case in plan.cases:
        if case.spelled or case.missing or (case.method == WEBSOCKET and not seen):
            continue
        if case.allowed:
            if case.method == "GET":
                for other in _with_parameters(case, parameters, plan):
                    more.setdefault(other.key, other)
            continue
        # A method that a check has forgotten is forgotten for all who are refused alike: one of them is enough.
        is_first = (case.asked, case.where, case.declared) not in asked
        asked.add((case.asked, case.where, case.declared))
        ways: tuple[Case, ...] = ()
        if is_first or every:
            ways = (*_twins(case), *_with_parameters(case, parameters, plan))
            ways += () if routed else tuple(_other_methods(case, policy, changed))
        for other in (*ways, *(_spellings(case) if every else ())):
            # A spelling that is another endpoint's own is asked for already.
            if not other.headers and (other.method, other.raw or other.target, other.persona.name) in requests:
                continue
            opened = _is_open(policy, other)
            if opened and other.method != case.method:
                # The method is open by itself. What it must not do is the work of the other one.
                other = replace(other, declared=Outcome.ALLOW)
            if seen or not opened or other.allowed:
                more.setdefault(other.key, other)
    return replace(plan, cases=(*plan.cases, *more.values()), notes=tuple(_not_varied(plan, parameters)))


def _not_varied(plan: Plan, parameters: Parameters) -> Iterator[str]:
    """Parameters that may be anything, and of which no value is known."""
    pages = list(dict.fromkeys(case.asked for case in plan.cases if case.method == "GET"))
    for asked in pages:
        names = [name for name, values in parameters(asked).items() if not values]
        if names and not any(plan.secrets.values()):
            yield f"{asked.name} as asked; never varied: {', '.join(names)}"
    if pages and not any(parameters(asked) for asked in pages):
        yield "no query was varied: no OpenAPI document and no probe.recorded says what the endpoints take"


def _is_open(policy: Policy, case: Case) -> bool:
    """Whether a spelling is an endpoint that the persona may use anyway."""
    path = (case.raw or case.path).partition("?")[0]
    return policy.decide(case.persona.caller, case.method, path, query={}, assume=case.known).reason is None


def _twins(case: Case) -> Iterator[Case]:
    """The same with methods and headers that any client may send: a page that a check has forgotten."""
    twin = replace(case, plain=case, twin=True, raw=case.target)
    if case.method == WEBSOCKET:
        return
    if case.method == "GET":
        yield replace(twin, method="HEAD", spelled="HEAD")
        for name, value in (("accept", "application/json"), ("range", "bytes=0-99"), ("if-none-match", "*")):
            yield replace(twin, headers={name: value}, spelled=f"{name}: {value}")
    if case.method in ("PUT", "PATCH", "DELETE"):
        yield replace(twin, headers={"if-match": "*"}, spelled="if-match: *")
    yield replace(twin, method="OPTIONS", spelled="OPTIONS")


def _other_methods(case: Case, policy: Policy, changed: Collection[str]) -> Iterator[Case]:
    """The same by methods that no line covers, with the body of one that changes something there."""
    segments = read_path(case.path)
    if segments is None or (case.safe and case.path in changed):
        return
    for method in ("POST", "PUT", "PATCH", "DELETE"):
        if policy.lookup.by_path(method, segments) is None:
            yield replace(case, plain=case, twin=True, raw=case.target, method=method, spelled=method)


def _with_parameters(case: Case, parameters: Parameters, plan: Plan) -> Iterator[Case]:
    """The same with each parameter of the query that the endpoint takes."""
    if case.method != "GET":
        return
    for name, values in parameters(case.asked).items():
        for value in values or _any_text(case, plan):
            query = urlencode({name: value})
            if f"{name}=" not in case.query:
                target = f"{case.path}?{'&'.join(filter(None, (case.query, query)))}"
                yield replace(case, plain=case, twin=True, raw=target, spelled=f"?{query}")


def _any_text(case: Case, plan: Plan) -> Iterator[str]:
    """What to look for where anything may be: nothing, and most of what is kept from the persona.

    All of it would be in the answer of any page that repeats what was looked for.
    """
    marks = [secret.mark[:-1] for secret in plan.secrets.get(case.persona.name, ()) if len(secret.mark) > 3]
    if marks:
        yield from ("", *marks[:_MOST_TEXTS])


def _spellings(case: Case) -> Iterator[Case]:
    for words, path in _paths(case.path):
        target = f"{path}?{case.query}" if case.query else path
        yield replace(case, raw=target, spelled=words)
    for words, method, headers in _methods(case):
        yield replace(case, method=method, raw=case.target, headers=headers, spelled=words)
    for words, raw, headers in _forwarded(case):
        yield replace(case, raw=raw, headers=headers, spelled=words)


def _paths(path: str) -> Iterator[tuple[str, str]]:
    """Other spellings of a path, each with words for it."""
    first, *rest = path[1:].split("/")
    last = path.rstrip("/").rpartition("/")[2]
    before = path.rstrip("/")[: len(path.rstrip("/")) - len(last)]
    yield "a slash at the end", path[:-1] if path.endswith("/") and path != "/" else f"{path}/"
    yield "two slashes at the beginning", f"/{path}"
    yield "two slashes at the end", f"{path.rstrip('/')}//"
    if path == "/":
        return
    yield "capitals", path.upper() if path.upper() != path else path.lower()
    yield "two slashes within", f"/{first}//{'/'.join(rest)}" if rest else f"//{first}"
    yield "a dot segment", f"/./{path[1:]}"
    yield "a dot segment within", f"{before}./{last}"
    yield "a way back", f"/{first}/x/../{'/'.join(rest)}" if rest else f"/x/../{first}"
    yield "a way back, encoded", f"/x/%2e%2e/{path[1:]}"
    yield "an encoded letter", f"{before}%{ord(last[0]):02X}{last[1:]}" if last and last[0] != "%" else path
    yield "a letter encoded twice", f"{before}%25{ord(last[0]):02X}{last[1:]}" if last and last[0] != "%" else path
    yield "an encoded slash", f"/{first}%2F{'/'.join(rest)}" if rest else f"/%2F{first}"
    yield "a backslash", f"/{first}\\{'/'.join(rest)}" if rest else f"\\{first}"
    yield "a parameter behind ;", f"{path};x=1"
    yield "a parameter behind ; within", f"/{first};x/{'/'.join(rest)}" if rest else f"/;x/{first}"
    yield "a blank at the end", f"{path}%20"
    yield "a line end at the end", f"{path}%0A"
    yield "a zero byte at the end", f"{path}%00"
    yield "the format .json", f"{path.rstrip('/')}.json"
    yield "the format .html", f"{path.rstrip('/')}.html"
    yield "an encoded question mark", f"{path}%3F"
    yield "a number sign", f"{path}%23"


def _methods(case: Case) -> Iterator[tuple[str, str, dict[str, str]]]:
    """Headers that name another method, which may reach the same handler."""
    method = case.method
    if method not in (*SAFE, WEBSOCKET):
        for name in ("x-http-method-override", "x-method-override", "x-http-method"):
            yield f"POST with {name}", "POST", {name: method}
            if method != "GET":
                yield f"GET with {name}", "GET", {name: method}


def _forwarded(case: Case) -> Iterator[tuple[str, str, dict[str, str]]]:
    """Headers by which a proxy says another path, or that a request is from within."""
    path = case.target
    for name in ("x-original-url", "x-rewrite-url"):
        yield f"the path / with {name}", "/", {name: path}
    yield "x-forwarded-prefix", path, {"x-forwarded-prefix": urlsplit(path).path}
    yield "x-script-name", path, {"x-script-name": "/x"}
    for name in ("x-forwarded-for", "x-real-ip", "x-client-ip"):
        yield name, path, {name: "127.0.0.1"}
    yield "x-forwarded-host", path, {"x-forwarded-host": "localhost"}
