"""Fernhollow Seed Bank: a full example to run, to read and to break."""

from __future__ import annotations

import secrets
import shutil
from pathlib import Path

FILES = Path(__file__).parent / "files"


def write_demo(folder: Path, *, faulty: bool) -> list[Path]:
    """Write the example's files to a folder, with passwords and keys made for this folder alone.

    Args:
        folder: made where it is missing.
        faulty: have the settings name the application with holes in it.

    Returns:
        The files written, in order.

    Raises:
        FileExistsError: the folder has a file of one of these names, which is left as it is.
    """
    wanted = sorted(
        path.relative_to(FILES) for path in FILES.rglob("*") if path.is_file() and "__pycache__" not in path.parts
    )
    wanted.append(Path("secrets.env"))
    for name in wanted:
        if (folder / name).exists():
            raise FileExistsError(17, "this file is there already; name an empty or a new folder", str(folder / name))
    for name in wanted[:-1]:
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        shutil.copyfile(FILES / name, folder / name)
    if faulty:
        settings = folder / "bloodroot.toml"
        settings.write_text(settings.read_text("utf-8").replace("seedbank.app:app", "seedbank.faulty:app"), "utf-8")
    made = folder / "secrets.env"
    made.touch(mode=0o600)
    made.write_text(
        f"SEEDBANK_PASSWORD={secrets.token_urlsafe(12)}\nSEEDBANK_KEY={secrets.token_urlsafe(32)}\n", "utf-8"
    )
    return [folder / name for name in wanted]
