"""The matrix in a terminal: whatever the width, every cell is there and no line is wider than the window."""

import re

from rich.cells import cell_len

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from tests.program import InFolder

SIGNS = {"●": "allow", "◐": "depends", "▷": "sign-in", "·": "deny"}


def many(roles: int, endpoints: int) -> str:
    """A policy of that many roles and endpoints."""
    lines = ["roles", *(f"  role-{number}" for number in range(roles))]
    lines += ["conditions", "  own record.owner == caller.id", '  active caller.status == "active"', "endpoints"]
    for number in range(endpoints):
        asks = f"role-{number % roles} or role-{(number * 7 + 1) % roles} if own"
        path = f"/area-{number % 9}/thing-{number}" + ("/{some_rather_long_id}/edit" if number % 5 == 0 else "")
        lines.append(f"  {('GET', 'POST')[number % 2]} {path} {asks}")
    return "\n".join([*lines, "always", "  POST /** active"]) + "\n"


class Widths(InFolder):
    def shown(self, width: int, *words: str) -> tuple[str, dict[tuple[str, int], str]]:
        """What is shown, and the outcome of each endpoint in each column, counted from 0."""
        out = self.ran("matrix", *words, COLUMNS=str(width))
        found: dict[tuple[str, int], str] = {}
        first, endpoint = 0, ""
        for line in out.splitlines():
            self.assertLessEqual(cell_len(line), width, line)
            if columns := re.match(r"columns (\d+) to", line):
                first = int(columns[1]) - 1
            if line[:1] in SIGNS:
                continue  # the legend
            named = re.match(r"  ((?:GET|POST) /\S+)", line)
            endpoint = named[1] if named else endpoint
            signs = [sign for sign in line[named.end() if named else 0 :] if sign in SIGNS]
            for place, sign in enumerate(signs):
                found[endpoint, first + place] = SIGNS[sign]
        return out, found

    def test_no_cell_is_lost(self) -> None:
        for roles, endpoints, widths in ((6, 20, (50, 80, 120, 200)), (40, 30, (60, 80, 120, 200)), (3, 300, (80,))):
            text = many(roles, endpoints)
            self.write("access.bloodroot", text)
            matrix = matrix_of_roles(bloodroot.parse(text))
            expected = {
                (f"{row.method} {row.path}", number): cell.outcome.value
                for row in matrix.rows
                for number, cell in enumerate(matrix.cells(row))
            }
            for width in widths:
                with self.subTest(roles=roles, width=width):
                    out, found = self.shown(width)
                    self.assertEqual({cell for cell in expected if found.get(cell) != expected[cell]}, set())
                    self.assertEqual(found.keys() - expected.keys(), set())
                    self.assertIn("† and always: active", out)
                    self.assertIn("own", out)

    def test_plain_letters_where_nothing_else_can_be_shown(self) -> None:
        self.write("access.bloodroot", many(4, 6))
        out = self.installed("matrix", LC_ALL="C", PYTHONIOENCODING="ascii", PYTHONUTF8="0", COLUMNS="80").out
        self.assertTrue(out.isascii())
        self.assertRegex(out, r"POST /area-1/thing-1 +> +\. +\?a +\+a")
        self.assertIn("+ allow   ? depends on the condition named   > sign in first   . deny", out)

    def test_parts_of_it(self) -> None:
        self.write(
            "access.bloodroot",
            """
            roles
              keeper
            endpoints
              GET        /          anyone
              GET POST   /lots      keeper
              GET        /tools     keeper
              DELETE     /lots      nobody
            """,
        )
        for words, lines in (
            (("--only", "/lots"), ["DELETE /lots", "GET POST /lots"]),
            (("--only", "DELETE *"), ["DELETE /lots"]),
            (("--open",), ["GET /"]),
            (("--fold",), ["DELETE /lots", "GET /", "GET /tools", "GET POST /lots"]),
        ):
            with self.subTest(words):
                out = self.ran("matrix", *words)
                found = re.findall(r"^  ((?:[A-Z]+ )+/\S*)", out, re.MULTILINE)
                self.assertEqual(sorted(found), lines)
        folded = self.ran("matrix", "--fold")
        self.assertRegex(folded, r"GET /tools +▷ +· +● +1\n  GET POST /lots\n")
        self.assertRegex(self.ran("matrix", "--role", "keeper"), r"GET /tools +● ")
        for words, message in (
            (("--role", "keepr"), 'there is no column "keepr"; did you mean "keeper"?'),
            (("--only", "/x"), "there is no such endpoint"),
            (("--observed", "x.jsonl"), "--observed is shown by --format html"),
            (("--fold", "--format", "json"), "are for the table"),
        ):
            run = self.bloodroot("matrix", *words)
            self.assertEqual((run.status, message in run.err), (2, True), run.err)

    def test_markdown(self) -> None:
        self.write("access.bloodroot", many(2, 2))
        out = self.ran("matrix", "--format", "markdown")
        self.assertIn("| `POST /area-1/thing-1` | sign-in | · | if own and active | if active |", out)
        self.assertIn("| endpoint | signed-out | signed-in | role-0 | role-1 |", out)

    def test_who_gets_in_at_one_endpoint(self) -> None:
        self.write("access.bloodroot", many(3, 3))
        out = self.ran("why", "--who", "POST", "/area-1/thing-1")
        self.assertTrue(out.startswith("POST /area-1/thing-1: 2 of 5 kinds of caller let in\n"))
        self.assertRegex(out, r"depends +role-1\n +if active \(active is caller.status == \"active\"\)")
        self.assertIn("and always POST /** active", out)
        self.assertEqual(self.bloodroot("why", "--who", "role-1", "GET", "/").status, 2)
