"""The language server as an editor sees it: the installed program, over its standard input and output."""

import asyncio
import json
import re
import time
import tomllib
import unittest
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import Any

from lsprotocol import types as lsp
from pygls.lsp.client import LanguageClient

import bloodroot
from bloodroot.editing.diagnosing import accepting
from bloodroot.editing.occurrences import Kind, entries_of
from bloodroot.editing.projects import Projects
from bloodroot.language import tree
from bloodroot.language.parser import parse
from tests.editing.policies import policies_of_the_repository
from tests.program import PROGRAM, InFolder

POLICY = """
policy "Kilns"
include "fields.bloodroot"

roles
  member
  keeper  includes member  "löscht"

things
  studio  {studio_id}
  kiln    {kiln_id} in studio by studio_id

roles in studio
  stoker

groups
  "fire staff"  keeper

permissions
  kiln:read  member, stoker
  kiln:edit  keeper, member if own

conditions
  own   record.owner == caller.id  "Only its owner."
  late  own and now.time > 18:00

endpoints
  GET       /studios/{studio_id}/kilns/{kiln_id}  kiln:read
  PUT POST  /studios/{studio_id}/kilns/{kiln_id}  kiln:edit or stoker in any studio
  GET       /about   anyone  # keeper
  GET       /late    member if late
      accept dead-line "a reason with keeper in it"

denials
  own  status 403

always
  POST /** keeper or signed-out except /about
"""
FIELDS = """
fields kiln
  price  read keeper  change kiln:edit
  *      read member
"""


