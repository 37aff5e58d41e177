"""A policy put in front of an application: what is known before the first request. No input or output here."""

from __future__ import annotations

import inspect
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from ..core.answers import Answer
from ..core.binding import Binding, Route, template_of
from ..core.caller import Caller
from ..core.lines import Line
from ..core.methods import COMMON
from ..core.patterns import check_patterns, matches
from ..core.policy import Policy
from . import active_policies, responses
from .audit import Audit


class Identify(Protocol):
    """Says who sent a request: the application's own function, or what `bloodroot.identity.load` gives."""

    def __call__(self, request: Any, /) -> Caller | None | Awaitable[Caller | None]:
        """The caller, or None for a signed-out one.

        Raises:
            Unidentified: the request has credentials that are not accepted.
        """
        ...


Loader = Callable[..., Any]
Page = Callable[[Answer, Any], str | bytes | None]

# For each parameter that has one, in the order of the path: name, loader, whether it takes the request, and blocks.
Loaders = tuple[tuple[str, Loader, bool, bool], ...]


@dataclass(slots=True, eq=False)
class Served:
    """What a framework serves: a route, the lines that may decide for it, and its loaders in the order of the path."""

    binding: Binding
    loaders: Loaders


class Enforcement:
    """A policy put in front of an application.

    Args:
        policy: what decides. It is put in force: guards are held against it.
        identify: who sends a request? Returns a `Caller`, or None for a signed-out one; raises
            `bloodroot.Unidentified` for credentials that are not accepted. What `bloodroot.identity.load` gives will
            do. It gets the framework's own request; without a framework, a `Request`. Its attribute ``vary``, a tuple,
            names the headers that it reads, by default ``Authorization`` and ``Cookie``; ``again``, a number of
            seconds, says how often it is asked again while a WebSocket or a stream is open, by default never.
        records: for path parameters, how to load the record one identifies: a function from the parameter's text to
            the record, or to None where there is none. It gets the request too, where it takes a second argument. One
            for a thing of the policy, by its name, loads what any of its parameters identifies, and the records that
            only another record leads to.
        page: what people are shown instead of the small page of a refusal: a function from the answer and the request
            to HTML, or to None for the small page.
        audit: what is written down of decisions; None for refusals.
        missing: whether an exception of a loader says that there is no such record.
        settles: patterns of lines, such as ``"PUT /trials/*"``, whose handlers settle what is left open; None for all.
            What is left open at another line is refused before its handler.

    Raises:
        PolicyError: a guard requires a role or a permission that the policy does not know.
    """

    def __init__(
        self,
        policy: Policy,
        *,
        identify: Identify,
        records: Mapping[str, Loader] | None = None,
        page: Page | None = None,
        audit: Audit | None = None,
        missing: Callable[[Exception], bool] = lambda error: False,  # noqa: ARG005
        settles: Sequence[str] | None = None,
    ) -> None:
        if settles is not None:
            names = [f"{method} {line.template.text}" for line in policy.endpoints for method in line.methods or COMMON]
            check_patterns("settles", settles, names)
        self._settles = settles
        active_policies.use(policy)
        self.policy = policy
        self.identify = identify
        self.records = {
            name: (loader, _takes_request(loader), not inspect.iscoroutinefunction(loader))
            for name, loader in (records or {}).items()
        }
        active_policies.add_loaders(policy, self.records)
        self.page = page
        self.audit = audit if audit is not None else Audit()
        self.audit.log_how_to_see()
        self.realm = policy.title or "application"
        self.is_missing = missing
        self.by_token: Callable[..., bool] = getattr(identify, "by_token", _never)
        self.identify_takes_path: bool = getattr(identify, "takes_path", False) is True
        self.identify_again: float | None = getattr(identify, "again", None)
        if self.identify_again is not None and not isinstance(self.identify_again, int | float):
            raise TypeError(f"identify.again is a number of seconds or None, not {self.identify_again!r}")
        self.vary: tuple[str, ...] = tuple(getattr(identify, "vary", responses.VARY))
        self._loaders: dict[Line, Loaders] = {}

    def may_settle(self, method: str, line: Line | None) -> bool:
        """Whether the handler of a line is known to settle what is left open."""
        if self._settles is None:
            return True
        return line is not None and matches(f"{method} {line.template.text}", self._settles)

    def serve(self, route: Route) -> Served:
        """What is known of a route before its first request."""
        binding = self.policy.lookup.binding(route)
        names = route.names
        if names is None:
            names = template_of(route)[0].names if binding.actions else ()
        return Served(binding, self._loaders_of(names))

    def loaders_at(self, line: Line | None) -> Loaders:
        """The loaders of a path line, worked out once."""
        if line is None or not self.records:
            return ()
        loader = self._loaders.get(line)
        if loader is None:
            loader = self._loaders[line] = self._loaders_of(line.template.names)
        return loader

    def _loaders_of(self, names: tuple[str, ...]) -> Loaders:
        things = self.policy.roles.things.by_parameter
        found = (
            (name, self.records.get(name) or self.records.get(things[name].name if name in things else ""))
            for name in names
        )
        return tuple((name, *loader) for name, loader in found if loader is not None)

    def loader_of(self, thing: str) -> tuple[Loader, bool, bool] | None:
        """What loads a record of a thing that no parameter of the path names."""
        declared = self.policy.roles.things.by_name[thing]
        return next((self.records[name] for name in declared.loader_names if name in self.records), None)


def _never(*_: Any) -> bool:
    return False


def _takes_request(loader: Loader) -> bool:
    """Whether a loader takes the request beside the text of the parameter."""
    try:
        parameters = inspect.signature(loader).parameters.values()
    except (TypeError, ValueError):
        return False
    needed = [
        parameter
        for parameter in parameters
        if parameter.kind in (parameter.POSITIONAL_ONLY, parameter.POSITIONAL_OR_KEYWORD)
    ]
    return len([parameter for parameter in needed if parameter.default is parameter.empty]) >= 2
