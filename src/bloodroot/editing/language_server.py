"""The server that editors talk to (Language Server Protocol 3.17)."""

from __future__ import annotations

import asyncio
from pathlib import Path
from typing import Any, NamedTuple

from lsprotocol import types as lsp
from pygls import uris
from pygls.lsp.server import LanguageServer
from pygls.workspace import PositionCodec

from ..core.finding import Severity
from ..language.errors import BloodrootError
from ..language.printer import tidy
from .diagnosing import Diagnosis, accepting, findings, mistakes
from .hovering import hover_text, name_at
from .occurrences import Occurrence, entries_of
from .offering import offers
from .outline import Part, outline
from .projects import Compiled, Projects
from .renaming import RenameError, places_of, renamed

_QUIET = 0.25  # seconds after the last change before a policy is compiled
_IDLE = 0.75  # seconds more before checks run
_SEVERITIES = {
    Severity.ERROR: lsp.DiagnosticSeverity.Error,
    Severity.WARNING: lsp.DiagnosticSeverity.Warning,
    Severity.NOTE: lsp.DiagnosticSeverity.Information,
}
_OFFERED = {
    "keyword": lsp.CompletionItemKind.Keyword,
    "path": lsp.CompletionItemKind.File,
    "role": lsp.CompletionItemKind.Class,
    "group": lsp.CompletionItemKind.Module,
    "permission": lsp.CompletionItemKind.Method,
    "condition": lsp.CompletionItemKind.Function,
    "thing": lsp.CompletionItemKind.Struct,
}


class PolicyServer(LanguageServer):
    """The language server, with the files that are open in the editor."""

    def __init__(self, version: str) -> None:
        super().__init__("bloodroot", version, text_document_sync_kind=lsp.TextDocumentSyncKind.Incremental)
        self.projects = Projects()
        self._waiting: set[Path] = set()
        self._said: dict[Path, set[Path]] = {}  # by main file, those about which something was said
        self._neat: dict[Path, tuple[str, str | None]] = {}  # texts of open files, with their tidy forms
        self._warned = ""
        self._timer: asyncio.TimerHandle | None = None
        self._looking: asyncio.Task[None] | None = None

    # What is wrong ---------------------------------------------------------------------------------------------

    def look_at(self, file: Path) -> None:
        """Compile the policy of a file soon, in a thread, and say what is wrong; nothing while one types."""
        self._waiting.add(file)
        if self._timer is not None:
            self._timer.cancel()
        if self._looking is not None:
            self._looking.cancel()
        self._timer = asyncio.get_running_loop().call_later(_QUIET, self._begin)

    def _begin(self) -> None:
        self._looking = asyncio.get_running_loop().create_task(self._look())
        self._looking.add_done_callback(self._ended)

    def _ended(self, looking: asyncio.Task[None]) -> None:
        # What is not looked at must not pass for what is well.
        error = looking.exception() if not looking.cancelled() else None
        if error is not None:
            self._warn(f"Bloodroot could not look at the policy: {error or type(error).__name__}")

    def _warn(self, message: str) -> None:
        if message != self._warned:
            self._warned = message
            self.window_show_message(lsp.ShowMessageParams(lsp.MessageType.Warning, message))

    async def _look(self) -> None:
        loop = asyncio.get_running_loop()
        done: dict[Path, Compiled] = {}
        for file in sorted(self._waiting):
            if not any(file in each.files for each in done.values()):
                compiled = await loop.run_in_executor(None, self.projects.compiled, file)
                done[compiled.main] = compiled
                if compiled.settings_problem:
                    self._warn(compiled.settings_problem)
                self._say(compiled, mistakes(compiled))
            self._waiting.discard(file)
        for file in [file for file in self.projects.texts if any(file in each.files for each in done.values())]:
            await loop.run_in_executor(None, self.neat, file)
        await asyncio.sleep(_IDLE)
        for compiled in done.values():
            found = await loop.run_in_executor(None, findings, compiled)
            self._say(compiled, [*mistakes(compiled), *found])

    def neat(self, file: Path) -> str | None:
        """The tidy form of a file; None where it has mistakes. It is made while no one types, so that it is at hand."""
        text = self.projects.text(file)
        known = self._neat.get(file)
        if known is None or known[0] != text:
            try:
                known = text, tidy(text)
            except BloodrootError:
                known = text, None  # a text with mistakes stays as it is
            self._neat[file] = known
        return known[1]

    def _say(self, compiled: Compiled, found: list[Diagnosis]) -> None:
        by_file: dict[Path, list[Diagnosis]] = {file: [] for file in compiled.files}
        by_file |= {file: [] for file in self._said.get(compiled.main, set())}
        for diagnosis in found:
            by_file.setdefault(diagnosis.file, []).append(diagnosis)
        self._said[compiled.main] = {file for file, some in by_file.items() if some}
        for file, some in by_file.items():
            lines = self.projects.text(file).split("\n")
            uri = _uri(file)
            items = [self._diagnostic(each, lines) for each in some]
            self.text_document_publish_diagnostics(lsp.PublishDiagnosticsParams(uri, items))

    def _diagnostic(self, each: Diagnosis, lines: list[str]) -> lsp.Diagnostic:
        return lsp.Diagnostic(
            self.range(lines, each.line, each.start, each.end),
            each.message,
            severity=_SEVERITIES[each.severity],
            code=each.finding,
            source="bloodroot",
            data={"meant": each.meant} if each.meant else None,
        )

    # Places ----------------------------------------------------------------------------------------------------

    @property
    def codec(self) -> PositionCodec:
        """How positions in a line are counted by the editor."""
        return self.workspace.position_codec

    def range(self, lines: list[str], line: int, start: int, end: int) -> lsp.Range:
        """A stretch of a line, as the editor counts."""
        text = lines[line] if line < len(lines) else ""
        length = len(text)
        here = lsp.Range(lsp.Position(line, min(start, length)), lsp.Position(line, min(end, length)))
        return here if text.isascii() else self.codec.range_to_client_units(lines, here)

    def place(self, file: Path, position: lsp.Position) -> tuple[int, int]:
        """A position of the editor, as a line and a place in it."""
        found = self.codec.position_from_client_units(self.projects.text(file).split("\n"), position)
        return found.line, found.character

    def locations(self, places: list[tuple[Path, Occurrence]]) -> list[lsp.Location]:
        """Where names are."""
        lines = {file: self.projects.text(file).split("\n") for file in {file for file, _ in places}}
        uris_of = {file: _uri(file) for file in lines}
        return [
            lsp.Location(uris_of[file], self.range(lines[file], name.line, name.start, name.end))
            for file, name in places
        ]


