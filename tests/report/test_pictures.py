"""Pictures of the matrix and of the roles."""

import struct
import xml.etree.ElementTree as ET
from pathlib import Path

import bloodroot
from bloodroot.core.matrix import matrix_of_roles
from bloodroot.core.roles_added import roles_added
from bloodroot.report.picture_of_matrix import by_likeness
from tests.program import InFolder
from tests.report.test_terminal import many

POLICY = """
policy "Tarn Bank"
roles
  helper   default          "counts and packs"
  grower   includes helper  "runs plots"
  keeper   includes grower
  clerk
endpoints
  GET      /            anyone
  GET      /lots        helper
  GET      /plots       grower or clerk
  PUT      /plots/{id}  keeper or grower if own
  DELETE   /plots/{id}  keeper
  any      /office/**   clerk
conditions
  own      record.owner == caller.id
  active   caller.status == "active"
always
  DELETE /**  active
"""


def size(data: bytes) -> tuple[int, ...]:
    """Width and height of a PNG picture."""
    assert data[:8] == b"\x89PNG\r\n\x1a\n"
    return struct.unpack(">II", data[16:24])


class Pictures(InFolder):
    def drawn(self, name: str, command: str = "matrix") -> bytes:
        run = self.bloodroot(command, "--out", name)
        self.assertEqual((run.status, run.err), (0, f"wrote {name}\n"))
        return (self.folder / name).read_bytes()

    def texts(self, name: str, command: str = "matrix") -> list[str]:
        """The texts of an SVG picture, in the order in which they are drawn."""
        root = ET.fromstring(self.drawn(name, command))
        return ["".join(each.itertext()).strip() for each in root.iter("{http://www.w3.org/2000/svg}text")]

    def test_the_matrix(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.assertEqual(size(self.drawn("m.png")), (1280, 800))
        found = self.texts("m.svg")
        self.assertIn("what standing rules ask of the caller is taken as met: active", " ".join(found))
        for text in ("Tarn Bank", "PUT /plots/{id}", "GET /plots", "keeper", "signed-out", "if own", "depends"):
            self.assertIn(text, found)
        # The same policy is the same picture.
        self.assertEqual(self.drawn("m.svg"), self.drawn("again.svg"))
        self.assertEqual(self.drawn("m.png"), self.drawn("again.png"))

    def test_columns_that_are_alike_are_neighbours(self) -> None:
        lines = [f"  GET /a{number} one or two" for number in range(5)]
        lines += [f"  GET /b{number} other or another" for number in range(5)]
        text = "\n".join(["roles", "  one", "  other", "  two", "  another", "endpoints", *lines, "  GET /c one"])
        matrix = matrix_of_roles(bloodroot.parse(text))
        order, tree = by_likeness(matrix)
        names = [matrix.columns[number].name for number in order]
        self.assertEqual(abs(names.index("one") - names.index("two")), 1)
        self.assertEqual(abs(names.index("other") - names.index("another")), 1)
        self.assertEqual(len(tree), len(names) - 1)

    def test_few_and_many(self) -> None:
        for roles, endpoints in ((1, 1), (10, 58), (38, 1000)):
            with self.subTest(roles=roles, endpoints=endpoints):
                self.write("access.bloodroot", many(roles, endpoints))
                self.assertEqual(size(self.drawn("m.png")), (1280, 800))
                named = sum(text.startswith(("GET /", "POST /")) for text in self.texts("m.svg"))
                self.assertEqual(named, endpoints if endpoints < 75 else 0)

    def test_the_roles(self) -> None:
        self.write("access.bloodroot", POLICY)
        self.assertEqual(size(self.drawn("r.png", "roles")), (1280, 800))
        found = "\n".join(self.texts("r.svg", "roles"))
        for text in (
            "keeper",
            "runs plots",
            "PUT /plots/{id}, if own",
            "DELETE /plots/{id}",
            "every signed-in caller holds it",
        ):
            self.assertIn(text, found)
        added = {each.name: each for each in roles_added(bloodroot.parse(POLICY))}
        self.assertEqual([each.path for each in added["grower"].adds], ["/plots", "/plots/{id}"])
        # What grower may do sometimes, and keeper always, is something that keeper adds.
        self.assertEqual(
            [(each.method, each.words) for each in added["keeper"].adds], [("PUT", "allow"), ("DELETE", "if active")]
        )
        self.assertEqual((added["keeper"].includes, added["keeper"].total), (("grower",), 5))

    def test_where_a_picture_goes(self) -> None:
        self.write("access.bloodroot", POLICY)
        done = self.installed("matrix", "--format", "svg")
        self.assertIn("<svg", done.out)
        run = self.installed("compare", "access.bloodroot", "access.bloodroot", "--out", "c.png")
        self.assertEqual((run.status, Path(self.folder / "c.png").exists()), (2, False))
        self.assertIn("this result has no png format", run.err)
