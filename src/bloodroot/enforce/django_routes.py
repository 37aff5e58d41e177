"""The routes of a Django project's URL configuration, as a policy wants to know them."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import replace
from typing import Any, NamedTuple
from urllib.parse import unquote

from django.conf import settings
from django.conf.urls.i18n import is_language_prefix_patterns_used
from django.middleware.common import CommonMiddleware
from django.middleware.locale import LocaleMiddleware
from django.urls import Resolver404, URLPattern, URLResolver, get_resolver, is_valid_path
from django.urls.resolvers import LocalePrefixPattern, RegexPattern, RoutePattern
from django.utils import translation
from django.utils.module_loading import import_string

from ..core.binding import Resolved, Route
from .django_views import handler_of, is_cached, kind_of, methods_of, operations, path_view_of
from .guards import guards_of, with_guards
from .segments import WrittenPath, ignores_case, is_one_segment

_CONVERTED = re.compile(r"<(?:[^<>:]*:)?([^<>:]*)>")
# Signs that mean more than themselves, in a regular expression without its escaped signs.
_REGULAR = re.compile(r"[\\()\[\]{}*+?|^$.]").search
_ESCAPED = re.compile(r"\\([^A-Za-z0-9/])")
# What REST libraries put behind a path: the format that the answer is to have.
_FORMAT = re.compile(r"(?:\\\.\(\?P<\w+>(?:\[a-z0-9\]\+|\([\w|]+\)|\w+)\)/\?\$|<\w*format_suffix\w*:\w+>)$")
_NAMED_GROUP = re.compile(r"\(\?P<(\w+)>((?:[^()]|\([^()]*\))*)\)")


def routes() -> list[Route]:
    """Every route of the project's URL configuration, its action named by ``name=``, ``app.name`` with a namespace, or
    by the function that serves it.
    """
    return [route for route in all_routes() if route.part_of is None]


def all_routes() -> list[Route]:
    """The same with those that are another spelling of one, behind which the format of the answer is said."""
    return _with_rivals(list(_routes(get_resolver().url_patterns, _Way("/"))))


def _with_rivals(found: list[Route]) -> list[Route]:
    """Routes with those for the very same path, of which Django serves the first alone."""
    by_spelling: dict[str, list[Route]] = {}
    for route in found:
        by_spelling.setdefault(route.spelling, []).append(route)
    alone = {spelling for spelling, some in by_spelling.items() if len(some) == 1}
    return [route if route.spelling in alone else _with_those(route, by_spelling[route.spelling]) for route in found]


def _with_those(route: Route, alike: list[Route]) -> Route:
    """A route with its rivals. The first one of those that have one view is served, whatever the others are called."""
    others = [
        other.action
        for number, other in enumerate(alike)
        if other.action != route.action and (other.handler is not route.handler or number < alike.index(route))
    ]
    return replace(route, rivals=tuple(dict.fromkeys(others))) if others else route


class ChosenRoute(NamedTuple):
    """A route that Django has chosen.

    Attributes:
        route: the route.
        format_name: the parameter that only says the format of the answer, if there is one.
    """

    route: Route
    format_name: str | None


class RouteTable:
    """The routes of a project, by what Django chooses.

    Args:
        found: all of them, as `all_routes` gives them.
    """

    def __init__(self, found: list[Route]) -> None:
        self._routes = {
            (route.action, spelling, id(route.handler)): route
            for route, spellings in reversed([*zip(found, spellings_of(found), strict=True)])
            for spelling in spellings
        }

    def chosen(self, match: Any) -> ChosenRoute:
        """The route of a match."""
        action = action_of(match.namespaces, match.url_name, match.func)
        route = self._routes.get((action, str(match.route), id(handler_of(match.func))))
        if route is None:
            # One that is not in the project's own URL configuration, such as that of ``request.urlconf``.
            route = Route(action, (), "/**", spelling=str(match.route), exact=False)
        if route.names is None:
            route = replace(route, names=tuple(match.captured_kwargs or ()), handler=None)
        if route.part_of is not None:
            return ChosenRoute(route.part_of, (route.names or ())[-1])
        return ChosenRoute(route, None)


class WithoutFormat(NamedTuple):
    """A request without what says the format of its answer.

    Attributes:
        path: its path.
        values: its parameters.
    """

    path: str
    values: dict[str, Any]


def without_format(path: str, values: Mapping[str, Any], name: str) -> WithoutFormat:
    """A path and its parameters without what says the format of the answer, as its parameter of this name."""
    path = path.removesuffix("/").removesuffix(f".{values.get(name)}")
    return WithoutFormat(path, {key: value for key, value in values.items() if key != name})


def resolver() -> Callable[[str], Resolved | None]:
    """What says which route of the project serves a path."""
    table = RouteTable(all_routes())

    def resolve(path: str) -> Resolved | None:
        plain = unquote(path)
        # An address without its slash is redirected, and decided by where that leads.
        for each in (plain, f"{plain}/"):
            try:
                match = get_resolver().resolve(each)
            except Resolver404:
                continue
            (route, name), values = table.chosen(match), match.kwargs or {}
            if name is not None:
                path, values = without_format(path, values, name)
            return Resolved(route, {key: str(value) for key, value in values.items()}, path)
        return None

    return resolve


class Redirecting(NamedTuple):
    """What middleware of a project redirects.

    Attributes:
        slashes: whether it puts a slash behind addresses.
        languages: whether it puts the language before them.
    """

    slashes: bool
    languages: bool


def redirecting() -> Redirecting:
    """What middleware of the project redirects."""
    kinds = [kind for kind in map(import_string, settings.MIDDLEWARE) if isinstance(kind, type)]
    slashes = settings.APPEND_SLASH and any(issubclass(kind, CommonMiddleware) for kind in kinds)
    return Redirecting(slashes, any(issubclass(kind, LocaleMiddleware) for kind in kinds))


class LeadsTo(NamedTuple):
    """Where a redirect leads.

    Attributes:
        path: the path.
        match: the route there, as Django has it.
    """

    path: str
    match: Any


def leads_on(sent: Any, slashes: bool, languages: bool) -> LeadsTo | None:
    """Where middleware of Django's would redirect a request that no route serves: a path, and the route there.

    Args:
        sent: the request.
        slashes: whether a slash is put behind its path (`CommonMiddleware`).
        languages: whether the language is put before it (`LocaleMiddleware`).
    """
    urlconf = getattr(sent, "urlconf", None) or settings.ROOT_URLCONF
    slashed = f"{sent.path_info}/" if slashes and not sent.path_info.endswith("/") else None
    paths = [slashed]
    languages = languages and is_language_prefix_patterns_used(urlconf)[0]
    if languages and not translation.get_language_from_path(sent.path_info):
        language = translation.get_language()
        paths += [f"/{language}{sent.path_info}", f"/{language}{slashed}" if slashed else None]
    for path in paths:
        match = is_valid_path(path, urlconf) if path is not None else None
        if path is not None and match:
            return LeadsTo(path, match)
    return None


def spellings_of(found: list[Route]) -> list[set[str]]:
    """How Django spells each of its routes: with a prefix for the language, one way in each of them."""
    spellings = [{route.spelling} for route in found]
    if is_language_prefix_patterns_used(settings.ROOT_URLCONF)[0]:
        for language, _ in settings.LANGUAGES:
            with translation.override(language):
                for spelling, route in zip(spellings, all_routes(), strict=True):
                    spelling.add(route.spelling)
    return spellings


def no_routes() -> tuple[Any, ...]:
    """A URL configuration that leads nowhere, and has its languages as the project's own."""
    used, prefixed = is_language_prefix_patterns_used(settings.ROOT_URLCONF)
    return (URLResolver(LocalePrefixPattern(prefix_default_language=prefixed), []),) if used else ()


