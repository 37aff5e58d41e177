"""Parts of logs, each counted by itself, on the cores of one machine or of many."""

from __future__ import annotations

import dataclasses
from collections.abc import Callable, Mapping
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, field
from functools import cached_property
from multiprocessing import get_context
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..files import Disk, load_from
from ..settings import Settings, read_settings
from ..survey.log_lines import Part, lines_of
from .counted import Counted
from .deciding_again import Redecider
from .recorded import Reader

if TYPE_CHECKING:
    from ..core.policy import Policy


class Texts(Disk):
    """Files whose text is kept, or given: the policy can be read where its files are not.

    Args:
        texts: what is known, by absolute names.
        folder: where names in messages begin, by default the present one.

    Attributes:
        texts: all that was read.
    """

    def __init__(self, texts: Mapping[str, str] | None = None, folder: Path | None = None) -> None:
        self.texts: dict[str, str] = dict(texts or {})
        self._folder = folder or Path.cwd()

    def name_of(self, file: Path) -> str:
        """As `Disk.name_of`: from one folder, wherever it is read."""
        return str(file.relative_to(self._folder)) if file.is_relative_to(self._folder) else str(file)

    def read(self, file: Path) -> str:
        """As `Disk.read`."""
        name = str(file.absolute())
        if name not in self.texts:
            self.texts[name] = super().read(file)
        return self.texts[name]


@dataclass(frozen=True)
class Recipe:
    """What another process needs to count a part, as plain data.

    Attributes:
        file: the policy.
        folder: where names in messages begin.
        texts: its text, and that of all that it includes, by name.
        root: the folder that what it includes must be in, or None.
        settings: the settings, where routes or members are read by them; else None.
        binds: whether the policy is bound to the routes of the settings' application.
        fields: where the parts of JSON access logs are.
        actions: names of actions as askers of the decision service have them.
    """

    file: str
    folder: str
    texts: Mapping[str, str]
    root: str | None = None
    settings: str | None = None
    binds: bool = False
    fields: Mapping[str, str] = field(default_factory=dict)
    actions: Mapping[str, str] = field(default_factory=dict)

    def __getstate__(self) -> dict[str, Any]:
        # A policy that was made of it cannot be sent.
        return {each.name: getattr(self, each.name) for each in dataclasses.fields(self)}

    @cached_property
    def policy(self) -> Policy:
        """The policy."""
        root = Path(self.root) if self.root is not None else None
        policy = load_from(Texts(self.texts, Path(self.folder)), Path(self.file), root).policy
        if not self.binds or self._project is None:
            return policy
        from ..survey.applications import bound

        return bound(policy, self._project)

    @cached_property
    def _project(self) -> Settings | None:
        return read_settings(Path(self.settings)) if self.settings is not None else None

    def users(self) -> Callable[[str], tuple[str, ...] | None] | None:
        """What finds the members of the directory; None where there is none."""
        if self._project is None or self._project.directory is None:
            return None
        from .members_found import Members

        return Members(self._project)

    def redecider(self) -> Redecider:
        """What decides."""
        return Redecider(self.policy, self.users())


def count_part(recipe: Recipe, part: Part) -> Counted:
    """What a part comes to.

    Raises:
        LogError: it cannot be read.
    """
    again = recipe.redecider()
    again.count(lines_of(part), Reader(recipe.fields, recipe.actions))
    return again.counted


def counted_here(recipe: Recipe, parts: list[Part], processes: int) -> Counted:
    """All parts, counted by processes of this machine.

    Raises:
        LogError: a log cannot be read.
    """
    if len(parts) <= 1 or processes <= 1:
        again = recipe.redecider()
        reader = Reader(recipe.fields, recipe.actions)
        for part in parts:
            again.count(lines_of(part), reader)
        return again.counted
    found = Counted()
    with ProcessPoolExecutor(min(processes, len(parts)), get_context("spawn"), _begin, (recipe,)) as pool:
        for counted in pool.map(_count, parts):
            found.add(counted)
    return found


_here: dict[str, Any] = {}


def _begin(recipe: Recipe) -> None:
    """Keep the recipe in a process that counts many parts: its policy is compiled once."""
    _here["recipe"] = recipe


def _count(part: Part) -> Counted:
    return count_part(_here["recipe"], part)
