"""A first policy from a survey: every endpoint in it, every one closed, ready to be filled in."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator
from itertools import groupby
from typing import NamedTuple

from ..core.binding import Route, handlers_apart
from ..core.methods import ANY
from ..core.paths import parse_template, specificity
from ..language.printer import tidy
from ..language.reader import RESERVED
from .coverage import Surveyed, SurveyResult
from .endpoints import SurveyError

_VERBS = {"GET": "read", "HEAD": "read", "PUT": "edit", "PATCH": "edit", "DELETE": "remove", "POST": "edit"}
# Segments that say how an endpoint is reached, and not what it is about.
is_prefix = re.compile(r"api|rest|v\d+(\.\d+)?|latest").fullmatch
_NAMES_IN_GUARDS = re.compile(r'"(?:[^"\\]|\\.)*"|[A-Za-z][\w-]*(?::[\w-]+)+|(?<![.\w-])[A-Za-z][\w-]*(?![.\w-])')
ROLES = ("user", "editor", "admin")


def draft(result: SurveyResult, name: str) -> str:
    """A policy with a line for each endpoint, which no one may use until the permissions are granted.

    Args:
        result: the survey.
        name: what to call the policy.

    Returns:
        The text, in its tidy form.

    Raises:
        SurveyError: there are no endpoints.
    """
    shared = _shared_actions(result.endpoints)
    lines = [_line(row, requirement_of(row), shared) for row in _once(result.endpoints, shared)]
    if not lines:
        raise SurveyError(f"{', '.join(result.sources)}: there are no endpoints to draft a policy for")
    named = _names_of(guard.text for row in result.endpoints for guard in row.endpoint.guards)
    permissions = dict.fromkeys([*(permission for _, permission, _ in lines if ":" in permission), *named.permissions])
    text = [f"policy {_quoted(name)}", "", "# Which roles there are: change these to your own."]
    text += ["roles", '  user default "every signed-in caller"', "  editor includes user", "  admin includes editor"]
    text += [
        f'  {role} "named by a guard; a role, or to be made a condition"' for role in named.roles if role not in ROLES
    ]
    if permissions:
        text += ["", "# Who may do what: no one, until you say who. A POST may well only read."]
        text += ["permissions", *(f"  {permission} nobody" for permission in permissions)]
    text += ["", "endpoints", *_by_area(lines)]
    return tidy("\n".join(text) + "\n", "<draft>")


class Updated(NamedTuple):
    """A policy with lines for what it did not cover.

    Attributes:
        text: the policy.
        added: how many lines were added.
    """

    text: str
    added: int


def update(text: str, result: SurveyResult) -> Updated:
    """A policy with a line for each endpoint that it does not cover, at its end; nothing else of it is touched.

    Args:
        text: the policy.
        result: a survey held against it.
    """
    shared = _shared_actions(result.endpoints)
    added = [_line(row, "nobody", shared) for row in _once(result.uncovered, shared)]
    if not added:
        return Updated(text, 0)
    section = "\n".join(["endpoints", *map(str, added)])
    return Updated(f"{text.rstrip()}\n\n{tidy(section + chr(10), '<added>')}", len(added))


# Areas whose endpoints are for those who run the application, whatever they are about.
FOR_STAFF = {"admin", "administration", "staff", "internal", "backoffice", "back-office", "manage", "management", "ops"}


def skeleton(app: str | None, openapi: str | None, policy: str, templates: Iterable[str]) -> str:
    """Settings to start from: the application, a persona for each role, and the parameters that need values."""
    names = dict.fromkeys(name for template in templates for name in parse_template(template).names)
    lines = [f"policy = {_quoted(policy)}"]
    lines += [f"app = {_quoted(app)}"] if app else ['# app = "module:name"']
    lines += [f"openapi = {_quoted(openapi)}"] if openapi else []
    lines += ["", "# The callers to probe as.", "[personas.visitor]", "signed_in = false"]
    for number, role in enumerate(ROLES, 1):
        lines += ["", f"[personas.{role}]", f'roles = ["{role}"]', f"attributes = {{ id = {number} }}"]
    if names:
        lines += ["", "# Values for the parameters of paths.", "[samples]", *(f"# {name} = 1" for name in names)]
    return "\n".join(lines) + "\n"


def _shared_actions(rows: Iterable[Surveyed]) -> set[str]:
    """The names of actions that a line cannot say, as they are those of several handlers."""
    routes: dict[str, list[Route]] = {}
    for row in rows:
        if row.endpoint.action and row.endpoint.route is not None:
            routes.setdefault(row.endpoint.action, []).append(row.endpoint.route)
    return {action for action, some in routes.items() if len(handlers_apart(some)) > 1 or any(r.rivals for r in some)}


def _once(rows: Iterable[Surveyed], shared: Collection[str]) -> Iterator[Surveyed]:
    """Endpoints by area. Of those that only an action can name, each action once; of others, each shape once."""
    seen: set[object] = set()
    # Those whose path can be written come before those for which it can be written only about.
    for row in sorted(
        rows, key=lambda row: (not row.endpoint.exact, _area(row.endpoint.template), row.endpoint.template)
    ):
        shape = specificity(parse_template(row.endpoint.template), exact=True)
        key: object = _action_of(row, shared) or (row.method, shape)
        if key not in seen:
            seen.add(key)
            yield row


def _by_area(lines: Iterable[_Line]) -> Iterator[str]:
    """The lines, with a comment above those of an area."""
    for area, some in groupby(sorted(lines, key=_area_of_line), _area_of_line):
        yield f"\n  # {area}"
        yield from map(str, some)


def _area_of_line(line: _Line) -> str:
    return _area(line.what)


def _action_of(row: Surveyed, shared: Collection[str]) -> str | None:
    """The action to write a line for; None where the path can be written, or there is no action that can."""
    action = row.endpoint.action
    if action in shared:
        return None
    if row.endpoint.exact or not action or not re.fullmatch(r"[^\W\d][\w.:-]*", action):
        return None
    return action


class _Line(NamedTuple):
    """A line of a policy.

    Attributes:
        what: method and path, or the action.
        requirement: the requirement.
        about: the description, with a space before it; or nothing.
    """

    what: str
    requirement: str
    about: str

    def __str__(self) -> str:
        return f"  {self.what} {self.requirement}{self.about}"


def _line(row: Surveyed, requirement: str, shared: Collection[str]) -> _Line:
    """The line for an endpoint."""
    endpoint, action = row.endpoint, _action_of(row, shared)
    # The first sentence is enough beside a line.
    about = endpoint.summary.split(". ")[0] or endpoint.action or endpoint.operation or ""
    if endpoint.security is not None:
        about += f"{'; ' if about else ''}declared: {' or '.join(endpoint.security) or 'open'}"
    what = f"action {action}" if action else f"{row.method} {endpoint.template}"
    return _Line(what, requirement, f" {_quoted(about)}" if about else "")


def requirement_of(row: Surveyed) -> str:
    """What the line of an endpoint requires: a permission that no one has, or what its guard says."""
    guards = row.endpoint.guards
    if not guards:
        return permission_of(row)
    # What a draft knows only by name does not hold, and under "not" that would open the endpoint.
    return "nobody" if any(re.search(r"\bnot\b", guard.text) for guard in guards) else "guarded"


def permission_of(row: Surveyed) -> str:
    """A permission for an endpoint, named after its path and its method: ``trial:edit``, or ``staff-trial:edit``."""
    parts = row.endpoint.template.split("/")[1:]
    area = next((part for part in parts[:-1] if part in FOR_STAFF), None)
    name = _plain_permission(row)
    return f"{area}-{name}" if area is not None and not name.startswith(area) else name


def _plain_permission(row: Surveyed) -> str:
    parts = [part for part in row.endpoint.template.split("/")[1:] if part and not is_prefix(part)]
    literal = [_name(part) for part in parts if "{" not in part and "*" not in part and _name(part)]
    method = row.method
    if not literal:
        return f"page:{'use' if method == ANY else _VERBS.get(method, method.lower())}"
    last = parts[-1]
    if "{" in last or "*" in last:
        return f"{_singular(literal[-1])}:{'use' if method == ANY else _VERBS.get(method, method.lower())}"
    if last in ("new", "add") and len(literal) > 1:
        # The form has the permission of what it sends: POST of the list.
        return f"{_singular(literal[-2])}:add"
    behind_value = len(parts) > 1 and "{" in parts[-2]
    plural = _singular(literal[-1]) != literal[-1]
    if plural and method == ANY:
        return f"{_singular(literal[-1])}-list:use"  # not that of one of them
    if (behind_value or last in ("edit", "search")) and not plural and len(literal) > 1:
        return f"{_singular(literal[-2])}:{literal[-1]}"
    verb = {"GET": "list" if plural else "read", "POST": "add", ANY: "use"}.get(method)
    return f"{_singular(literal[-1])}:{verb or _VERBS.get(method, method.lower())}"


def _area(what: str) -> str:
    """The first segment of a path that says what it is about; what has no path is at the end."""
    path = what.rpartition(" ")[2]
    if not path.startswith("/"):
        return "by action"
    parts = path.split("/")
    return f"/{parts[1]}" if parts[1] and "{" not in parts[1] and "*" not in parts[1] else "/"


def _name(text: str) -> str:
    """A segment as a name of the language, or an empty string."""
    name = re.sub(r"[^A-Za-z0-9_-]+", "-", text).strip("-").lower()
    if not name or not name[0].isalpha():
        name = f"x{name}" if name else ""
    return f"{name}-page" if name in RESERVED else name


def _singular(name: str) -> str:
    if name.endswith("ies") and len(name) > 4:
        return f"{name[:-3]}y"
    return name[:-1] if name.endswith("s") and not name.endswith(("ss", "us", "is")) and len(name) > 3 else name


def _quoted(text: str) -> str:
    plain = "".join(character if character.isprintable() else " " for character in text)
    return '"' + " ".join(plain.split()).replace("\\", "\\\\").replace('"', '\\"') + '"'


class _GuardNames(NamedTuple):
    """What guards name: roles, or conditions, and permissions."""

    roles: list[str]
    permissions: list[str]


def _names_of(guards: Iterable[str]) -> _GuardNames:
    """What guards name, so that a draft knows it."""
    roles: dict[str, None] = {}
    permissions: dict[str, None] = {}
    for guard in guards:
        for name in _NAMES_IN_GUARDS.findall(guard):
            if ":" in name and not name.startswith('"'):
                permissions[name] = None
            elif not name.startswith('"') and name not in RESERVED:
                roles[name] = None
    return _GuardNames(list(roles), list(permissions))
