"""bloodroot serve: access questions answered over HTTP, for applications and proxies in any language."""

from __future__ import annotations

import os
from typing import Annotated

import typer

from .inputs import NO_SETTINGS
from .options import SettingsOption
from .output import UsageError


def serve(
    host: Annotated[str | None, typer.Option("--host", metavar="ADDRESS", help="The address to listen on.")] = None,
    port: Annotated[int | None, typer.Option("--port", metavar="N", help="The port to listen on.")] = None,
    workers: Annotated[int, typer.Option("--workers", metavar="N", min=1, max=64, help="How many processes.")] = 1,
    settings: SettingsOption = None,
) -> None:
    """Answer access questions over HTTP, for applications and proxies in any language."""
    from ..settings import find_settings, read_settings

    try:
        import uvicorn

        from ..serving.service import ADDRESS, SETTINGS, Service
    except ModuleNotFoundError as error:
        raise UsageError(f"this needs {error.name}; install it with: pip install 'bloodroot[serve]'") from error
    file = settings or find_settings()
    if file is None:
        raise UsageError(NO_SETTINGS)
    project = read_settings(file)
    rules = project.serve
    where = host or rules.host, port or rules.port
    address = f"{where[0]}:{where[1]}" if ":" not in where[0] else f"[{where[0]}]:{where[1]}"
    service = Service(project, address)
    typer.echo(f"answering at http://{address}; Control-C ends it", err=True)
    os.environ |= {SETTINGS: str(file.resolve()), ADDRESS: address}
    how = {"host": where[0], "port": where[1], "log_level": "warning", "access_log": False, "proxy_headers": False}
    how["server_header"] = False
    # One parser and no WebSockets, whatever else is installed.
    how |= {"http": "bloodroot.serving.connections:BoundedHTTP", "ws": "none"}
    app: object = service.application() if workers == 1 else "bloodroot.serving.service:from_environment"
    uvicorn.run(app, workers=workers, factory=workers > 1, timeout_keep_alive=60, **how)  # type: ignore[arg-type]
