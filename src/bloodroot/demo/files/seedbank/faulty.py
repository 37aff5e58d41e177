"""The same application with checks written by hand, and the mistakes that hands make.

Five of the checks are wrong, each in a way seen in real applications. `bloodroot probe` finds them all.
"""

from __future__ import annotations

import inspect
import os
from collections.abc import Awaitable, Callable
from dataclasses import fields
from typing import Any

from starlette.applications import Starlette
from starlette.exceptions import HTTPException
from starlette.middleware import Middleware
from starlette.middleware.sessions import SessionMiddleware
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from bloodroot import Unidentified

from . import api, data, pages
from .routes import routes
from .who import identify

Handler = Callable[[Request], Response | Awaitable[Response]]
Check = Callable[[data.Member, Request], bool]

_INCLUDED = {"curator": {"botanist", "volunteer"}, "botanist": {"volunteer"}, "registrar": {"volunteer"}}


def whoever_sent(request: Request) -> data.Member | None:
    try:
        caller = identify(request)
    except Unidentified:
        return None
    return data.member(caller.id) if caller is not None else None


def has(member: data.Member, *wanted: str) -> bool:
    held = set(member.roles) | {"volunteer"}
    for role in member.roles:
        held |= _INCLUDED.get(role, set())
    return not held.isdisjoint(wanted)


def needs(check: Check, *, change: bool = False) -> Callable[[Handler], Handler]:
    """Lets only those members in who pass a check; changes are for members who are not suspended."""

    def around(handler: Handler) -> Handler:
        async def guarded(request: Request) -> Response:
            member = whoever_sent(request)
            if member is None:
                raise HTTPException(401)
            if not check(member, request) or (change and member.status != "active"):
                raise HTTPException(403)
            response = handler(request)
            return await response if inspect.isawaitable(response) else response

        return guarded

    return around


def roles(*wanted: str) -> Check:
    return lambda member, _: has(member, *wanted)


def sees_accession(member: data.Member, request: Request) -> bool:
    record = data.accession(request.path_params["accession_id"])
    return has(member, "curator", "registrar", "auditor") or (record is not None and not record.restricted)


def edits_trial(member: data.Member, request: Request) -> bool:
    record = data.trial(request.path_params["trial_id"])
    own = record is not None and record.botanist_id == member.id
    return has(member, "curator") or (own and has(member, "botanist"))


def is_oneself(member: data.Member, request: Request) -> bool:
    return str(request.path_params["member_id"]) == str(member.id)


def sees_member(member: data.Member, request: Request) -> bool:
    return is_oneself(member, request) or has(member, "registrar", "auditor")


def lists_members(member: data.Member, _: Request) -> bool:
    # Mistake: a guest-registrar has "registrar" in its name, and is none.
    text = ",".join(member.roles)
    return "registrar" in text or "auditor" in text


def reads_reports(member: data.Member) -> bool:
    return has(member, "curator", "auditor") or "report:read" in member.permissions


def reports(request: Request) -> Response:
    member = whoever_sent(request)
    # Mistake: a signed-out caller is never refused.
    if member is not None and not reads_reports(member):
        raise HTTPException(403)
    return pages.report(request)


@needs(roles("registrar"), change=True)
def guarded_send(request: Request) -> Response:
    return pages.send_exchange(request)


anybody = roles("volunteer")
readers = roles("volunteer", "auditor")
exchange_readers = roles("registrar", "guest-registrar", "auditor")

