"""bloodroot demo: the full example, written to a folder and run."""

from __future__ import annotations

import contextlib
import os
from pathlib import Path
from typing import TYPE_CHECKING, Annotated

import typer

from ..endings import Ending
from .output import Color, ColorOption, Delivery, UsageError

if TYPE_CHECKING:
    from ..checks.checking import CheckResult
    from ..core.policy import Policy
    from ..identity.examination import Examined
    from ..identity.seed_result import SeedResult
    from ..language.tree import Document
    from ..probe.result import ProbeResult
    from ..settings import Settings

_NEEDED = {
    "itsdangerous": "itsdangerous",
    "jinja2": "jinja2",
    "multipart": "python-multipart",
    "starlette": "starlette",
}
_NEEDED_BY_TENANTS = {"flask": "flask"}


def demo(
    folder: Annotated[
        Path | None, typer.Argument(help="Where to write the files; by default a new temporary folder.")
    ] = None,
    faulty: Annotated[
        bool, typer.Option("--faulty", help="Use the version of the application with holes in it.")
    ] = False,
    tenants: Annotated[
        bool, typer.Option("--tenants", help="Another example: studios whose members hold roles in them alone.")
    ] = False,
    color: ColorOption = Color.AUTO,
) -> None:
    """Write the example, a seed bank, to a folder; check its policy, show its matrix, and probe its application."""
    import importlib.util
    import tempfile

    from ..demo import COOPERATIVE, SEED_BANK, write_demo

    example = COOPERATIVE if tenants else SEED_BANK
    needed = _NEEDED_BY_TENANTS if tenants else _NEEDED
    missing = [package for module, package in needed.items() if importlib.util.find_spec(module) is None]
    if missing:
        raise UsageError(f"the example needs {', '.join(missing)}; install them with: pip install 'bloodroot[demo]'")
    place = folder if folder is not None else Path(tempfile.mkdtemp(prefix=f"{example.package}-"))
    written = write_demo(place, faulty=faulty, example=example)
    which = "with holes in it" if faulty else "with the policy around it"
    typer.secho(f"{example.name}, {which}: wrote {len(written)} files to {place}", bold=True)
    for name, text in _FILES_OF_TENANTS if tenants else _FILES:
        typer.echo(f"  {name:18} {text}")
    before = Path.cwd()
    os.chdir(place)
    try:
        sound = _shown(Delivery(color=color), tenants=tenants)
    finally:
        os.chdir(before)
    _say_what_next(place, _NEXT_OF_TENANTS if tenants else _NEXT)
    if not faulty:
        command = f"bloodroot demo {'--tenants ' if tenants else ''}--faulty"
        typer.echo(f"  {command:54}the same with {example.mistakes}, and the probe that finds them")
    elif sound:
        raise UsageError("the probe found nothing in the faulty application; that is a fault in Bloodroot itself")


_FILES = (
    ("access.bloodroot", "who may do what"),
    ("members.toml", "first members and groups"),
    ("bloodroot.toml", "the application, its sign-in and directory, the personas, the samples"),
    ("seedbank/", "the application: pages, an API, SQLite"),
    ("secrets.env", "a password and a key, made just now"),
)
_FILES_OF_TENANTS = (
    ("access.bloodroot", "who may do what, and in which studio"),
    ("members.toml", "first members, with the roles that they hold in studios and kilns"),
    ("bloodroot.toml", "the application, its sign-in and directory, the personas, records of each thing"),
    ("kilnhouse/", "the application: an API in Flask, SQLAlchemy over SQLite"),
    ("secrets.env", "a password and a key, made just now"),
)
_NEXT_OF_TENANTS = (
    ("bloodroot why editor-of-2 GET /studios/1/kilns/20 \\", "why does this address name nothing?"),
    ("  --record '{\"studio_id\": 2}'", ""),
    ("bloodroot members", "who holds what in which record, and until when"),
    ("bloodroot matrix --personas", "a column for each persona"),
    ("flask --app kilnhouse.app run", "the API; sign in with POST /sign-in,"),
    ("", "with the password in secrets.env"),
)
_NEXT = (
    ("bloodroot why botanist POST /trials/7", "why may she change this trial?"),
    ("bloodroot why --who GET /reports/stock", "who gets in there?"),
    ("bloodroot matrix --personas", "a column for each persona"),
    ("cp access.bloodroot old.bloodroot", ""),
    ("$EDITOR access.bloodroot && bloodroot probe", "change a line, and see the difference"),
    ("bloodroot compare old.bloodroot", "whose access the change changes"),
    ("bloodroot token make curator | bloodroot token read -", "what does a curator's token come to?"),
    ("uvicorn seedbank.app:app", "the pages; sign in as hazel@fernhollow.example,"),
    ("", "with the password in secrets.env"),
)


