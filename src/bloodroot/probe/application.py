"""The application under probe: imported from the settings, and run in this process."""

from __future__ import annotations

import asyncio
import importlib
import logging
import sys
import traceback
from contextlib import asynccontextmanager
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..settings import SettingsError

_FRAMEWORKS = ("fastapi", "starlette", "flask")

if TYPE_CHECKING:
    from collections.abc import AsyncIterator

    from ..core.binding import Route
    from ..core.policy import Policy
    from ..settings import Settings


def imported(name: str, folder: Path, key: str) -> Any:
    """The object that ``module:name`` names, or what ``module:name()`` returns.

    Args:
        name: as in ``seedbank.app:app`` or ``seedbank.app:create_app()``.
        folder: where modules are looked for first.
        key: the settings key it comes from, for messages.

    Raises:
        SettingsError: there is no such thing, or its module fails while it is imported.
    """
    module_name, colon, attribute = name.partition(":")
    if not colon or not module_name or not attribute:
        raise SettingsError(
            f'{key} = "{name}": this must be "module:name" or "module:name()", as in "seedbank.app:app"'
        )
    # The application runs here only to be examined, so its log is not shown.
    logging.getLogger("bloodroot.audit").addHandler(logging.NullHandler())
    if str(folder) not in sys.path:
        sys.path.insert(0, str(folder))
    try:
        found: Any = importlib.import_module(module_name)
        for part in attribute.removesuffix("()").split("."):
            found = getattr(found, part)
        if attribute.endswith("()"):
            found = found()
    except (Exception, SystemExit) as error:
        frames = [f for f in traceback.extract_tb(error.__traceback__) if str(folder) in f.filename]
        place = f" ({Path(frames[-1].filename).name}:{frames[-1].lineno})" if frames else ""
        raise SettingsError(f'{key} = "{name}" cannot be imported: {type(error).__name__}: {error}{place}') from None
    return found


def bound(policy: Policy, settings: Settings) -> Policy:
    """The policy bound to the routes of the settings' application, where it has lines that name actions.

    Raises:
        SettingsError: there is no application to read routes from.
        PolicyError: the application serves no such action.
    """
    if not policy.unbound:
        return policy
    first = policy.unbound[0]
    if settings.app is None:
        raise SettingsError(
            f"{first.place.at} names the action {first.name}, and there are no routes to find it in; "
            f'write app = "module:name" in {settings.file.name}'
        )
    routes = routes_of(imported(settings.app, settings.folder, "app"))
    if routes is None:
        raise SettingsError(f'app = "{settings.app}": the routes of this application cannot be read')
    return policy.bind(routes)


def routes_of(app: Any) -> list[Route] | None:
    """The routes of an application, by the framework that it is made with; None where that is not known."""
    while app is not None:
        for kind in type(app).__mro__:
            framework = kind.__module__.split(".")[0]
            if framework in _FRAMEWORKS:
                found: list[Route] = importlib.import_module(f"bloodroot.enforce.{framework}").routes(app)
                return found
        app = getattr(app, "app", None)  # middleware around the application
    return None


@asynccontextmanager
async def running(app: Any) -> AsyncIterator[None]:
    """The application between its start-up and its shut-down (ASGI lifespan protocol).

    Raises:
        SettingsError: it fails to start.
    """
    inbox: asyncio.Queue[dict[str, Any]] = asyncio.Queue()
    outbox: asyncio.Queue[dict[str, Any] | None] = asyncio.Queue()

    async def serve() -> None:
        try:
            await app({"type": "lifespan", "asgi": {"version": "3.0"}, "state": {}}, inbox.get, outbox.put)
        except Exception:
            # The protocol is optional: an application without it raises, and is used without.
            return
        finally:
            await outbox.put(None)

    task = asyncio.create_task(serve())
    await inbox.put({"type": "lifespan.startup"})
    answer = await outbox.get()
    if answer is not None and answer["type"] == "lifespan.startup.failed":
        await task
        raise SettingsError(f"the application failed to start: {answer.get('message') or 'it does not say why'}")
    try:
        yield
    finally:
        if answer is not None:
            await inbox.put({"type": "lifespan.shutdown"})
            await outbox.get()
        await task
