"""The policies in force in this process, and the guards that have to be understood by one of them."""

from __future__ import annotations

import threading
import weakref
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Protocol

from ..language.problems import PolicyError, Problem
from .errors import EnforcementError
from .loaders import LoaderKey, Loading, key_for

if TYPE_CHECKING:
    from ..core.lines import CompiledGuard
    from ..core.paths import Template
    from ..core.policy import Policy


class Guarding(Protocol):
    """A guard that asks whatever policy is in force.

    Attributes:
        understood: whether some policy has known all that it requires, one that may be gone by now. It stays the guard
            of another application, and is not checked against policies that come later.
    """

    understood: bool

    def compiled_for(self, policy: Policy) -> CompiledGuard:
        """What it asks in the words of a policy; PolicyError where that does not know them."""
        ...


_lock = threading.Lock()
_policies: list[weakref.ref[Policy]] = []
_guards: weakref.WeakSet[Guarding] = weakref.WeakSet()
_loaders: weakref.WeakKeyDictionary[Policy, dict[LoaderKey, Loading]] = weakref.WeakKeyDictionary()
_reported: weakref.WeakKeyDictionary[Policy, tuple[str, ...]] = weakref.WeakKeyDictionary()


def use(*policies: Policy) -> None:
    """Put policies in force: guards are held against them, those there are and those that will be imported.

    A middleware does so by itself with its own. Call it in a job, before anything guarded is called; and where several
    applications with policies of their own are in one process, with all of these, before the first is protected.

    Args:
        policies: those to put in force; a guard has to be understood by one of those in force.

    Raises:
        PolicyError: a guard requires a role or a permission that no policy in force knows.
    """
    with _lock:
        _policies[:] = [ref for ref in _policies if ref() is not None and ref() not in policies]
        _policies.extend(map(weakref.ref, policies))
        guards = list(_guards)
    problems: list[Problem] = []
    for guard in guards:
        problems += _problems(guard)
    if problems:
        raise PolicyError(problems)


def exchange(old: Policy, new: Policy) -> None:
    """Put one policy in force in the place of another.

    Raises:
        PolicyError: a guard that the old one understands requires what the new one does not know.
    """
    problems: list[Problem] = []
    with _lock:
        guards = [guard for guard in _guards if _understands(old, guard)]
    for guard in guards:
        try:
            guard.compiled_for(new)
        except PolicyError as error:
            problems += error.problems
    if problems:
        raise PolicyError(problems)
    with _lock:
        _policies[:] = [ref for ref in _policies if ref() not in (None, old, new)]
        _policies.append(weakref.ref(new))
    if old in _loaders:
        _loaders[new] = _loaders[old]
    if old in _reported:
        _reported[new] = _reported[old]


def _understands(policy: Policy, guard: Guarding) -> bool:
    try:
        guard.compiled_for(policy)
    except PolicyError:
        return False
    return True


def add_guard(guard: Guarding) -> None:
    """Note a guard, and hold it against the policies in force.

    Raises:
        PolicyError: it requires a role or a permission that none of them knows.
    """
    problems = _problems(guard)
    if problems:
        raise PolicyError(problems)
    with _lock:
        _guards.add(guard)


def add_loaders(policy: Policy, loaders: Mapping[LoaderKey, Loading]) -> None:
    """Note how an application that is protected by a policy loads the records of parameters."""
    _loaders.setdefault(policy, {}).update(loaders)


def add_report_only(policy: Policy, templates: Iterable[Template]) -> None:
    """Note that at some paths nothing is enforced."""
    _reported[policy] = tuple(template.text for template in templates)


def report_only() -> tuple[str, ...]:
    """The templates at which applications in this process enforce nothing, and only report."""
    return tuple(dict.fromkeys(text for texts in _reported.values() for text in texts))


def loaders() -> frozenset[LoaderKey] | None:
    """What applications in this process have loaders of records for; None where none is protected."""
    return frozenset().union(*_loaders.values()) if _loaders else None


def loader_of(
    name: str, thing: str | None = None, actions: Iterable[str] = (), *, alone: bool = False
) -> Loading | None:
    """What loads the record of a parameter, as the application that was protected last does; None for nothing.

    Args:
        name: the parameter.
        thing: the thing that it identifies a record of, or None.
        actions: the names of what serves the route, the closest first.
        alone: whether it is the only parameter of the path.
    """
    actions = list(actions)
    for known in reversed([*_loaders.values()]):
        key = key_for(known, actions, name, thing, alone=alone)
        if key is not None:
            return known[key]
    return None


def is_any() -> bool:
    """Whether a policy is in force in this process."""
    return any(reference() is not None for reference in _policies)


def guards() -> int:
    """How many guards there are in this process."""
    return len(_guards)


def only_policy() -> Policy:
    """The one policy in force.

    Raises:
        EnforcementError: there is none, or there are several.
    """
    policies = [policy for policy in (reference() for reference in _policies) if policy is not None]
    if not policies:
        raise EnforcementError(
            "no policy is in force here; call bloodroot.enforce.use(policy) before acting for a caller"
        )
    if len(policies) > 1:
        raise EnforcementError(
            f"{len(policies)} policies are in force here; say which one decides: on_behalf_of(caller, policy)"
        )
    return policies[0]


def _problems(guard: Guarding) -> list[Problem]:
    """Why no policy in force understands a guard, as the last of them says it; nothing where one does."""
    problems: list[Problem] = []
    if guard.understood:
        return problems
    for ref in list(_policies):
        policy = ref()
        if policy is None:
            continue
        try:
            guard.compiled_for(policy)
            return []
        except PolicyError as error:
            problems = list(error.problems)
    return problems