def _uri(file: Path) -> str:
    return uris.from_fs_path(str(file)) or ""


def _file(uri: str) -> Path:
    return Path(uris.to_fs_path(uri) or uri).resolve()


def server(version: str) -> PolicyServer:
    """A language server."""
    made = PolicyServer(version)
    _follow_files(made)
    for answer in (_complete, _lead, _outline, _tidy, _rename, _mend):
        answer(made)
    return made


def _follow_files(server: PolicyServer) -> None:
    def taken(uri: str) -> None:
        file = _file(uri)
        server.projects.open(file, server.workspace.get_text_document(uri).source.replace("\r\n", "\n"))
        server.look_at(file)

    @server.feature(lsp.TEXT_DOCUMENT_DID_OPEN)
    def opened(params: lsp.DidOpenTextDocumentParams) -> None:
        taken(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_DID_CHANGE)
    def changed(params: lsp.DidChangeTextDocumentParams) -> None:
        taken(params.text_document.uri)

    @server.feature(lsp.TEXT_DOCUMENT_DID_SAVE)
    def saved(params: lsp.DidSaveTextDocumentParams) -> None:
        server.look_at(_file(params.text_document.uri))

    @server.feature(lsp.TEXT_DOCUMENT_DID_CLOSE)
    def closed(params: lsp.DidCloseTextDocumentParams) -> None:
        file = _file(params.text_document.uri)
        server.projects.close(file)
        server.look_at(file)


def _complete(server: PolicyServer) -> None:
    projects = server.projects

    @server.feature(lsp.TEXT_DOCUMENT_COMPLETION, lsp.CompletionOptions(trigger_characters=[" ", ":", "/", ","]))
    def complete(params: lsp.CompletionParams) -> list[lsp.CompletionItem]:
        file = _file(params.text_document.uri)
        line, column = server.place(file, params.position)
        start, found = offers(projects, file, line, column)
        lines = projects.text(file).split("\n")
        where = server.range(lines, line, start, column)
        return [
            lsp.CompletionItem(
                offer.text,
                kind=_OFFERED[offer.kind],
                detail=offer.detail or offer.kind,
                text_edit=lsp.TextEdit(where, offer.text),
            )
            for offer in found
        ]

    @server.feature(lsp.TEXT_DOCUMENT_HOVER)
    def hover(params: lsp.HoverParams) -> lsp.Hover | None:
        file = _file(params.text_document.uri)
        text = hover_text(projects, file, *server.place(file, params.position))
        return lsp.Hover(lsp.MarkupContent(lsp.MarkupKind.Markdown, text)) if text is not None else None


def _lead(server: PolicyServer) -> None:
    projects = server.projects

    @server.feature(lsp.TEXT_DOCUMENT_DEFINITION)
    def definition(params: lsp.DefinitionParams) -> list[lsp.Location]:
        file = _file(params.text_document.uri)
        places = places_of(projects, file, *server.place(file, params.position))
        return server.locations([(file, name) for file, name in places if name.is_declared])

    @server.feature(lsp.TEXT_DOCUMENT_REFERENCES)
    def references(params: lsp.ReferenceParams) -> list[lsp.Location]:
        file = _file(params.text_document.uri)
        places = places_of(projects, file, *server.place(file, params.position))
        wanted = params.context.include_declaration
        return server.locations([(file, name) for file, name in places if wanted or not name.is_declared])


