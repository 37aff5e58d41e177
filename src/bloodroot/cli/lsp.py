"""bloodroot lsp: the policy language in editors."""

from __future__ import annotations

from typing import Annotated

import typer

from .output import UsageError


def lsp(
    stdio: Annotated[bool, typer.Option("--stdio", help="Talk over standard input and output, as always.")] = True,  # noqa: ARG001
) -> None:
    """Answer an editor by the Language Server Protocol: mistakes, completion, names, who gets in at a line."""
    from .. import __version__

    try:
        from ..editing.language_server import server
    except ModuleNotFoundError as error:
        raise UsageError(f"this needs {error.name}; install it with: pip install 'bloodroot[lsp]'") from error
    server(__version__).start_io()
