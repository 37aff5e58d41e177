"""The API for programs: JSON, and a bearer token instead of a session."""

from __future__ import annotations

import datetime
import os
from dataclasses import asdict
from json import JSONDecodeError
from typing import Any

import jwt
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.responses import JSONResponse, Response

from . import data
from .pages import found, may, rights

ISSUER = "fernhollow"
CHANGING = ("species", "origin", "coordinates")


async def body(request: Request) -> dict[str, Any]:
    """The JSON object that was sent; 400 where there is none."""
    try:
        sent = await request.json()
    except (JSONDecodeError, UnicodeDecodeError) as error:
        raise HTTPException(400, "The body must be JSON.") from error
    if not isinstance(sent, dict):
        raise HTTPException(400, "The body must be a JSON object.")
    return sent


async def make_token(request: Request) -> Response:
    """A token for those who know the password. It has roles for partners to read; here they are looked up afresh."""
    sent = await body(request)
    member = data.member_with_password(str(sent.get("email", "")), str(sent.get("password", "")))
    if member is None:
        return JSONResponse({"message": "The address or the password is wrong."}, 422)
    expires = datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=15)
    duties = ",".join(f"FH_{role}" for role in sorted(member.roles))
    claims = {"iss": ISSUER, "sub": str(member.id), "exp": expires, "staff": {"duties": duties}}
    token = jwt.encode(claims, os.environ["SEEDBANK_KEY"], algorithm="HS256")
    return JSONResponse({"access_token": token, "token_type": "Bearer", "expires_in": 900})


def me(request: Request) -> Response:
    member = found(rights(request).member(request))
    return JSONResponse({"id": member.id, "name": member.name, "roles": sorted(member.roles)})


def accessions(request: Request) -> Response:
    rows = [accession for accession in data.accessions() if may(request, "accession:read", accession)]
    return JSONResponse([{"id": row.id, "species": row.species} for row in rows])


def accession(request: Request) -> Response:
    record = found(data.accession(request.path_params["accession_id"]))
    readable = rights(request).readable(request, "accession", record)
    return JSONResponse({name: value for name, value in asdict(record).items() if name in readable})


async def change_accession(request: Request) -> Response:
    record = found(data.accession(request.path_params["accession_id"]))
    changes = await body(request)
    if not changes or not all(name in CHANGING and isinstance(value, str) for name, value in changes.items()):
        raise HTTPException(400, f"Send new texts for any of {', '.join(CHANGING)}.")
    refused = rights(request).refused(request, "accession", changes, record)
    if refused:
        raise HTTPException(403, f"You may not change {', '.join(refused)}.")
    for name, value in changes.items():
        data.ask(f"update accessions set {name} = ? where id = ?", value, record.id)  # noqa: S608
    return JSONResponse({"id": record.id, **changes})


def trial(request: Request) -> Response:
    return JSONResponse(asdict(found(data.trial(request.path_params["trial_id"]))))


async def change_trial(request: Request) -> Response:
    record = found(data.trial(request.path_params["trial_id"]))
    germinated = (await body(request)).get("germinated")
    if not isinstance(germinated, int):
        raise HTTPException(400, "The number that germinated is missing.")
    data.ask("update trials set germinated = ? where id = ?", germinated, record.id)
    return JSONResponse({"id": record.id, "germinated": germinated})


def delete_trial(request: Request) -> Response:
    record = found(data.trial(request.path_params["trial_id"]))
    data.ask("delete from trials where id = ?", record.id)
    return Response(status_code=204)


def exchanges(request: Request) -> Response:  # noqa: ARG001
    return JSONResponse([asdict(exchange) for exchange in data.exchanges()])
