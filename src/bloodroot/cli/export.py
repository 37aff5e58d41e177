"""bloodroot export: a document of an API, names as Python, the tree as JSON."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from .options import ProjectFiles, with_options

app = typer.Typer(no_args_is_help=True, add_completion=False, help="Write what a policy says, for other programs.")

OutOption = Annotated[
    Path | None, typer.Option("--out", metavar="FILE", help="Write to this file; by default to standard output.")
]


@app.command("openapi")
@with_options()
def openapi(
    document: Annotated[Path, typer.Argument(metavar="DOCUMENT", help="An OpenAPI document, JSON or YAML.")],
    *,
    files: ProjectFiles,
    out: OutOption = None,
) -> None:
    """Fill security, requirements and the answers to refused callers into an OpenAPI document."""
    from ..exporting.documents_filled import filled
    from ..exporting.security import differing, operations
    from ..report.sheet import plural
    from ..survey.coverage import survey
    from ..survey.documents import survey_openapi
    from . import inputs, output

    rules = inputs.bound_project(files).policy
    surveyed = survey([survey_openapi(document)], rules)
    result = filled(document, operations(rules, surveyed))
    output.deliver_text(result.text, out)
    for note in (*surveyed.notes, *result.notes, *differing(surveyed)):
        typer.echo(f"note: {note}", err=True)
    closed = sum(1 for endpoint in surveyed.endpoints if endpoint.line is None)
    but = f"; {closed} of them covered by no line, and closed" if closed else ""
    typer.echo(f"{plural(result.operations, 'operation')} filled in{but}", err=True)


@app.command("names")
@with_options()
def names(files: ProjectFiles, out: OutOption = None) -> None:
    """Write the names of roles, permissions and endpoints as a typed Python module."""
    from ..exporting.python_names import python_names
    from . import inputs, output

    output.deliver_text(python_names(inputs.project_as_written(files, personas=False).policy), out)


@app.command("json")
@with_options()
def json_tree(files: ProjectFiles, out: OutOption = None) -> None:
    """Write the tree of a policy, with all that it includes, as JSON."""
    import json

    from ..language.data import to_data
    from . import inputs, output

    document = inputs.project_as_written(files, personas=False).tree
    output.deliver_text(f"{json.dumps(to_data(document), indent=2, ensure_ascii=False)}\n", out)
