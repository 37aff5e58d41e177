"""What shells offer while a command is typed: real shells in a terminal of their own."""

import contextlib
import os
import pty
import re
import select
import shutil
import subprocess
import time

from tests.program import PROGRAM, InFolder

POLICY = """
roles
  member
  keeper  includes member
things
  studio {studio_id}
roles in studio
  editor
endpoints
  GET   /kilns              member
  POST  /kilns/{kiln_id}    keeper
  GET   /studios/{studio_id}  editor
"""
SETTINGS = '[personas.hazel]\nroles = ["keeper"]\n\n[personas.visitor]\nsigned_in = false\n'
# What is typed, and what the line is then.
OFFERED = (
    ("bloodroot why haz", "bloodroot why hazel "),
    ("bloodroot why keeper,mem", "bloodroot why keeper,member "),
    ('bloodroot why "editor in s', 'bloodroot why "editor in studio" '),
    ("bloodroot why hazel PO", "bloodroot why hazel POST "),
    ("bloodroot why hazel GET /st", "/studios/"),
    ("bloodroot matrix --only '/kilns/", "/kilns/{kiln_id}"),
    ("bloodroot probe --persona vi", "bloodroot probe --persona visitor "),
    ("bloodroot compare ma", "bloodroot compare main "),
    ("bloodroot check --only never-", "bloodroot check --only never-holds "),
)


class Terminal:
    """A shell in a terminal."""

    def __init__(self, shell: str, folder: str) -> None:
        self.process, self.terminal = pty.fork()
        if self.process == 0:
            environment = {
                "PATH": f"{PROGRAM.parent}:{os.environ['PATH']}",
                "TERM": "dumb",
                "HOME": folder,
                "PS1": "% ",
            }
            quiet = ["--norc", "--noprofile", "-i"] if shell == "bash" else ["-f", "-i"]
            os.chdir(folder)
            os.execvpe(shell, [shell, *quiet], environment)
        if shell == "zsh":
            self.typed("autoload -Uz compinit && compinit -u; echo be''gun\n", "begun")
        self.typed(
            f'eval "$(_BLOODROOT_COMPLETE=source_{shell} bloodroot)"; echo ready\n'.replace("ready", "re''ady"), "ready"
        )

    def typed(self, line: str, wanted: str, seconds: float = 60) -> str:
        """Type something, and say what is shown once that is there, or after some seconds."""
        os.write(self.terminal, line.encode())
        shown, ends = b"", time.monotonic() + seconds
        text = ""
        while time.monotonic() < ends and wanted not in text:
            if select.select([self.terminal], [], [], 0.1)[0]:
                shown += os.read(self.terminal, 65_536)
                text = re.sub(rb"\x1b\[[0-9;?]*[a-zA-Z]|\x07|\x08 ?", b"", shown).decode("utf-8", "replace")
        return text

    def close(self) -> None:
        os.close(self.terminal)
        with contextlib.suppress(ProcessLookupError):
            os.kill(self.process, 9)
        os.waitpid(self.process, 0)


class Shells(InFolder):
    def test_names_are_offered_in_bash_and_zsh(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", SETTINGS)
        for words in (("init", "-q", "-b", "main"), ("add", "-A"), ("commit", "-q", "-m", "x")):
            who = ("-c", "user.name=ash", "-c", "user.email=ash@kilnhouse.example")
            subprocess.run(["git", *who, *words], cwd=self.folder, check=True, capture_output=True)
        for shell in ("bash", "zsh"):
            if shutil.which(shell) is None:
                self.skipTest(f"{shell} is not installed; scripts/system-packages installs it")
            terminal = Terminal(shell, str(self.folder))
            self.addCleanup(terminal.close)
            for line, wanted in OFFERED:
                with self.subTest(f"{shell}: {line}"):
                    self.assertIn(wanted, terminal.typed(f"{line}\t", wanted))
                # Control-U takes the line away.
                terminal.typed("\x15", "nothing more", 0.3)

    def test_nothing_is_offered_where_nothing_can_be_read(self) -> None:
        self.write("access.bloodroot", "roles\n  member membr\n")
        environment = {"_BLOODROOT_COMPLETE": "complete_bash", "COMP_WORDS": "bloodroot why mem", "COMP_CWORD": "2"}
        self.assertEqual(self.installed(**environment).err, "")
