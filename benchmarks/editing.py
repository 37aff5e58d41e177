"""How long an editor waits for the language server, in a file of 5,000 lines of which one has just changed."""

from __future__ import annotations

import asyncio
import sys
import tempfile
import time
from collections.abc import Awaitable, Callable
from pathlib import Path

from lsprotocol import types as lsp
from pygls.lsp.client import LanguageClient


async def answers(text: str, rounds: int) -> dict[str, float]:
    """The least seconds of each kind of answer."""
    file = Path(tempfile.mkdtemp(prefix="editing")) / "access.bloodroot"
    file.write_text(text, "utf-8")
    client = LanguageClient("benchmark", "1")
    said = asyncio.Event()

    def diagnosed(params: lsp.PublishDiagnosticsParams) -> None:
        said.set()

    client.feature(lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)(diagnosed)

    await client.start_io(str(Path(sys.executable).parent / "bloodroot"), "lsp")
    await client.initialize_async(lsp.InitializeParams(lsp.ClientCapabilities()))
    client.initialized(lsp.InitializedParams())
    uri = file.as_uri()
    document = lsp.TextDocumentIdentifier(uri)
    client.text_document_did_open(lsp.DidOpenTextDocumentParams(lsp.TextDocumentItem(uri, "bloodroot", 1, text)))
    await said.wait()
    lines = text.split("\n")
    last = len(lines) - 2
    here = lsp.Position(last, len(lines[last]) - 1)
    asked: dict[str, Callable[[], Awaitable[object]]] = {
        "completion": lambda: client.text_document_completion_async(lsp.CompletionParams(document, here)),
        "hover": lambda: client.text_document_hover_async(lsp.HoverParams(document, lsp.Position(last, 2))),
        "references": lambda: client.text_document_references_async(
            lsp.ReferenceParams(lsp.ReferenceContext(True), document, here)
        ),
        "symbols": lambda: client.text_document_document_symbol_async(lsp.DocumentSymbolParams(document)),
        "format": lambda: client.text_document_formatting_async(
            lsp.DocumentFormattingParams(document, lsp.FormattingOptions(2, True))
        ),
    }
    least = dict.fromkeys((*asked, "mistakes"), float("inf"))
    for number in range(rounds):
        for name, ask in asked.items():
            place = lsp.Range(lsp.Position(last, 0), lsp.Position(last, 1))
            change = lsp.TextDocumentContentChangePartial(place, " ")
            version = lsp.VersionedTextDocumentIdentifier(number + 2, uri)
            client.text_document_did_change(lsp.DidChangeTextDocumentParams(version, [change]))
            if name == "format":
                await asyncio.sleep(1)  # it is made while no one types
            began = time.perf_counter()
            await ask()
            least[name] = min(least[name], time.perf_counter() - began)
        said.clear()
        began = time.perf_counter()
        client.text_document_did_change(lsp.DidChangeTextDocumentParams(version, [change]))
        await said.wait()
        least["mistakes"] = min(least["mistakes"], time.perf_counter() - began)
        await asyncio.sleep(0.5)
    await client.shutdown_async(None)
    client.exit(None)
    await client.stop()  # type: ignore[no-untyped-call]
    return least
