"""bloodroot ask: one request to the application as one persona, beside what is declared."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from . import completing
from .output import (
    Color,
    ColorOption,
    HostOption,
    OutOption,
    PolicyOption,
    SettingsOption,
    UnjudgedOption,
    UsageError,
    format_option,
    without_application_output,
)

if TYPE_CHECKING:
    from ..probe.asking import Sent
    from ..settings import Persona, Settings

_TYPES = {".json": "application/json", ".form": "application/x-www-form-urlencoded", ".txt": "text/plain"}


def ask(
    who: Annotated[
        str,
        typer.Argument(
            metavar="WHO", help="A persona, or signed-out.", autocompletion=completing.words(completing.caller)
        ),
    ],
    method: Annotated[str, typer.Argument(metavar="METHOD", autocompletion=completing.words(completing.method))],
    path: Annotated[
        str,
        typer.Argument(
            metavar="PATH", help="The path, with its query.", autocompletion=completing.words(completing.path)
        ),
    ],
    body: Annotated[
        Path | None,
        typer.Option("--body", metavar="FILE", help="What to send; by default what [bodies] of the settings has."),
    ] = None,
    header: Annotated[
        list[str] | None, typer.Option("--header", metavar="'NAME: VALUE'", help="A header to send; repeatable.")
    ] = None,
    curl: Annotated[
        bool, typer.Option("--curl", help="Print the command lines that send the request; nothing is sent.")
    ] = False,
    allow_unjudged: UnjudgedOption = False,
    hosts: HostOption = None,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("AskResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Send one request to the application as a persona, and show the answer beside what is declared."""
    from ..probe.asking import ask as run
    from ..probe.asking import curl_lines
    from . import inputs, output

    output.check_out(form, out)
    rules, project = inputs.bound_project(policy, settings)
    if project is None:
        raise UsageError("there are no settings; write bloodroot.toml, or name one with --settings")
    inputs.check_request(method.upper(), path, rules)
    persona = _persona(who, inputs.with_members(project, [who] if who in project.personas else []) or project)
    sent = _sent(body, header or [])
    if curl:
        lines = curl_lines(rules, project, persona, method.upper(), path, sent, str(body) if body is not None else None)
        typer.echo("\n".join(lines))
        return
    with without_application_output():
        result = run(rules, project, persona, method.upper(), path, sent, hosts or ())
    output.deliver(result, form, out, color)
    output.end(result.ending, allow_unjudged=allow_unjudged)


def _persona(who: str, settings: Settings) -> Persona:
    from ..language.problems import suggestion
    from ..settings import Persona

    if who == "signed-out" and who not in settings.personas:
        return Persona(who, signed_in=False)
    if who not in settings.personas:
        guess = suggestion(who, settings.personas) or f"; personas are {', '.join(settings.personas) or 'none yet'}"
        raise UsageError(f'unknown persona "{who}"{guess}')
    return settings.personas[who]


def _sent(body: Path | None, headers: list[str]) -> Sent:
    from ..probe.asking import Sent

    found: dict[str, str] = {}
    for header in headers:
        name, colon, value = header.partition(":")
        if not colon or not name.strip() or not header.isprintable():
            raise UsageError(f'--header "{header}": write a name, a colon and a value, as in "Accept: text/html"')
        found[name.strip().lower()] = value.strip()
    if body is None:
        return Sent(headers=found)
    kind = _TYPES.get(body.suffix.lower())
    if "content-type" not in found and kind is not None:
        found["content-type"] = kind
    return Sent(body.read_bytes(), found)
