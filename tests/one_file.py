"""The tests of one file, run in a process that other files may have had before."""

import io
import time
import unittest
from typing import NamedTuple


class Done(NamedTuple):
    """What came of the tests of one file."""

    output: str
    run: int
    failed: int
    skipped: int


def chosen(suite: unittest.TestSuite, words: list[str]) -> unittest.TestSuite:
    """The tests whose names contain one of the words."""
    found = unittest.TestSuite()
    for item in suite:
        if isinstance(item, unittest.TestSuite):
            found.addTests(chosen(item, words))
        elif not words or any(word in item.id() for word in words):
            found.addTest(item)
    return found


def run(module: str, words: list[str]) -> Done:
    """Run those tests of a file whose names contain one of the words."""
    output = io.StringIO()
    suite = chosen(unittest.TestSuite([unittest.defaultTestLoader.loadTestsFromName(module)]), words)
    if not suite.countTestCases():
        return Done("", 0, 0, 0)
    began = time.monotonic()
    result = unittest.TextTestRunner(output, verbosity=0).run(suite)
    failed = len({test for test, _ in result.failures + result.errors}) + len(result.unexpectedSuccesses)
    took = f"{result.testsRun:4} in {time.monotonic() - began:5.1f} s  {module}"
    text = took if result.wasSuccessful() else f"{took}\n{output.getvalue()}"
    return Done(text, result.testsRun, failed, len(result.skipped))