def _shown(shown: Delivery, *, tenants: bool) -> bool:
    """Run each command on the example in the current folder, and show what it says; whether the probe was content."""
    from ..core.matrix import matrix_of_roles
    from ..files import load_with_tree
    from ..report.results import MatrixResult, TokenResult
    from ..settings import read_settings
    from ..survey.applications import bound
    from . import inputs
    from .probe import with_progress

    settings = read_settings(Path("bloodroot.toml").resolve())
    policy_file, document = load_with_tree("access.bloodroot")
    _title("bloodroot seed members.toml", "the members, and who is in which group")
    shown.deliver(_seeded(settings, policy_file))
    policy = bound(policy_file, settings)
    _title("bloodroot check", "mistakes and risks in the policy")
    shown.deliver(_checked(policy_file, document, settings))
    _title("bloodroot matrix", "who gets in where, from the policy alone")
    shown.deliver(MatrixResult(policy, matrix_of_roles(policy)))
    _title("bloodroot probe", "the application asked as every persona")
    settings = inputs.with_members(settings) or settings
    result = with_progress(policy, settings)
    shown.deliver(result)
    _title("bloodroot matrix --out", "the same as pages and pictures, for those who review it")
    for name in _reports(policy, settings, result):
        typer.echo(f"  {name}")
    typer.echo(f"Open one in a browser: {(Path.cwd() / 'reports' / 'matrix.html').as_uri()}")
    if tenants:
        return result.ending is Ending.WELL
    _title("bloodroot token read", "what becomes of a token made for the persona two-hats")
    shown.deliver(TokenResult(policy, _read_token(settings, policy)))
    return result.ending is Ending.WELL


def _say_what_next(place: Path, commands: tuple[tuple[str, str], ...]) -> None:
    import shlex

    _title("Try next", "")
    for command, text in ((f"cd {shlex.quote(str(place))}", ""), *commands):
        typer.echo(f"  {command:54}{text}".rstrip())


def _seeded(settings: Settings, policy: Policy) -> SeedResult:
    """The first members put into the example's directory."""
    from ..identity import directory_of
    from ..identity.seed_file import read_seed
    from ..identity.seeding import seed_directory
    from .seed import password

    return seed_directory(directory_of(settings), read_seed(Path("members.toml")), policy, password)


def _reports(policy: Policy, settings: Settings, result: ProbeResult) -> list[str]:
    """The reports, written to a folder; pictures where these can be drawn. Returns their names, with what they show."""
    from ..core.matrix import matrix_of_callers, matrix_of_roles
    from ..core.roles_added import roles_added
    from ..report.picture import PictureError, drawn
    from ..report.picture_of_matrix import matrix_picture
    from ..report.picture_of_roles import roles_picture
    from ..report.registry import Format, write
    from ..report.results import MatrixResult, RolesResult
    from ..review.observed import observed_cells
    from ..review.tried import columns_of_callers
    from ..writing import write_bytes, write_text

    folder = Path("reports")
    folder.mkdir(exist_ok=True)
    roles = MatrixResult(policy, matrix_of_roles(policy))
    callers = {name: persona.caller for name, persona in settings.personas.items()}
    personas = matrix_of_callers(policy, callers)
    observed = observed_cells(policy, personas, Path(".bloodroot/probe.jsonl"), columns_of_callers(callers))
    pages: list[tuple[str, str, object]] = [
        ("matrix.html", "roles against endpoints; a click on a cell says why", roles),
        ("observed.html", "personas: declared and observed", MatrixResult(policy, personas, callers, observed)),
        ("probe.html", "what the probe found", result),
    ]
    for name, _, shown in pages:
        write_text(folder / name, str(write(shown, Format.HTML)))
    reports = [(name, text) for name, text, _ in pages]
    with contextlib.suppress(PictureError):
        write_bytes(folder / "matrix.png", drawn(matrix_picture(roles), "png"))
        write_bytes(folder / "roles.png", drawn(roles_picture(RolesResult(policy, roles_added(policy))), "png"))
        reports += [("matrix.png", "the matrix as a picture"), ("roles.png", "who includes whom, and what each adds")]
    return [f"reports/{name:16}{text}" for name, text in reports]


def _checked(policy: Policy, document: Document, settings: Settings) -> CheckResult:
    """The example's policy and application, checked."""
    from ..checks.checking import check
    from ..checks.preparing import prepare

    return check(prepare(policy, document, settings, [settings.app or ""], settings.folder))


def _read_token(settings: Settings, policy: Policy) -> Examined:
    """A token made for one of the personas, as the application takes it."""
    import datetime

    from ..identity.claims import claims_of
    from ..identity.examination import examine, token_source
    from ..identity.tokens import make_token

    source = token_source(settings)
    caller = settings.personas["two-hats"].caller
    assert caller is not None and source.token is not None and settings.development is not None
    now = datetime.datetime.now(datetime.UTC)
    token = make_token(claims_of(caller, source.claims), source.token, settings.development, settings, now)
    return examine(token, source, settings, policy)


def _title(command: str, text: str) -> None:
    typer.echo()
    typer.secho(f"── {command} " + (f"── {text}" if text else ""), bold=True)
