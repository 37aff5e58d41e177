"""bloodroot replay: recorded requests decided once more."""

from __future__ import annotations

from typing import Annotated

import typer

from .options import ProjectFiles, with_options
from .output import JudgedDelivery, UsageError


@with_options("ReplayResult")
def replay(
    logs: Annotated[
        list[str],
        typer.Argument(metavar="LOG...", help="Access logs (common, combined, JSON) and audit logs, plain or gzip."),
    ],
    diff: Annotated[
        bool, typer.Option("--diff", help="Write the policy without what was never used, as a diff, and nothing else.")
    ] = False,
    dask: Annotated[bool, typer.Option("--dask", help="Count on a cluster of Dask, or by its workers here.")] = False,
    *,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """Decide the requests in logs once more: what would be refused or let in, and what was never used."""
    from ..replay.cluster import counting_on
    from ..replay.replaying import recipe_of, replay
    from . import inputs

    if diff and (shown.form is not None or shown.out is not None):
        raise UsageError("--diff is text for patch and git apply; leave out --format and --out")
    shown.check()
    settings = inputs.settings_of(files.settings)
    file = inputs.policy_file(files, settings)
    if not file.is_file():
        raise UsageError(f"{file} is no file; replay needs the policy as a file")
    recipe, document = recipe_of(file, settings)
    inputs.check_bound(recipe.policy)
    scheduler = settings.replay.scheduler if settings is not None else None
    count = counting_on(scheduler) if dask or scheduler is not None else None
    result = replay(recipe, document, logs, count)
    if diff:
        if result.tighter is None:
            raise UsageError(f"there is no diff: {result.no_diff}")
        typer.echo(result.tighter.diff, nl=False)
        return
    shown.deliver(result)
    shown.end(result.ending)
