"""The same application with checks written by hand, and the mistakes that hands make where there are tenants.

Four of the checks are wrong, each in a way seen in real applications. `bloodroot probe` finds them all.
"""

from __future__ import annotations

import functools
import os
from collections.abc import Callable
from typing import Any

import sqlalchemy as sa
from flask import Response, abort, session

from bloodroot import Unidentified

from . import data
from .data import Firing, Kiln, Studio
from .routes import application
from .who import directory

_INCLUDED = {
    "owner": ("owner", "editor", "viewer"),
    "editor": ("editor", "viewer"),
    "viewer": ("viewer",),
    "stoker": ("stoker",),
}


def caller() -> Any:
    """Who is signed in, with what they hold now; None for nobody."""
    try:
        return directory.caller(session["member"]) if "member" in session else None
    except Unidentified:
        return None


def holds(role: str, thing: str, number: object) -> bool:
    """Whether the caller holds a role in one record."""
    found = caller()
    given = found.roles_in.get(thing, {}).get(str(number), ())
    everywhere = role == "viewer" and "warden" in found.roles
    return everywhere or any(role in _INCLUDED[name] for name in given)


def holds_somewhere(role: str) -> bool:
    found = caller()
    given = [name for records in found.roles_in.values() for names in records.values() for name in names]
    return (role == "viewer" and "warden" in found.roles) or any(role in _INCLUDED[name] for name in given)


def sees_kiln(kiln_id: str) -> bool:
    record = data.load(Kiln, kiln_id)
    if record is None:
        abort(404)
    return holds("stoker", "kiln", kiln_id) or holds("viewer", "studio", record.studio_id)


def fires(kiln_id: str) -> bool:
    record = data.load(Kiln, kiln_id)
    if record is None:
        abort(404)
    return holds("stoker", "kiln", kiln_id) or holds("editor", "studio", record.studio_id)


def in_kiln(kiln_id: str, firing_id: str) -> Any:
    record = data.load(Firing, firing_id)
    if record is None or str(record.kiln_id) != kiln_id:
        abort(404)
    return record


def changes_firing(kiln_id: str, firing_id: str) -> bool:
    record = in_kiln(kiln_id, firing_id)
    own = record.member_id == caller().id and holds("stoker", "kiln", kiln_id)
    # Mistake: an editor of some studio is taken for an editor of the studio that the kiln belongs to.
    return own or holds_somewhere("editor")


CHECKS: dict[str, Callable[..., bool]] = {
    "sign_out": lambda: True,
    "studios": lambda: True,
    "kilns": lambda: True,
    "studio": lambda studio_id: holds("viewer", "studio", studio_id),
    "kilns_of": lambda studio_id: holds("viewer", "studio", studio_id),
    "add_kiln": lambda studio_id: holds("editor", "studio", studio_id),
    # Mistake: the role in the studio of the address is looked at, and not whether the kiln is in it.
    "kiln": lambda studio_id, kiln_id: holds("viewer", "studio", studio_id) or holds("stoker", "kiln", kiln_id),
    "change_kiln": lambda studio_id, kiln_id: _is_in(studio_id, kiln_id) and holds("editor", "studio", studio_id),
    "remove_kiln": lambda studio_id, kiln_id: _is_in(studio_id, kiln_id) and holds("owner", "studio", studio_id),
    "firings": sees_kiln,
    "add_firing": fires,
    "firing": lambda kiln_id, firing_id: bool(in_kiln(kiln_id, firing_id)) and sees_kiln(kiln_id),
    "change_firing": changes_firing,
}


def _is_in(studio_id: str, kiln_id: str) -> bool:
    record = data.load(Kiln, kiln_id)
    if record is None or str(record.studio_id) != studio_id:
        abort(404)
    return True


def checked(handler: Callable[..., Response]) -> Callable[..., Response]:
    """A handler with its check in front of it."""
    check = CHECKS.get(handler.__name__)
    if check is None:
        return handler

    @functools.wraps(handler)
    def around(**values: str) -> Response:
        if caller() is None:
            abort(401)
        if not check(**values):
            abort(403)
        return handler(**values)

    return around


class HandMadeRights:
    """What the handlers ask, answered by hand."""

    def listed(self, permission: str, model: Any) -> Any:  # noqa: ARG002
        if model is Studio:
            own = caller()
            mine = [int(number) for number in own.roles_in.get("studio", {})]
            return sa.true() if "warden" in own.roles else Studio.id.in_(mine)
        # Mistake: every signed-in member gets the kilns of every studio.
        return sa.true()

    def change(self, kind: str, record: Any, changes: dict[str, Any]) -> dict[str, Any]:  # noqa: ARG002
        # Mistake: a kiln is moved into any studio, whatever the caller is there.
        if "studio_id" in changes and not holds("owner", "studio", record.studio_id):
            abort(403)
        return changes

    def member(self) -> int:
        return int(caller().id)


app = application(HandMadeRights(), os.environ["KILNHOUSE_KEY"], checked)
