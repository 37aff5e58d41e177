"""Who is calling, and the directory of members: as the settings say."""

from __future__ import annotations

from pathlib import Path

from bloodroot import identity
from bloodroot.settings import read_settings

FOLDER = Path(__file__).resolve().parent.parent

settings = read_settings(FOLDER / "bloodroot.toml")
directory = identity.directory_of(settings)
identify = identity.load(settings, directory)
