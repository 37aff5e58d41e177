"""The examples to run, to read and to break: Fernhollow Seed Bank, and Kilnhouse, a cooperative with tenants."""

from __future__ import annotations

import secrets
import shutil
from dataclasses import dataclass
from pathlib import Path

_FOLDER = Path(__file__).parent


@dataclass(frozen=True, slots=True)
class Example:
    """One of the examples.

    Attributes:
        name: what it is called.
        files: the folder that it is copied from.
        package: the package of its application; the version with holes in it is its module ``faulty``.
        secrets: the environment variables that are made for each copy.
        mistakes: how many mistakes the version with holes has, in words.
    """

    name: str
    files: Path
    package: str
    secrets: tuple[str, ...]
    mistakes: str


SEED_BANK = Example(
    "Fernhollow Seed Bank", _FOLDER / "files", "seedbank", ("SEEDBANK_PASSWORD", "SEEDBANK_KEY"), "five mistakes"
)
COOPERATIVE = Example(
    "Kilnhouse Pottery Cooperative",
    _FOLDER / "tenants",
    "kilnhouse",
    ("KILNHOUSE_PASSWORD", "KILNHOUSE_KEY"),
    "four mistakes",
)


def write_demo(folder: Path, *, faulty: bool, example: Example = SEED_BANK) -> list[Path]:
    """Write the example's files to a folder, with passwords and keys made for this folder alone.

    Args:
        folder: made where it is missing.
        faulty: have the settings name the application with holes in it.
        example: which one.

    Returns:
        The files written, in order.

    Raises:
        FileExistsError: the folder has a file of one of these names, which is left as it is.
    """
    files = example.files
    wanted = sorted(
        path.relative_to(files) for path in files.rglob("*") if path.is_file() and "__pycache__" not in path.parts
    )
    wanted.append(Path("secrets.env"))
    for name in wanted:
        if (folder / name).exists():
            raise FileExistsError(17, "this file is there already; name an empty or a new folder", str(folder / name))
    for name in wanted[:-1]:
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(files / name, folder / name)
    if faulty:
        settings, app = folder / "bloodroot.toml", f"{example.package}.app:app"
        settings.write_text(settings.read_text("utf-8").replace(app, app.replace(".app:", ".faulty:")), "utf-8")
    made = folder / "secrets.env"
    made.touch(mode=0o600)
    made.write_text("".join(f"{name}={secrets.token_urlsafe(24)}\n" for name in example.secrets), "utf-8")
    return [folder / name for name in wanted]
