"""Applications in other styles: each hole is found, what no answer can show is named, and the sound ones are well."""

from __future__ import annotations

import json
import shutil
from itertools import zip_longest
from pathlib import Path

from tests.program import InFolder, alone, forked

STYLES = Path(__file__).parents[1] / "data" / "styles"
# By style, the holes at each endpoint.
HOLES = {
    "rpc": {
        "POST /rpc/pot.list": ("list",),
        "POST /rpc/pot.get": ("get-out", "get", "get-in-error"),
        "POST /rpc/pot.rename": ("rename", "rename-first"),
        "POST /rpc/pot.close-many": ("many-any",),
        "POST /rpc/potter.make-warden": ("warden",),
        "POST /rpc/report.start": ("report-after",),
        "POST /rpc/batch": ("batch",),
    },
    "graphql": {
        "POST /graphql": ("by-id", "list", "open"),
        "GET /graphql": ("get",),
        "GET /media/{note}": ("media",),
    },
    "jsonapi": {
        "GET /accessions": ("include", "include-notes", "list", "filter"),
        "GET /accessions/{accession}": ("get",),
        "PATCH /accessions/{accession}": ("body-id",),
        "DELETE /accessions/{accession}": ("delete",),
        "PATCH /accessions/{accession}/relationships/collector": ("rel",),
        "GET /accessions/{accession}/relationships/collector": ("rel-get",),
        "GET /accessions/{accession}/notes": ("notes",),
        "GET /accessions/{accession}/notes/{note}": ("note",),
        "GET /collectors/{collector}": ("salary",),
    },
    "pages": {
        "GET /firings": ("list",),
        "GET /firings/{firing}": ("leak", "leak-closed", "view"),
        "POST /firings/{firing}/edit": ("post-open",),
        "GET /firings/{firing}/edit": ("", "closed"),
        "POST /firings/{firing}/cancel": ("cancel-silent", "cancel"),
        "POST /ledger": ("ledger-post",),
        "GET /ledger": ("other-words",),
        "GET /ledger/print": ("print", "print-out"),
    },
    "downloads": {
        "GET /recipes": ("list",),
        "GET /recipes/{recipe}": ("etag", "etag-header", "count"),
        "PUT /recipes/{recipe}": ("etag-put",),
        "DELETE /recipes/{recipe}": ("delete",),
        "GET /recipes/{recipe}/file": ("range", "file", "file-name"),
        "GET /recipes/{recipe}/preview": ("preview", "preview-redirect"),
        "POST /exports": ("export",),
        "GET /exports/{job}": ("job",),
        "GET /exports/{job}/result": ("result",),
        "HEAD /archive.zip": ("zip-head",),
    },
    "deleted": {
        "GET /moulds": ("list", "list-deleted"),
        "POST /moulds": ("add",),
        "GET /moulds/{mould}": ("gone", "deleted", "get"),
        "PATCH /moulds/{mould}": ("patch", "viewer-patch", "patch-deleted"),
        "GET /moulds/trash": ("trash", "trash-all"),
        "POST /moulds/{mould}/restore": ("restore",),
        "GET /moulds/{mould}/log": ("log", "log-out"),
        "POST /moulds/bulk-delete": ("bulk",),
        "POST /moulds/transfer": ("transfer",),
    },
    "sockets": {
        "WEBSOCKET /kilns/{kiln}/live": ("late", "live"),
        "WEBSOCKET /lobby": ("lobby", "push"),
        "WEBSOCKET /yard": ("yard",),
    },
    "wsgi": {
        "GET /trays": ("list",),
        "PUT /trays/{tray}": ("", "any-method"),
        "POST /trays/{tray}": ("post",),
        "GET /trays/{tray}": ("get",),
        "HEAD /trays/{tray}": ("", "", "head"),
        "POST /till": ("till-post",),
        "GET /till": ("till", "till-out"),
        "GET /staff/{person}": ("self",),
        "POST /staff/{person}": ("staff-post",),
    },
}
# Holes that no answer can show, and what a run says of them.
NAMED = {
    "rpc": ("count", "not what is shown, as no mark is in any answer: POST /rpc/pot.count"),
    "graphql": ("mutation,role", "not all was judged at POST /graphql"),
    "downloads": ("zip-stale", "no query was varied"),
    "deleted": ("search", "no query was varied"),
    "wsgi": ("backup", "what the policy does not name was not asked for"),
}
# What a hole opens elsewhere as well.
ALSO = {
    "closed": "POST /firings/{firing}/edit",
    "include": "GET /accessions/{accession}",
    "include-notes": "GET /accessions/{accession}",
    "open": "GET /graphql",
    "patch-deleted": "DELETE /moulds/{mould}",
    "self": "POST /staff/{person}",
    "till-out": "POST /till",
    "viewer-patch": "DELETE /moulds/{mould}",
}


class Styles(InFolder):
    runs = staticmethod(forked)

    def test_each_hole(self) -> None:
        for style, at in HOLES.items():
            shutil.copytree(STYLES / style, self.folder / style)
            self.inner = self.folder / style
            # Django is set up but once in a process.
            self.runs = alone if "django" in (self.inner / "place.py").read_text() else forked
            with self.subTest(style):
                self.assertEqual(self.probed("", 0), {})
            for holes in zip_longest(*at.values(), fillvalue=""):
                opened = {hole: endpoint for endpoint, hole in zip(at, holes, strict=True) if hole}
                found = self.probed(",".join(opened), 1)
                for hole, endpoint in opened.items():
                    with self.subTest(style, hole=hole):
                        self.assertIn(endpoint, found)
                with self.subTest(style, holes=holes):
                    also = {ALSO.get(hole) for hole in holes}
                    self.assertLessEqual(set(found), {*opened.values(), *also})

    def test_what_no_answer_shows_is_named(self) -> None:
        for style, (holes, words) in NAMED.items():
            shutil.copytree(STYLES / style, self.folder / style)
            with self.subTest(style):
                run = self.bloodroot("probe", "--settings", f"{style}/bloodroot.toml", STUDIO_HOLES=holes)
                self.assertIn(words, " ".join(run.out.split()))

    def probed(self, holes: str, status: int) -> dict[str, set[str]]:
        """What is not as declared, or not known, by endpoint."""
        words = ("probe", "--settings", self.inner / "bloodroot.toml", "--format", "json")
        run = self.bloodroot(*words, STUDIO_HOLES=holes)
        self.assertEqual(run.status, status, run.err)
        found: dict[str, set[str]] = {}
        for each in json.loads(run.out)["observations"]:
            if each["verdict"] != "agree" and not (
                each["path"] == "/moulds/trash" and each["verdict"] == "inconclusive"
            ):
                found.setdefault(f"{each['method']} {each['template']}", set()).add(each["verdict"])
        return found
