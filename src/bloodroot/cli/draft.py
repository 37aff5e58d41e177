"""bloodroot draft: a first policy from a survey, everything closed."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from .options import ProjectFiles, SettingsOption, SourcesArgument
from .output import UsageError

if TYPE_CHECKING:
    from ..settings import Settings
    from ..survey.coverage import SurveyResult
    from .inputs import Sources


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
    from . import inputs

    project = inputs.settings_of(settings)
    surveyed = inputs.sources_of(sources or [], project)
    policy = out or inputs.usual_policy(project)
    if update:
        _update(policy, project, settings, surveyed)
        return
    if policy.exists():
        raise UsageError(f"{policy} is there already; --update adds new endpoints to it, --out names another file")
    result = _draft(policy, name or Path.cwd().name, surveyed)
    if project is None:
        _write_settings(policy, surveyed.names, result)
    typer.echo("Next: say under roles who there is, under permissions who may do what; then bloodroot matrix.")


def _update(policy: Path, project: Settings | None, settings: Path | None, surveyed: Sources) -> None:
    """Add lines for what a policy does not cover."""
    from ..files import read_text
    from ..report.sheet import plural
    from ..survey.coverage import survey
    from ..survey.drafting import update
    from ..survey.gathering import gather
    from ..writing import write_text
    from . import inputs

    if not policy.exists():
        raise UsageError(f"there is no {policy} to update; leave --update out")
    rules = inputs.policy_if_any(ProjectFiles(policy, settings), project, surveyed.names)
    updated = update(read_text(policy), survey(gather(*surveyed), rules))
    if updated.added:
        write_text(policy, updated.text)
    added = f"{policy}: {plural(updated.added, 'line')} added, for nobody yet; say who may use them"
    typer.echo(added if updated.added else f"{policy} covers every endpoint")


def _draft(policy: Path, name: str, surveyed: Sources) -> SurveyResult:
    """Write a first policy, and say of how many lines."""
    from ..core.compiler import parse
    from ..report.sheet import plural
    from ..survey import drafting
    from ..survey.coverage import survey
    from ..survey.gathering import gather
    from ..writing import write_text

    result = survey(gather(*surveyed), None)
    text = drafting.draft(result, name)
    # Anything that cannot be read would be a fault of ours.
    parse(text, str(policy))
    write_text(policy, text)
    guarded = sum(drafting.requirement_of(row) == "guarded" for row in result.endpoints)
    but = f" but for {guarded} that their guards decide" if guarded else ""
    typer.echo(f"wrote {policy}: {plural(len(result.endpoints), 'endpoint')}, all of them closed{but}")
    return result


def _write_settings(policy: Path, names: list[str], result: SurveyResult) -> None:
    """Write settings to start from."""
    from ..survey.drafting import skeleton
    from ..writing import write_text

    app = next((name for name in names if ":" in name and not Path(name).exists()), None)
    document = next((name for name in names if name.endswith((".json", ".yaml", ".yml"))), None)
    made = Path("bloodroot.toml")
    write_text(made, skeleton(app, document, str(policy), [row.endpoint.template for row in result.endpoints]))
    typer.echo(f"wrote {made}: a persona for each role, and the parameters that need values")
