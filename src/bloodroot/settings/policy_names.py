"""Names of the policy in the settings: a misspelled one would make a probe ask less than it should."""

from __future__ import annotations

from collections.abc import Iterable

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
    checked = settings.checked or Checked(settings.file, "")

    def check(path: KeyPath, what: str, names: Iterable[str], known: Iterable[str]) -> None:
        known = list(known)
        for name in names:
            if name not in known:
                some = ", ".join(known[:12]) + (" and others" if len(known) > 12 else "")
                guess = suggestion(name, known) or (f"; known are {some}" if known else "")
                checked.problem(path, f'the policy knows no {what} "{name}"{guess}')

    for name, persona in settings.personas.items():
        path = ("personas", name)
        check((*path, "roles"), "role", persona.roles, policy.roles.bit)
        for thing, records in persona.roles_in.items():
            check((*path, "roles_in"), "thing", [thing], policy.roles.things.by_name)
            for identifier, names in records.items():
                check((*path, "roles_in", thing, identifier), f"role in a {thing}", names, policy.roles.roles_of(thing))
        check((*path, "groups"), "group", persona.groups, policy.roles.groups)
        unknown = [permission for permission in persona.permissions if not knows(policy.resolver, permission)]
        check((*path, "permissions"), "permission", unknown, policy.permissions)
    for source in settings.identity:
        for scope, given in (source.claims.scope_names or {}).items():
            at = ("identity", "scope_names", scope)
            asked = [each.removeprefix("role ").strip() for each in given if each.startswith("role ")]
            check(at, "role", asked, (*policy.roles.bit, *policy.roles.in_thing))
            rest = [each for each in given if not each.startswith("role ") and each not in ("*", "signed-in")]
            check(at, "permission", [each for each in rest if not knows(policy.resolver, each)], policy.permissions)
    for thing, samples in settings.things.items():
        check(("samples", thing), "thing or condition", [thing], (*policy.roles.things.by_name, *policy.conditions))
        declared = policy.roles.things.by_name.get(thing)
        for identifier, sample in samples.items() if declared is not None else ():
            parents = [declared.parent] if declared is not None and declared.parent is not None else []
            check(("samples", thing, identifier), f"thing that a {thing} belongs to, called", sample.parents, parents)
            where = f"[samples.{next(iter(sample.parents), '')}]"
            for parent, of in sample.parents.items():
                if parent in parents and parent in settings.things and of not in settings.things[parent]:
                    checked.problem(("samples", thing, identifier), f"{where} has no {of}; write it there")
    for name in settings.samples:
        check(("samples", name), "condition", [name], policy.conditions)
    check(("probe", "personas"), "persona", settings.probe.personas, settings.personas)
    for name, listed in settings.probe.values.items():
        check(("probe", "values", name, "as"), "persona", [listed.persona], settings.personas)
    for kind, fields in settings.probe.fields.items():
        check(("probe", "fields", kind), "fields", [kind], policy.fields)
        if kind in policy.fields and "*" not in policy.fields[kind].rules:
            named = policy.fields[kind].rules
            check(("probe", "fields", kind, "marks"), f"field of {kind}", fields.marks, named)
            check(("probe", "fields", kind, "values"), f"field of {kind}", fields.values, named)
    if not policy.unbound:
        for name in settings.bodies:
            method, _, template = name.partition(" ")
            lines = [line for line in policy.endpoints if line.template.text == template]
            if not any(covers(line.methods, method) for line in lines) and not _left_to_guards(
                policy, method, template
            ):
                known = [f"{method} {line.template.text}" for line in policy.endpoints for method in line.methods]
                check(("bodies", name), "endpoint", [name], known)
    checked.finish()
