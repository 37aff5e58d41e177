"""Ratios against floors that do the least possible work: python benchmarks/measure.py [NAME ...]

Every figure is a ratio of two times measured in turns in one run, the least of several each. Nothing is asserted:
docs/speed.md has the ratios, and what each may be at most.
"""

from __future__ import annotations

import contextlib
import socket
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.core.matrix import matrix_of_roles

ROLES = 20


def best(work: dict[str, Callable[[], Any]], rounds: int) -> dict[str, float]:
    """The least time of each, measured in turns so that a busy moment hits them alike. In seconds."""
    least = dict.fromkeys(work, float("inf"))
    for _ in range(rounds):
        for name, call in work.items():
            began = time.perf_counter()
            call()
            least[name] = min(least[name], time.perf_counter() - began)
    return least


def policy_text(endpoints: int, roles: int = ROLES, permissions: int = 60) -> str:
    """A policy of so many endpoint lines, decided by roles and permissions alone."""
    lines = ['policy "Measured"', "", "roles"]
    for number in range(roles):
        above = f" includes role{number - 1}" if number % 10 else ""
        lines.append(f"  role{number}{above}")
    lines += ["", "permissions"]
    for number in range(permissions):
        lines.append(f"  thing{number}:edit  role{number % roles}, role{number * 7 % roles}")
    lines += ["", "endpoints"]
    for number in range(endpoints):
        methods = ("GET", "POST", "PUT PATCH", "DELETE")[number % 4]
        asks = f"role{number % roles} or thing{number % permissions}:edit"
        lines.append(f"  {methods:10}/area{number % 40}/things{number}/{{thing_id}}/part  {asks}")
    return "\n".join(lines)


def decide() -> None:
    """`decide` against a bare walk of a path tree and one bit test; and 10,000 endpoints against 100."""
    callers = [Caller(id=number, roles={f"role{number}"}) for number in range(ROLES)]

    def asker(policy: bloodroot.Policy, paths: list[tuple[str, str]]) -> Callable[[], None]:
        def ask() -> None:
            for number, (method, path) in enumerate(paths):
                policy.decide(callers[number % ROLES], method, path)

        return ask

    def requests(count: int, asked: int) -> list[tuple[str, str]]:
        chosen = [number * 7919 % count for number in range(asked)]
        methods = ("GET", "POST", "PUT", "DELETE")
        # No two paths alike, however few the endpoints: text that is asked twice would be in the cache already.
        return [
            (methods[number % 4], f"/area{number % 40}/things{number}/{place}/part")
            for place, number in enumerate(chosen)
        ]

    policy = bloodroot.parse(policy_text(1200))
    paths = requests(1200, 1200)
    root: dict[str, Any] = {}
    for number in range(1200):
        node = root
        for segment in (f"area{number % 40}", f"things{number}", "{}", "part"):
            node = node.setdefault(segment, {})
        for method in ("GET", "POST", "PUT", "DELETE"):
            node[method] = 1 << number % ROLES

    def walk() -> None:
        for number, (method, path) in enumerate(paths):
            node = root
            for segment in path[1:].split("/"):
                node = node.get(segment) or node["{}"]
            bool(node[method] & 1 << number % ROLES)

    times = best({"floor": walk, "decide": asker(policy, paths)}, 40)
    told("decide, 1,200 endpoints, roles only", times["decide"] / times["floor"], 4.0)
    print(f"  {times['decide'] / len(paths) * 1e6:.2f} µs a decision")
    small, large = bloodroot.parse(policy_text(100)), bloodroot.parse(policy_text(10_000))
    times = best({"100": asker(small, requests(100, 2000)), "10,000": asker(large, requests(10_000, 2000))}, 40)
    told("decide, 10,000 endpoints against 100", times["10,000"] / times["100"], 1.3)


def compile_policy() -> None:
    """Compiling 10,000 lines against `tomllib` on TOML text of the same size."""
    for name, text in (
        ("like lines", policy_text(9850, 60, 80)),
        ("no two requirements alike", policy_text(9400, 300, 290)),
    ):
        toml = []
        size = 0
        for number, line in enumerate(text.splitlines()):
            asks = line.split("  ")[-1].replace('"', "")
            entry = f'"GET /area{number % 40}/things{number}/{{thing_id}}/part" = "{asks}"'
            toml.append(entry)
            size += len(entry) + 1
            if size > len(text):
                break
        table = "\n".join(toml)
        times = best({"floor": lambda t=table: tomllib.loads(t), "compile": lambda t=text: bloodroot.parse(t)}, 25)
        told(f"compile {text.count(chr(10)) + 1:,} lines, {name}", times["compile"] / times["floor"], 1.5)
        print(
            f"  {len(text) / 1e3:.0f} kB of policy, {len(table) / 1e3:.0f} kB of TOML; {times['compile'] * 1e3:.0f} ms"
        )


