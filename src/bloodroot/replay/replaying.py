"""Logs against a policy: what would be otherwise, what depends, and what was never used."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ..endings import Ending
from ..language import tree
from ..survey.log_lines import LogError, Part, parts_of
from .counted import Counted, Difference, Redecided, Times
from .partitions import Recipe, Texts, counted_here
from .tightened import Tighter, tightened
from .unused_access import Unused, unused

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..settings import Settings

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
        tighter: the policy without it; None where there is nothing to leave out, or where it could not be shown that
            the policy without it opens nothing.
    """

    policy: Policy
    logs: tuple[str, ...]
    counted: Counted
    differences: tuple[tuple[Difference, Times], ...]
    unused: Unused | None
    tighter: Tighter | None

    @property
    def ending(self) -> Ending:
        """Whether all would be as it was, for every request.

        Not judged is what depends on something else, who is not known, and an answer that does not say what it is.
        """
        if self.times(Redecided.REFUSED) or self.times(Redecided.LET_IN):
            return Ending.FOUND
        counted = self.counted
        left = counted.unread or counted.unknown or counted.untold or self.times(Redecided.DEPENDS)
        return Ending.UNJUDGED if left else Ending.WELL

    @property
    def no_diff(self) -> str:
        """Why there is no tighter policy; an empty string where there is one."""
        if self.tighter is not None:
            return ""
        if self.unused is None:
            return "no request was let in for sure, so that nothing is said of what was never used"
        if self.unused.lines or self.unused.grants:
            return "it could not be shown that the policy without what was never used lets no one in anew"
        return "no line and no grant is without use"

    def times(self, now: Redecided) -> int:
        """How many requests would become this."""
        return sum(times.count for difference, times in self.differences if difference.now is now)


class PreparedReplay(NamedTuple):
    """What decides.

    Attributes:
        recipe: as plain data.
        document: the policy as a tree.
    """

    recipe: Recipe
    document: tree.Document


def recipe_of(policy: Path, settings: Settings | None) -> PreparedReplay:
    """What decides, as plain data, and the tree of the policy.

    Args:
        policy: the file of the policy.
        settings: the settings, or None.

    Raises:
        PolicyError: the policy cannot be used.
        SettingsError: a line names an action, and there is no application to find it in.
    """
    from ..files import load_from, repository_of
    from ..survey.applications import bound

    files, file = Texts(), policy.absolute()
    root = settings.root if settings is not None else None
    rules, document = load_from(files, file, root)
    # Where the texts are read elsewhere there may be no repository to find the folder by.
    folder = str((root or repository_of(file) or file.parent).absolute())
    made = Recipe(str(file), str(Path.cwd()), files.texts, folder)
    if settings is None:
        return PreparedReplay(made, document)
    binds = bound(rules, settings) is not rules
    needed = str(settings.file.absolute()) if binds or settings.directory is not None else None
    return PreparedReplay(
        replace(made, settings=needed, binds=binds, fields=settings.replay.fields, actions=settings.serve.actions),
        document,
    )


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
    order = list(Redecided)
    differences = sorted(
        counted.differences.items(), key=lambda each: (order.index(each[0].now), -each[1].count, str(each[0]))
    )
    return ReplayResult(policy, tuple(logs), counted, tuple(differences), found, tighter)
