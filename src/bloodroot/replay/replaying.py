"""Logs against a policy: what would be otherwise, what depends, and what was never used."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from ..endings import Ending
from ..language import tree
from .counted import Counted, Difference, Now, Times
from .partitions import LogError, Part, Recipe, Texts, counted_here, parts_of
from .tightened import Tighter, tightened
from .unused_access import Unused, unused

if TYPE_CHECKING:
    from ..core.lines import Line
    from ..core.policy import Policy

Counting = Callable[[Recipe, list[Part]], Counted]


@dataclass(frozen=True, slots=True)
class ReplayResult:
    """What recorded requests say of a policy.

    Attributes:
        policy: the policy.
        logs: the logs, as they were named.
        counted: what they come to.
        differences: what would be refused, and then what would be let in, each the most frequent first; then what
            depends.
        unused: what was never used; None where no request was let in for sure.
        tighter: the policy without it; None where there is nothing to leave out.
    """

    policy: Policy
    logs: tuple[str, ...]
    counted: Counted
    differences: tuple[tuple[Difference, Times], ...]
    unused: Unused | None
    tighter: Tighter | None

    @property
    def ending(self) -> Ending:
        """Whether all would be as it was, for every request: what depends on something else was not judged."""
        if self.times(Now.REFUSED) or self.times(Now.LET_IN):
            return Ending.FOUND
        left = self.counted.unread or self.counted.unknown or self.times(Now.DEPENDS)
        return Ending.UNJUDGED if left else Ending.WELL

    def times(self, now: Now) -> int:
        """How many requests would become this."""
        return sum(times.count for difference, times in self.differences if difference.now is now)

    def line(self, at: str) -> Line | None:
        """The line at a place."""
        return next((line for line in self.policy.endpoints if line.place.at == at), None)


def recipe_of(
    policy: Path,
    root: Path | None,
    settings: Path | None,
    *,
    binds: bool,
    fields: Mapping[str, str],
    actions: Mapping[str, str],
) -> Recipe:
    """What decides, as plain data.

    Args:
        policy: the file of the policy.
        root: the folder that what it includes must be in, or None.
        settings: the settings, where routes or members are read by them; else None.
        binds: whether the policy is bound to the routes of the settings' application.
        fields: where the parts of JSON access logs are.
        actions: names of actions as askers of the decision service have them.

    Raises:
        PolicyError: the policy cannot be used.
    """
    from ..files import load_from, repository_of

    files, file = Texts(), policy.absolute()
    load_from(files, file, root)
    # Where the texts are read elsewhere there may be no repository to find the folder by.
    root = (root or repository_of(file) or file.parent).absolute()
    settings_name = str(settings.absolute()) if settings is not None else None
    return Recipe(str(file), str(Path.cwd()), files.texts, str(root), settings_name, binds, fields, actions)


def replay(recipe: Recipe, document: tree.Document, logs: Sequence[str], count: Counting | None = None) -> ReplayResult:
    """Decide what logs record once more.

    Args:
        recipe: what decides.
        document: the tree of the policy.
        logs: files, or names that fsspec takes, as in ``s3://logs/access.log``.
        count: what counts the parts of the logs; by default the processes of this machine.

    Raises:
        LogError: a log cannot be read, or no line of it records a request.
    """
    parts = parts_of(logs)
    counted = count(recipe, parts) if count is not None else counted_here(recipe, parts, os.cpu_count() or 1)
    if not counted.requests:
        raise LogError(
            f"{', '.join(logs)}: no line records a request; an access log is in the common, the combined or a JSON "
            "format, and an audit log as bloodroot.enforce.JsonLines writes it"
        )
    policy = recipe.policy
    found = unused(policy, document, counted)
    tighter = None
    if found is not None:
        tighter = tightened(
            policy,
            found,
            Path(recipe.folder),
            dict(recipe.texts),
            lambda texts: replace(recipe, texts=texts).policy,
        )
    order = list(Now)
    differences = sorted(
        counted.differences.items(), key=lambda each: (order.index(each[0].now), -each[1].count, str(each[0]))
    )
    return ReplayResult(policy, tuple(logs), counted, tuple(differences), found, tighter)
