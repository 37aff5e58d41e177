"""The probe against httpx alone: the same requests, with the same concurrency, to the same application."""

from __future__ import annotations

import asyncio
import contextlib
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import PlainTextResponse
from starlette.routing import Route

from bloodroot import load
from bloodroot.probe.runner import probe
from bloodroot.probe.verdicts import Verdict
from bloodroot.settings import Settings, read_settings

ENDPOINTS, PERSONAS, ROLES, AT_ONCE = 200, 20, 5, 8
PAGE = "a page of the seed bank\n" * 40


def answer(request: Request) -> PlainTextResponse:
    """A page for members whose role has the number of the endpoint."""
    role = request.headers.get("x-role", "")
    number = int(request.url.path.rpartition("/")[2])
    if not role:
        return PlainTextResponse("sign in", 401)
    return PlainTextResponse(PAGE) if role == f"role{number % ROLES}" else PlainTextResponse("no", 403)


app = Starlette(routes=[Route(f"/pages/{number}", answer) for number in range(ENDPOINTS)])


def project(folder: Path, where: str) -> Settings:
    """A policy and settings for the application."""
    roles = "\n".join(f"  role{number}" for number in range(ROLES))
    lines = "\n".join(f"  GET /pages/{number} role{number % ROLES}" for number in range(ENDPOINTS))
    (folder / "access.bloodroot").write_text(f"roles\n{roles}\nendpoints\n{lines}\n")
    personas = "\n".join(
        f'[personas.p{number}]\nroles = ["role{number % ROLES}"]\nattributes = {{ id = {number} }}\n'
        f'role = "role{number % ROLES}"'
        for number in range(PERSONAS)
    )
    settings = f'{where}\n{personas}\n[probe]\nat_once = {AT_ONCE}\n[probe.sign_in]\nhow = "header"\n'
    (folder / "bloodroot.toml").write_text(settings + 'fields = { "X-Role" = "{persona.role}" }\n')
    return read_settings(folder / "bloodroot.toml")


async def bare(transport: httpx.AsyncBaseTransport, base: str, count: int) -> None:
    """The floor: as many requests, as every persona in turn."""
    limit = asyncio.Semaphore(AT_ONCE)

    async def one(client: httpx.AsyncClient, path: str, role: str) -> None:
        async with limit:
            response = await client.get(path, headers={"accept": "text/html", "x-role": role})
            assert response.status_code in (200, 403)
            assert response.text

    async with httpx.AsyncClient(transport=transport, base_url=base) as client, asyncio.TaskGroup() as group:
        for number in range(count):
            page, persona = number // PERSONAS % ENDPOINTS, number % PERSONAS
            group.create_task(one(client, f"/pages/{page}", f"role{persona % ROLES}"))


@contextlib.contextmanager
def served() -> Iterator[int]:
    """The application under uvicorn."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        port = found.getsockname()[1]
    words = [sys.executable, "-m", "uvicorn", "probing:app", "--port", str(port), "--log-level", "critical"]
    process = subprocess.Popen(words, cwd=Path(__file__).parent)
    try:
        for _ in range(200):
            with contextlib.suppress(OSError):
                socket.create_connection(("127.0.0.1", port), 1).close()
                break
            time.sleep(0.05)
        yield port
    finally:
        process.terminate()
        process.wait()


def ratio(where: str, base: str, rounds: int) -> tuple[float, int]:
    """How much longer the probe takes, and how many requests there are; the least of some rounds, in turns."""
    with tempfile.TemporaryDirectory() as name:
        settings = project(Path(name), where)
        policy = load(settings.policy)
        least = {"bare": float("inf"), "probe": float("inf")}
        count = 0
        for _ in range(rounds):
            start = time.perf_counter()
            result = probe(policy, settings)
            least["probe"] = min(least["probe"], time.perf_counter() - start)
            assert result.count(Verdict.HOLE) == 0 and result.count(Verdict.AGREE) == len(result.observations)
            # With other methods, headers and parameters beside those of the plan.
            count = len(result.observations) + result.other_ways
            start = time.perf_counter()
            transport = httpx.ASGITransport(app=app) if base == "http://here" else httpx.AsyncHTTPTransport()
            asyncio.run(bare(transport, base, count))
            least["bare"] = min(least["bare"], time.perf_counter() - start)
        return least["probe"] / least["bare"], count
