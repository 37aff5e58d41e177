"""The application, with the policy around it: uvicorn seedbank.app:app"""

from __future__ import annotations

import os
from typing import Any

from starlette.applications import Starlette
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.requests import Request

import bloodroot
from bloodroot.enforce import current, starlette

from . import data
from .routes import routes
from .who import FOLDER, identify


class DeclaredRights:
    """Shows a link, lists a record and leaves out a field exactly as the policy says."""

    def member(self, request: Request) -> data.Member | None:  # noqa: ARG002
        caller = current().caller
        return data.member(caller.id) if caller is not None else None

    def may(self, request: Request, permission: str, record: Any = None) -> bool:  # noqa: ARG002
        return current().may(permission, record)

    def readable(self, request: Request, kind: str, record: Any) -> frozenset[str]:  # noqa: ARG002
        return frozenset(current().readable(kind, record))

    def refused(self, request: Request, kind: str, changes: dict[str, Any], record: Any) -> tuple[str, ...]:  # noqa: ARG002
        try:
            current().change(kind, record, changes)
        except bloodroot.FieldsRefused as error:
            return error.fields
        return ()


app = Starlette(
    routes=routes(),
    middleware=[Middleware(SessionMiddleware, secret_key=os.environ["SEEDBANK_KEY"], same_site="strict")],
)
app.state.rights = DeclaredRights()
started = starlette.protect(
    app,
    bloodroot.load(FOLDER / "access.bloodroot"),
    identify=identify,
    records={"accession_id": data.accession, "trial_id": data.trial},
)
