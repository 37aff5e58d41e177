"""python -m tests [NAME ...]: run every test, or the modules whose names contain one of these."""

import sys
import time
import unittest
from pathlib import Path


def chosen(suite: unittest.TestSuite, words: list[str]) -> unittest.TestSuite:
    """The tests whose names contain one of the words."""
    found = unittest.TestSuite()
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            found.addTests(chosen(item, words))
        elif not words or any(word in item.id() for word in words):
            found.addTest(item)
    return found


def main() -> int:
    here = Path(__file__).parent
    suite = unittest.defaultTestLoader.discover(str(here), top_level_dir=str(here.parent))
    began = time.monotonic()
    result = unittest.TextTestRunner(verbosity=1).run(chosen(suite, sys.argv[1:]))
    failed = len({test for test, _ in result.failures + result.errors}) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped)
    print(f"in {time.monotonic() - began:.0f} s", flush=True)
    print(f"{max(passed, 0)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 0 if result.wasSuccessful() and result.testsRun else 1


sys.exit(main())
