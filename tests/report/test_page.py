"""The pages of matrix and comparison in a real browser, opened from disk."""

import base64
import json
import os
import shutil
import tempfile
import unittest
from pathlib import Path
from typing import Any

from tests.cli.test_demo import changed
from tests.program import InFolder, forked, write_bank
from tests.report.test_terminal import many

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")
WORDS = ("headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-sync")
QUIET = ("disable-background-networking", "disable-component-update")
CELL = 'tr[data-n="{}"] td[data-c="{}"]'


@unittest.skipUnless((CHROMIUM and DRIVER) or os.environ.get("CI"), "needs chromium and chromedriver")
class Pages(InFolder):
    @classmethod
    def setUpClass(cls) -> None:
        from selenium import webdriver
        from selenium.webdriver.chrome.service import Service

        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.bank = Path(folder.name).resolve() / "bank"

        def run(*words: str) -> None:
            done = forked(cls.bank, *words)
            assert done.status == 0, done.out + done.err

        write_bank(cls.bank)
        run("probe", "--only", "*/trials*", "--persona", "botanist", "--persona", "curator", "--persona", "visitor")
        text = (cls.bank / "access.bloodroot").read_text("utf-8")
        (cls.bank / "changed.bloodroot").write_text(changed(text), "utf-8")
        # A title that would be markup if a page took it for it.
        (cls.bank / "many.bloodroot").write_text('policy "<b>Many</b> </script><!--"\n' + many(12, 60), "utf-8")
        (cls.bank / "alone.toml").write_text('policy = "many.bloodroot"\n', "utf-8")
        run("matrix", "--out", "matrix.html")
        run("matrix", "--personas", "--observed", ".bloodroot/probe.jsonl", "--out", "observed.html")
        run("compare", "access.bloodroot", "changed.bloodroot", "--out", "compare.html")
        run("matrix", "--policy", "many.bloodroot", "--settings", "alone.toml", "--out", "many.html")
        run("members", "--out", "review.html")
        options = webdriver.ChromeOptions()
        options.binary_location = CHROMIUM or ""
        for word in (*WORDS, *QUIET, "window-size=1280,800"):
            options.add_argument(f"--{word}")
        options.add_argument(f"--user-data-dir={folder.name}/browser")
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        cls.browser = webdriver.Chrome(options, Service(DRIVER))
        cls.addClassCleanup(cls.browser.quit)

    def open(self, name: str, said: str = "") -> None:
        self.browser.get("about:blank")
        self.browser.get(f"file://{self.bank}/{name}.html{'#' if said else ''}{said}")

    def do(self, script: str) -> Any:
        return self.browser.execute_script(script)

    def choose(self, name: str, value: str) -> None:
        """Type into a field, or choose of a list, as a person would."""
        event = "input" if name == "q" else "change"
        self.do(
            f'const e = document.getElementById("{name}"); e.value = "{value}"; e.dispatchEvent(new Event("{event}"))'
        )

    def rows(self) -> list[str]:
        """The endpoints that are shown."""
        script = (
            'return [...document.querySelectorAll("#sheet tr[data-n]")].filter(tr => tr.offsetParent !== null'
            ' && tr.getClientRects().length).map(tr => tr.querySelector("th").textContent.trim())'
        )
        found: list[str] = self.do(script)
        return found

    def press(self, *keys: str) -> None:
        from selenium.webdriver.common.action_chains import ActionChains

        ActionChains(self.browser).send_keys(*keys).perform()

    def focused(self) -> str:
        script = (
            'const c = document.activeElement; const tr = c.closest && c.closest("tr[data-n]");'
            'return tr ? tr.querySelector("th").textContent.trim() + "|" + data.columns[c.dataset.c] : c.id'
        )
        return str(self.do(script))

    def test_filters(self) -> None:
        self.open("matrix")
        count = len(self.rows())
        self.assertEqual(
            self.do('return document.getElementById("count").textContent'), f"{count} of {count} endpoints"
        )
        self.choose("q", "trials edit")
        self.assertEqual(
            self.rows(),
            [
                "GET /trials/{trial_id}/edit",
                "POST /trials/{trial_id}",
                "PATCH /api/trials/{trial_id}",
                "DELETE /api/trials/{trial_id}",
            ],
        )
        self.choose("q", "own-trial")  # a condition
        self.assertEqual(len(self.rows()), 4)
        self.choose("q", "")
        self.choose("area", "/members")
        self.assertEqual(len(self.rows()), 3)
        self.choose("outcome", "d")
        self.choose("role", "curator")
        self.assertEqual(self.rows(), ["GET /members/{member_id}"])
        heads = self.do(
            'return [...document.querySelectorAll("#sheet thead th")].filter(e => e.offsetParent).map(e => e.textContent)'
        )
        self.assertEqual(heads, ["endpoint", "curator", "let in"])
        # All of that is in the address, and comes back from it.
        said = self.do("return location.hash").removeprefix("#")
        self.open("matrix", said)
        self.assertEqual(self.rows(), ["GET /members/{member_id}"])

    def test_areas_fold(self) -> None:
        self.open("matrix")
        every = self.rows()
        self.do("document.querySelector('tbody[data-area=\"/trials\"] button').click()")
        self.assertNotIn("GET /trials", self.rows())
        self.assertIn("GET /accessions", self.rows())
        self.assertIn("fold=%2Ftrials", self.do("return location.hash"))
        self.do('document.getElementById("fold").click()')
        self.assertEqual(self.rows(), [])
        self.do('document.getElementById("unfold").click()')
        self.assertEqual(self.rows(), every)

    def test_a_click_shows_why(self) -> None:
        self.open("matrix")
        # Found by its names, then clicked with the mouse.
        self.do(
            'window.c = [...document.querySelectorAll("#sheet tr[data-n]")].find(tr => tr.textContent.startsWith("POST /trials/{trial_id}")).querySelector(`td[data-c="${data.columns.indexOf("botanist")}"]`); c.scrollIntoView()'
        )
        from selenium.webdriver.common.action_chains import ActionChains

        cell = self.do("return window.c")
        ActionChains(self.browser).click(cell).perform()
        panel = self.do('return document.getElementById("why").innerText')
        for text in (
            "depends: if own-trial (own-trial is record.botanist_id == caller.id), while active holds",
            "standing: depends on active",
            "access.bloodroot:59",
            "POST   /trials/{trial_id}   trial:edit",
            "GET   /trials/{trial_id}/edit",  # the text around the line
            "bloodroot why botanist POST /trials/x",
        ):
            self.assertIn(text, panel)
        # What is to be pasted is one word for a shell, whatever is in it.
        for text, word in (("/x/$(id)", "'/x/$(id)'"), ("a'b", "'a'\"'\"'b'"), ("/trials/7", "/trials/7")):
            self.assertEqual(self.do(f"return word({json.dumps(text)})"), word)
        self.assertIn("cell=POST+%2Ftrials%2F%7Btrial_id%7D%7Cbotanist", self.do("return location.hash"))

    def test_everything_by_keyboard(self) -> None:
        from selenium.webdriver.common.keys import Keys

        self.open("matrix")
        self.press("/")
        self.assertEqual(self.focused(), "q")
        self.press("trial", Keys.TAB, Keys.TAB, Keys.TAB, Keys.TAB)
        self.assertEqual(self.focused(), "fold")
        self.press(*[Keys.TAB] * 4)  # two buttons, the area's, then the table: one stop for all of its cells
        self.assertEqual(self.focused(), "GET /trials|signed-out")
        self.press(Keys.ARROW_RIGHT, Keys.ARROW_DOWN, Keys.ARROW_DOWN)
        self.assertEqual(self.focused(), "POST /trials|signed-in")
        self.press(Keys.END)
        self.assertEqual(self.focused(), "POST /trials|curator")
        self.press(Keys.ENTER)
        self.assertEqual(self.focused(), "why")
        self.assertIn("curator", self.do('return document.getElementById("why").innerText'))
        self.press(Keys.ESCAPE)
        self.assertEqual(self.focused(), "POST /trials|curator")
        self.assertTrue(self.do('return document.getElementById("why").hidden'))

    def test_headings_stay(self) -> None:
        for name in ("matrix", "many"):
            with self.subTest(name):
                self.open(name)
                top = self.do(
                    'const s = document.getElementById("sheet"); s.scrollTop = 400; s.scrollLeft = 60;'
                    'const h = document.querySelector("#sheet thead th:nth-child(3)").getBoundingClientRect();'
                    'const r = document.querySelector("#sheet tr[data-n] th").getBoundingClientRect(), b = s.getBoundingClientRect();'
                    "return [Math.round(h.top - b.top), Math.round(r.left - b.left)]"
                )
                self.assertLessEqual(max(map(abs, top)), 2)

    def test_dark_and_light(self) -> None:
        paper = "return getComputedStyle(document.body).backgroundColor"
        for theme, colour in (("light", "rgb(251, 250, 246)"), ("dark", "rgb(21, 27, 25)")):
            features = [{"name": "prefers-color-scheme", "value": theme}]
            self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
            self.open("matrix")
            self.assertEqual(self.do(paper), colour)
        self.do('document.getElementById("theme").click()')
        self.assertEqual(self.do(paper), "rgb(251, 250, 246)")
        self.assertIn("theme=light", self.do("return location.hash"))
        self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})

    def test_print(self) -> None:
        for name in ("matrix", "many"):
            with self.subTest(name):
                self.open(name, "fold=/trials,/area-1")
                self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": "print"})
                try:
                    # What is folded on the screen is on paper, and nothing is behind a scroll bar.
                    self.assertEqual(len(self.rows()), self.do("return rows.length"))
                    hidden = 'return getComputedStyle(document.getElementById("tools")).display'
                    self.assertEqual(self.do(hidden), "none")
                    self.assertTrue(
                        self.do(
                            'const s = document.getElementById("sheet"); return s.scrollHeight <= s.clientHeight + 1'
                        )
                    )
                finally:
                    self.browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"media": ""})
                pdf = base64.b64decode(self.browser.execute_cdp_cmd("Page.printToPDF", {})["data"])
                self.assertTrue(pdf.startswith(b"%PDF"))

    def test_what_changes(self) -> None:
        self.open("compare")
        self.assertEqual(
            self.rows(),
            [
                "GET /accessions/new",
                "POST /accessions",
                "POST /members/{member_id}/suspend",
                "GET /reports/{report}",
                "GET /reports/germination gone",
            ],
        )
        self.do('document.querySelector("ul.changes a").click()')
        panel = self.do('return document.getElementById("why").innerText')
        self.assertIn("access.bloodroot\tdeny\nchanged.bloodroot\tallow", panel)
        self.choose("change", "widened")
        self.assertEqual(self.rows(), ["POST /members/{member_id}/suspend"])
        self.choose("change", "")
        self.assertEqual(len(self.rows()), int(self.do('return document.querySelectorAll("#sheet tr[data-n]").length')))

    def test_what_was_observed(self) -> None:
        self.open("observed", "cell=POST+/trials/{trial_id}|botanist")
        panel = self.do('return document.getElementById("why").innerText')
        self.assertIn("POST /trials/7\tif own-trial\tlet in, 303: agree", panel)
        self.assertIn("POST /trials/8\tif own-trial\trefused, 403: agree", panel)

    def test_names_are_no_markup(self) -> None:
        self.open("many")
        self.assertEqual(self.do('return document.querySelector("h1").textContent'), "<b>Many</b> </script><!--")
        self.assertEqual(len(self.rows()), 60)

    def test_nothing_is_loaded_and_nothing_goes_wrong(self) -> None:
        for name in ("matrix", "observed", "compare", "many", "review"):
            text = (self.bank / f"{name}.html").read_text("utf-8")
            self.assertNotRegex(text, r'(src|href)="(?!#)')
            self.browser.get_log("browser")
            self.open(name)
            self.assertEqual(self.browser.get_log("browser"), [])

    def test_accessible(self) -> None:
        import axe_core_python

        script = (Path(axe_core_python.__file__).parent / "axe.min.js").read_text("utf-8")
        for name, said in (
            ("matrix", ""),
            ("matrix", "theme=dark&cell=GET+/trials/{trial_id}/edit|botanist"),
            ("observed", "theme=light&cell=GET+/trials|botanist"),
            ("compare", "theme=dark"),
            ("many", "theme=light&q=area-1"),
            ("review", ""),
        ):
            with self.subTest(name, said=said):
                self.open(name, said)
                self.do(script)
                found = self.browser.execute_async_script(
                    "const done = arguments[0]; axe.run(document, {resultTypes: ['violations']}).then(r => done("
                    "r.violations.map(v => [v.id, v.nodes.length, v.nodes[0].html])))"
                )
                self.assertEqual(found, [])
