"""Names of the policy in the settings: a misspelled one would make a probe ask less than it should."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from ..core.methods import covers
from ..core.paths import TemplateError, parse_template, unnamed_segments
from ..core.permissions import knows
from ..core.policy import Policy
from ..core.requirements import asks_for_guard
from ..language.problems import suggestion
from .checked import Checked
from .places import KeyPath
from .project import Settings


def _left_to_guards(policy: Policy, method: str, path: str) -> bool:
    """Whether a line leaves an endpoint to a guard: then its handler is all that knows of it."""
    try:
        line = policy.lookup.find(method, unnamed_segments(parse_template(path), True))
    except TemplateError:
        return False
    return line is not None and asks_for_guard(line.requirement.formula)


def check_names(settings: Settings, policy: Policy) -> None:
    """See that the policy knows the roles, groups, permissions, conditions and endpoints that settings name.

    Raises:
        SettingsError: with every name that it does not know.
    """
    names = _Names(settings, policy)
    names.check_personas()
    names.check_scopes()
    names.check_samples()
    names.check_probe()
    names.check_bodies()
    names.checked.finish()


class _Names:
    """Names of settings, held against a policy."""

    def __init__(self, settings: Settings, policy: Policy) -> None:
        self.settings = settings
        self.policy = policy
        self.checked = settings.checked or Checked(settings.file, "")

    def check(self, path: KeyPath, what: str, names: Iterable[str], known: Iterable[str]) -> None:
        """See that each of some names is known."""
        known = list(known)
        for name in names:
            if name not in known:
                some = ", ".join(known[:12]) + (" and others" if len(known) > 12 else "")
                guess = suggestion(name, known) or (f"; known are {some}" if known else "")
                self.checked.problem(path, f'the policy knows no {what} "{name}"{guess}')

    def check_permissions(self, path: KeyPath, names: Iterable[str]) -> None:
        """See that the policy knows each of some permissions."""
        unknown = [name for name in names if not knows(self.policy.resolver, name)]
        self.check(path, "permission", unknown, self.policy.permissions)

    def check_personas(self) -> None:
        """See that the policy knows what each persona holds."""
        roles = self.policy.roles
        for name, persona in self.settings.personas.items():
            path = ("personas", name)
            self.check((*path, "roles"), "role", persona.roles, roles.bit)
            for thing, records in persona.roles_in.items():
                self.check((*path, "roles_in"), "thing", [thing], roles.things.by_name)
                for identifier, names in records.items():
                    where = (*path, "roles_in", thing, identifier)
                    self.check(where, f"role in a {thing}", names, roles.roles_of(thing))
            self.check((*path, "groups"), "group", persona.groups, roles.groups)
            self.check_permissions((*path, "permissions"), persona.permissions)

    def check_scopes(self) -> None:
        """See that the policy knows what each scope gives."""
        roles = self.policy.roles
        for source in self.settings.identity:
            for scope, given in (source.claims.scope_names or {}).items():
                path = ("identity", "scope_names", scope)
                named = [name.removeprefix("role ").strip() for name in given if name.startswith("role ")]
                self.check(path, "role", named, (*roles.bit, *roles.in_thing))
                rest = (name for name in given if not name.startswith("role ") and name not in ("*", "signed-in"))
                self.check_permissions(path, rest)

    def check_samples(self) -> None:
        """See that the policy knows what each sample is of."""
        things, conditions = self.policy.roles.things.by_name, self.policy.conditions
        for thing, samples in self.settings.things.items():
            self.check(("samples", thing), "thing or condition", [thing], (*things, *conditions))
            for identifier, sample in samples.items() if thing in things else ():
                parent = things[thing].parent
                self.check_parents(("samples", thing, identifier), thing, parent, sample.parents)
        for name in self.settings.samples:
            self.check(("samples", name), "condition", [name], conditions)

    def check_parents(self, path: KeyPath, thing: str, parent: str | None, named: Mapping[str, str]) -> None:
        """See that a record of a thing is in a record of what that belongs to, and that there is such a record."""
        things = self.settings.things
        self.check(path, f"thing that a {thing} belongs to, called", named, [parent] if parent is not None else [])
        for name, identifier in named.items():
            if name == parent and name in things and identifier not in things[name]:
                self.checked.problem(path, f"[samples.{next(iter(named))}] has no {identifier}; write it there")

    def check_probe(self) -> None:
        """See that the policy knows what the probe asks as and looks for."""
        probe, personas = self.settings.probe, self.settings.personas
        self.check(("probe", "personas"), "persona", probe.personas, personas)
        for name, listed in probe.values.items():
            self.check(("probe", "values", name, "as"), "persona", [listed.persona], personas)
        for kind, fields in probe.fields.items():
            path = ("probe", "fields", kind)
            self.check(path, "fields", [kind], self.policy.fields)
            if kind in self.policy.fields and "*" not in self.policy.fields[kind].rules:
                named = self.policy.fields[kind].rules
                self.check((*path, "marks"), f"field of {kind}", fields.marks, named)
                self.check((*path, "values"), f"field of {kind}", fields.values, named)

    def check_bodies(self) -> None:
        """See that the policy covers each endpoint that has a body."""
        if self.policy.unbound:
            return
        for name in self.settings.bodies:
            method, _, template = name.partition(" ")
            lines = [line for line in self.policy.endpoints if line.template.text == template]
            covered = any(covers(line.methods, method) for line in lines)
            if not covered and not _left_to_guards(self.policy, method, template):
                known = (f"{method} {line.template.text}" for line in self.policy.endpoints for method in line.methods)
                self.check(("bodies", name), "endpoint", [name], known)
