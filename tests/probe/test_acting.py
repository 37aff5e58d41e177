"""Support staff who act for members: the probe asks as them, through forms with tokens against forged requests."""

import json
from typing import Any

from tests.program import InFolder, forked
from tests.real import desk


class ActingForOthers(InFolder):
    runs = staticmethod(forked)

    def probed(self, status: int) -> dict[str, Any]:
        found: dict[str, Any] = json.loads(self.ran("probe", "--format", "json", status=status))
        return found

    def holes(self) -> set[tuple[str, str]]:
        return {
            (f"{each['method']} {each['template']}", each["persona"])
            for each in self.probed(1)["observations"]
            if each["verdict"] == "hole"
        }

    def change(self, name: str, old: str, new: str) -> None:
        file = self.folder / name
        text = file.read_text("utf-8")
        self.assertEqual(text.count(old), 1, old)
        file.write_text(text.replace(old, new), "utf-8")

    def test_what_members_alone_may_do_is_asked_for_by_those_who_act_for_them(self) -> None:
        desk.project(self.folder, faulty=False, things=("kiln",))
        counts = self.probed(0)["counts"]
        self.assertEqual({name for name, count in counts.items() if count}, {"agree"})
        # Sign-out leads to the sign-in, and is no refusal. What is enforced differs from what is declared:
        self.change("enforced.bloodroot", "kiln:give  member if own and oneself", "kiln:give  member if own")
        self.assertEqual(self.holes(), {("POST /kilns/{kiln_id}/give", "hazel-for-ash")})

    def test_a_loader_that_gives_one_record_for_two_numbers_proves_nothing(self) -> None:
        desk.project(self.folder, faulty=False, things=("kiln",))
        self.change("desk.py", "# HOLES", 'records["kiln_id"] = lambda text: loader_of(ALL["kiln"])("1")')
        self.assertIn(("GET /kilns/{kiln_id}/notes", "ash"), self.holes())

    def test_what_cannot_begin(self) -> None:
        desk.project(self.folder, faulty=False, things=("kiln",))
        settings = (self.folder / "bloodroot.toml").read_text("utf-8")
        for old, new, message in (
            ('path = "/support/act-for/{persona.id}"', 'path = "/support/nowhere"', "/support/nowhere answered 404"),
            ('actor = "hazel"', 'actor = "hazle"', 'there is no persona "hazle"; did you mean "hazel"?'),
            ('actor = "hazel"', 'actor = "visitor"', "one who acts for another is signed in"),
            ('[probe.acting]\npath = "/support/act-for/{persona.id}"\npage = "/support"\n', "", "nothing says how"),
            ('actor = "hazel"\n', "", "no persona acts for another"),
            ("how =", 'how = "header"\n#', "nothing that is sent says so"),
        ):
            with self.subTest(message):
                self.assertEqual(settings.count(old), 1)
                changed = settings.replace(old, new)
                if "header" in new:
                    changed = changed.replace('path = "/sign-in"\n', "").replace(', password = "made up"', "")
                (self.folder / "bloodroot.toml").write_text(changed, "utf-8")
                done = self.bloodroot("probe")
                self.assertEqual(done.status, 2, done.out)
                self.assertIn(message, done.err)
