"""bloodroot replay: recorded requests decided once more."""

from __future__ import annotations

from typing import Annotated

import typer

from .output import (
    Color,
    ColorOption,
    OutOption,
    PolicyOption,
    SettingsOption,
    UnjudgedOption,
    UsageError,
    format_option,
)


def replay(
    logs: Annotated[
        list[str],
        typer.Argument(metavar="LOG...", help="Access logs (common, combined, JSON) and audit logs, plain or gzip."),
    ],
    diff: Annotated[
        bool, typer.Option("--diff", help="Write the policy without what was never used, as a diff, and nothing else.")
    ] = False,
    dask: Annotated[bool, typer.Option("--dask", help="Count on a cluster of Dask, or by its workers here.")] = False,
    allow_unjudged: UnjudgedOption = False,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("ReplayResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Decide the requests in logs once more: what would be refused or let in, and what was never used."""
    from ..replay.cluster import counting_on
    from ..replay.replaying import recipe_of, replay
    from . import inputs, output

    if diff and (form is not None or out is not None):
        raise UsageError("--diff is text for patch and git apply; leave out --format and --out")
    output.check_out(form, out)
    file, project = inputs.chosen_policy(policy, settings)
    if not file.is_file():
        raise UsageError(f"{file} is no file; replay needs the policy as a file")
    recipe, document = recipe_of(file, project)
    inputs.check_bound(recipe.policy)
    scheduler = project.replay.scheduler if project is not None else None
    count = counting_on(scheduler) if dask or scheduler is not None else None
    result = replay(recipe, document, logs, count)
    if diff:
        if result.tighter is None:
            raise UsageError(f"there is no diff: {result.no_diff}")
        typer.echo(result.tighter.diff, nl=False)
        return
    output.deliver(result, form, out, color)
    output.end(result.ending, allow_unjudged=allow_unjudged)
