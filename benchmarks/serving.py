"""The decision service against a bare Starlette endpoint that answers a constant: one process, kept connections."""

from __future__ import annotations

import json
import socket
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

SECRET = "made-up-for-a-benchmark-and-for-nothing-else"
SERVE = f"""
import asyncio, os, sys
from pathlib import Path
import uvicorn
from starlette.applications import Starlette
from starlette.responses import JSONResponse
from starlette.routing import Route
from bloodroot.serving.service import Service
from bloodroot.settings import read_settings

async def constant(request):
    return JSONResponse({{"decision": True}})

async def serve():
    bare = Starlette(routes=[Route("/access/v1/evaluation", constant, methods=["POST"])])
    service = Service(read_settings(Path("bloodroot.toml")), "127.0.0.1").application()
    how = {{"log_level": "critical", "lifespan": "off", "access_log": False, "loop": "asyncio", "ws": "none",
           "http": "bloodroot.serving.connections:BoundedHTTP"}}
    await asyncio.gather(*(uvicorn.Server(uvicorn.Config(app, port=int(port), **how)).serve()
                           for app, port in zip((bare, service), sys.argv[1:])))

os.environ["SECRET"] = "{SECRET}"
asyncio.run(serve())
"""
ASKED = 200


def project(policy: str) -> Path:
    """A folder with a policy, and settings by which a service may ask."""
    folder = Path(tempfile.mkdtemp(prefix="serving"))
    (folder / "access.bloodroot").write_text(policy, "utf-8")
    settings = '[serve.askers.desk]\ntoken = "{env.SECRET}"\nbelieved = ["roles"]\n'
    (folder / "bloodroot.toml").write_text(settings, "utf-8")
    return folder


def question(number: int, role: str) -> dict[str, object]:
    return {
        "subject": {"type": "user", "id": str(number), "properties": {"roles": [role]}},
        "action": {"name": "GET"},
        "resource": {"type": "endpoint", "id": f"/area{number % 40}/things{number}/7/part"},
    }


def request(path: str, body: object) -> bytes:
    """A request as it is sent."""
    content = json.dumps(body).encode()
    head = f"POST /access/v1/{path} HTTP/1.1\r\nhost: x\r\nauthorization: Bearer {SECRET}\r\n"
    head += f"content-type: application/json\r\ncontent-length: {len(content)}\r\n\r\n"
    return head.encode() + content


def answered(line: socket.socket, sent: bytes) -> bytes:
    """The body of the answer."""
    line.sendall(sent)
    answer = line.recv(65_536)
    while b"\r\n\r\n" not in answer:
        answer += line.recv(65_536)
    head, _, body = answer.partition(b"\r\n\r\n")
    if not head.startswith(b"HTTP/1.1 200"):
        raise SystemExit(answer.decode())
    length = next(int(each[15:]) for each in head.lower().split(b"\r\n") if each.startswith(b"content-length:"))
    while len(body) < length:
        body += line.recv(65_536)
    return body


def asker(line: socket.socket, roles: int, lines: int) -> Callable[[], None]:
    """Asks about lines of the whole policy, all of which let the caller in."""
    # Each fourth line is for GET.
    numbers = [place * 379 % (lines // 4) * 4 for place in range(ASKED)]
    sent = [request("evaluation", question(number, f"role{number % roles}")) for number in numbers]

    def ask() -> None:
        for each in sent:
            if answered(line, each) != b'{"decision":true}':
                raise SystemExit("the answer is another")

    return ask


def batch(line: socket.socket, roles: int, lines: int) -> float:
    """The least seconds that 1,000 evaluations in one question take."""
    each = [question(number * 37 % lines, f"role{number % roles}") for number in range(1000)]
    sent, least = request("evaluations", {"evaluations": each}), float("inf")
    for _ in range(20):
        began = time.perf_counter()
        if len(json.loads(answered(line, sent))["evaluations"]) != 1000:
            raise SystemExit("the answer is another")
        least = min(least, time.perf_counter() - began)
    return least
