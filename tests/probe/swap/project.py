"""A project around the seed swap, in a temporary folder."""

import contextlib
import os
import socket
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

from tests.probe.swap import POLICY, SETTINGS
from tests.program import InFolder, alone

ROOT = Path(__file__).parents[3]
APPS = {"flask": "tests.probe.swap.flask_app:make()", "django": "tests.probe.swap.django_app:make()"}


@contextlib.contextmanager
def listening() -> Iterator[tuple[int, int]]:
    """A socket that listens, to be given to a server: its port and its descriptor. Who asks waits until it serves."""
    with socket.socket() as found:
        found.bind(("127.0.0.1", 0))
        found.listen(128)
        found.set_inheritable(True)
        yield found.getsockname()[1], found.fileno()


class SwapProject(InFolder):
    """A test with such a project."""

    runs = staticmethod(alone)

    def project(self, framework: str, app: str | None = None, **changes: str) -> dict[str, str]:
        """Write the project's files; gives the environment that its application wants."""
        slash = "/" if framework == "django" else ""
        text = SETTINGS.replace("SLASH", f"/sign-in{slash}").replace("LANDS", f"/desk{slash}").replace("MORE", "")
        text = text.replace("APP", app or APPS[framework])
        for before, after in changes.items():
            text = (
                text.replace(
                    *{
                        "reset": ('state = "tests.probe.swap:state"', ""),
                        "rollback": ('reset = "tests.probe.swap:reset"', 'reset = "rollback"'),
                    }[before]
                )
                if after == "yes"
                else text
            )
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", text)
        return {"PYTHONPATH": str(ROOT), "SWAP_DATABASE": str(self.folder / "swap.db"), "SWAP_PASSWORD": "fern"}

    @contextlib.contextmanager
    def served(self, framework: str, environment: dict[str, str]) -> Iterator[int]:
        """The application on loopback, in a process of its own."""
        with listening() as (port, descriptor):
            words = [sys.executable, "-m", "tests.probe.swap", framework, str(descriptor)]
            given = {"cwd": ROOT, "env": {**os.environ, **environment}, "stderr": subprocess.DEVNULL}
            process = subprocess.Popen(words, **given, pass_fds=[descriptor])
            try:
                yield port
            finally:
                process.kill()
                process.wait()

    def at(self, port: int) -> None:
        """Ask a running application, and know nothing of its routes."""
        file = self.folder / "bloodroot.toml"
        lines = [
            f'url = "http://127.0.0.1:{port}"' if line.startswith("app =") else line
            for line in file.read_text().splitlines()
        ]
        file.write_text("\n".join(lines))
