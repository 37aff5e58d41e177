"""Large results: the work grows as they do, and lists are written as they are made. Work is calls: no clock is asked."""

import io
import json
import unittest
from collections.abc import Iterator

from rich.console import Console

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.core.policy import Policy
from bloodroot.core.roles_added import roles_added
from bloodroot.report.registry import Format, write, written
from bloodroot.report.results import MatrixResult, RolesResult
from tests.language.test_growth import calls_of


def policy(lines: int) -> Policy:
    """A policy of so many lines, with two kinds of requirements and a standing rule for one area."""
    asks = ("keeper", "helper if own", "anyone")
    text = "roles\n  keeper includes helper\n  helper\nconditions\n  own record.owner == caller.id\nendpoints\n"
    text += "".join(f"  GET /area{n % 9}/things{n}/{{thing_id}}  {asks[n % 3]}\n" for n in range(lines))
    return bloodroot.parse(text + "always\n  /area3/**  helper or own\n")


class Large(unittest.TestCase):
    def test_twice_the_result_takes_twice_the_work(self) -> None:
        few, many = policy(150), policy(300)
        drawn = [(Format.TABLE, 80), (Format.TABLE, 160)]
        drawn += [(form, 80) for form in (Format.JSON, Format.CSV, Format.MARKDOWN, Format.HTML)]
        for form, width in drawn:
            for name in ("matrix", "roles"):
                if name == "roles" and form is Format.CSV:
                    continue
                calls = []
                for each in (few, many):
                    result = (
                        MatrixResult(each, matrix_of_roles(each))
                        if name == "matrix"
                        else RolesResult(each, roles_added(each))
                    )
                    console = Console(width=width, file=io.StringIO())
                    calls.append(calls_of(lambda r=result, f=form, c=console: write(r, f, c)))
                with self.subTest(name, form=form, width=width):
                    self.assertLess(calls[1], 2.3 * calls[0] + 5000)

    def test_a_list_is_written_as_it_is_made(self) -> None:
        whole = policy(50)
        pieces = written(MatrixResult(whole, matrix_of_roles(whole)), Format.JSON)
        assert isinstance(pieces, Iterator)
        every = list(pieces)
        self.assertLess(max(map(len, every)), 2000)
        self.assertEqual(len(json.loads("".join(every))["rows"]), 50)