CHECKED: dict[tuple[str, str], Handler] = {
    ("POST", "/sign-out"): needs(anybody)(pages.sign_out),
    ("GET", "/desk"): needs(anybody)(pages.desk),
    ("GET", "/accessions"): needs(readers)(pages.accession_list),
    ("GET", "/accessions/new"): needs(roles("curator"))(pages.accession_form),
    ("POST", "/accessions"): needs(roles("curator"), change=True)(pages.add_accession),
    ("GET", "/accessions/{accession_id}"): needs(sees_accession)(pages.accession),
    ("GET", "/accessions/{accession_id}/edit"): needs(roles("curator"))(pages.accession_form),
    # Mistake: POST /accessions/{accession_id} is missing. The form is guarded, what it sends to is open.
    ("POST", "/accessions/{accession_id}/withdraw"): needs(roles("curator"), change=True)(pages.withdraw_accession),
    ("GET", "/trials"): needs(readers)(pages.trial_list),
    ("GET", "/trials/new"): needs(roles("botanist"))(pages.trial_form),
    ("POST", "/trials"): needs(roles("botanist"), change=True)(pages.start_trial),
    ("GET", "/trials/{trial_id}"): needs(readers)(pages.trial),
    ("GET", "/trials/{trial_id}/edit"): needs(edits_trial)(pages.trial_form),
    ("POST", "/trials/{trial_id}"): needs(edits_trial, change=True)(pages.update_trial),
    ("GET", "/exchanges"): needs(exchange_readers)(pages.exchange_list),
    ("POST", "/exchanges"): needs(roles("registrar"), change=True)(pages.start_exchange),
    ("GET", "/exchanges/{exchange_id}"): needs(exchange_readers)(pages.exchange),
    # Mistake: the guarded function is above, and the one that is served is the other.
    ("POST", "/exchanges/{exchange_id}/send"): pages.send_exchange,
    ("GET", "/members"): needs(lists_members)(pages.member_list),
    ("GET", "/members/{member_id}"): needs(sees_member)(pages.member),
    ("POST", "/members/{member_id}/suspend"): needs(
        lambda member, request: has(member, "registrar") and not is_oneself(member, request), change=True
    )(pages.suspend_member),
    ("GET", "/reports"): needs(anybody)(pages.report_list),
    ("GET", "/reports/germination"): needs(anybody)(pages.germination_report),
    ("GET", "/reports/{report}"): reports,
    ("GET", "/api/me"): needs(anybody)(api.me),
    ("GET", "/api/accessions"): needs(readers)(api.accessions),
    ("GET", "/api/accessions/{accession_id}"): needs(sees_accession)(api.accession),
    ("PATCH", "/api/accessions/{accession_id}"): needs(roles("curator"), change=True)(api.change_accession),
    ("GET", "/api/trials/{trial_id}"): needs(readers)(api.trial),
    ("PATCH", "/api/trials/{trial_id}"): needs(edits_trial, change=True)(api.change_trial),
    ("DELETE", "/api/trials/{trial_id}"): needs(edits_trial, change=True)(api.delete_trial),
    ("GET", "/api/exchanges"): needs(exchange_readers)(api.exchanges),
}


class HandmadeRights:
    """Shows links by role. The list of accessions asks it too, and it knows nothing of restricted ones."""

    def member(self, request: Request) -> data.Member | None:
        return whoever_sent(request)

    def may(self, request: Request, permission: str, record: Any = None) -> bool:  # noqa: ARG002
        member = whoever_sent(request)
        if member is None:
            return False
        if permission == "accession:read":
            # Mistake: the list shows rare plants to all who may see the list.
            return True
        method, _, path = permission.partition(" ")
        if path.startswith("/reports"):
            return reads_reports(member)
        if path.startswith(("/exchanges", "/members")):
            return has(member, "registrar") or (method == "GET" and has(member, "auditor"))
        return method == "GET" or has(member, "curator")

    def readable(self, request: Request, kind: str, record: Any) -> frozenset[str]:  # noqa: ARG002
        member = whoever_sent(request)
        names = frozenset(field.name for field in fields(record))
        return names if member is not None and has(member, "curator", "auditor") else names - {"coordinates"}

    def refused(self, request: Request, kind: str, changes: dict[str, Any], record: Any) -> tuple[str, ...]:  # noqa: ARG002
        member = whoever_sent(request)
        return () if member is not None and has(member, "curator") else tuple(changes)


def signed_out_only(handler: Handler) -> Handler:
    """The sign-in page is only for signed-out callers."""

    async def guarded(request: Request) -> Response:
        if whoever_sent(request) is not None:
            raise HTTPException(403)
        response = handler(request)
        return await response if inspect.isawaitable(response) else response

    return guarded


def checked_routes() -> list[Any]:
    found = []
    for route in routes():
        if isinstance(route, Route):
            methods = (route.methods or set()) - {"HEAD"}
            handler = next((CHECKED[method, route.path] for method in methods if (method, route.path) in CHECKED), None)
            if handler is not None:
                route = Route(route.path, handler, methods=list(methods), name=route.name)
            elif route.path == "/sign-in":
                route = Route(route.path, signed_out_only(route.endpoint), methods=list(methods))
        found.append(route)
    return found


app = Starlette(
    routes=checked_routes(),
    middleware=[Middleware(SessionMiddleware, secret_key=os.environ["SEEDBANK_KEY"], same_site="strict")],
)
app.state.rights = HandmadeRights()
