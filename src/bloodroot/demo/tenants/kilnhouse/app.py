"""The application, with the policy around it: flask --app kilnhouse.app run"""

from __future__ import annotations

import os
from typing import Any

import bloodroot
from bloodroot.enforce import current, flask
from bloodroot.enforce.rows import rows

from . import data
from .routes import application
from .who import FOLDER, identify

policy = bloodroot.load(FOLDER / "access.bloodroot")


class DeclaredRights:
    """Lists a record, and changes a field, exactly as the policy says."""

    def listed(self, permission: str, model: Any) -> Any:
        return rows(policy, current().caller, permission, model)

    def change(self, kind: str, record: Any, changes: dict[str, Any]) -> dict[str, Any]:
        return current().change(kind, record, changes)

    def member(self) -> int:
        caller = current().caller
        return int(caller.id) if caller is not None else 0


app = application(DeclaredRights(), os.environ["KILNHOUSE_KEY"])
started = flask.protect(
    app,
    policy,
    identify=identify,
    # By thing: what any of its parameters identifies, and what only another record leads to.
    records={"kiln": lambda text: data.load(data.Kiln, text), "firing": lambda text: data.load(data.Firing, text)},
)
