"""The pages for people. None of them checks who may see it: that is declared, and enforced around them."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Protocol, TypeVar

from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import RedirectResponse, Response
from starlette.templating import Jinja2Templates

from . import data
from .who import directory

T = TypeVar("T")


class Rights(Protocol):
    """Who sent a request, and what they may do: to show a link, list a record, or leave a field out."""

    def member(self, request: Request) -> data.Member | None: ...

    def may(self, request: Request, permission: str, record: Any = None) -> bool: ...

    def readable(self, request: Request, kind: str, record: Any) -> frozenset[str]: ...

    def refused(self, request: Request, kind: str, changes: dict[str, Any], record: Any) -> tuple[str, ...]: ...


_templates = Jinja2Templates(Path(__file__).parent / "templates")


def rights(request: Request) -> Rights:
    found: Rights = request.app.state.rights
    return found


def may(request: Request, permission: str, record: Any = None) -> bool:
    """Whether the sender of a request has a permission, or would be let in at an endpoint such as GET /trials/new."""
    return rights(request).may(request, permission, record)


def page(request: Request, template: str, status: int = 200, **values: Any) -> Response:
    me = rights(request).member(request)

    def allowed(permission: str, record: Any = None) -> bool:
        return may(request, permission, record)

    return _templates.TemplateResponse(request, template, {"me": me, "may": allowed, **values}, status_code=status)


def found(record: T | None) -> T:
    if record is None:
        raise HTTPException(404)
    return record


async def field(request: Request, name: str) -> str:
    """A field of the form that was sent; 400 where it is missing."""
    value = (await request.form()).get(name)
    if not isinstance(value, str) or not value.strip():
        raise HTTPException(400, f"The field {name} is missing.")
    return value.strip()


async def number(request: Request, name: str) -> int:
    """A field of the form that was sent, as a number; 400 where it is none."""
    value = await field(request, name)
    if not value.isdecimal():
        raise HTTPException(400, f"The field {name} must be a number.")
    return int(value)


def go(path: str) -> Response:
    return RedirectResponse(path, 303)


def home(request: Request) -> Response:
    return page(request, "home.html")


def wanted(request: Request) -> str:
    """Where to go after signing in: the page that was asked for, if it is one of ours."""
    path = request.query_params.get("next", "")
    return path if path.startswith("/") and not path.startswith(("//", "/\\")) else "/desk"


async def sign_in(request: Request) -> Response:
    if request.method != "POST":
        return page(request, "sign_in.html", next=wanted(request))
    form = await request.form()
    member = data.member_with_password(str(form.get("email", "")), str(form.get("password", "")))
    if member is None:
        message = "The address or the password is wrong."
        return page(request, "sign_in.html", 422, message=message, next=wanted(request))
    request.session["member"] = member.id
    return go(wanted(request))


def sign_out(request: Request) -> Response:
    request.session.clear()
    return go("/")


def desk(request: Request) -> Response:
    return page(request, "desk.html")


def accession_list(request: Request) -> Response:
    rows = [accession for accession in data.accessions() if may(request, "accession:read", accession)]
    table = [(f"/accessions/{row.id}", row.id, row.species, row.origin) for row in rows]
    return page(request, "table.html", title="Accessions", heads=("No.", "Species", "Origin"), rows=table)


def accession(request: Request) -> Response:
    record = found(data.accession(request.path_params["accession_id"]))
    facts = {"Species": record.species, "Origin": record.origin, "Restricted": "yes" if record.restricted else "no"}
    if "coordinates" in rights(request).readable(request, "accession", record):
        facts["Found at"] = record.coordinates
    # A button is shown where the endpoint behind it would let this caller in; that of a form, where it may be sent.
    actions = [("POST /accessions/{id}", "Edit", "get", f"/accessions/{record.id}/edit")]
    actions += [("POST /accessions/{id}/withdraw", "Withdraw", "post", f"/accessions/{record.id}/withdraw")]
    return page(request, "record.html", title=record.species, facts=facts, actions=actions, record=record)


def accession_form(request: Request) -> Response:
    if "accession_id" not in request.path_params:
        fields = {"species": "", "origin": ""}
        return page(request, "form.html", title="New accession", to="/accessions", fields=fields)
    record = found(data.accession(request.path_params["accession_id"]))
    fields = {"species": record.species, "origin": record.origin}
    return page(request, "form.html", title=f"Edit {record.species}", to=f"/accessions/{record.id}", fields=fields)


async def add_accession(request: Request) -> Response:
    species, origin = await field(request, "species"), await field(request, "origin")
    data.ask("insert into accessions values (null, ?, ?, '', 0, 0)", species, origin)
    return go("/accessions")


async def update_accession(request: Request) -> Response:
    record = found(data.accession(request.path_params["accession_id"]))
    species, origin = await field(request, "species"), await field(request, "origin")
    data.ask("update accessions set species = ?, origin = ? where id = ?", species, origin, record.id)
    return go(f"/accessions/{record.id}")


def withdraw_accession(request: Request) -> Response:
    record = found(data.accession(request.path_params["accession_id"]))
    data.ask("update accessions set withdrawn = 1 where id = ?", record.id)
    return go("/accessions")


def trial_list(request: Request) -> Response:
    table = [
        (f"/trials/{trial.id}", trial.id, trial.accession_id, trial.sown, trial.germinated) for trial in data.trials()
    ]
    heads = ("No.", "Accession", "SeedResult", "Germinated")
    return page(request, "table.html", title="Germination trials", heads=heads, rows=table)


def trial(request: Request) -> Response:
    record = found(data.trial(request.path_params["trial_id"]))
    botanist = data.member(record.botanist_id)
    facts: dict[str, object] = {"Accession": record.accession_id, "Botanist": botanist.name if botanist else "nobody"}
    facts |= {"SeedResult": record.sown, "Germinated": record.germinated}
    actions = [("POST /trials/{id}", "Edit", "get", f"/trials/{record.id}/edit")]
    return page(request, "record.html", title=f"Trial {record.id}", facts=facts, actions=actions, record=record)


def trial_form(request: Request) -> Response:
    if "trial_id" not in request.path_params:
        fields = {"accession_id": "", "sown": ""}
        return page(request, "form.html", title="New trial", to="/trials", fields=fields)
    record = found(data.trial(request.path_params["trial_id"]))
    fields = {"germinated": str(record.germinated)}
    return page(request, "form.html", title=f"Edit trial {record.id}", to=f"/trials/{record.id}", fields=fields)


async def start_trial(request: Request) -> Response:
    lot = found(data.accession(await number(request, "accession_id")))
    sown = await number(request, "sown")
    data.ask("insert into trials values (null, ?, ?, ?, 0)", lot.id, request.session["member"], sown)
    return go("/trials")


async def update_trial(request: Request) -> Response:
    record = found(data.trial(request.path_params["trial_id"]))
    data.ask("update trials set germinated = ? where id = ?", await number(request, "germinated"), record.id)
    return go(f"/trials/{record.id}")


def exchange_list(request: Request) -> Response:
    table = [
        (f"/exchanges/{exchange.id}", exchange.id, exchange.partner, exchange.state) for exchange in data.exchanges()
    ]
    return page(request, "table.html", title="Exchanges", heads=("No.", "Partner", "State"), rows=table)


def exchange(request: Request) -> Response:
    record = found(data.exchange(request.path_params["exchange_id"]))
    facts = {"Accession": record.accession_id, "Partner": record.partner, "State": record.state}
    actions = [("POST /exchanges/{id}/send", "Send", "post", f"/exchanges/{record.id}/send")]
    return page(request, "record.html", title=f"Exchange {record.id}", facts=facts, actions=actions, record=record)


async def start_exchange(request: Request) -> Response:
    lot = found(data.accession(await number(request, "accession_id")))
    partner = await field(request, "partner")
    data.ask("insert into exchanges values (null, ?, ?, 'packed')", lot.id, partner)
    return go("/exchanges")


def send_exchange(request: Request) -> Response:
    record = found(data.exchange(request.path_params["exchange_id"]))
    data.ask("update exchanges set state = 'sent' where id = ?", record.id)
    return go(f"/exchanges/{record.id}")


def member_list(request: Request) -> Response:
    table = [(f"/members/{member.id}", member.id, member.name, member.status) for member in data.members()]
    return page(request, "table.html", title="Members", heads=("No.", "Name", "Status"), rows=table)


def member(request: Request) -> Response:
    record = found(data.member(request.path_params["member_id"]))
    facts = {"Name": record.name, "Email": record.email, "Status": record.status}
    facts["Roles"] = ", ".join(sorted(record.roles)) or "volunteer"
    actions = [("POST /members/{id}/suspend", "Suspend", "post", f"/members/{record.id}/suspend")]
    return page(request, "record.html", title=record.name, facts=facts, actions=actions, record=record)


def suspend_member(request: Request) -> Response:
    record = found(data.member(request.path_params["member_id"]))
    directory.set_status(record.id, "suspended")
    return go(f"/members/{record.id}")


def report_list(request: Request) -> Response:
    names = [("germination", "How much of what was sown came up")]
    if may(request, "GET /reports/stock"):
        names += [("stock", "What is in the vault"), ("exchanges", "What was sent to whom")]
    table = [(f"/reports/{name}", name, text) for name, text in names]
    return page(request, "table.html", title="Reports", heads=("Report", "What it tells"), rows=table)


def germination_report(request: Request) -> Response:
    rows = [("", trial.id, f"{100 * trial.germinated / trial.sown:.0f} %") for trial in data.trials()]
    return page(request, "table.html", title="Germination", heads=("Trial", "Came up"), rows=rows)


def _found_at(request: Request, record: data.Accession) -> str:
    """Where an accession was found, for those who may read it."""
    readable = rights(request).readable(request, "accession", record)
    return record.coordinates if "coordinates" in readable else "not shown"


def report(request: Request) -> Response:
    if request.path_params["report"] == "stock":
        rows = [("", accession.id, accession.species, _found_at(request, accession)) for accession in data.accessions()]
        return page(request, "table.html", title="Stock", heads=("No.", "Species", "Found at"), rows=rows)
    if request.path_params["report"] == "exchanges":
        rows = [("", exchange.id, exchange.partner, exchange.state) for exchange in data.exchanges()]
        return page(request, "table.html", title="Exchanges", heads=("No.", "Partner", "State"), rows=rows)
    raise HTTPException(404)
