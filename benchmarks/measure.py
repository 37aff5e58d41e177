"""Ratios against floors that do the least possible work: python benchmarks/measure.py [NAME ...]

Every figure is a ratio of two times measured in turns in one run, the least of several each. Nothing is asserted:
docs/speed.md has the ratios, and what each may be at most.
"""

from __future__ import annotations

import contextlib
import json
import socket
import subprocess
import sys
import tempfile
import time
import tomllib
from collections.abc import Callable, Iterator
from functools import partial
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.checks.checking import check
from bloodroot.checks.subject import Subject
from bloodroot.comparison.changes import Side
from bloodroot.comparison.comparing import compare as compare_sides
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.language.parser import parse as parse_tree
from bloodroot.survey.coverage import survey
from bloodroot.survey.endpoints import Endpoint, Found
from bloodroot.survey.gathering import gather
from growing import GROWING, use

ROLES = 20
HERE = Path(__file__).resolve().parent


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
    report_ratio("decide, 1,200 endpoints, roles only", times["decide"] / times["floor"], 2.5)
    print(f"  {times['decide'] / len(paths) * 1e6:.2f} µs a decision")
    small, large = bloodroot.parse(policy_text(100)), bloodroot.parse(policy_text(10_000))
    times = best({"100": asker(small, requests(100, 2000)), "10,000": asker(large, requests(10_000, 2000))}, 40)
    report_ratio("decide, 10,000 endpoints against 100", times["10,000"] / times["100"], 1.4)


def in_things() -> None:
    """`decide` where the path alone says in which studio a role is held, against the same policy with plain roles."""
    names = "\n".join(
        f"  role{number}{f' includes role{number - 1}' if number % 10 else ''}" for number in range(ROLES)
    )
    lines = "\n".join(f"  GET  /studios/{{studio_id}}/area{number}  role{number % ROLES}" for number in range(1200))
    things = f"things\n  studio {{studio_id}}\nroles in studio\n{names}\nendpoints\n{lines}\n"
    plain = bloodroot.parse(f"roles\n{names}\nendpoints\n{lines}\n")
    policy = bloodroot.parse(things)
    paths = [f"/studios/{number * 7919 % 10_000}/area{number * 31 % 1200}" for number in range(2000)]
    many = {place: {f"role{place % ROLES}"} for place in range(10_000)}
    callers = {
        "1 studio": Caller(1, roles_in={"studio": {1: {"role3"}}}),
        "10,000": Caller(1, roles_in={"studio": many}),
    }
    alike = [Caller(1, {f"role{number}"}) for number in range(ROLES)]

    def asker(policy: bloodroot.Policy, who: list[Caller]) -> Callable[[], None]:
        def ask() -> None:
            for number, path in enumerate(paths):
                policy.decide(who[number % len(who)], "GET", path)

        return ask

    work = {"plain": asker(plain, alike), **{name: asker(policy, [caller]) for name, caller in callers.items()}}
    times = best(work, 40)
    for name in callers:
        report_ratio(f"decide, a role in a thing, {name} held", times[name] / times["plain"], 1.3)


