"""bloodroot survey: which endpoints there are, and the line that covers each."""

from __future__ import annotations

from typing import Annotated

from .output import (
    Color,
    ColorOption,
    OutOption,
    PolicyOption,
    SettingsOption,
    SourcesArgument,
    UnjudgedOption,
    format_option,
)


def survey(
    sources: SourcesArgument = None,
    allow_unjudged: UnjudgedOption = False,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("SurveyResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """List every endpoint of an application, the line that covers each, and those that no line covers."""
    from ..survey.coverage import survey as held_together
    from ..survey.gathering import gather
    from ..survey.kept_endpoints import keep_endpoints
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.project_if_any(policy, settings, sources=sources or [])
    names, folder = inputs.sources_of(sources or [], project)
    result = held_together(gather(names, folder), rules)
    if project is not None:
        keep_endpoints(project.folder, result)
    output.deliver(result, form, out, color)
    output.end(result.ending, allow_unjudged=allow_unjudged)