def matrix() -> None:
    """The matrix of 10,000 endpoints × 200 roles against asking `decide` for every cell."""
    policy = bloodroot.parse(policy_text(10_000, 200, 100))
    columns = [None, Caller(), *(Caller(roles={name}) for name in policy.roles.by_reach())]
    rows = [(line.methods[0], line.template.fill({"thing_id": "7"})) for line in policy.endpoints]

    def ask_all() -> None:
        for method, path in rows[::20]:
            for caller in columns:
                policy.decide(caller, method, path)

    times = best({"floor": ask_all, "matrix": lambda: matrix_of_roles(policy)}, 5)
    whole = times["floor"] * 20 / 10_000 * sum(len(line.methods) for line in policy.endpoints)
    told("matrix, 10,000 endpoints × 200 roles", times["matrix"] / whole, 1 / 50)
    print(f"  {times['matrix'] * 1e3:.0f} ms; the floor is timed on every 20th endpoint and multiplied")


def show_help() -> None:
    """`bloodroot --help` against a bare Typer program with as many commands."""
    bare = "import typer\napp = typer.Typer(no_args_is_help=True)\n"
    for name in ("demo", "matrix", "why", "probe", "seed", "token", "format"):
        bare += f"@app.command('{name}')\ndef {name}_(name: str, wide: bool = False) -> None:\n    'A command.'\n"
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "bare.py"
        file.write_text(bare + "app()\n", "utf-8")

        def run(*words: str) -> Callable[[], Any]:
            return lambda: subprocess.run(words, stdout=subprocess.DEVNULL, check=True)

        program = str(Path(sys.executable).parent / "bloodroot")
        times = best({"floor": run(sys.executable, str(file), "--help"), "help": run(program, "--help")}, 15)
    told("bloodroot --help", times["help"] / times["floor"], 1.3)


SERVED = """
import asyncio, sys
import bloodroot, uvicorn
from bloodroot import Caller
from bloodroot.enforce.asgi import AccessMiddleware

START = {"type": "http.response.start", "status": 200,
         "headers": [(b"content-type", b"text/plain"), (b"content-length", b"4")]}
BODY = {"type": "http.response.body", "body": b"seed"}


async def alone(scope, receive, send):
    await send(dict(START)); await send(BODY)


CALLERS = {str(number): Caller(number, {f"role{number}"}) for number in range(20)}
policy = bloodroot.load("measured.bloodroot")
behind = AccessMiddleware(alone, policy, identify=lambda request: CALLERS.get(request.headers.get("x-caller") or ""))


async def serve():
    how = {"log_level": "critical", "lifespan": "off", "access_log": False}
    await asyncio.gather(*(uvicorn.Server(uvicorn.Config(app, port=int(port), **how)).serve()
                           for app, port in zip((alone, behind), sys.argv[1:])))


asyncio.run(serve())
"""


def middleware() -> None:
    """The ASGI middleware before a one-line application, against the application alone: both in one process."""
    with tempfile.TemporaryDirectory() as name, served(Path(name)) as lines:
        asked = []
        for place in range(300):
            number = place * 4 % 40
            path = f"/area{number % 40}/things{number}/{place}/part"
            asked.append(f"GET {path} HTTP/1.1\r\nhost: x\r\nx-caller: {number % ROLES}\r\n\r\n".encode())

        def asker(line: socket.socket) -> Callable[[], None]:
            def ask() -> None:
                for request in asked:
                    line.sendall(request)
                    answer = line.recv(4096)
                    while not answer.endswith(b"seed"):
                        answer += line.recv(4096)

            return ask

        times = best({"alone": asker(lines[0]), "behind": asker(lines[1])}, 60)
    each = {app: time / len(asked) * 1e6 for app, time in times.items()}
    told("ASGI middleware, 40 endpoints, served by uvicorn", times["behind"] / times["alone"], 1.10)
    print(f"  {each['alone']:.0f} µs a request alone, {each['behind']:.0f} µs behind the policy")


@contextlib.contextmanager
def served(folder: Path) -> Iterator[list[socket.socket]]:
    """Both applications served by uvicorn in one other process; gives a connection to each."""
    (folder / "measured.bloodroot").write_text(policy_text(40), "utf-8")
    (folder / "served.py").write_text(SERVED, "utf-8")
    with contextlib.ExitStack() as free:
        found = [free.enter_context(socket.socket()) for _ in range(2)]
        for each in found:
            each.bind(("127.0.0.1", 0))
        ports = [each.getsockname()[1] for each in found]
    server = subprocess.Popen([sys.executable, "served.py", *map(str, ports)], cwd=folder)
    try:
        with contextlib.ExitStack() as open_lines:
            yield [open_lines.enter_context(connected(port)) for port in ports]
    finally:
        server.terminate()
        server.wait(10)


def connected(port: int) -> socket.socket:
    """A connection to a server that may still be starting."""
    for _ in range(200):
        with contextlib.suppress(OSError):
            line = socket.create_connection(("127.0.0.1", port), 10)
            line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            return line
        time.sleep(0.05)
    raise SystemExit("the server did not start")


def told(what: str, ratio: float, most: float) -> None:
    """One line of the result."""
    print(
        f"{what}: {ratio:.4f} × (at most {most:.4g})" if ratio < 0.1 else f"{what}: {ratio:.2f} × (at most {most:.4g})"
    )


MEASURES = {"decide": decide, "compile": compile_policy, "matrix": matrix, "help": show_help, "middleware": middleware}

if __name__ == "__main__":
    for name in sys.argv[1:] or MEASURES:
        MEASURES[name]()