class Editor:
    """An editor with one file open."""

    def __init__(self, client: LanguageClient, file: Path) -> None:
        self.client, self.file, self.version = client, file, 1
        self.said: dict[str, list[lsp.Diagnostic]] = {}
        self.messages: list[str] = []
        self.document = lsp.TextDocumentIdentifier(file.as_uri())

        @client.feature(lsp.TEXT_DOCUMENT_PUBLISH_DIAGNOSTICS)
        def said(params: lsp.PublishDiagnosticsParams) -> None:
            self.said[params.uri.rpartition("/")[2]] = list(params.diagnostics)

        @client.feature(lsp.WINDOW_SHOW_MESSAGE)
        def shown(params: lsp.ShowMessageParams) -> None:
            self.messages.append(params.message)

    @property
    def text(self) -> str:
        return self._text

    def open(self) -> None:
        self._text = self.file.read_text("utf-8")
        item = lsp.TextDocumentItem(self.document.uri, "bloodroot", 1, self._text)
        self.client.text_document_did_open(lsp.DidOpenTextDocumentParams(item))

    def write(self, text: str) -> None:
        """The whole text anew, as one change."""
        self.version += 1
        self._text = text
        where = lsp.VersionedTextDocumentIdentifier(self.version, self.document.uri)
        changes = [lsp.TextDocumentContentChangeWholeDocument(text)]
        self.client.text_document_did_change(lsp.DidChangeTextDocumentParams(where, changes))

    def at(self, words: str, offset: int = 0) -> lsp.Position:
        """The position of words in the text, as UTF-16 counts."""
        before = self._text[: self._text.index(words) + offset]
        line = before.rpartition("\n")[2]
        return lsp.Position(before.count("\n"), len(line.encode("utf-16-le")) // 2)

    async def until(self, holds: Callable[[], bool]) -> None:
        deadline = time.monotonic() + 60
        while not holds():
            assert time.monotonic() < deadline, self.said
            await asyncio.sleep(0.02)


class Served(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("fields.bloodroot", FIELDS)
        self.write("bloodroot.toml", 'policy = "access.bloodroot"\n')

    def edit(self, work: Callable[[Editor], Awaitable[None]], file: str = "access.bloodroot") -> None:
        async def run() -> None:
            client = LanguageClient("tests", "1")
            editor = Editor(client, self.folder / file)
            await client.start_io(str(PROGRAM), "lsp", cwd=str(self.folder))
            try:
                await client.initialize_async(
                    lsp.InitializeParams(lsp.ClientCapabilities(), root_uri=self.folder.as_uri())
                )
                client.initialized(lsp.InitializedParams())
                editor.open()
                await editor.until(lambda: file in editor.said)
                await work(editor)
            finally:
                await client.shutdown_async(None)
                client.exit(None)
                await client.stop()

        asyncio.run(asyncio.wait_for(run(), 120))

    def test_mistakes_and_their_ways_out(self) -> None:
        async def work(editor: Editor) -> None:
            self.assertEqual(editor.said["access.bloodroot"], [])
            wrong = editor.text.replace("kiln:edit or stoker", "kiln:edti or stoker").replace(
                "/about   anyone", "/about"
            )
            editor.write(wrong)
            await editor.until(lambda: len(editor.said["access.bloodroot"]) == 2)
            found = editor.said["access.bloodroot"]
            self.assertEqual([each.severity for each in found], [lsp.DiagnosticSeverity.Error] * 2)
            place = found[0].range
            self.assertEqual(
                wrong.split("\n")[place.start.line][place.start.character : place.end.character], "kiln:edti"
            )
            context = lsp.CodeActionContext(found)
            actions = await editor.client.text_document_code_action_async(
                lsp.CodeActionParams(editor.document, place, context)
            )
            self.assertEqual([action.title for action in actions], ['Write "kiln:edit"'])
            self.assertEqual(list(actions[0].edit.changes[editor.document.uri]), [lsp.TextEdit(place, "kiln:edit")])
            # A mistake in an included file is said of that file, and goes with it.
            editor.write(editor.text.replace("kiln:edti", "kiln:edit").replace("/about  #", "/about  anyone  #"))
            self.write("fields.bloodroot", "fields kiln\n  price  read keper\n")
            editor.client.text_document_did_save(lsp.DidSaveTextDocumentParams(editor.document))
            await editor.until(lambda: len(editor.said.get("fields.bloodroot", [])) == 1)
            self.assertIn('did you mean "keeper"', editor.said["fields.bloodroot"][0].message)
            await editor.until(lambda: not editor.said["access.bloodroot"])
            self.write("fields.bloodroot", FIELDS)
            editor.client.text_document_did_save(lsp.DidSaveTextDocumentParams(editor.document))
            await editor.until(lambda: not editor.said["fields.bloodroot"])

        self.edit(work)

    def test_findings_are_accepted(self) -> None:
        async def work(editor: Editor) -> None:
            editor.write(editor.text + 'endpoints\n  POST /upload  anyone  "ünsigned"  # for now\n')
            await editor.until(lambda: any(each.code == "open-change" for each in editor.said["access.bloodroot"]))
            found = [each for each in editor.said["access.bloodroot"] if each.code == "open-change"]
            params = lsp.CodeActionParams(editor.document, found[0].range, lsp.CodeActionContext(found))
            (action,) = await editor.client.text_document_code_action_async(params)
            self.assertEqual(action.title, "Accept open-change here")
            (edit,) = action.edit.changes[editor.document.uri]
            lines = editor.text.split("\n")
            at = edit.range.start
            line = lines[at.line]
            lines[at.line] = line[: at.character] + edit.new_text + line[at.character :]
            editor.write("\n".join(lines))
            self.assertIn('anyone  accept open-change "why this is right"  "ünsigned"  # for now', editor.text)
            await editor.until(
                lambda: not [each for each in editor.said["access.bloodroot"] if each.code == "open-change"]
            )

        self.edit(work)

    def test_who_gets_in(self) -> None:
        async def shown_at(editor: Editor, words: str, offset: int) -> str:
            hover = await editor.client.text_document_hover_async(
                lsp.HoverParams(editor.document, editor.at(words, offset))
            )
            return hover.contents.value if hover is not None else ""

        async def work(editor: Editor) -> None:
            line = await shown_at(editor, "GET       /studios", 1)
            self.assertIn("- gets in: member, keeper, stoker in studio", line)
            self.assertIn("- is asked to sign in: signed-out", line)
            self.assertIn("kiln:read is given to member or stoker in studio", line)
            self.assertIn("**PUT /studios", await shown_at(editor, "PUT POST", 1))
            self.assertIn("if own", await shown_at(editor, "PUT POST", 1))
            for words, offset, expected in (
                ("kiln:edit or", 3, "It is given to keeper or (member and own)."),
                ("own and", 1, "own   record.owner == caller.id"),
                ("keeper\n\npermissions", 1, "role in access.bloodroot:6"),
                ("member, stoker", 1, "It is held by keeper as well."),
                ("# keeper", 4, "It requires anyone."),
                ("with keeper in it", 6, ""),
                ("policy", 1, ""),
            ):
                with self.subTest(words):
                    found = await shown_at(editor, words, offset)
                    self.assertEqual(expected in found and bool(expected), bool(found), found)
            # It answers while the text has mistakes, from what was whole last.
            editor.write(editor.text.replace("GET       /about   anyone", "GET       /about   anyoen"))
            await editor.until(lambda: bool(editor.said["access.bloodroot"]))
            line = await shown_at(editor, "GET       /studios", 1)
            self.assertIn("- gets in: member", line)
            self.assertIn("before the mistakes that the policy has now", line)

        self.edit(work)

    def test_names_across_files(self) -> None:
        async def work(editor: Editor) -> None:
            def where(found: Any) -> list[tuple[str, int, int]]:
                return [
                    (each.uri.rpartition("/")[2], each.range.start.line + 1, each.range.start.character)
                    for each in found
                ]

            position = editor.at("keeper, member if own", 2)
            definition = await editor.client.text_document_definition_async(
                lsp.DefinitionParams(editor.document, position)
            )
            self.assertEqual(where(definition), [("access.bloodroot", 6, 2)])
            every = await editor.client.text_document_references_async(
                lsp.ReferenceParams(lsp.ReferenceContext(True), editor.document, position)
            )
            self.assertEqual(
                where(every),
                [
                    *(("access.bloodroot", line, column) for line, column in ((6, 2), (16, 16), (20, 13), (37, 11))),
                    ("fields.bloodroot", 2, 14),
                ],
            )
            for words, offset, new, error in (
                ("keeper  includes", 1, "fire-keeper", None),
                ("keeper  includes", 1, "kiln:keep", "cannot be the name of a role"),
                ("keeper  includes", 1, "own", "is declared already"),
                ('"fire staff"', 3, "crew of fire", None),
                ("kiln:edit or", 1, "kiln:change", None),
                ("kiln    {", 1, "oven", None),
                ("own and", 1, "mine", None),
                ("policy", 1, "x", "no name here"),
            ):
                with self.subTest(words, new=new):
                    params = lsp.RenameParams(editor.document, editor.at(words, offset), new)
                    edit = await editor.client.text_document_rename_async(params)
                    if error is not None:
                        self.assertIsNone(edit)
                        await editor.until(lambda: bool(editor.messages))
                        self.assertIn(error, editor.messages.pop())
                        continue
                    texts = {file: self.applied(file, edit) for file in ("access.bloodroot", "fields.bloodroot")}
                    renamed = self.folder / "renamed"
                    renamed.mkdir(exist_ok=True)
                    for file, text in texts.items():
                        (renamed / file).write_text(text, "utf-8")
                    self.assertIn(new, texts["access.bloodroot"])
                    # It is another spelling of the same policy.
                    after, before = bloodroot.load(renamed / "access.bloodroot"), bloodroot.load(editor.file)
                    self.assertEqual(len(after.endpoints), len(before.endpoints))
                    for name in ("keeper", "member"):
                        caller = bloodroot.Caller("ash", [new if new == "fire-keeper" and name == "keeper" else name])
                        old = bloodroot.Caller("ash", [name])
                        path = "/studios/1/kilns/7"
                        self.assertEqual(
                            after.decide(caller, "PUT", path, record={"owner": "ash"}).outcome,
                            before.decide(old, "PUT", path, record={"owner": "ash"}).outcome,
                        )

        self.edit(work)

    def applied(self, file: str, edit: lsp.WorkspaceEdit) -> str:
        """A file with the changes of an edit."""
        lines = (self.folder / file).read_text("utf-8").split("\n")
        edits = edit.changes.get((self.folder / file).as_uri(), ())
        for each in sorted(edits, key=lambda one: (one.range.start.line, one.range.start.character), reverse=True):
            line, start, end = each.range.start.line, each.range.start.character, each.range.end.character
            lines[line] = lines[line][:start] + each.new_text + lines[line][end:]
        return "\n".join(lines)

    def test_completion_where_the_grammar_takes_it(self) -> None:
        kept = {"endpoints": [{"path": "/kilns/{kiln_id}", "methods": ["GET", "PUT"]}]}
        self.write(".bloodroot/endpoints.json", json.dumps(kept))

        async def work(editor: Editor) -> None:
            for line, has, lacks in (
                ("end", {"endpoints", "roles in", "denials"}, {"keeper"}),
                ("endpoints\n  ", {"GET", "any", "action", "WEBSOCKET"}, {"keeper"}),
                ("endpoints\n  GET ", {"POST", "/kilns/{kiln_id}"}, {"GET", "keeper"}),
                ("endpoints\n  GET /x ", {"keeper", "kiln:edit", "own", "anyone", "not"}, {"or", "studio"}),
                ("endpoints\n  GET /x  kiln:e", {"kiln:edit"}, set()),
                ("endpoints\n  GET /x  keeper ", {"or", "and", "if", "accept"}, {"keeper"}),
                ("endpoints\n  GET /x  keeper\n    or ", {"kiln:edit", "member"}, {"GET"}),
                ("endpoints\n  action a.b ", {"keeper"}, {"GET"}),
                ("roles\n  other  includes ", {"keeper"}, {"own", "kiln:edit"}),
                ("roles\n  other ", {"includes", "default"}, set()),
                ('groups\n  "x"  ', {"keeper"}, {"own"}),
                ("permissions\n  a:b  keeper if ", {"own"}, {"keeper"}),
                ("permissions\n  a:b  ", {"keeper", "anyone"}, {"own"}),
                ("conditions\n  other  ", {"own", "record.", "now"}, {"keeper"}),
                ("denials\n  ", {"own", "signed-out", "any"}, {"keeper"}),
                ("things\n  shelf {x} in ", {"kiln", "studio"}, {"keeper"}),
                ("fields x\n  a  read ", {"keeper", "kiln:edit"}, set()),
                ("endpoints\n  GET /x  keeper  # ", set(), {"or"}),
                ('endpoints\n  GET /x  keeper  accept dead-line "a ', set(), {"or"}),
            ):
                with self.subTest(line):
                    editor.write(f"{POLICY}{line}")
                    end = lsp.Position(editor.text.count("\n"), len(editor.text.rpartition("\n")[2]))
                    found = await editor.client.text_document_completion_async(
                        lsp.CompletionParams(editor.document, end)
                    )
                    texts = {each.label for each in found}
                    self.assertLessEqual(has, texts)
                    self.assertEqual(lacks & texts, set())
                    word = editor.text.rpartition(" ")[2] if not line.endswith("end") else "end"
                    for each in found:
                        self.assertEqual(each.text_edit.range.start.character, end.character - len(word))

        self.edit(work)

    def test_format_symbols_and_folds(self) -> None:
        async def work(editor: Editor) -> None:
            options = lsp.FormattingOptions(2, True)
            (edit,) = await editor.client.text_document_formatting_async(
                lsp.DocumentFormattingParams(editor.document, options)
            )
            self.write("neat.bloodroot", "").write_text(edit.new_text, "utf-8")
            self.assertEqual(self.bloodroot("format", "--check", "neat.bloodroot").status, 0)
            symbols = await editor.client.text_document_document_symbol_async(lsp.DocumentSymbolParams(editor.document))
            self.assertEqual([each.name for each in symbols][2:4], ["roles", "things"])
            names = [each.name for each in next(each for each in symbols if each.name == "endpoints").children]
            self.assertEqual(names[1], "PUT POST /studios/{studio_id}/kilns/{kiln_id}")
            for each in symbols:
                for child in each.children:
                    self.assertLessEqual(each.range.start.line, child.range.start.line)
                    self.assertLessEqual(child.range.end.line, each.range.end.line)
            folds = await editor.client.text_document_folding_range_async(lsp.FoldingRangeParams(editor.document))
            lines = editor.text.split("\n")
            self.assertEqual(lines[folds[0].start_line], "roles")
            self.assertEqual(lines[folds[-1].start_line], "always")
            editor.write(editor.text + "\n  stray")
            params = lsp.DocumentFormattingParams(editor.document, options)
            self.assertEqual(list(await editor.client.text_document_formatting_async(params)), [])

        self.edit(work)


class Names(unittest.TestCase):
    def test_names_are_those_of_the_tree(self) -> None:
        """What is found by entries, in a text that may have mistakes, is what the tree of a whole text has."""
        for text in (POLICY.replace('include "fields.bloodroot"\n', "") + FIELDS, *policies_of_the_repository()):
            document = parse(text)
            declared = {
                *((Kind.ROLE, each.name.text) for section in document.sections for each in section.entries if isinstance(each, tree.Role)),
                *((Kind.PERMISSION, each.name.text) for each in document.entries(tree.Permission)),
                *((Kind.CONDITION, each.name.text) for each in document.entries(tree.Condition)),
                *((Kind.THING, each.name.text) for each in document.entries(tree.Thing)),
                *((Kind.GROUP, each.name) for each in document.entries(tree.Group)),
            }  # fmt: skip
            names = [name for entry in entries_of(text) for name in entry.names]
            self.assertEqual({(name.kind, name.name) for name in names if name.is_declared}, declared)
            lines = text.split("\n")
            for name in names:
                self.assertEqual(lines[name.line][name.start : name.end].strip('"'), name.name)

    def test_accepting_leaves_a_policy_that_can_be_read(self) -> None:
        for text in policies_of_the_repository():
            lines = text.split("\n")
            for entry in entries_of(text):
                found = accepting(lines, entry.last, "open-change")
                if entry.header or found is None or entry.section in ("denials",):
                    continue
                at, words = found
                line = lines[entry.last]
                changed = [*lines[: entry.last], line[:at] + words + line[at:], *lines[entry.last + 1 :]]
                parse("\n".join(changed))

    def test_entries_are_those_of_the_present_text(self) -> None:
        """Lines that are known from before are where they are now, in the section that they are in now."""
        text = "roles\n  a\n  b includes a\npermissions\n  x:y  a, b\nendpoints\n  GET /a  a or\n    x:y\n  GET /b  b\n"
        projects, file = Projects(), Path("/nowhere/access.bloodroot")
        for changed in (
            text,
            "roles\n  new\n" + text,
            text.replace("permissions", "endpoints"),
            text.replace("  a\n", ""),
        ):
            projects.open(file, changed)
            lines = changed.split("\n")
            fresh = [
                (name, lines[name.line][name.start : name.end])
                for entry in projects.entries(file)
                for name in entry.names
            ]
            self.assertTrue(all(name.name == written for name, written in fresh), fresh)
            declared = {name.name for _, name in projects.declared(file) if name.kind is Kind.ROLE}
            self.assertEqual(declared, {"a", "b", "new"} & set(changed.split()) if "  a\n" in changed else {"b"})


class Page(unittest.TestCase):
    def test_every_editor_starts_the_program_as_it_is(self) -> None:
        page = (Path(__file__).parents[2] / "docs" / "editors.md").read_text("utf-8")
        blocks = dict(re.findall(r"```(json|lua|elisp|toml)\n(.*?)```", page, re.S))
        self.assertEqual(json.loads(blocks["json"]), {"bloodroot.command": ".venv/bin/bloodroot"})
        helix = tomllib.loads(blocks["toml"])["language-server"]["bloodroot"]
        for words in (
            (helix["command"], *helix["args"]),
            re.findall(r'cmd = \{ "(\w+)", "(\w+)" \}', blocks["lua"])[0],
        ):
            self.assertEqual(tuple(words), ("bloodroot", "lsp"))
        self.assertIn('(bloodroot-mode "bloodroot" "lsp")', blocks["elisp"])
