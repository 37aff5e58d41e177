"""Pages of the example as members see them, and reports, in headless Chromium.

pages.py FOLDER_OF_THE_EXAMPLE WHERE_TO FOLDER_OF_REPORTS [NAME ...]
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
# Each is NAME.html in the folder of reports, with what its address says.
REPORTS = {
    "page-probe": "",
    "page-matrix": "cell=POST+/trials/{trial_id}|botanist",
    "page-compare": "cell=POST+/members/{member_id}/suspend|registrar",
}
PORT = 8397
HOME = f"http://127.0.0.1:{PORT}"


def main() -> None:
    bank, out, reports = map(Path, sys.argv[1:4])
    wanted = sys.argv[4:] or [*PAGES, *REPORTS]
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
            picture(name, out, reports, secrets["SEEDBANK_PASSWORD"])
    finally:
        server.terminate()
        server.wait(10)


def picture(name: str, out: Path, reports: Path, password: str) -> None:
    """One page as one member, half as wide as a window; or a report."""
    with tempfile.TemporaryDirectory() as folder:
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium") or ""
        for word in ("headless", "no-sandbox", "disable-gpu", "disable-quic", "no-first-run", "disable-sync"):
            options.add_argument(f"--{word}")
        options.add_argument("--disable-background-networking")
        options.add_argument("--disable-component-update")
        width = 1280 if name in REPORTS else 640
        options.add_argument(f"--window-size={width},800")
        options.add_argument(f"--user-data-dir={folder}")
        browser = webdriver.Chrome(options, Service(shutil.which("chromedriver")))
        try:
            size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
            browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
            if name in REPORTS:
                browser.get(f"{(reports / f'{name}.html').resolve().as_uri()}#{REPORTS[name]}")
                time.sleep(0.5)
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
