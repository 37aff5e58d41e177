"""Roles held in things on every stack, over real HTTP: a record is never reached through another's parent."""

from __future__ import annotations

import unittest
from collections import Counter
from types import SimpleNamespace
from typing import Any

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import Refusal, current, guard, on_behalf_of
from tests.enforce import stacks
from tests.enforce.stacks import Small, said
from tests.servers import ask

TEXT = """
policy "Clay Rooms"
roles
  member     default
  inspector  includes owner
things
  studio  {studio_id}
  kiln    {kiln_id}    in studio by studio_id
  firing  {firing_id}  in kiln by kiln_id
  tool    {tool_id}    in studio by studio_id
roles in studio
  viewer
  editor  includes viewer
  owner   includes editor, stoker
roles in kiln
  stoker
permissions
  kiln:edit    editor
  firing:edit  editor, stoker
  tool:edit    editor
endpoints
  GET    /studios                                   viewer in any studio
  GET    /studios/{studio_id}                       viewer
  GET    /studios/{studio_id}/kilns/{kiln_id}       viewer
  GET    /studios/{studio_id}/firings/{firing_id}   anyone
  PATCH  /studios/{studio_id}/tools/{tool_id}       tool:edit
  PATCH  /tools/{tool_id}                           tool:edit
  PATCH  /kilns/{kiln_id}                           kiln:edit
  PATCH  /kilns/{kiln_id}/firings/{firing_id}       firing:edit
  PATCH  /firings/{firing_id}                       firing:edit
  PATCH  /kilns/{kiln_id}/to/{number}               kiln:edit
  POST   /kilns                                     editor in query.studio
  GET    /rooms/{studio_id}/ovens/{kiln_id}         viewer
  GET    /open/{studio_id}/ovens/{kiln_id}          anyone
  POST   /made/{number}                             signed-in
  POST   /changed/{number}                          guarded accept guard-missing "found by its name"
  ACTION
"""
REMOVE = "action remove_kiln owner"
POLICY = bloodroot.parse(TEXT.replace("ACTION", REMOVE))
BY_PATH = bloodroot.parse(TEXT.replace("ACTION", "DELETE /studios/{studio_id}/kilns/{kiln_id}/remove owner"))
CALLERS = {
    "member": Caller(1),
    "editor7": Caller(2, roles_in={"studio": {7: {"editor"}}}),
    "owner8": Caller(3, roles_in={"studio": {"8": {"owner"}}}),
    "both": Caller(4, roles_in={"studio": {7: {"viewer"}, 8: {"editor"}}}),
    "stoker4": Caller(5, roles_in={"kiln": {4: {"stoker"}}}),
    "inspector": Caller(6, {"inspector"}),
    "misled": Caller(7, {"owner"}, {"owner"}, attributes={"studio": 7}, roles_in={"kiln": {7: {"owner"}}}),
}
KILNS = {
    "4": SimpleNamespace(id=4, studio_id=7),
    "5": SimpleNamespace(id=5, studio_id=8),
    "6": SimpleNamespace(id=6, studio_id=None),
}
FIRINGS = {str(n): SimpleNamespace(id=n, kiln_id=kiln) for n, kiln in ((30, 4), (31, 5), (32, 99), (33, None), (36, 6))}
TOOLS = {"1": SimpleNamespace(id=1, studio_id=7), "2": SimpleNamespace(id=2, studio_id=8)}
loaded: Counter[str] = Counter()


def identify(request: Any) -> Caller | None:
    return CALLERS.get(request.headers.get("x-caller") or "")


def load_kiln(text: str) -> Any:
    loaded[f"kiln {text}"] += 1
    return KILNS.get(text)


def load_firing(text: str) -> Any:
    loaded[f"firing {text}"] += 1
    return FIRINGS.get(text)


def plain(**values: str) -> tuple[int, str]:
    return said(" ".join(("plain", *values.values())))


def tool(tool_id: str, **_: str) -> tuple[int, str]:
    current().settle(TOOLS[tool_id])
    return said(f"tool {tool_id}")


def move(kiln_id: str, number: str) -> tuple[int, str]:
    current().change("kiln", KILNS[kiln_id], {"studio_id": int(number)})
    return said(f"moved {kiln_id}")


