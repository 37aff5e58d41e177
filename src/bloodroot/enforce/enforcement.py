"""A policy put in front of an application: what is known before the first request. No input or output here."""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol

from ..core.answers import Answer
from ..core.binding import Binding, Route, template_of
from ..core.caller import Caller
from ..core.lines import Line
from ..core.methods import COMMON
from ..core.paths import Template, parse_template
from ..core.patterns import check_patterns, matches
from ..core.policy import Policy
from ..file_changes import Watched
from . import active_policies, responses
from .access import log
from .audit import Audit
from .following import Following
from .loaders import Loaders, Loading, Records, actions_at, loaders_of, read_loaders


class Identify(Protocol):
    """Says who sent a request: the application's own function, or what `bloodroot.identity.load` gives."""

    def __call__(self, request: Any, /) -> Caller | None | Awaitable[Caller | None]:
        """The caller, or None for a signed-out one.

        Raises:
            Unidentified: the request has credentials that are not accepted.
        """
        ...


Page = Callable[[Answer, Any], str | bytes | None]


@dataclass(frozen=True, slots=True, eq=False)
class Under:
    """What a policy says of a route: the lines that may decide for it, and its loaders in the order of the path.

    Attributes:
        policy: the policy.
        binding: the route and its lines.
        loaders: its loaders.
        by_method: the same for a method that has others than the rest.
    """

    policy: Policy
    binding: Binding
    loaders: Loaders
    by_method: Mapping[str, Loaders]


@dataclass(slots=True, eq=False)
class Served:
    """What a framework serves.

    Attributes:
        route: the route.
        under: what the policy that was asked last says of it. A request that has begun keeps its own.
    """

    route: Route
    under: Under


def _none_is_missing(error: Exception) -> bool:  # noqa: ARG001
    return False


@dataclass(frozen=True, slots=True, eq=False)
class EnforcementOptions:
    """How a policy is put in front of an application; `Driver` says what each means.

    Attributes:
        identify: who sends a request.
        records: what loads records.
        page: what people are shown.
        audit: what is written down.
        report_only: where nothing is refused.
        settles: patterns of lines, such as ``"PUT /trials/*"``, whose handlers settle what is left open; None for all.
            What is left open at another line is refused before its handler.
        missing: whether an exception of a loader says that there is no such record.
    """

    identify: Identify
    records: Records | None = None
    page: Page | None = None
    audit: Audit | None = None
    report_only: bool | Sequence[str] = False
    settles: Sequence[str] | None = None
    missing: Callable[[Exception], bool] = _none_is_missing


