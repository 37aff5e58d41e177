"""Options that several commands have, and data classes of options as parameters of a command."""

from __future__ import annotations

import inspect
from dataclasses import MISSING, dataclass, fields, is_dataclass
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, get_type_hints

import typer

from .output import Delivery, format_option

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

SourcesArgument = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="SOURCE",
        help="An application as module:name, an OpenAPI document, a HAR file or an access log; several are held "
        "together. By default the app and openapi of the settings.",
    ),
]
SettingsOption = Annotated[
    Path | None,
    typer.Option("--settings", metavar="FILE", help="The settings; by default bloodroot.toml here or further up."),
]
HostOption = Annotated[
    list[str] | None,
    typer.Option("--allow-host", metavar="NAME", help="A host that may be asked, beside this machine; repeatable."),
]
PersonasOption = Annotated[bool, typer.Option("--personas", help="A column for each persona, not each role.")]


@dataclass(frozen=True)
class ProjectFiles:
    """The files that a command works with.

    Attributes:
        policy: the policy that is named, if any.
        settings: the settings that are named, if any.
    """

    policy: Annotated[
        Path | None,
        typer.Option(
            "--policy", metavar="FILE", help="The policy, or REVISION:FILE; by default the one the settings name."
        ),
    ] = None
    settings: SettingsOption = None

    def words(self) -> list[str]:
        """The same as words of a command line."""
        named = (("--policy", self.policy), ("--settings", self.settings))
        return [word for option, file in named if file is not None for word in (option, str(file))]


def with_options(*results: str) -> Callable[[Callable[..., None]], Callable[..., None]]:
    """Give a command the options of the data classes that its parameters are of.

    Args:
        results: the kinds of result that the command shows: these say which formats there are.
    """

    def spread(command: Callable[..., None]) -> Callable[..., None]:
        hints = get_type_hints(command, include_extras=True)
        groups = {name: hint for name, hint in hints.items() if is_dataclass(hint)}

        @wraps(command)
        def run(**values: Any) -> None:
            for name, group in groups.items():
                own = {field.name: values.pop(field.name) for field in fields(group)}
                values[name] = group(**own)  # type: ignore[operator]
            command(**values)

        parameters: list[inspect.Parameter] = []
        for name, parameter in inspect.signature(command).parameters.items():
            found = _parameters(groups[name], results) if name in groups else [(name, hints[name], parameter.default)]
            parameters += (
                inspect.Parameter(each, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=hint)
                for each, hint, default in found
            )
        run.__signature__ = inspect.Signature(parameters)  # type: ignore[attr-defined]
        run.__annotations__ = {parameter.name: parameter.annotation for parameter in parameters}
        return run

    return spread


def _parameters(group: Any, results: tuple[str, ...]) -> Iterator[tuple[str, Any, Any]]:
    """The name, the type and the default of each option of a data class."""
    hints = get_type_hints(group, include_extras=True)
    if issubclass(group, Delivery):
        hints["form"] = Annotated[str | None, format_option(*results)]
    for field in fields(group):
        default = field.default_factory() if field.default_factory is not MISSING else field.default
        yield field.name, hints[field.name], inspect.Parameter.empty if default is MISSING else default