def _outline(server: PolicyServer) -> None:
    projects = server.projects

    @server.feature(lsp.TEXT_DOCUMENT_DOCUMENT_SYMBOL)
    def symbols(params: lsp.DocumentSymbolParams) -> list[lsp.DocumentSymbol]:
        file = _file(params.text_document.uri)
        lines = projects.text(file).split("\n")

        def symbol(part: Part) -> lsp.DocumentSymbol:
            end = len(lines[part.last])
            whole = lsp.Range(lsp.Position(part.first, 0), server.range(lines, part.last, end, end).end)
            head = server.range(lines, part.first, 0, len(lines[part.first]))
            kind = lsp.SymbolKind.Namespace if part.parts or not part.detail else lsp.SymbolKind.Property
            return lsp.DocumentSymbol(
                part.name or "-", kind, whole, head, part.detail, children=[*map(symbol, part.parts)]
            )

        return [symbol(part) for part in outline(lines, projects.entries(file))]

    @server.feature(lsp.TEXT_DOCUMENT_FOLDING_RANGE)
    def folding(params: lsp.FoldingRangeParams) -> list[lsp.FoldingRange]:
        file = _file(params.text_document.uri)
        parts = outline(projects.text(file).split("\n"), projects.entries(file))
        return [lsp.FoldingRange(part.first, part.last) for part in parts if part.last > part.first]


def _tidy(server: PolicyServer) -> None:
    projects = server.projects

    @server.feature(lsp.TEXT_DOCUMENT_FORMATTING)
    def formatted(params: lsp.DocumentFormattingParams) -> list[lsp.TextEdit]:
        file = _file(params.text_document.uri)
        text, neat = projects.text(file), server.neat(file)
        end = lsp.Position(text.count("\n") + 1, 0)
        return [lsp.TextEdit(lsp.Range(lsp.Position(0, 0), end), neat)] if neat not in (None, text) else []


def _rename(server: PolicyServer) -> None:
    projects = server.projects

    @server.feature(lsp.TEXT_DOCUMENT_PREPARE_RENAME)
    def may_rename(params: lsp.PrepareRenameParams) -> lsp.Range | None:
        file = _file(params.text_document.uri)
        line, column = server.place(file, params.position)
        name = name_at(projects, file, line, column)
        return server.locations([(file, name)])[0].range if name is not None else None

    @server.feature(lsp.TEXT_DOCUMENT_RENAME, lsp.RenameOptions(prepare_provider=True))
    def rename(params: lsp.RenameParams) -> lsp.WorkspaceEdit | None:
        file = _file(params.text_document.uri)
        try:
            places = renamed(projects, file, *server.place(file, params.position), params.new_name)
        except RenameError as error:
            server.window_show_message(lsp.ShowMessageParams(lsp.MessageType.Error, str(error)))
            return None
        edits = {}
        for other, names in places.items():
            where = server.locations([(other, name) for name in names])
            edits[_uri(other)] = [
                lsp.TextEdit(each.range, _written(name, params.new_name))
                for each, name in zip(where, names, strict=True)
            ]
        return lsp.WorkspaceEdit(changes=edits)


def _mend(server: PolicyServer) -> None:
    @server.feature(
        lsp.TEXT_DOCUMENT_CODE_ACTION, lsp.CodeActionOptions(code_action_kinds=[lsp.CodeActionKind.QuickFix])
    )
    def ways_out(params: lsp.CodeActionParams) -> list[lsp.CodeAction]:
        uri = params.text_document.uri
        text = server.projects.text(_file(uri))
        return [
            lsp.CodeAction(
                way.title,
                kind=lsp.CodeActionKind.QuickFix,
                diagnostics=[diagnostic],
                edit=lsp.WorkspaceEdit(changes={uri: [way.edit]}),
            )
            for diagnostic in params.context.diagnostics
            if diagnostic.source == "bloodroot" and (way := _way_out(server, text, diagnostic)) is not None
        ]


class _WayOut(NamedTuple):
    """A way out of something that is wrong: what to call it, and the change."""

    title: str
    edit: lsp.TextEdit


def _way_out(server: PolicyServer, text: str, diagnostic: lsp.Diagnostic) -> _WayOut | None:
    """The way out of something that is wrong, if there is one."""
    data: Any = diagnostic.data
    if isinstance(data, dict) and data.get("meant"):
        return _WayOut(f'Write "{data["meant"]}"', lsp.TextEdit(diagnostic.range, str(data["meant"])))
    if not isinstance(diagnostic.code, str):
        return None
    line = diagnostic.range.start.line
    last = next((entry.last for entry in entries_of(text) if entry.first <= line <= entry.last), line)
    lines = text.split("\n")
    found = accepting(lines, last, diagnostic.code)
    if found is None:
        return None
    at, words = found
    return _WayOut(f"Accept {diagnostic.code} here", lsp.TextEdit(server.range(lines, last, at, at), words))


def _written(name: Occurrence, new: str) -> str:
    return f'"{new}"' if name.end - name.start > len(name.name) else new