@guard("editor in args.studio", policy=POLICY)
def make_kiln(studio: int) -> str:
    return f"made in {studio}"


def made(number: str) -> tuple[int, str]:
    return said(make_kiln(int(number)))


@guard("kiln:edit", policy=POLICY)
def change_kiln() -> str:
    return "changed"


def changed(number: str) -> tuple[int, str]:
    done = change_kiln()
    current().settle(KILNS[number])
    return said(done)


ENDPOINTS: list[Any] = [
    ("GET", "/studios", "studios", plain),
    ("GET", "/studios/{studio_id}", "studio", plain),
    ("GET", "/studios/{studio_id}/kilns/{kiln_id}", "kiln", plain),
    ("DELETE", "/studios/{studio_id}/kilns/{kiln_id}/remove", "remove_kiln", plain),
    ("GET", "/studios/{studio_id}/firings/{firing_id}", "firing", plain),
    ("PATCH", "/studios/{studio_id}/tools/{tool_id}", "tool_there", tool),
    ("PATCH", "/tools/{tool_id}", "tool", tool),
    ("PATCH", "/kilns/{kiln_id}", "change_kiln", plain),
    ("PATCH", "/kilns/{kiln_id}/firings/{firing_id}", "change_firing", plain),
    ("PATCH", "/firings/{firing_id}", "change_lone_firing", plain),
    ("PATCH", "/kilns/{kiln_id}/to/{number}", "move", move),
    ("GET", "/rooms/{sid}/ovens/{kid}", "oven", plain),
    ("GET", "/open/{sid}/ovens/{kid}", "open_oven", plain),
    ("POST", "/kilns", "add_kiln", plain),
    ("POST", "/made/{number}", "made", made),
    ("POST", "/changed/{number}", "changed", changed),
]
CLAY = Small(ENDPOINTS, POLICY, BY_PATH, identify, {"kiln": load_kiln, "firing_id": load_firing}, None, ("*",))
OK, NO, OUT, GONE, ERROR = 200, 403, 401, 404, 500
WHO = ("", "member", "editor7", "owner8", "both", "stoker4", "inspector", "misled")
TABLE = [
    ("GET", "/studios", (OUT, NO, OK, OK, OK, NO, OK, NO)),
    ("GET", "/studios/7", (OUT, NO, OK, NO, OK, NO, OK, NO)),
    ("GET", "/studios/8", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("GET", "/studios/07", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("GET", "/studios/7/kilns/4", (OUT, NO, OK, NO, OK, NO, OK, NO)),
    # The kiln of another studio: for callers who are let in at the studio named there is no such page.
    ("GET", "/studios/7/kilns/5", (OUT, NO, GONE, NO, GONE, NO, GONE, NO)),
    ("GET", "/studios/8/kilns/4", (OUT, NO, NO, GONE, GONE, NO, GONE, NO)),
    ("GET", "/studios/7/kilns/6", (OUT, NO, GONE, NO, GONE, NO, GONE, NO)),
    ("GET", "/studios/7/kilns/9", (OUT, NO, GONE, NO, GONE, NO, GONE, NO)),
    # Where the route calls the parts of the path by other names, those of the policy count.
    ("GET", "/rooms/7/ovens/4", (OUT, NO, OK, NO, OK, NO, OK, NO)),
    ("GET", "/rooms/7/ovens/5", (OUT, NO, GONE, NO, GONE, NO, GONE, NO)),
    ("GET", "/rooms/7/ovens/9", (OUT, NO, GONE, NO, GONE, NO, GONE, NO)),
    ("GET", "/open/7/ovens/4", (OK,) * 8),
    ("GET", "/open/8/ovens/4", (GONE,) * 8),
    ("DELETE", "/studios/8/kilns/5/remove", (OUT, NO, NO, OK, NO, NO, OK, NO)),
    ("DELETE", "/studios/8/kilns/4/remove", (OUT, NO, NO, GONE, NO, NO, GONE, NO)),
    # Open to anyone, and still no way to the firing of another studio.
    ("GET", "/studios/7/firings/30", (OK,) * 8),
    ("GET", "/studios/8/firings/30", (GONE,) * 8),
    ("GET", "/studios/7/firings/32", (GONE,) * 8),
    ("GET", "/studios/7/firings/33", (GONE,) * 8),
    ("GET", "/studios/7/firings/36", (GONE,) * 8),
    ("GET", "/studios/7/firings/99", (GONE,) * 8),
    # Settled by the handler.
    ("PATCH", "/studios/7/tools/1", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("PATCH", "/studios/7/tools/2", (OUT, NO, GONE, NO, NO, NO, GONE, NO)),
    ("PATCH", "/studios/8/tools/1", (OUT, NO, NO, GONE, GONE, NO, GONE, NO)),
    ("PATCH", "/tools/1", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("PATCH", "/tools/2", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("PATCH", "/kilns/4", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("PATCH", "/kilns/5", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("PATCH", "/kilns/6", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("PATCH", "/kilns/9", (OUT, NO, GONE, GONE, GONE, NO, OK, NO)),
    ("PATCH", "/kilns/4/firings/30", (OUT, NO, OK, NO, NO, OK, OK, NO)),
    ("PATCH", "/kilns/4/firings/31", (OUT, NO, GONE, GONE, GONE, GONE, GONE, NO)),
    ("PATCH", "/kilns/5/firings/31", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("PATCH", "/kilns/5/firings/30", (OUT, NO, GONE, GONE, GONE, NO, GONE, NO)),
    ("PATCH", "/firings/30", (OUT, NO, OK, NO, NO, OK, OK, NO)),
    ("PATCH", "/firings/31", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("PATCH", "/firings/32", (OUT, NO, GONE, GONE, GONE, NO, OK, NO)),
    ("PATCH", "/firings/33", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    # A move needs the right in both.
    ("PATCH", "/kilns/5/to/8", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("PATCH", "/kilns/5/to/7", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("PATCH", "/kilns/4/to/8", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("POST", "/kilns?studio=8", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("POST", "/kilns?studio=7", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("POST", "/kilns?studio=7&studio=8", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("POST", "/kilns", (OUT, NO, NO, NO, NO, NO, OK, NO)),
    ("POST", "/made/7", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("POST", "/made/8", (OUT, NO, NO, OK, OK, NO, OK, NO)),
    ("POST", "/changed/4", (OUT, NO, OK, NO, NO, NO, OK, NO)),
    ("POST", "/changed/5", (OUT, NO, NO, OK, OK, NO, OK, NO)),
]


class Things(stacks.OnEveryStack):
    small = CLAY

    def test_every_cell(self) -> None:
        for name, port in self.ports.items():
            for method, target, statuses in TABLE:
                for who, status in zip(WHO, statuses, strict=True):
                    loaded.clear()
                    found, _, body = ask(port, method, target, X_Caller=who, Accept="application/json")
                    with self.subTest(stack=name, request=f"{method} {target}", who=who):
                        self.assertEqual(found, status, body)
                        self.assertLess(max(loaded.values(), default=0), 2, "each record is loaded once")
                        if found in (OUT, NO) and who in ("", "member", "misled"):
                            self.assertFalse(loaded, "nothing is loaded for who is refused whatever the record")


class Jobs(unittest.TestCase):
    def test_guards_of_a_job_ask_of_the_record_that_is_settled(self) -> None:
        for who, number, allowed in (("editor7", "4", True), ("editor7", "5", False), ("inspector", "5", True)):
            with self.subTest(who=who, kiln=number):
                if allowed:
                    with on_behalf_of(CALLERS[who], POLICY):
                        change_kiln()
                        current().settle(KILNS[number])
                        self.assertEqual(current().may("kiln:edit", KILNS["4"]), True)
                        with self.assertRaises(bloodroot.FieldsRefused) if who == "editor7" else self.subTest():
                            current().change("kiln", KILNS["4"], {"studio_id": 8})
                else:
                    with (
                        self.assertRaisesRegex(Refusal, "refused the caller"),
                        on_behalf_of(CALLERS[who], POLICY),
                    ):
                        change_kiln()
                        current().settle(KILNS[number])


if __name__ == "__main__":
    unittest.main()
