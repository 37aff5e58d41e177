"""Members out of a SCIM export: what an identity provider has of users and groups."""

import json
from typing import Any

from bloodroot.identity import Member, directory_of
from bloodroot.settings import read_settings
from tests.program import InFolder

POLICY = """
roles
  member
  keeper  includes member
groups
  "day shift"  member
permissions
  kiln:read  member
endpoints
  GET /kilns  kiln:read
"""
CORE = "urn:ietf:params:scim:schemas:core:2.0:"
ENTERPRISE = "urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"


def user(login: str, **more: Any) -> dict[str, Any]:
    return {"schemas": [f"{CORE}User"], "id": f"id-{login}", "userName": login, **more}


def exported(*resources: dict[str, Any], **more: Any) -> str:
    listed = {"schemas": ["urn:ietf:params:scim:api:messages:2.0:ListResponse"], "totalResults": len(resources)}
    return json.dumps({**listed, "Resources": list(resources), **more})


class Exports(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.write("access.bloodroot", POLICY)
        self.write("bloodroot.toml", '[directory]\nurl = "sqlite:///members.db"\n')

    def seed(self, text: str, *words: str) -> tuple[int, str, str]:
        self.write("users.json", text)
        run = self.bloodroot("seed", "users.json", "--format", "json", *words)
        return run.status, run.out, run.err

    def members(self) -> dict[str, Member]:
        directory = directory_of(read_settings(self.folder / "bloodroot.toml"))
        self.addCleanup(directory.engine.dispose)
        return {str(each.attributes["login"]): each for each in directory.members()}

    def test_users_and_groups(self) -> None:
        ash = user(
            "ash@kilnhouse.example",
            displayName="Ash",
            active=True,
            roles=[{"value": "keeper", "primary": True}, {"value": "crm-admin"}],
            entitlements=[{"value": "kiln:read"}],
            emails=[{"value": "other@kilnhouse.example"}, {"value": "ash@kilnhouse.example", "primary": True}],
            **{ENTERPRISE: {"department": "Kilns", "manager": {"value": "x"}}},
        )
        fern = user("fern", active=False, roles=["member"], name={"formatted": "Fern Ley"})
        day = {"schemas": [f"{CORE}Group"], "displayName": "day shift", "members": [{"value": "id-fern"}]}
        other = {"schemas": [f"{CORE}Group"], "displayName": "All Staff", "members": [{"value": "id-fern"}]}
        status, _, said = self.seed(exported(ash, fern, day, other))
        self.assertEqual(status, 0, said)
        self.assertIn("roles that the policy does not know were left out: crm-admin", said)
        self.assertIn("groups that the policy does not know were left out: All Staff", said)
        members = self.members()
        known = members["ash@kilnhouse.example"]
        self.assertEqual((known.roles, known.attributes["department"]), ({"keeper"}, "Kilns"))
        self.assertEqual(known.attributes["email"], "ash@kilnhouse.example")
        self.assertEqual((members["fern"].status, members["fern"].groups), ("suspended", {"day shift"}))
        # The next export brings members in line; one that is no longer active is suspended.
        changed = exported({**ash, "active": False, "roles": []}, fern, day)
        self.assertEqual(self.seed(changed)[0], 1)
        self.assertEqual(self.seed(changed, "--update")[0], 0)
        known = self.members()["ash@kilnhouse.example"]
        self.assertEqual((known.status, known.roles), ("suspended", frozenset()))

    def test_what_cannot_be_read_changes_nothing(self) -> None:
        for text, message in (
            ("{", "this is not JSON"),
            ("[]", "there is no user in this export"),
            ("7", "not a SCIM export"),
            (exported(user("ash"), totalResults=500), "a page of 1 of 500 resources"),
            (exported(user("")), "has no userName"),
            (exported(user("ash"), user("ash")), "is in users.json: resource 1 already"),
            (exported(user("ash", active="yes")), 'active of ash is "yes"'),
            (exported(user("ash", roles=[{"value": 7}])), "which is no list of values"),
        ):
            with self.subTest(message):
                status, _, said = self.seed(text)
                self.assertEqual(status, 2, said)
                self.assertIn(message, said)
                self.assertIn("Nothing was changed.", said)
        self.assertFalse((self.folder / "members.db").exists())
