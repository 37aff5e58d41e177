"""What the application serves. Who may ask for it is in access.bloodroot, and nowhere here."""

from __future__ import annotations

from typing import Any, Protocol

import sqlalchemy as sa
from flask import Flask, Response, abort, current_app, jsonify, request, session

from . import data
from .data import Firing, Kiln, Studio
from .who import directory


class Rights(Protocol):
    """What the handlers ask for: lists, and changes, as far as a caller may have them."""

    def listed(self, permission: str, model: Any) -> Any:
        """The condition for the records of a list that the caller may see."""

    def change(self, kind: str, record: Any, changes: dict[str, Any]) -> dict[str, Any]:
        """Changes that the caller may make, or a refusal."""

    def member(self) -> int:
        """The caller's number."""


def rights() -> Rights:
    found: Rights = current_app.extensions["rights"]
    return found


def home() -> Response:
    return jsonify(name="Kilnhouse Pottery Cooperative")


def sign_in() -> Response:
    sent = request.get_json(silent=True)
    sent = sent if isinstance(sent, dict) else {}
    member = directory.member_with_password(str(sent.get("login", "")), str(sent.get("password", "")))
    if member is None:
        abort(422)
    session.clear()
    session["member"] = member.id
    return jsonify(signed_in=member.name)


def sign_out() -> Response:
    session.clear()
    return jsonify(signed_in=None)


def studios() -> Response:
    return _listed(sa.select(Studio).where(rights().listed("studio:read", Studio)))


def studio(studio_id: str) -> Response:
    return jsonify(data.plain(_found(data.load(Studio, studio_id))))


def kilns() -> Response:
    return _listed(sa.select(Kiln).where(rights().listed("kiln:read", Kiln)))


def kilns_of(studio_id: str) -> Response:
    return _listed(sa.select(Kiln).where(Kiln.studio_id == int(studio_id)))


def add_kiln(studio_id: str) -> Response:
    name = str(request.get_json().get("name", ""))[:80]
    return jsonify(data.plain(data.save(Kiln(studio_id=int(studio_id), name=name, top_temperature=1000))))


def kiln(studio_id: str, kiln_id: str) -> Response:  # noqa: ARG001 - that it is in this studio, the policy sees
    return jsonify(data.plain(_found(data.load(Kiln, kiln_id))))


def change_kiln(studio_id: str, kiln_id: str) -> Response:  # noqa: ARG001
    record = _found(data.load(Kiln, kiln_id))
    sent = {
        name: value for name, value in request.get_json().items() if name in ("name", "top_temperature", "studio_id")
    }
    return jsonify(data.plain(data.save(record, **rights().change("kiln", record, sent))))


def remove_kiln(studio_id: str, kiln_id: str) -> Response:  # noqa: ARG001
    data.remove(_found(data.load(Kiln, kiln_id)))
    return jsonify(removed=kiln_id)


def firings(kiln_id: str) -> Response:
    return _listed(sa.select(Firing).where(Firing.kiln_id == int(kiln_id)))


def add_firing(kiln_id: str) -> Response:
    glaze = str(request.get_json().get("glaze", ""))[:80]
    made = Firing(kiln_id=int(kiln_id), member_id=rights().member(), glaze=glaze, state="waiting")
    return jsonify(data.plain(data.save(made)))


def firing(kiln_id: str, firing_id: str) -> Response:  # noqa: ARG001
    return jsonify(data.plain(_found(data.load(Firing, firing_id))))


def change_firing(kiln_id: str, firing_id: str) -> Response:  # noqa: ARG001
    record = _found(data.load(Firing, firing_id))
    return jsonify(data.plain(data.save(record, state=str(request.get_json().get("state", ""))[:40])))


def _listed(statement: Any) -> Response:
    return jsonify([data.plain(record) for record in data.select(statement)])


def _found(record: Any) -> Any:
    return record if record is not None else abort(404)


ROUTES = (
    ("GET", "/", home),
    ("POST", "/sign-in", sign_in),
    ("POST", "/sign-out", sign_out),
    ("GET", "/studios", studios),
    ("GET", "/studios/<studio_id>", studio),
    ("GET", "/kilns", kilns),
    ("GET", "/studios/<studio_id>/kilns", kilns_of),
    ("POST", "/studios/<studio_id>/kilns", add_kiln),
    ("GET", "/studios/<studio_id>/kilns/<kiln_id>", kiln),
    ("PATCH", "/studios/<studio_id>/kilns/<kiln_id>", change_kiln),
    ("DELETE", "/studios/<studio_id>/kilns/<kiln_id>", remove_kiln),
    ("GET", "/kilns/<kiln_id>/firings", firings),
    ("POST", "/kilns/<kiln_id>/firings", add_firing),
    ("GET", "/kilns/<kiln_id>/firings/<firing_id>", firing),
    ("PATCH", "/kilns/<kiln_id>/firings/<firing_id>", change_firing),
)


def application(rights: Rights, secret: str, around: Any = None) -> Flask:
    """The application, with what keeps the rights; ``around`` goes around each handler."""
    app = Flask(__name__, static_folder=None)
    app.config.update(SECRET_KEY=secret, SESSION_COOKIE_SAMESITE="Strict")
    app.extensions["rights"] = rights
    for method, rule, handler in ROUTES:
        served = handler if around is None else around(handler)
        app.add_url_rule(rule, handler.__name__, served, methods=[method])
    return app
