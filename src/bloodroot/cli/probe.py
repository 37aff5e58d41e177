"""bloodroot probe: asks the running application as every persona."""

from __future__ import annotations

import re
import sys
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from . import completing
from .options import HostOption, ProjectFiles, with_options
from .output import JudgedDelivery, UsageError, without_application_output

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..probe.asked_endpoints import AskedEndpoint
    from ..probe.plan import PlanFilter
    from ..probe.result import ProbeResult
    from ..probe.runner import Options, Share
    from ..settings import Settings
    from .inputs import LoadedProject


@dataclass(frozen=True)
class ProbeRequests:
    """What is asked.

    Attributes:
        only: patterns of the endpoints; empty for all.
        persona: names of the personas; empty for all.
        methods: the methods with commas between them; None for all.
        variants: whether refused requests are sent in other spellings too.
        hosts: names of hosts, beside this machine, that may be asked.
    """

    only: Annotated[
        list[str],
        typer.Option(
            "--only",
            metavar="PATTERN",
            help='Endpoints to ask, as "/trials*" or "POST *"; repeatable.',
            autocompletion=completing.words(completing.pattern),
        ),
    ] = field(default_factory=list)
    persona: Annotated[
        list[str],
        typer.Option(
            "--persona",
            metavar="NAME",
            help="A persona to ask as; repeatable.",
            autocompletion=completing.words(completing.persona),
        ),
    ] = field(default_factory=list)
    methods: Annotated[
        str | None, typer.Option("--methods", metavar="NAMES", help="The methods to ask, as GET,POST.")
    ] = None
    variants: Annotated[
        bool, typer.Option("--variants", help="Send each request that is to be refused in other spellings too.")
    ] = False
    hosts: HostOption = None

    def words(self) -> list[str]:
        """The same as words of a command line."""
        named = (("--only", self.only), ("--persona", self.persona), ("--allow-host", self.hosts or []))
        words = [word for option, values in named for value in values for word in (option, value)]
        words += ["--methods", self.methods] if self.methods else []
        return [*words, *(["--variants"] if self.variants else [])]


@dataclass(frozen=True)
class ProbeParts:
    """How the requests are divided, and where they are written down.

    Attributes:
        journals: the journals of all parts, to be put together.
        merge: whether they are put together.
        journal: the file that requests are written down in; None for the usual one.
        resume: whether to go on with the journal of a run that was stopped.
        shard: which part is asked, as ``2/5``; None for all.
        copies: how many copies of the application are asked; None for one application.
        dask: whether the workers of a cluster ask them.
    """

    journals: Annotated[
        list[Path] | None, typer.Argument(metavar="JOURNAL", help="With --merge, the journals of all parts.")
    ] = None
    merge: Annotated[bool, typer.Option("--merge", help="Put the journals of all parts together.")] = False
    journal: Annotated[
        Path | None,
        typer.Option("--journal", metavar="FILE", help="Where requests are written down; .bloodroot/probe.jsonl."),
    ] = None
    resume: Annotated[bool, typer.Option("--resume", help="Go on with the journal of a run that was stopped.")] = False
    shard: Annotated[
        str | None, typer.Option("--shard", metavar="PART/TOTAL", help="Ask one part of the plan, as 2/5.")
    ] = None
    copies: Annotated[
        int | None,
        typer.Option(
            "--copies",
            metavar="N",
            min=2,
            max=64,
            help="Ask so many copies side by side; the section probe.copies of the settings sets them apart.",
        ),
    ] = None
    dask: Annotated[bool, typer.Option("--dask", help="With --copies, ask them by the workers of a Dask cluster.")] = (
        False
    )

    def share(self) -> Share:
        """The part that is asked.

        Raises:
            UsageError: it is not written as one, or has no journal of its own.
        """
        from ..probe.runner import Share

        text = self.shard
        if text is None:
            return Share()
        match = re.fullmatch(r"([0-9]{1,4})/([0-9]{1,4})", text)
        if match is None or not 1 <= int(match[1]) <= int(match[2]):
            raise UsageError(f'--shard "{text}": write the part and how many there are, as 2/5')
        if self.journal is None:
            raise UsageError("--shard: name the journal of this part too, with --journal FILE; --merge wants them all")
        return Share(int(match[1]), int(match[2]))

    def check_copies(self, stale: float | None) -> None:
        """See that ``--copies`` and ``--dask`` go together with the other options.

        Raises:
            UsageError: they do not.
        """
        divided = self.journals or self.shard is not None or self.resume or stale is not None
        if self.copies is not None and divided:
            raise UsageError("--copies divides one run: without --merge, --shard, --resume and --stale")
        if self.dask and self.copies is None:
            raise UsageError("--dask is for --copies: each worker asks a copy")


@with_options("ProbeResult", "PlanResult")
def probe(
    requests: ProbeRequests,
    parts: ProbeParts,
    *,
    list_only: Annotated[bool, typer.Option("--list", help="Show what would be asked; nothing is sent.")] = False,
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
    watch: Annotated[
        bool, typer.Option("--watch", help="Check, show the matrix and probe again whenever a file changes.")
    ] = False,
    files: ProjectFiles,
    shown: JudgedDelivery,
) -> None:
    """Ask the application as every persona, and compare what it answers with what is declared."""
    from ..probe import runner
    from . import inputs

    shown.check()
    if watch:
        from .watching_files import watch_project

        watch_project(files)
        return
    if bool(parts.journals) != parts.merge:
        raise UsageError("--merge puts journals together: bloodroot probe --merge one.jsonl two.jsonl")
    project = inputs.bound_project(files)
    settings = inputs.with_members(project.needed_settings) or project.needed_settings
    project = project._replace(settings=settings)
    chosen, share = _chosen(settings, requests), parts.share()
    hosts = tuple(requests.hosts or ())
    options = runner.Options(hosts, chosen, share, parts.journal, parts.resume, requests.variants, stale)
    if list_only:
        with without_application_output():
            planned = runner.list_plan(project.policy, settings, options)
        shown.deliver(planned)
        return
    parts.check_copies(stale)
    with without_application_output():
        result = _result(project, options, parts, [*requests.words(), *files.words()])
    shown.deliver(result)
    shown.end(result.ending)


def _result(project: LoadedProject, options: Options, parts: ProbeParts, words: list[str]) -> ProbeResult:
    """What the application answered: one, its copies, or as journals have it."""
    policy, settings = project.policy, project.needed_settings
    if parts.copies is not None:
        from ..probe.on_cluster import probe_on_cluster

        asked = probe_on_cluster if parts.dask else _with_copies
        return asked(policy, settings, options, parts.copies, words)
    if parts.journals:
        from ..probe.runner import merge

        return merge(policy, settings, options, parts.journals)
    return with_progress(policy, settings, options)


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


def _chosen(settings: Settings, requests: ProbeRequests) -> PlanFilter:
    """The part of the plan that is wanted."""
    from ..core.paths import is_method
    from ..core.patterns import matches
    from ..language.problems import suggestion
    from ..probe.plan import PlanFilter

    only, personas, methods = requests.only, requests.persona, requests.methods
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
