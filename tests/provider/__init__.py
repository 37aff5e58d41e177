"""An OpenID provider on loopback, as a program of its own: `provider.mjs` on Node, or `stand_in.py` without it."""

import contextlib
import json
import os
import shutil
import socket
import subprocess
import sys
import urllib.parse
import urllib.request
from collections.abc import Iterator
from pathlib import Path
from typing import Any

HERE = Path(__file__).parent
SECRET = "made up for tests, and for nothing else"
_OLDEST = 20


def _program() -> list[str]:
    """The real provider where it can run, else the stand-in."""
    node = shutil.which("node")
    if node is not None and (HERE / "node_modules" / "oidc-provider").is_dir() and not os.environ.get("STAND_IN"):
        version = subprocess.run([node, "--version"], capture_output=True, text=True, check=False).stdout
        if int(version.strip().removeprefix("v").split(".")[0] or 0) >= _OLDEST:
            return [node, str(HERE / "provider.mjs")]
    return [sys.executable, str(HERE / "stand_in.py")]


class Provider:
    """A provider that is running.

    Attributes:
        issuer: its address, without a slash at the end.
    """

    def __init__(self, port: int, program: subprocess.Popen[str]) -> None:
        self.issuer = f"http://127.0.0.1:{port}"
        self._program = program

    def tell(self, **wanted: Any) -> None:
        """Have it sign with new keys (``keys=True``), or be slow, gone or lie (``mode``)."""
        assert self._program.stdin is not None and self._program.stdout is not None
        self._program.stdin.write(json.dumps(wanted) + "\n")
        self._program.stdin.flush()
        assert self._program.stdout.readline().strip() == "done"

    def asked(self, path: str, **fields: str) -> dict[str, Any]:
        """What it answers to a form."""
        data = urllib.parse.urlencode({"client_secret": SECRET, **fields}).encode()
        with urllib.request.urlopen(f"{self.issuer}{path}", data, timeout=10) as response:
            found: dict[str, Any] = json.load(response)
        return found

    def token(self, name: str, of: str = "es", resource: str | None = None) -> str:
        """A token of a member, for the resource that is signed for by ES256 (``es``), RS256 (``rs``) or is opaque."""
        form = {"grant_type": "password", "client_id": "desk", "username": name, "password": "made up"}
        found = self.asked("/token", **form, resource=resource or f"https://kilnhouse.example/{of}")
        return str(found["access_token"])

    def machine_token(self, scope: str, of: str = "es") -> str:
        """A token of a machine."""
        form = {"grant_type": "client_credentials", "client_id": "gauge", "scope": scope}
        return str(self.asked("/token", **form, resource=f"https://kilnhouse.example/{of}")["access_token"])


@contextlib.contextmanager
def running(port: int = 0) -> Iterator[Provider]:
    """A provider on a port, by default a free one."""
    with socket.socket() as free:
        free.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        free.bind(("127.0.0.1", port))
        port = free.getsockname()[1]
    program = subprocess.Popen(
        [*_program(), str(port)],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.DEVNULL,
        text=True,
    )
    try:
        assert program.stdout is not None and program.stdout.readline().strip() == "ready"
        yield Provider(port, program)
    finally:
        program.kill()
        program.communicate()
