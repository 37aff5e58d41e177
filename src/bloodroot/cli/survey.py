"""bloodroot survey: which endpoints there are, and the line that covers each."""

from __future__ import annotations

from .options import ProjectFiles, SourcesArgument, with_options
from .output import JudgedDelivery


@with_options("SurveyResult")
def survey(
    sources: SourcesArgument = None,
    *,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """List every endpoint of an application, the line that covers each, and those that no line covers."""
    from ..survey.coverage import survey as held_together
    from ..survey.gathering import gather
    from ..survey.kept_endpoints import keep_endpoints
    from . import inputs

    shown.check()
    settings = inputs.settings_of(files.settings)
    rules = inputs.policy_if_any(files, settings, sources or [])
    result = held_together(gather(*inputs.sources_of(sources or [], settings)), rules)
    if settings is not None:
        keep_endpoints(settings.folder, result)
    shown.deliver(result)
    shown.end(result.ending)
