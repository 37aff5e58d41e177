"""No command does more than its share of work for a larger project, in any format. Work is calls: no clock is asked."""

import json
import unittest
from pathlib import Path

from tests.language.test_growth import calls_of
from tests.program import InFolder

METHODS = ("GET", "POST", "PUT", "DELETE")
ROLES = 4
ASKS = ("keeper", "helper if own", "anyone", "role0 or role1")


def project(folder: Path, count: int) -> None:
    """A project of so many endpoints and members, with all that the commands read."""
    endpoints = [(METHODS[n % 4], f"/area{n % 9}/things{n}/{{thing_id}}") for n in range(count)]
    roles = "".join(f"  role{n}\n" for n in range(ROLES)) + "  helper  default\n  keeper  includes helper\n"
    head = f"roles\n{roles}conditions\n  own  record.owner == caller.id\nendpoints\n"
    for name, shift in (("access", 0), ("after", 1)):
        lines = "".join(
            f"  {method:6}  {path}  {ASKS[(n + shift * (n % 10 == 0)) % 4]}\n"
            for n, (method, path) in enumerate(endpoints)
        )
        (folder / f"{name}.bloodroot").write_text(head + lines + "always\n  /area3/**  helper or keeper\n")
    operation = {"responses": {"200": {"description": "done"}}}
    paths = {path: {method.lower(): operation} for method, path in endpoints}
    document = {"openapi": "3.1.0", "info": {"title": "Seeds", "version": "1"}, "paths": paths}
    (folder / "api.json").write_text(json.dumps(document))
    decisions = [
        {"method": method, "path": path.replace("{thing_id}", str(n)), "roles": ["keeper"], "outcome": "allow"}
        for n, (method, path) in enumerate(endpoints * 3)
    ]
    (folder / "audit.jsonl").write_text("".join(json.dumps(line) + "\n" for line in decisions))
    log = '127.0.0.1 - - [04/May/2026:10:00:00 +0000] "{} {} HTTP/1.1" 200 3 "-" "-"\n'
    (folder / "access.log").write_text("".join(log.format(each["method"], each["path"]) for each in decisions))
    members = "".join(f"m{n}@seeds.example,Member {n},active,keeper\n" for n in range(count))
    (folder / "members.csv").write_text("login,name,status,roles\n" + members)
    personas = "".join(f'[personas.p{n}]\nroles = ["role{n}"]\n' for n in range(ROLES))
    (folder / "bloodroot.toml").write_text(
        'policy = "access.bloodroot"\nurl = "http://127.0.0.1:9"\nopenapi = "api.json"\n[[identity]]\nfrom = "session"\nid = "member"\n'
        f'[directory]\nurl = "sqlite:///members.db"\n{personas}[samples]\nthing_id = "7"\n'
    )


# The commands, in an order in which each finds what it needs; how they end; and in which formats they are tried. One
# module writes a format for all of them, so that it is enough to try all with the matrix and the roles.
SHEET = ("table", "json")
COMMANDS: tuple[tuple[str, int, tuple[str, ...]], ...] = (
    ("seed members.csv", 0, ("table",)),
    ("seed members.csv --dry-run", 0, ("json",)),
    ("members", 0, SHEET),
    ("matrix", 0, (*SHEET, "csv", "markdown", "html")),
    ("roles", 0, (*SHEET, "markdown", "html")),
    ("check", 1, (*SHEET, "sarif", "lines")),
    ("matrix --format csv --out table.csv", 0, ("",)),
    ("expect table.csv --update", 0, SHEET),
    ("expect table.csv", 0, SHEET),
    ("expect table.csv --policy after.bloodroot", 1, SHEET),
    ("tried audit.jsonl", 0, SHEET),
    ("compare access.bloodroot after.bloodroot", 0, SHEET),
    ("survey api.json", 0, (*SHEET, "openapi")),
    ("survey access.log", 0, SHEET),
    ("probe --list", 0, SHEET),
    ("export openapi api.json --out filled.json", 0, ("",)),
    ("export names --out names.py", 0, ("",)),
    ("format access.bloodroot", 0, ("",)),
    ("format --check after.bloodroot", 1, SHEET),
    ("draft api.json --out first.bloodroot", 0, ("",)),
    ("draft api.json --out first.bloodroot --update", 0, ("",)),
    ("why --who GET /area0/things0/7", 0, SHEET),
)
# The first is not counted: what is imported, and what is kept of what was worked out, comes with it.
SIZES = (8, 20, 40, 80)


class Growth(InFolder):
    def test_twice_the_project_takes_twice_the_work(self) -> None:
        taken: dict[tuple[str, str], list[int]] = {}
        folder = self.folder
        for count in SIZES:
            self.folder = folder / str(count)
            self.folder.mkdir()
            project(self.folder, count)
            for command, status, formats in COMMANDS:
                for form in formats:
                    words = [*command.split(), *(["--format", form] if form else [])]
                    calls = calls_of(lambda words=words, status=status: self.ran(*words, status=status))
                    taken.setdefault((command, form), []).append(calls)
        for (command, form), (_, few, more, many) in taken.items():
            with self.subTest(command, form=form):
                # What a command begins with does not grow: the second doubling may add twice what the first one did.
                self.assertLess(many - more, 2.4 * max(more - few, 0) + 4000, (few, more, many))


if __name__ == "__main__":
    unittest.main()