class Enforcement:
    """A policy put in front of an application.

    Args:
        policy: what decides. It is put in force: guards are held against it.
        options: how.

    Raises:
        PolicyError: a guard requires a role or a permission that the policy does not know.
    """

    def __init__(self, policy: Policy, options: EnforcementOptions) -> None:
        identify, settles, audit = options.identify, options.settles, options.audit
        if settles is not None:
            names = [f"{method} {line.template.text}" for line in policy.endpoints for method in line.methods or COMMON]
            check_patterns("settles", settles, names)
        self._settles = settles
        active_policies.use(policy)
        self.started_with = policy
        self.following: Following | None = None
        self.identify = identify
        self.records = read_loaders(options.records)
        active_policies.add_loaders(policy, self.records)
        self.report_only = read_report_only(options.report_only)
        if self.report_only:
            active_policies.add_report_only(policy, self.report_only)
        self.page = options.page
        self.audit = audit if audit is not None else Audit()
        self.audit.log_how_to_see()
        self.realm = policy.title or "application"
        self.is_missing = options.missing
        self.by_token: Callable[..., bool] = getattr(identify, "by_token", _never)
        self.challenge: Callable[[Any], str | None] = getattr(identify, "challenge", _none)
        self.identify_takes_path: bool = getattr(identify, "takes_path", False) is True
        self.identify_again: float | None = getattr(identify, "again", None)
        if self.identify_again is not None and not isinstance(self.identify_again, int | float):
            raise TypeError(f"identify.again is a number of seconds or None, not {self.identify_again!r}")
        self.vary: tuple[str, ...] = tuple(getattr(identify, "vary", responses.VARY))
        self._loaders: tuple[Policy, dict[Line, Loaders]] = policy, {}

    @property
    def policy(self) -> Policy:
        """What decides at the moment: a request keeps what it began with."""
        return self.started_with if self.following is None else self.following.policy

    def follow(self, watched: Watched | None, prepare: Callable[[Policy], Policy]) -> None:
        """Let changes of a file take effect, if there is one.

        Args:
            watched: the file.
            prepare: makes of a policy what is put in force, as at start; raises where the application could not start.
        """
        if watched is not None:
            self.following = Following(watched, prepare, self.started_with)

    def may_settle(self, method: str, line: Line | None) -> bool:
        """Whether the handler of a line is known to settle what is left open."""
        if self._settles is None:
            return True
        return line is not None and matches(f"{method} {line.template.text}", self._settles)

    def reports(self, segments: Sequence[str] | None) -> bool:
        """Whether what would be refused at a path is only written down.

        Args:
            segments: the path; None for one that can be read in more than one way.
        """
        if segments is None:
            return any(template.text == EVERYWHERE for template in self.report_only)
        return any(template.covers(list(segments)) for template in self.report_only)

    def serve(self, route: Route) -> Served:
        """What is known of a route before its first request."""
        return Served(route, self._under(self.policy, route))

    def under(self, policy: Policy, served: Served) -> Under:
        """What a policy says of what is served; worked out once, as long as it is in force."""
        found = served.under
        if found.policy is not policy:
            found = served.under = self._under(policy, served.route)
        return found

    def _under(self, policy: Policy, route: Route) -> Under:
        binding = policy.lookup.binding(route)
        names = route.names
        if names is None:
            names = template_of(route).template.names if binding.actions else ()
        apart = {
            method: self._loaders_of(policy, names, actions_at(route, method))
            for operation in route.operations
            for method in operation.methods
        }
        if "GET" in apart:
            apart.setdefault("HEAD", apart["GET"])
        return Under(policy, binding, self._loaders_of(policy, names, (route.action,)), apart)

    def loaders_at(self, policy: Policy, line: Line | None) -> Loaders:
        """The loaders of a path line, worked out once."""
        if line is None or not self.records:
            return ()
        of, known = self._loaders
        if of is not policy:
            of, known = self._loaders = policy, {}
        loaders = known.get(line)
        if loaders is None:
            loaders = known[line] = self._loaders_of(policy, line.template.names)
        return loaders

    def _loaders_of(self, policy: Policy, names: tuple[str, ...], actions: tuple[str, ...] = ()) -> Loaders:
        return loaders_of(self.records, actions, names, policy.roles.things.by_parameter)

    def loader_of(self, policy: Policy, thing: str) -> Loading | None:
        """What loads a record of a thing that no parameter of the path names."""
        declared = policy.roles.things.by_name[thing]
        return next((self.records[name] for name in declared.loader_names if name in self.records), None)


EVERYWHERE = "/**"


def read_report_only(given: bool | Sequence[str]) -> tuple[Template, ...]:
    """The templates at which nothing is refused; a warning in the log where there are any.

    Raises:
        TemplateError: one of them is no template.
        TypeError: it is one string, and not a list of them.
    """
    if isinstance(given, str):
        raise TypeError(f"report_only is True, or a list of path templates: [{given!r}]")
    templates = tuple(parse_template(text) for text in ((EVERYWHERE,) if given is True else given or ()))
    if templates:
        where = " and ".join(template.text for template in templates)
        log.warning("report only: at %s nothing is enforced; what would be refused is only written down", where)
    return templates


def _none(_: Any) -> None:
    return None


def _never(*_: Any) -> bool:
    return False