class _Way(NamedTuple):
    """What leads to the routes of a URL configuration that is included.

    Attributes:
        path: the path so far, as a policy writes it.
        spelling: the same as Django does.
        namespaces: its namespaces.
        names: the parameters of the path.
        ignores_case: whether it matches whatever the case of letters.
    """

    path: str
    spelling: str = ""
    namespaces: tuple[str, ...] = ()
    names: tuple[str, ...] = ()
    ignores_case: bool = False

    def beyond(self, pattern: Any) -> tuple[_Way, bool]:
        """The same with a part more, and whether its path is exact."""
        written, leads_on = str(pattern.pattern), isinstance(pattern, URLResolver)
        further, exact = _template(pattern.pattern, leads_on=leads_on)
        exact = exact and not self.path.endswith("**")
        path = self.path + further if exact or not leads_on else _widened(self.path, further)
        if self.path.endswith("**"):
            path = self.path
        namespace = getattr(pattern, "namespace", None)
        way = _Way(
            path,
            self.spelling + _spelled(self.spelling, written),
            (*self.namespaces, str(namespace)) if namespace else self.namespaces,
            (*self.names, *_names(pattern.pattern)),
            self.ignores_case or _ignores_case(pattern.pattern),
        )
        return way, exact


def _routes(patterns: Iterable[Any], before: _Way) -> Iterator[Route]:
    patterns = list(patterns)
    shared = _names_of_path_views(patterns)
    seen: set[tuple[str, int]] = set()
    plain: dict[tuple[int, str], Route] = {}
    for pattern in patterns:
        way, exact = before.beyond(pattern)
        if isinstance(pattern, URLResolver):
            yield from _routes(pattern.url_patterns, way)
        elif isinstance(pattern, URLPattern):
            written, path_view = str(pattern.pattern), path_view_of(pattern.callback)
            if path_view is not None and (written, id(path_view)) in seen:
                continue  # one for each operation, of which the first takes all requests
            seen.add((written, id(path_view)))
            route = _route(pattern, way, exact, shared.get((written, id(path_view)), []))
            stem = _FORMAT.sub("", written)
            shorter = plain.get((id(pattern.callback), stem)) if stem != written else None
            if shorter is not None and shorter.names == way.names[:-1]:
                route = replace(route, part_of=shorter)
            plain.setdefault((id(pattern.callback), written.rstrip("$").rstrip("/")), route)
            yield route


