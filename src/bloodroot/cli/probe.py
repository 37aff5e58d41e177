"""bloodroot probe: asks the running application as every persona."""

from __future__ import annotations

import re
import sys
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
    from ..core.policy import Policy
    from ..probe.asked_endpoints import AskedEndpoint
    from ..probe.plan import PlanFilter
    from ..probe.result import ProbeResult
    from ..probe.runner import Options
    from ..settings import Settings


def probe(
    journals: Annotated[
        list[Path] | None, typer.Argument(metavar="JOURNAL", help="With --merge, the journals of all parts.")
    ] = None,
    only: Annotated[
        list[str] | None,
        typer.Option(
            "--only",
            metavar="PATTERN",
            help='Endpoints to ask, as "/trials*" or "POST *"; repeatable.',
            autocompletion=completing.words(completing.pattern),
        ),
    ] = None,
    persona: Annotated[
        list[str] | None,
        typer.Option(
            "--persona",
            metavar="NAME",
            help="A persona to ask as; repeatable.",
            autocompletion=completing.words(completing.persona),
        ),
    ] = None,
    methods: Annotated[
        str | None, typer.Option("--methods", metavar="NAMES", help="The methods to ask, as GET,POST.")
    ] = None,
    list_only: Annotated[bool, typer.Option("--list", help="Show what would be asked; nothing is sent.")] = False,
    variants: Annotated[
        bool, typer.Option("--variants", help="Send each request that is to be refused in other spellings too.")
    ] = False,
    stale: Annotated[
        float | None,
        typer.Option(
            "--stale",
            metavar="SECONDS",
            min=0,
            max=3600,
            help="Take roles away at the end, and see that old sessions and tokens lose them within this time.",
        ),
    ] = None,
    allow_unjudged: UnjudgedOption = False,
    hosts: HostOption = None,
    watch: Annotated[
        bool, typer.Option("--watch", help="Check, show the matrix and probe again whenever a file changes.")
    ] = False,
    journal: Annotated[
        Path | None,
        typer.Option("--journal", metavar="FILE", help="Where requests are written down; .bloodroot/probe.jsonl."),
    ] = None,
    resume: Annotated[bool, typer.Option("--resume", help="Go on with the journal of a run that was stopped.")] = False,
    shard: Annotated[
        str | None, typer.Option("--shard", metavar="PART/TOTAL", help="Ask one part of the plan, as 2/5.")
    ] = None,
    copies: Annotated[
        int | None,
        typer.Option(
            "--copies",
            metavar="N",
            min=2,
            max=64,
            help="Ask so many copies side by side; [probe.copies] sets them apart.",
        ),
    ] = None,
    dask: Annotated[
        bool, typer.Option("--dask", help="With --copies, ask them by the workers of a Dask cluster.")
    ] = False,
    merge: Annotated[bool, typer.Option("--merge", help="Put the journals of all parts together.")] = False,
    policy: PolicyOption = None,
    settings: SettingsOption = None,
    form: Annotated[str | None, format_option("ProbeResult", "PlanResult")] = None,
    out: OutOption = None,
    color: ColorOption = Color.AUTO,
) -> None:
    """Ask the application as every persona, and compare what it answers with what is declared."""
    from ..probe import runner
    from . import inputs, output

    output.check_out(form, out)
    if watch:
        from .watching_files import watch_project

        watch_project(policy, settings)
        return
    if bool(journals) != merge:
        raise UsageError("--merge puts journals together: bloodroot probe --merge one.jsonl two.jsonl")
    rules, project = inputs.bound_project(policy, settings)
    if project is None:
        raise UsageError("there are no settings; write bloodroot.toml, or name one with --settings")
    project = inputs.with_members(project) or project
    options = runner.Options(
        tuple(hosts or ()),
        _chosen(project, only or [], persona or [], methods),
        _part(shard, journal),
        journal,
        resume,
        variants,
        stale,
    )
    if list_only:
        with without_application_output():
            planned = runner.list_plan(rules, project, options)
        output.deliver(planned, form, out, color)
        return
    if copies is not None and (journals or shard is not None or resume or stale is not None):
        raise UsageError("--copies divides one run: without --merge, --shard, --resume and --stale")
    if dask and copies is None:
        raise UsageError("--dask is for --copies: each worker asks a copy")
    with without_application_output():
        if copies is not None:
            from ..probe.on_cluster import probe_on_cluster

            words = _words(only, persona, methods, variants, hosts, policy, settings)
            ask = probe_on_cluster if dask else _with_copies
            result = ask(rules, project, options, copies, words)
        elif journals:
            result = runner.merge(rules, project, options, journals)
        else:
            result = with_progress(rules, project, options)
    output.deliver(result, form, out, color)
    output.end(result.ending, allow_unjudged=allow_unjudged)


