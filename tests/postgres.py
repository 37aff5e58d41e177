"""A real PostgreSQL on loopback, in a folder of its own; started once, and ended with the tests."""

import atexit
import functools
import getpass
import itertools
import os
import shutil
import socket
import subprocess
import tempfile
import unittest
from pathlib import Path

import psycopg

_numbers = itertools.count(1)


def _programs() -> Path | None:
    found = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    if found:
        return found[-1].parent
    anywhere = shutil.which("initdb")
    return Path(anywhere).parent if anywhere else None


@functools.cache
def _server() -> str:
    """Start a server; its address, to be followed by the name of a database."""
    programs = _programs()
    if programs is None:
        if os.environ.get("CI"):
            raise AssertionError("PostgreSQL is missing; scripts/system-packages installs it")
        raise unittest.SkipTest("PostgreSQL is not installed; scripts/system-packages installs it")
    folder = Path(tempfile.mkdtemp(prefix="bloodroot-postgres-"))
    # PostgreSQL does not run as root.
    before = ["runuser", "-u", "postgres", "--"] if os.geteuid() == 0 else []
    who = "postgres" if before else getpass.getuser()
    if before:
        shutil.chown(folder, "postgres")
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]

    def run(program: str, *words: str) -> None:
        subprocess.run(
            [*before, str(programs / program), *words], cwd="/", check=True, stdout=subprocess.DEVNULL, timeout=120
        )

    data = str(folder / "data")
    run("initdb", "--pgdata", data, "--auth", "trust", "--username", who, "--encoding", "UTF8", "--no-sync")
    options = f"-c listen_addresses=127.0.0.1 -c port={port} -c unix_socket_directories={folder} -c fsync=off"
    run("pg_ctl", "start", "--pgdata", data, "--wait", "--log", str(folder / "log"), "--options", options)

    def stop() -> None:
        run("pg_ctl", "stop", "--pgdata", data, "--mode", "immediate")
        shutil.rmtree(folder, ignore_errors=True)

    atexit.register(stop)
    return f"{who}@127.0.0.1:{port}"


def new_database() -> str:
    """An empty database on a real server, as the URL that SQLAlchemy takes."""
    name = f"tarn{next(_numbers)}"
    with psycopg.connect(f"postgresql://{_server()}/postgres", autocommit=True) as connection:
        connection.execute(f"create database {name}")
    return f"postgresql+psycopg://{_server()}/{name}"