def growth() -> None:
    """Policies of which one part grows, against themselves at half the size."""
    for make, size in GROWING.items():
        texts = {"half": make(size // 2), "whole": make(size)}
        times = best({name: partial(use, text) for name, text in texts.items()}, 5)
        report_ratio(f"{make.__name__}, {size} against {size // 2}", times["whole"] / times["half"], 2.3)


def compile_policy() -> None:
    """Compiling 10,000 lines against `tomllib` on TOML text of the same size."""
    for name, text, most in (
        ("like lines", policy_text(9850, 60, 80), 1.4),
        ("no two requirements alike", policy_text(9400, 300, 290), 1.9),
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
        times = best({"floor": partial(tomllib.loads, table), "compile": partial(bloodroot.parse, text)}, 25)
        report_ratio(f"compile {text.count(chr(10)) + 1:,} lines, {name}", times["compile"] / times["floor"], most)
        print(
            f"  {len(text) / 1e3:.0f} kB of policy, {len(table) / 1e3:.0f} kB of TOML; {times['compile'] * 1e3:.0f} ms"
        )


FLAGGED = """
roles
  volunteer  default
  botanist   includes volunteer
  curator    includes botanist
conditions
  own-trial  record.botanist_id == caller.id
  open       record.status == "open"
permissions
  trial:edit  curator, botanist if own-trial
endpoints
  GET     /trials/{trial_id}        volunteer
  GET     /trials/{trial_id}/edit   trial:edit
  POST    /trials/{trial_id}        trial:edit
  POST    /trials/{trial_id}/close  botanist if own-trial and open
  DELETE  /trials/{trial_id}        curator or botanist if own-trial
"""
ENDPOINTS = (
    "GET /trials/{id}",
    "GET /trials/{id}/edit",
    "POST /trials/{id}",
    "POST /trials/{id}/close",
    "DELETE /trials/{id}",
)


def flags() -> None:
    """`flags_of_each` of 200 records and 5 endpoints against the same comparisons written by hand."""
    policy = bloodroot.parse(FLAGGED)
    caller = Caller(3, {"botanist"})
    records = [
        SimpleNamespace(id=number, botanist_id=number % 4, status="open" if number % 3 else "closed")
        for number in range(200)
    ]

    def by_hand() -> list[dict[str, bool]]:
        own = caller.id
        return [
            {
                "GET /trials/{id}": True,
                "GET /trials/{id}/edit": each.botanist_id == own,
                "POST /trials/{id}": each.botanist_id == own,
                "POST /trials/{id}/close": each.botanist_id == own and each.status == "open",
                "DELETE /trials/{id}": each.botanist_id == own,
            }
            for each in records
        ]

    def flagged() -> list[dict[str, bool]]:
        return policy.flags_of_each(caller, ENDPOINTS, records)

    if by_hand() != flagged():
        raise SystemExit("the flags are not those written by hand")
    times = best({"floor": by_hand, "flags": flagged}, 60)
    report_ratio("flags_of_each, 200 records × 5 endpoints", times["flags"] / times["floor"], 12)
    print(f"  {times['flags'] * 1e3:.2f} ms, by hand {times['floor'] * 1e3:.2f} ms")


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
    report_ratio("matrix, 10,000 endpoints × 200 roles", times["matrix"] / whole, 1 / 200)
    print(f"  {times['matrix'] * 1e3:.0f} ms; the floor is timed on every 20th endpoint and multiplied")


def survey_openapi_document() -> None:
    """Surveying an OpenAPI document of 13 MB, held against a policy, against `json.loads` of its text."""
    fields = {f"field{number}": {"type": "string", "description": "What it holds. " * 6} for number in range(80)}
    content = {"application/json": {"schema": {"type": "object", "properties": fields}}}
    operation = {"summary": "One thing.", "responses": {"200": {"description": "Found.", "content": content}}}
    paths = {f"/area{number % 40}/things{number}/{{thing_id}}/part": {"get": operation} for number in range(1200)}
    text = json.dumps({"openapi": "3.1.0", "info": {"title": "Measured", "version": "1"}, "paths": paths})
    policy = bloodroot.parse(policy_text(1200))
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "openapi.json"
        file.write_text(text, "utf-8")
        works = {"floor": lambda: json.loads(text), "survey": lambda: survey(gather([str(file)], Path(folder)), policy)}
        times = best(works, 5)
    ratio = times["survey"] / times["floor"]
    report_ratio(f"survey of {len(text) / 1e6:.0f} MB of OpenAPI, {len(paths):,} operations", ratio, 3)


CHECKED = """
conditions
  own     record.owner == caller.id
  active  caller.status == "active"
always
  POST PUT PATCH DELETE /area1/**  active
"""


def check_policy() -> None:
    """Checking 10,000 lines against 10,000 endpoints, survey and all, against compiling the lines; and growth."""

    def made(count: int) -> tuple[Callable[[], Any], Callable[[], Any]]:
        lines = []
        for number, line in enumerate(policy_text(count).splitlines()):
            # Every tenth line depends on a record.
            lines.append(f"{line} if own" if number % 10 == 0 and "/area" in line else line)
        text = "\n".join(lines) + CHECKED
        policy = bloodroot.parse(text)
        served = [Endpoint(line.methods, line.template.text, "app", "app.py:1") for line in policy.endpoints]
        document = parse_tree(text)
        found = [Found("app", tuple(served))]
        return lambda: bloodroot.parse(text), lambda: check(Subject(policy, document, survey(found, policy)))

    parse, run = made(10_000)
    _, half = made(5_000)
    times = best({"compile": parse, "check": run, "half": half}, 5)
    report_ratio("check, 10,000 lines against 10,000 endpoints", times["check"] / times["compile"], 5)
    report_ratio("check, 10,000 against 5,000", times["check"] / times["half"], 2.3)


def two_policies() -> None:
    """Comparing two policies of 10,000 lines, 100 of which differ, against compiling both; and growth."""

    def made(count: int) -> tuple[Callable[[], Any], Callable[[], Any]]:
        old = policy_text(count)
        lines = old.splitlines()
        first = lines.index("endpoints") + 1
        for number in range(first, len(lines), count // 100):
            lines[number] = f"{lines[number].rsplit('  ', 1)[0]}  role{number % ROLES}"
        new = "\n".join(lines)
        sides = Side(bloodroot.parse(old), "old"), Side(bloodroot.parse(new), "new")
        return lambda: (bloodroot.parse(old), bloodroot.parse(new)), lambda: compare_sides(*sides)

    parse, run = made(10_000)
    _, half = made(5_000)
    times = best({"compile": parse, "compare": run, "half": half}, 3)
    report_ratio("compare, 10,000 lines, 100 of them changed", times["compare"] / times["compile"], 4.5)
    report_ratio("compare, 10,000 lines against 5,000", times["compare"] / times["half"], 2.3)


def show_help() -> None:
    """`bloodroot --help` against a bare Typer program with as many commands."""
    bare = "import typer\napp = typer.Typer(no_args_is_help=True)\n"
    names = [
        "demo",
        "draft",
        "survey",
        "check",
        "matrix",
        "roles",
        "members",
        "expect",
        "tried",
        "why",
        "compare",
        "probe",
        "ask",
        "seed",
        "token",
        "format",
        "export",
    ]
    for name in names:
        bare += f"@app.command('{name}')\ndef {name}_(name: str, wide: bool = False) -> None:\n    'A command.'\n"
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "bare.py"
        file.write_text(bare + "app()\n", "utf-8")

        def run(*words: str) -> Callable[[], Any]:
            return lambda: subprocess.run(words, stdout=subprocess.DEVNULL, check=True)

        program = str(Path(sys.executable).parent / "bloodroot")
        times = best({"floor": run(sys.executable, str(file), "--help"), "help": run(program, "--help")}, 15)
    report_ratio("bloodroot --help", times["help"] / times["floor"], 1.08)


SERVE = """
import asyncio, sys
sys.path.insert(0, {folder!r})
import applications, uvicorn

async def serve():
    how = {{"log_level": "critical", "lifespan": "off", "access_log": False, "http": "h11", "loop": "asyncio"}}
    apps = [applications.starlette(behind) for behind in (False, True)]
    await asyncio.gather(*(uvicorn.Server(uvicorn.Config(app, port=int(port), **how)).serve()
                           for app, port in zip(apps, sys.argv[1:])))

asyncio.run(serve())
"""


def served_by_uvicorn() -> None:
    """A Starlette application behind the policy against the application alone: both in one process, h11."""
    code = SERVE.format(folder=str(HERE))
    ports = free_ports(2)
    with processes([sys.executable, "-c", code, *map(str, ports)]):
        compare("Starlette under uvicorn (h11), 40 endpoints, roles and session", ports, 1.10)


def served_by_gunicorn() -> None:
    """A Flask and a Django application behind the policy against each alone, under gunicorn, over kept connections."""
    for name in ("flask", "django"):
        ports = free_ports(2)
        commands = []
        for behind, port in zip((False, True), ports, strict=True):
            make = f"applications:{name}({behind})"
            worker = ["--worker-class", "gthread", "--threads", "1", "--keep-alive", "30", "--log-level", "critical"]
            gunicorn = str(Path(sys.executable).parent / "gunicorn")
            commands.append([gunicorn, "--chdir", str(HERE), "--bind", f"127.0.0.1:{port}", *worker, make])
        with processes(*commands):
            compare(f"{name.capitalize()} under gunicorn, kept connection", ports, 1.08 if name == "flask" else 1.12)


def free_ports(count: int) -> list[int]:
    """Ports on loopback that nothing listens on."""
    with contextlib.ExitStack() as free:
        found = [free.enter_context(socket.socket()) for _ in range(count)]
        for each in found:
            each.bind(("127.0.0.1", 0))
        return [each.getsockname()[1] for each in found]


@contextlib.contextmanager
def processes(*commands: list[str], folder: Path | None = None) -> Iterator[None]:
    """Servers, ended by their process ids."""
    started = [subprocess.Popen(command, cwd=folder, stderr=subprocess.DEVNULL) for command in commands]
    try:
        yield
    finally:
        for each in started:
            each.terminate()
        for each in started:
            each.wait(10)


def compare(what: str, ports: list[int], most: float) -> None:
    """Ask the application alone and the one behind the policy in turns, over one kept connection each."""
    with contextlib.ExitStack() as lines:
        open_lines = [lines.enter_context(connected(port)) for port in ports]
        # Every caller signs in once, and then asks as its own.
        cookies = [sign_in(line) for line in open_lines]
        alone, behind = (asker(line, cookie) for line, cookie in zip(open_lines, cookies, strict=True))
        work = {"alone": alone, "behind": behind}
        times = best(work, 60)
    each = {app: time / ASKED * 1e6 for app, time in times.items()}
    report_ratio(what, times["behind"] / times["alone"], most)
    print(f"  {each['alone']:.0f} µs a request alone, {each['behind']:.0f} µs behind the policy")


ASKED = 200


def sign_in(line: socket.socket) -> bytes:
    line.sendall(b"POST /in?id=0 HTTP/1.1\r\nhost: x\r\ncontent-length: 0\r\n\r\n")
    answer = line.recv(4096)
    while not answer.endswith(b"seed"):
        answer += line.recv(4096)
    return (
        next(part for part in answer.split(b"\r\n") if part.lower().startswith(b"set-cookie:"))[11:]
        .split(b";")[0]
        .strip()
    )


def asker(line: socket.socket, cookie: bytes) -> Callable[[], None]:
    asked = []
    for place in range(ASKED):
        number = place * 20 % 40
        path = f"/area{number % 8}/things{number}/{place}"
        asked.append(f"GET {path} HTTP/1.1\r\nhost: x\r\ncookie: {cookie.decode()}\r\n\r\n".encode())

    def ask() -> None:
        for request in asked:
            line.sendall(request)
            answer = line.recv(4096)
            while not answer.endswith(b"seed"):
                answer += line.recv(4096)
            if not answer.startswith(b"HTTP/1.1 200"):
                raise SystemExit(answer.decode())

    return ask


def in_process() -> None:
    """A Flask application called in process, and all at an endpoint with a record condition and a loader."""
    for name, path, most in (
        ("flask", "/area0/things0/7", 1.18),
        ("starlette", "/plots/3", 1.4),
        ("flask", "/plots/3", 1.25),
        ("django", "/plots/3", 1.35),
    ):
        # Django has one project a process, so each application has its own.
        with contextlib.ExitStack() as stack:
            work = {}
            for behind in (False, True):
                command = [sys.executable, str(HERE / "in_process.py"), name, str(behind), path]
                process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
                stack.callback(process.wait)
                stack.callback(process.terminate)
                work["behind" if behind else "alone"] = process
            least = dict.fromkeys(work, float("inf"))
            for _ in range(60):
                for each, process in work.items():
                    assert process.stdin is not None and process.stdout is not None
                    print("go", file=process.stdin, flush=True)
                    least[each] = min(least[each], float(process.stdout.readline()))
        what = "a record condition and a loader" if "plots" in path else "40 endpoints, roles and session"
        report_ratio(f"{name.capitalize()} in process, {what}", least["behind"] / least["alone"], most)
        print(f"  {least['alone']:.0f} µs a request alone, {least['behind']:.0f} µs behind the policy")


def decision_service() -> None:
    """`serve` for a policy of 10,000 lines against a bare Starlette endpoint that answers a constant."""
    import serving

    folder, ports = serving.project(policy_text(10_000)), free_ports(2)
    with (
        processes([sys.executable, "-c", serving.SERVE, *map(str, ports)], folder=folder),
        contextlib.ExitStack() as open_lines,
    ):
        lines = [open_lines.enter_context(connected(port)) for port in ports]
        bare, service = (serving.asker(line, ROLES, 10_000) for line in lines)
        times = best({"bare": bare, "service": service}, 60)
        report_ratio("a question to serve, 10,000 lines", times["service"] / times["bare"], 1.3)
        each = {app: time / serving.ASKED * 1e6 for app, time in times.items()}
        print(f"  {each['bare']:.0f} µs a request for the constant, {each['service']:.0f} µs for the decision")
        print(
            f"  1,000 evaluations in one question: {serving.batch(lines[1], ROLES, 10_000) * 1e3:.0f} ms (at most 50)"
        )


def editor() -> None:
    """What an editor waits for in a file of 5,000 lines: milliseconds, as no floor would say more."""
    import asyncio

    import editing

    for name, seconds in asyncio.run(editing.answers(policy_text(5000), 6)).items():
        more = ", a quarter of a second of quiet included" if name == "mistakes" else " (at most 50)"
        print(f"lsp, 5,000 lines, {name}: {seconds * 1e3:.0f} ms{more}")


def recorded_requests() -> None:
    """`replay` of 100,000 lines: an audit log against `json.loads` of them, an access log against a bare pattern."""
    import replaying

    for name, floor, again, most in replaying.works(policy_text(1200), ROLES):
        times = best({"floor": floor, "replay": again}, 8)
        report_ratio(f"replay, 100,000 lines of {name}", times["replay"] / times["floor"], most)
        print(f"  {times['replay'] * 10:.1f} s for a million lines")


def probe_of_pages() -> None:
    """The probe, with plan, journal and verdicts, against httpx sending the same requests."""
    import probing

    ratio, count = probing.ratio('app = "probing:app"', "http://here", 5)
    report_ratio(f"probe in process, {count:,} requests", ratio, 1.2)
    with probing.served() as port:
        ratio, count = probing.ratio(f'url = "http://127.0.0.1:{port}"', f"http://127.0.0.1:{port}", 5)
        report_ratio(f"probe over HTTP, {count:,} requests", ratio, 1.25)


def connected(port: int) -> socket.socket:
    """A connection to a server that may still be starting."""
    for _ in range(1000):
        with contextlib.suppress(OSError):
            line = socket.create_connection(("127.0.0.1", port), 10)
            line.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            return line
        time.sleep(0.05)
    raise SystemExit("the server did not start")


def report_ratio(what: str, ratio: float, most: float) -> None:
    """One line of the result."""
    print(
        f"{what}: {ratio:.4f} × (at most {most:.4g})" if ratio < 0.1 else f"{what}: {ratio:.2f} × (at most {most:.4g})"
    )


MEASURES = {
    "decide": decide,
    "things": in_things,
    "compile": compile_policy,
    "matrix": matrix,
    "flags": flags,
    "growth": growth,
    "survey": survey_openapi_document,
    "check": check_policy,
    "compare": two_policies,
    "help": show_help,
    "uvicorn": served_by_uvicorn,
    "gunicorn": served_by_gunicorn,
    "process": in_process,
    "probe": probe_of_pages,
    "serve": decision_service,
    "replay": recorded_requests,
    "lsp": editor,
}

if __name__ == "__main__":
    for name in sys.argv[1:] or MEASURES:
        MEASURES[name]()