def _route(pattern: URLPattern, way: _Way, exact: bool, names: list[str]) -> Route:
    """A route; ``names`` are those of a path view's operations."""
    callback, view = pattern.callback, handler_of(pattern.callback)
    action = action_of(way.namespaces, pattern.name, callback)
    made_with = getattr(callback, "view_initkwargs", getattr(callback, "initkwargs", None))
    route = Route(
        action,
        methods_of(callback),
        way.path.rstrip("/") or "/",
        None,
        way.spelling,
        exact,
        way.names,
        view,
        kind_of(view),
        cached=is_cached(callback),
        variant=made_with or None,
        operations=operations(callback, action, names),
        ignores_case=way.ignores_case,
    )
    return with_guards(route, tuple(dict.fromkeys((*guards_of(view), *guards_of(callback)))), view)


def _names_of_path_views(patterns: Iterable[Any]) -> dict[tuple[str, int], list[str]]:
    """The names of the routes that lead to each path view, which has one for each of its operations."""
    names: dict[tuple[str, int], list[str]] = {}
    for pattern in patterns:
        path_view = path_view_of(pattern.callback) if isinstance(pattern, URLPattern) else None
        if path_view is not None and pattern.name:
            names.setdefault((str(pattern.pattern), id(path_view)), []).append(str(pattern.name))
    return names


def _spelled(before: str, written: str) -> str:
    """A part of a route as Django joins it to what comes before."""
    return written.removeprefix("^") if before else written


def _widened(path: str, further: str) -> str:
    """A path that goes on with what a policy cannot write: from there on, anything."""
    if path.endswith("**"):
        return path
    whole = path + further
    return whole if whole.endswith("**") else f"{path}**"


def action_of(namespaces: Iterable[str], name: str | None, view: Any) -> str:
    """The action of a route: its name, or that of the function or class that serves it, behind its namespaces."""
    kind = handler_of(view)
    own = str(name or getattr(kind, "__name__", type(kind).__name__))
    return ".".join((*namespaces, own))


def _ignores_case(pattern: Any) -> bool:
    """Whether a part of a path matches whatever the case of its letters."""
    regexes = [getattr(each, "regex", "") for each in getattr(pattern, "converters", {}).values()]
    regexes += [pattern.regex] if isinstance(pattern, RegexPattern) else []
    return any(map(ignores_case, regexes))


def _names(pattern: Any) -> tuple[str, ...]:
    """The parameters of a part of a path."""
    converters = getattr(pattern, "converters", None)
    if converters:
        return tuple(converters)
    regex = getattr(pattern, "regex", None)
    return tuple(sorted(regex.groupindex, key=regex.groupindex.__getitem__)) if regex is not None else ()


def _template(pattern: Any, *, leads_on: bool) -> WrittenPath:
    """A part of Django's paths as a policy writes it, and whether it covers exactly the same paths.

    Args:
        pattern: the part.
        leads_on: whether other routes follow it, or a view.
    """
    text = str(pattern)
    if isinstance(pattern, RegexPattern):
        return _template_of_regex(text, leads_on=leads_on)
    if not isinstance(pattern, RoutePattern):
        return WrittenPath(text, False)  # a prefix for the language, which is another for each caller
    for match in _CONVERTED.finditer(text):
        converter = pattern.converters.get(match[1])
        if not is_one_segment(getattr(converter, "regex", ".*")):
            start = text[: match.start()]
            at_the_end = match.end() == len(text) and (start.endswith("/") or not start)
            return WrittenPath((start if at_the_end else start[: start.rfind("/") + 1]) + "**", at_the_end)
    return WrittenPath(_CONVERTED.sub(r"{\1}", text), True)


def _template_of_regex(text: str, *, leads_on: bool) -> WrittenPath:
    if not text.startswith("^"):
        return WrittenPath("**", False)  # it may begin anywhere
    ended = text.endswith("$")
    text = text[1:].removesuffix("$")
    optional = text.endswith("/?")
    text = text.removesuffix("/?")
    segments = _ESCAPED.sub(r"\1", _NAMED_GROUP.sub(r"{\1}", text)).split("/")
    signs = _ESCAPED.sub("-", _NAMED_GROUP.sub("", text)).split("/")
    odd = next((place for place, sign in enumerate(signs) if _REGULAR(sign)), None)
    if odd is None and not all(is_one_segment(group[2]) for group in _NAMED_GROUP.finditer(text)):
        odd = 0
    if odd is None and leads_on and text.endswith("/") and not ended and not optional:
        return WrittenPath("/".join(segments), True)
    if odd is None and ended and not leads_on:
        return WrittenPath("/".join(segments), not optional)
    # Where it does not say how it ends, its last segment may go on.
    return WrittenPath("/".join([*segments[: len(segments) - 1 if odd is None else odd], "**"]), False)
