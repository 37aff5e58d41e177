"""Endpoints of an application object: its routes, by the framework that it is made with."""

from __future__ import annotations

import contextlib
import importlib
import logging
import re
import sys
import traceback
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..core.annotations import with_guards
from ..core.requirements import asks_for_guard
from ..enforce.start_checks import place_of_handler
from ..frameworks import resolver_of, routes_of, titles
from ..language.problems import PolicyError
from ..settings import SettingsError
from .endpoints import Endpoint, Found, HandlerGuard, SurveyError

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from ..core.binding import Route
    from ..core.policy import Policy
    from ..settings import Settings

_NAMED = re.compile(r"[A-Za-z_][\w.]*:[A-Za-z_][\w.]*(\(\))?").fullmatch


def imported(name: str, folder: Path, key: str) -> Any:
    """The object that ``module:name`` names, or what ``module:name()`` returns.

    Args:
        name: as in ``seedbank.app:app`` or ``seedbank.app:create_app()``.
        folder: where modules are looked for first.
        key: the settings key it comes from, for messages.

    Raises:
        SettingsError: there is no such thing, or its module fails while it is imported.
    """
    module_name, colon, attribute = name.partition(":")
    if not colon or not module_name or not attribute:
        raise SettingsError(
            f'{key} = "{name}": this must be "module:name" or "module:name()", as in "seedbank.app:app"'
        )
    # The application runs here only to be examined: its log, and what it reports at start, are not shown.
    for name_of_log in ("bloodroot.audit", "bloodroot.enforce"):
        logging.getLogger(name_of_log).addHandler(logging.NullHandler())
    if str(folder) not in sys.path:
        sys.path.insert(0, str(folder))
    try:
        # What an application writes while it begins is no part of a result.
        with contextlib.redirect_stdout(sys.stderr):
            return _made(module_name, attribute)
    except (Exception, SystemExit) as error:
        frames = [f for f in traceback.extract_tb(error.__traceback__) if str(folder) in f.filename]
        place = f" ({Path(frames[-1].filename).name}:{frames[-1].lineno})" if frames else ""
        raise SettingsError(f'{key} = "{name}" cannot be imported: {type(error).__name__}: {error}{place}') from error


def _made(module_name: str, attribute: str) -> Any:
    """The attribute of a module, or what it returns where it is called."""
    found: Any = importlib.import_module(module_name)
    for part in attribute.removesuffix("()").split("."):
        found = getattr(found, part)
    return found() if attribute.endswith("()") else found


def bound(policy: Policy, settings: Settings, *, always: bool = False) -> Policy:
    """The policy with what the routes of the settings' application say: what serves actions, and what guards require.

    The application is imported only where the policy has lines that name actions or leave something to guards.

    Args:
        policy: the policy.
        settings: the settings.
        always: whether it is imported in any case.

    Raises:
        SettingsError: there is no application to read routes from.
        PolicyError: the application serves no such action, or a guard requires what the policy does not know.
    """
    if not policy.unbound and (settings.app is None or not (always or _leaves_to_guards(policy))):
        return policy
    if settings.app is None:
        first = policy.unbound[0]
        raise SettingsError(
            f"{first.place.at} names the action {first.name}, and there are no routes to find it in; "
            f'write app = "module:name" in {settings.file.name}'
        )
    app = imported(settings.app, settings.folder, "app")
    routes = routes_of(app)
    if routes is None:
        raise SettingsError(f'app = "{settings.app}": the routes of this application cannot be read')
    found, problems = with_guards(policy, routes, resolver_of(app))
    if problems:
        raise PolicyError(problems)
    return found


def _leaves_to_guards(policy: Policy) -> bool:
    lines = (*policy.endpoints, *policy.standing)
    return any(map(asks_for_guard, {line.requirement: line.requirement.formula for line in lines}.values()))


def bound_to_any(policy: Policy, names: Iterable[str], settings: Settings | None) -> Policy:
    """The policy bound to the first of some applications, where there is one; else as it is.

    Raises:
        SettingsError: the application cannot be imported.
        PolicyError: the application serves no such action.
    """
    folder = settings.folder if settings is not None else Path.cwd()
    for name in names:
        if is_application(name, folder):
            routes = routes_of(imported(name, folder, "app"))
            if routes is not None:
                return policy.bind(routes)
    return policy


def is_application(name: str, folder: Path) -> bool:
    """Whether the name of a source is that of an application, and not of a file."""
    return _NAMED(name) is not None and not (folder / name).exists()


def survey_application(name: str, app: Any) -> Found:
    """The endpoints of an application.

    Args:
        name: how it was named, as ``module:name``.
        app: the application, perhaps with middleware around it.

    Raises:
        SurveyError: it is made with no framework that is known here.
    """
    routes = routes_of(app)
    if routes is None:
        kind = f"{type(app).__module__}.{type(app).__qualname__}"
        raise SurveyError(
            f"{name}: the routes of a {kind} are not known here; those of {titles()} are. "
            "Survey its OpenAPI document, a HAR file or an access log instead"
        )
    return Found(name, tuple(endpoint for route in routes for endpoint in _endpoints(name, route)))


def _endpoints(name: str, route: Route) -> Iterator[Endpoint]:
    """The endpoints of a route: one for its methods, or for each of them where they are served apart."""
    if not route.methods or (route.by_method is None and not route.operations):
        yield _endpoint(name, route, route.methods, route.guards, route.handler)
        return
    for method in route.methods:
        served = next((operation.function for operation in route.operations if method in operation.methods), None)
        yield _endpoint(name, route, (method,), route.guards_for(method), served or route.handler)


def _endpoint(name: str, route: Route, methods: tuple[str, ...], guards: tuple[Any, ...], handler: Any) -> Endpoint:
    from ..core.binding import template_of

    template, exact = template_of(route)
    return Endpoint(
        methods,
        template.text,
        name,
        _place(handler),
        exact,
        route.spelling or route.path,
        route.action_for(methods[0]) if methods else route.action,
        kind=route.kind,
        summary=_summary(handler),
        guards=tuple(dict.fromkeys(HandlerGuard(guard.text, guard.place) for guard in guards)),
        route=route,
    )


def _place(handler: Any) -> str:
    """File and line of a handler, or an empty string where that is not known."""
    place = place_of_handler(handler)
    return place.at if place is not None else ""


def _summary(handler: Any) -> str:
    """The first line of a handler's own documentation."""
    text = getattr(handler, "__doc__", None)
    if not isinstance(text, str) or text == getattr(type(handler), "__doc__", None):
        return ""
    return (text.strip().splitlines() or [""])[0].strip()