def _words(
    only: list[str] | None,
    persona: list[str] | None,
    methods: str | None,
    variants: bool,
    hosts: list[str] | None,
    policy: object,
    settings: object,
) -> list[str]:
    """The options that each of several processes is run with."""
    given = [("--only", each) for each in only or []] + [("--persona", each) for each in persona or []]
    given += [("--allow-host", each) for each in hosts or []]
    given += [
        (name, str(value))
        for name, value in (("--methods", methods), ("--policy", policy), ("--settings", settings))
        if value
    ]
    return [*(word for pair in given for word in pair), *(["--variants"] if variants else [])]


def _with_copies(policy: Policy, settings: Settings, options: Options, copies: int, words: list[str]) -> ProbeResult:
    """Probe copies of the application, and show on a terminal how many answers have come."""
    from rich.console import Console

    from ..probe.copies import probe_copies

    if not sys.stderr.isatty():
        return probe_copies(policy, settings, options, copies, words)
    with Console(stderr=True).status("asking") as status:
        return probe_copies(
            policy, settings, options, copies, words, lambda count: status.update(f"asking: {count} answers so far")
        )


def _part(text: str | None, journal: Path | None) -> tuple[int, int]:
    if text is None:
        return 1, 1
    match = re.fullmatch(r"([0-9]{1,4})/([0-9]{1,4})", text)
    if match is None or not 1 <= int(match[1]) <= int(match[2]):
        raise UsageError(f'--shard "{text}": write the part and how many there are, as 2/5')
    if journal is None:
        raise UsageError("--shard: name the journal of this part too, with --journal FILE; --merge wants them all")
    return int(match[1]), int(match[2])


def _chosen(settings: Settings, only: list[str], personas: list[str], methods: str | None) -> PlanFilter:
    """The part of the plan that is wanted."""
    from ..core.paths import is_method
    from ..core.patterns import matches
    from ..language.problems import suggestion
    from ..probe.plan import PlanFilter

    for name in personas:
        if name not in settings.personas:
            guess = (
                suggestion(name, settings.personas) or f"; personas are {', '.join(settings.personas) or 'none yet'}"
            )
            raise UsageError(f'--persona: unknown persona "{name}"{guess}')
    wanted = [name.strip().upper() for name in methods.split(",")] if methods is not None else []
    for name in wanted:
        if not is_method(name):
            raise UsageError(f'--methods "{methods}": write methods with commas between them, as GET,POST')

    whole = not (only or personas or wanted)

    def endpoint(asked: AskedEndpoint) -> bool:
        if wanted and asked.method not in wanted:
            return False
        return not only or matches(asked.name, only)

    return PlanFilter(endpoint, lambda persona: not personas or persona.name in personas, tuple(only), whole)


def with_progress(policy: Policy, settings: Settings, options: Options | None = None) -> ProbeResult:
    """Probe, and show on a terminal how far it has come, how fast, and how long it will take."""
    from rich.console import Console
    from rich.progress import (
        BarColumn,
        MofNCompleteColumn,
        Progress,
        ProgressColumn,
        Task,
        TextColumn,
        TimeRemainingColumn,
    )
    from rich.text import Text

    from ..probe.runner import probe as run

    class Rate(ProgressColumn):
        def render(self, task: Task) -> Text:
            return Text(f"{task.speed:.0f} a second" if task.speed else "")

    if not sys.stderr.isatty():
        return run(policy, settings, options)
    columns = (TextColumn("asking"), BarColumn(), MofNCompleteColumn(), Rate(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True, redirect_stdout=False) as progress:
        task = progress.add_task("asking", total=None)

        def progressed(done: int, total: int) -> None:
            progress.update(task, completed=done, total=total)

        return run(policy, settings, options, progressed=progressed)
