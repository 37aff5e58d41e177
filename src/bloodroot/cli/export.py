"""bloodroot export: a document of an API, names as Python, the tree as JSON."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .output import PolicyOption, SettingsOption

app = typer.Typer(no_args_is_help=True, add_completion=False, help="Write what a policy says, for other programs.")

OutOption = Annotated[
    Path | None, typer.Option("--out", metavar="FILE", help="Write to this file; by default to standard output.")
]


@app.command("openapi")
def openapi(
    document: Annotated[Path, typer.Argument(metavar="DOCUMENT", help="An OpenAPI document, JSON or YAML.")],
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    out: OutOption = None,
) -> None:
    """Fill security, requirements and the answers to refused callers into an OpenAPI document."""
    from ..exporting.documents_filled import filled
    from ..exporting.security import differing, operations
    from ..report.sheet import plural
    from ..survey.coverage import survey
    from ..survey.documents import survey_openapi
    from . import inputs, output

    rules, _ = inputs.bound_project(policy, settings)
    surveyed = survey([survey_openapi(document)], rules)
    result = filled(document, operations(rules, surveyed))
    output.deliver_text(result.text, out)
    for note in (*surveyed.notes, *result.notes, *differing(surveyed)):
        typer.echo(f"note: {note}", err=True)
    closed = sum(1 for endpoint in surveyed.endpoints if endpoint.line is None)
    but = f"; {closed} of them covered by no line, and closed" if closed else ""
    typer.echo(f"{plural(result.operations, 'operation')} filled in{but}", err=True)


@app.command("names")
def names(policy: PolicyOption = None, settings: SettingsOption = None, out: OutOption = None) -> None:
    """Write the names of roles, permissions and endpoints as a typed Python module."""
    from ..exporting.python_names import python_names
    from . import inputs, output

    output.deliver_text(python_names(inputs.policy_as_written(policy, settings)[0]), out)


@app.command("json")
def json_tree(policy: PolicyOption = None, settings: SettingsOption = None, out: OutOption = None) -> None:
    """Write the tree of a policy, with all that it includes, as JSON."""
    import json

    from ..language.data import to_data
    from . import inputs, output

    document = inputs.policy_as_written(policy, settings)[1]
    output.deliver_text(f"{json.dumps(to_data(document), indent=2, ensure_ascii=False)}\n", out)
