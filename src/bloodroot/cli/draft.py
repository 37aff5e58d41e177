"""bloodroot draft: a first policy from a survey, everything closed."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .output import SettingsOption, SourcesArgument, UsageError


def draft(
    sources: SourcesArgument = None,
    update: Annotated[
        bool,
        typer.Option("--update", help="Add lines for endpoints without one; touch nothing else."),
    ] = False,
    name: Annotated[str | None, typer.Option("--name", metavar="NAME", help="What to call the policy.")] = None,
    out: Annotated[
        Path | None, typer.Option("--out", metavar="FILE", help="The policy file; by default access.bloodroot.")
    ] = None,
    settings: SettingsOption = None,
) -> None:
    """Write a first policy with a line for every endpoint, everything closed, ready to fill in."""
    from ..core.compiler import parse
    from ..files import read_text
    from ..report.sheet import plural
    from ..settings import find_settings, read_settings
    from ..survey import drafting
    from ..survey.coverage import survey
    from ..survey.gathering import gather
    from ..writing import write_text
    from . import inputs

    file = settings or find_settings()
    project = read_settings(file) if file is not None else None
    names, folder = inputs.sources_of(sources or [], project)
    policy = out or (inputs.shown(project.policy) if project is not None else Path("access.bloodroot"))
    if update:
        if not policy.exists():
            raise UsageError(f"there is no {policy} to update; leave --update out")
        rules, _ = inputs.project_if_any(policy, settings, sources=names)
        text, count = drafting.update(read_text(policy), survey(gather(names, folder), rules))
        if count:
            write_text(policy, text)
        added = f"{policy}: {plural(count, 'line')} added, for nobody yet; say who may use them"
        typer.echo(added if count else f"{policy} covers every endpoint")
        return
    if policy.exists():
        raise UsageError(f"{policy} is there already; --update adds new endpoints to it, --out names another file")
    result = survey(gather(names, folder), None)
    text = drafting.draft(result, name or Path.cwd().name)
    # Anything that cannot be read would be a fault of ours.
    parse(text, str(policy))
    write_text(policy, text)
    guarded = sum(drafting.requirement_of(row) == "guarded" for row in result.endpoints)
    but = f" but for {guarded} that their guards decide" if guarded else ""
    typer.echo(f"wrote {policy}: {plural(len(result.endpoints), 'endpoint')}, all of them closed{but}")
    if project is None:
        apps = [name for name in names if ":" in name and not Path(name).exists()]
        documents = [name for name in names if name.endswith((".json", ".yaml", ".yml"))]
        templates = [row.endpoint.template for row in result.endpoints]
        made = Path("bloodroot.toml")
        first = apps[0] if apps else None
        write_text(made, drafting.skeleton(first, documents[0] if documents else None, str(policy), templates))
        typer.echo(f"wrote {made}: a persona for each role, and the parameters that need values")
    typer.echo("Next: say under roles who there is, under permissions who may do what; then bloodroot matrix.")
