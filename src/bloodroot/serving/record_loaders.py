"""What loads records for the service: functions that the settings name."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from ..settings import Settings, SettingsError
from ..survey.applications import imported

if TYPE_CHECKING:
    from ..enforce.loaders import Records


def loaders_of(settings: Settings) -> Records:
    """The loaders, by thing or parameter.

    Raises:
        SettingsError: one cannot be imported, or is no function.
    """
    found: dict[Any, Callable[..., Any]] = {}
    for name, text in settings.serve.records.items():
        loader = imported(text, settings.folder, f"serve.records.{name}")
        if not callable(loader):
            raise SettingsError(f"{settings.file.name}: serve.records.{name}: {text} is no function")
        found[name] = loader
    return found
