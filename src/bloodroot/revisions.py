"""Policies in revisions of a git repository, read by git's own command."""

from __future__ import annotations

import os
import posixpath
import subprocess
from dataclasses import dataclass
from pathlib import Path, PurePosixPath

from .files import decoded, unreadable
from .language.errors import BloodrootError

_PATIENCE = 60  # seconds


class RevisionError(BloodrootError):
    """A revision that cannot be read."""


@dataclass(frozen=True, slots=True)
class Revision:
    """The files of one revision; names are relative to the top of its repository.

    Attributes:
        top: the folder of the repository.
        name: the revision as it was named.
        commit: the commit that this is.
    """

    top: Path
    name: str
    commit: str

    def read(self, file: Path) -> str:
        """As `files.Files.read`."""
        name, path = self.name_of(file), _inside(file)
        if path is None:
            raise unreadable(name, "this is outside of the repository")
        # Links inside the revision are followed there; those that lead out of it are not.
        done = _git(self.top, "cat-file", "--batch", "--follow-symlinks", given=f"{self.commit}:{path}\n".encode())
        head, _, data = done.stdout.partition(b"\n")
        words = head.decode("utf-8", "replace").split(" ")
        if words[-1] == "missing":
            raise unreadable(name, "there is no such file in this revision")
        if len(words) != 3 or not words[2].isdecimal():
            raise unreadable(name, "this is a link that leads out of the revision, or nowhere")
        if words[1] != "blob":
            raise unreadable(name, "this is a folder, not a policy file")
        return decoded(name, data[: int(words[2])])

    def real(self, file: Path) -> Path:
        """As `files.Files.real`."""
        return Path(posixpath.normpath(file.as_posix()))

    def spelling_problem(self, real: Path) -> str:  # noqa: ARG002
        """As `files.Files.spelling_problem`."""
        return ""

    def root(self, real: Path) -> Path:  # noqa: ARG002
        """As `files.Files.root`: a revision has no more than its repository."""
        return Path()

    def name_of(self, file: Path) -> str:
        """As `files.Files.name_of`."""
        return f"{self.name}:{file.as_posix()}"


def _inside(file: Path) -> str | None:
    """A name inside the repository as git takes it; None for one that leads out of it."""
    path = posixpath.normpath(file.as_posix())
    return None if path.startswith(("/", "../")) or path == ".." or "\n" in path else path


def revision(name: str, near: Path) -> Revision | None:
    """A revision of the repository that a folder is in; None where it has none of this name.

    Args:
        name: a commit, a branch, a tag, or anything else that git takes for one.
        near: a folder in the repository.

    Raises:
        RevisionError: there is no repository, or git is not installed.
    """
    top = top_of(near)
    if not name or name.startswith("-") or "\n" in name or "\0" in name:
        return None
    done = _git(top, "rev-parse", "--verify", "--quiet", f"{name}^{{commit}}")
    commit = done.stdout.decode("ascii", "replace").strip()
    return Revision(top, name, commit) if done.returncode == 0 and commit.isalnum() else None


def names_of_revisions(near: Path) -> list[str]:
    """The branches and tags of the repository that a folder is in, the youngest first.

    Raises:
        RevisionError: there is no repository, or git is not installed.
    """
    top = top_of(near)
    wanted = ("--sort=-creatordate", "--format=%(refname:short)", "refs/heads", "refs/tags", "refs/remotes")
    done = _git(top, "for-each-ref", *wanted)
    return done.stdout.decode("utf-8", "replace").split()


def top_of(near: Path) -> Path:
    """The folder of the repository that a folder is in.

    Raises:
        RevisionError: there is none, or git is not installed.
    """
    done = _git(near, "rev-parse", "--show-toplevel")
    if done.returncode:
        words = done.stderr.decode("utf-8", "replace").strip().splitlines()
        said = words[0].removeprefix("fatal: ") if words else "git gives no reason"
        raise RevisionError(f"{near} is in no git repository that can be read: {said}")
    return Path(os.fsdecode(done.stdout.rstrip(b"\n")))


def place_in(revision: Revision, name: str, near: Path) -> Path:
    """Where a file is in a revision.

    Args:
        found: the revision.
        name: the name of the file; one that begins with ``./`` or ``../`` is looked for from the folder.
        near: the folder.
    """
    if not name.startswith(("./", "../")):
        return Path(name)
    here = PurePosixPath(Path(os.path.realpath(near)).relative_to(os.path.realpath(revision.top)).as_posix())
    return Path(posixpath.normpath((here / name).as_posix()))


def _git(folder: Path, *words: str, given: bytes | None = None) -> subprocess.CompletedProcess[bytes]:
    command = ["git", "-C", os.fspath(folder), *words]
    try:
        return subprocess.run(command, input=given or b"", capture_output=True, timeout=_PATIENCE, check=False)  # noqa: S603
    except FileNotFoundError as error:
        raise RevisionError("git is not installed, and revisions are read by it; name two files instead") from error
    except (OSError, subprocess.TimeoutExpired) as error:
        raise RevisionError(f"git could not be run in {folder}: {error}") from error
