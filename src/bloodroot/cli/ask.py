"""bloodroot ask: one request to the application as one persona, beside what is declared."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from . import completing
from .options import HostOption, ProjectFiles, with_options
from .output import JudgedDelivery, UsageError, without_application_output

if TYPE_CHECKING:
    from ..probe.asking import AskedRequest
    from ..settings import Persona, Settings

_TYPES = {".json": "application/json", ".form": "application/x-www-form-urlencoded", ".txt": "text/plain"}


@dataclass(frozen=True)
class Content:
    """What is sent.

    Attributes:
        body: the file with the body; None for what the settings have.
        header: headers, each a name, a colon and a value.
    """

    body: Annotated[
        Path | None,
        typer.Option(
            "--body", metavar="FILE", help="What to send; by default the body that the settings have for this endpoint."
        ),
    ] = None
    header: Annotated[
        list[str], typer.Option("--header", metavar="'NAME: VALUE'", help="A header to send; repeatable.")
    ] = field(default_factory=list)


@dataclass(frozen=True)
class AskTarget:
    """What is asked, and as whom.

    Attributes:
        who: a persona, or ``signed-out``.
        method: the method, in any case of letters.
        path: the path, with its query.
    """

    who: Annotated[
        str,
        typer.Argument(
            metavar="WHO", help="A persona, or signed-out.", autocompletion=completing.words(completing.caller)
        ),
    ]
    method: Annotated[str, typer.Argument(metavar="METHOD", autocompletion=completing.words(completing.method))]
    path: Annotated[
        str,
        typer.Argument(
            metavar="PATH", help="The path, with its query.", autocompletion=completing.words(completing.path)
        ),
    ]


@with_options("AskResult")
def ask(
    asked: AskTarget,
    content: Content,
    *,
    curl: Annotated[
        bool, typer.Option("--curl", help="Print the command lines that send the request; nothing is sent.")
    ] = False,
    hosts: HostOption = None,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """Send one request to the application as a persona, and show the answer beside what is declared."""
    from ..probe.asking import ask as run
    from ..probe.asking import lines_to_ask
    from . import inputs

    shown.check()
    project = inputs.bound_project(files)
    settings, who, method = project.needed_settings, asked.who, asked.method.upper()
    inputs.check_request(method, asked.path, project.policy)
    persona = _persona(who, inputs.with_members(settings, [who] if who in settings.personas else []) or settings)
    request = _request(persona, method, asked.path, content)
    if curl:
        file = str(content.body) if content.body is not None else None
        typer.echo("\n".join(lines_to_ask(project.policy, settings, request, file)))
        return
    with without_application_output():
        result = run(project.policy, settings, request, hosts or ())
    shown.deliver(result)
    shown.end(result.ending)


def _persona(who: str, settings: Settings) -> Persona:
    from ..language.problems import suggestion
    from ..settings import Persona

    if who == "signed-out" and who not in settings.personas:
        return Persona(who, signed_in=False)
    if who not in settings.personas:
        guess = suggestion(who, settings.personas) or f"; personas are {', '.join(settings.personas) or 'none yet'}"
        raise UsageError(f'unknown persona "{who}"{guess}')
    return settings.personas[who]


def _request(persona: Persona, method: str, path: str, content: Content) -> AskedRequest:
    """The request that options describe."""
    from ..probe.asking import AskedRequest

    found: dict[str, str] = {}
    for header in content.header:
        name, colon, value = header.partition(":")
        if not colon or not name.strip() or not header.isprintable():
            raise UsageError(f'--header "{header}": write a name, a colon and a value, as in "Accept: text/html"')
        found[name.strip().lower()] = value.strip()
    if (body := content.body) is None:
        return AskedRequest(persona, method, path, headers=found)
    kind = _TYPES.get(body.suffix.lower())
    if "content-type" not in found and kind is not None:
        found["content-type"] = kind
    return AskedRequest(persona, method, path, body.read_bytes(), found)
