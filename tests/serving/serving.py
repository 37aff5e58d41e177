"""What tests of the decision service share."""

import contextlib
import os
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from typing import Any

import httpx

from tests.program import PROGRAM, InFolder

SECRETS = {"TOKEN_KEY": "t" * 40, "DESK": "d" * 40, "OTHER": "o" * 40}
ANYONE = {"type": "anonymous", "id": "-"}


def free_port() -> int:
    """A port of this machine that nothing listens on."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port: int = free.getsockname()[1]
        return port


def user(name: str = "ash", *roles: str) -> dict[str, Any]:
    return {"type": "user", "id": name, **({"properties": {"roles": list(roles)}} if roles else {})}


def at(path: str) -> dict[str, Any]:
    return {"type": "endpoint", "id": path}


class Serving(InFolder):
    """A test that asks the installed decision service."""

    @contextlib.contextmanager
    def serving(self, *words: str, **environment: str) -> Iterator[httpx.Client]:
        port = free_port()
        command = [str(PROGRAM), "serve", "--port", str(port), *words]
        here = {**os.environ, **SECRETS, **environment}
        with subprocess.Popen(command, cwd=self.folder, env=here, stderr=subprocess.PIPE, text=True) as program:
            try:
                with httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60, trust_env=False) as client:
                    for _ in range(1200):
                        with contextlib.suppress(httpx.HTTPError):
                            client.get("/health")
                            break
                        self.assertIsNone(program.poll())
                        time.sleep(0.05)
                    yield client
            finally:
                program.terminate()
                program.communicate(timeout=20)

    def asked(self, client: httpx.Client, body: Any, who: str = "DESK", of: str = "evaluation") -> httpx.Response:
        return client.post(f"/access/v1/{of}", json=body, headers={"Authorization": f"Bearer {SECRETS[who]}"})

    def python(self, text: str) -> None:
        """Run a program in the folder."""
        subprocess.run([sys.executable, "-c", text], cwd=self.folder, check=True)

    def wait_until(self, holds: Callable[[], bool]) -> None:
        """Wait for something that takes a while."""
        deadline = time.monotonic() + 60
        while not holds():
            self.assertLess(time.monotonic(), deadline, "it has not come about")
            time.sleep(0.1)
