"""Pages of the example as members see them, and the report of a probe, in headless Chromium.

pages.py FOLDER_OF_THE_EXAMPLE WHERE_TO REPORT [NAME ...]
"""

import shutil
import subprocess
import sys
import tempfile
import time
import urllib.request
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service

PAGES = {
    "page-curator": ("hazel@fernhollow.example", "/accessions/1"),
    "page-volunteer": ("wren@fernhollow.example", "/accessions/1"),
}
REPORT = "page-probe"
PORT = 8397
HOME = f"http://127.0.0.1:{PORT}"


def main() -> None:
    bank, out, report = map(Path, sys.argv[1:4])
    wanted = sys.argv[4:] or [*PAGES, REPORT]
    secrets = dict(line.split("=", 1) for line in (bank / "secrets.env").read_text("utf-8").split())
    server = subprocess.Popen(
        [sys.executable, "-m", "uvicorn", "seedbank.app:app", "--port", str(PORT), "--log-level", "critical"], cwd=bank
    )
    try:
        for _ in range(100):
            try:
                urllib.request.urlopen(HOME, timeout=5).close()
                break
            except OSError:
                time.sleep(0.1)
        for name in wanted:
            picture(name, out, report, secrets["SEEDBANK_PASSWORD"])
    finally:
        server.terminate()
        server.wait(10)


def picture(name: str, out: Path, report: Path, password: str) -> None:
    """One page as one member, or the report."""
    with tempfile.TemporaryDirectory() as folder:
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium") or ""
        for word in ("headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-sync"):
            options.add_argument(f"--{word}")
        options.add_argument("--disable-background-networking")
        options.add_argument("--disable-component-update")
        options.add_argument("--window-size=1280,700")
        options.add_argument(f"--user-data-dir={folder}")
        browser = webdriver.Chrome(options, Service(shutil.which("chromedriver")))
        try:
            if name == REPORT:
                browser.get(report.resolve().as_uri())
            else:
                email, path = PAGES[name]
                browser.get(f"{HOME}/sign-in?next={path}")
                browser.find_element("name", "email").send_keys(email)
                browser.find_element("name", "password").send_keys(password)
                browser.find_element("css selector", "main button").click()
                time.sleep(1)
                browser.get(HOME + path)
            browser.save_screenshot(str(out / f"{name}.png"))
            print(f"made {name}.png")
        finally:
            browser.quit()


main()
