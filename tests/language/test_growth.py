"""No text makes the work grow faster than its own size. Work is calls, of Python and of C: no clock is asked."""

import sys
import unittest
from collections.abc import Callable
from functools import partial

from benchmarks.growing import GROWING, use

import bloodroot
from bloodroot import PolicyError
from bloodroot.language.printer import tidy


class Growth(unittest.TestCase):
    def test_what_is_in_a_policy(self) -> None:
        for make, size in GROWING.items():
            with self.subTest(make.__name__):
                use(make(size // 4))
                calls = [calls_of(partial(use, make(count))) for count in (size // 4, size // 2)]
                self.assertLess(calls[1], 2.3 * calls[0] + 2000)

    def test_texts_that_once_took_long_or_too_deep(self) -> None:
        many = 1500
        for name, make in {
            "quotes": lambda n: "conditions\n  x " + '"\\' * n,
            "open brackets": lambda n: "conditions\n  x " + "(" * n,
            "negations": lambda n: "endpoints\n  GET / " + "not " * n + "anyone",
            "blanks": lambda n: "roles\n  x" + " " * n + "y",
            "roles that include the one before": lambda n: (
                "roles\n  r0\n" + "".join(f"  r{i} includes r{i - 1}\n" for i in range(1, n))
            ),
            "conditions that rest on the one before": lambda n: (
                "conditions\n  c0 record.x\n" + "".join(f"  c{i} c{i - 1}\n" for i in range(1, n))
            ),
            "parts of a path": lambda n: "endpoints\n  GET " + "/a" * n + " anyone",
            "or": lambda n: "endpoints\n  GET / " + "anyone or " * n + "anyone",
            "dots": lambda n: "conditions\n  x record" + ".a" * n,
            "continuations": lambda n: "endpoints\n  GET / anyone\n" + "     or anyone\n" * n,
            "one section after another": lambda n: "roles\n" * n,
        }.items():
            with self.subTest(name):
                calls = [calls_of(partial(compile_and_tidy, make(count))) for count in (many, 2 * many)]
                # Twice the text takes twice the work, and not four times.
                self.assertLess(calls[1], 2.3 * calls[0] + 2000)


def compile_and_tidy(text: str) -> None:
    for work in (bloodroot.parse, tidy):
        try:
            work(text)
        except PolicyError as error:
            str(error.problems[0])


def calls_of(work: Callable[[], object]) -> int:
    """How many calls it takes to do something."""
    count = 0

    def seen(frame: object, event: str, argument: object) -> None:
        nonlocal count
        count += event in ("call", "c_call")

    sys.setprofile(seen)
    try:
        work()
    finally:
        sys.setprofile(None)
    return count
