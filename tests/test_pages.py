"""The example's pages in a real browser: what each member sees, and what a typed address does."""

import os
import shutil
import sys
import unittest

from tests.program import InFolder, write_bank
from tests.servers import serving

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")


@unittest.skipUnless((CHROMIUM and DRIVER) or os.environ.get("CI"), "needs chromium and chromedriver")
class Pages(InFolder):
    def setUp(self) -> None:
        super().setUp()
        from selenium import webdriver
        from selenium.webdriver.chrome.service import Service

        write_bank(self.folder / "bank")
        for line in (self.folder / "bank" / "secrets.env").read_text().split():
            name, _, value = line.partition("=")
            os.environ[name] = value
            self.addCleanup(os.environ.pop, name)
        sys.path.insert(0, str(self.folder / "bank"))
        self.addCleanup(sys.path.remove, str(self.folder / "bank"))
        for name in [name for name in sys.modules if name.split(".")[0] == "seedbank"]:
            del sys.modules[name]
        from seedbank.app import app

        server = serving(app)
        self.home = f"http://127.0.0.1:{server.__enter__()}"
        self.addCleanup(server.__exit__, None, None, None)
        options = webdriver.ChromeOptions()
        options.binary_location = CHROMIUM or ""
        for word in ("headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-sync"):
            options.add_argument(f"--{word}")
        options.add_argument("--disable-background-networking")
        options.add_argument("--disable-component-update")
        options.add_argument(f"--user-data-dir={self.folder / 'browser'}")
        self.browser = webdriver.Chrome(options, Service(DRIVER))
        self.addCleanup(self.browser.quit)

    def sign_in(self, email: str) -> None:
        if "/sign-in" not in self.browser.current_url:
            self.browser.get(self.home + "/sign-in")
        self.browser.find_element("name", "email").send_keys(email)
        self.browser.find_element("name", "password").send_keys(os.environ["SEEDBANK_PASSWORD"])
        self.press("main button")
        self.assertIn("Sign out", self.text())

    def press(self, selector: str) -> None:
        """Press a button, and wait until the page it leads to is there."""
        from selenium.common.exceptions import WebDriverException
        from selenium.webdriver.support.expected_conditions import staleness_of
        from selenium.webdriver.support.wait import WebDriverWait

        before = self.browser.find_element("tag name", "html")
        self.browser.find_element("css selector", selector).click()
        # A page that is just being taken away may be neither here nor gone.
        WebDriverWait(self.browser, 10, ignored_exceptions=[WebDriverException]).until(staleness_of(before))
        WebDriverWait(self.browser, 10).until(
            lambda browser: browser.execute_script("return document.readyState") == "complete"
        )

    def text(self) -> str:
        return self.browser.find_element("tag name", "body").text

    def at(self, path: str) -> str:
        self.browser.get(self.home + path)
        return self.text()

    def test_each_member_sees_what_the_policy_opens(self) -> None:
        self.at("/accessions?page=1")
        self.assertEqual(self.browser.current_url, self.home + "/sign-in?next=/accessions%3Fpage%3D1")
        self.sign_in("wren@fernhollow.example")
        self.assertEqual(self.browser.current_url, self.home + "/accessions?page=1")
        self.assertNotIn("Exchanges", self.text())
        self.assertIn("Fern sedge", self.text())
        self.assertNotIn("Ghost lantern", self.text())
        self.assertIn("Rare plants are shown to curators alone.", self.at("/accessions/12"))
        self.assertNotIn("Edit", self.at("/accessions/1"))
        self.assertIn("You do not have access to this.", self.at("/accessions/1/edit"))
        self.at("/desk")
        self.press("header button")
        self.assertIn("Sign in", self.text())
        self.sign_in("hazel@fernhollow.example")
        self.assertIn("Ghost lantern", self.at("/accessions"))
        self.at("/accessions/12")
        self.press("form[action$=edit] button")
        field = self.browser.find_element("name", "origin")
        field.clear()
        field.send_keys("a quiet wood")
        self.press("main button")
        self.assertIn("a quiet wood", self.text())
        self.assertIn("Good day, Hazel", self.at("/sign-in"))
        self.at("/sign-out")
        self.assertIn("There is nothing here.", self.text())
        for address in ("//evil.example", "https://evil.example", "/\\evil.example"):
            self.at("/desk")
            self.press("header button")
            self.at(f"/sign-in?next={address}")
            self.sign_in("hazel@fernhollow.example")
            self.assertEqual(self.browser.current_url, self.home + "/desk")
