"""What tokens say, in every shape it comes in, and who that makes the caller."""

import datetime
import unittest
from typing import Any

import jwt
from hypothesis import given
from hypothesis import strategies as st

from bloodroot import Caller, Unidentified
from bloodroot.identity.claims import claims_of, read_claims
from bloodroot.identity.keys import OneKey
from bloodroot.identity.members import member_of
from bloodroot.identity.names import permissions_in
from bloodroot.identity.sources import BearerToken
from bloodroot.identity.tokens import TokenCheck
from bloodroot.settings import ClaimNames, TokenRules, claim_path
from tests.examples import examples
from tests.requests import Sent

KEY = b"a key for tests, and nothing else but tests"


def names(**said: object) -> ClaimNames:
    """Where things stand, paths written as settings write them."""
    paths = {key: claim_path(said[key]) for key in ("id", "groups", "scopes") if key in said}
    if "roles" in said:
        several = [said["roles"]] if isinstance(said["roles"], str) else said["roles"]
        paths["roles"] = tuple(map(claim_path, several))
    attributes = {key: claim_path(path) for key, path in said.get("attributes", {}).items()}
    rest = {key: value for key, value in said.items() if key in ("separator", "drop_prefix", "names")}
    return ClaimNames(**{"id": ("sub",), **paths, **rest, "attributes": attributes})


DUTIES = names(roles="staff.duties")
COMMAS = names(roles="duties", separator=",")
BLANKS = names(roles="duties", separator=" ")
PREFIX = names(roles="duties", drop_prefix="FH_")
MAPPED = names(roles="duties", names={"Head of Vault": "curator", "SOWER": "botanist"})
BOTH = names(roles="duties", separator=",", drop_prefix="FH_", names={"HEAD": "curator", "X_9": "auditor"})
URL = names(roles='"https://fernhollow.example/roles"')
DOTTED = names(roles='"fern.hollow".roles')
PLAIN = names(roles="duties")

# where things stand, the claims beside sub, the roles, a part of what is noted (None: nothing is)
SHAPES = [
    (DUTIES, {"staff": {"duties": ["curator"]}}, {"curator"}, None),
    (DUTIES, {"staff": {"duties": ["curator", "botanist"]}}, {"curator", "botanist"}, None),
    (DUTIES, {"staff": {"duties": ["curator", "curator"]}}, {"curator"}, None),
    (DUTIES, {"staff": {"duties": "curator"}}, {"curator"}, None),
    (DUTIES, {"staff": [{"duties": ["curator"]}, {"duties": ["auditor"]}]}, {"curator", "auditor"}, None),
    (
        names(roles="staff.duty"),
        {"staff": [{"duty": "curator"}, {"duty": "auditor"}, {}]},
        {"curator", "auditor"},
        None,
    ),
    # Of one organisation each: a role there is no role everywhere.
    (
        names(roles="memberships.role"),
        {"memberships": [{"org": 7, "role": "curator"}, {"org": 8, "role": "auditor"}]},
        set(),
        'roles = "memberships.*.role"',
    ),
    (
        names(roles="memberships.*.role"),
        {"memberships": [{"org": 7, "role": "curator"}, {"org": 8, "role": "auditor"}]},
        {"curator", "auditor"},
        None,
    ),
    (names(roles="a.b.role"), {"a": [{"b": [{"role": "curator", "org": 7}]}]}, set(), "objects that say more"),
    (
        names(roles=["realm.roles", "own.roles"]),
        {"realm": {"roles": ["auditor"]}, "own": {"roles": "curator"}},
        {"curator", "auditor"},
        None,
    ),
    (names(roles=["realm.roles", "own.roles"]), {"own": {"roles": ["curator"]}}, {"curator"}, "has no realm.roles"),
    # A distinguished name is one name.
    (
        names(roles="duties", separator=",", names={"CN=Head,OU=Vault": "curator"}),
        {"duties": "CN=Head,OU=Vault"},
        {"curator"},
        None,
    ),
    (
        names(roles="duties", names={"CN=Head\\, old,OU=Vault": "curator"}),
        {"duties": ["CN=Head\\, old,OU=Vault", "auditor"]},
        {"curator", "auditor"},
        None,
    ),
    (names(roles="duties", separator=","), {"duties": "curator,a=b"}, {"curator", "a=b"}, None),
    (DUTIES, {"staff": {"duties": {"curator": True, "auditor": False}}}, {"curator"}, None),
    (DUTIES, {"staff": {"duties": {"curator": 1, "auditor": 0, "botanist": True}}}, {"curator", "botanist"}, None),
    (DUTIES, {"staff": {"duties": {"curator": 2}}}, set(), 'in which "curator" is 2, and not true or false'),
    (DUTIES, {"staff": {"duties": {"curator": 1.0}}}, set(), 'in which "curator" is 1.0, and not true or false'),
    (DUTIES, {"staff": {"duties": {"curator": "yes"}}}, set(), 'in which "curator" is "yes"'),
    (DUTIES, {"staff": {"duties": {"curator": False}}}, set(), "in which nothing is true"),
    (DUTIES, {}, set(), "the token has no staff.duties, so no roles come from it"),
    (DUTIES, {"staff": {}}, set(), "has no staff.duties"),
    (DUTIES, {"staff": "curator"}, set(), "has no staff.duties"),
    (DUTIES, {"staff.duties": ["curator"]}, set(), "has no staff.duties"),
    (DUTIES, {"staff": {"duties": None}}, set(), "staff.duties of the token is null, so no roles come from it"),
    (DUTIES, {"staff": {"duties": []}}, set(), "is an empty list"),
    (DUTIES, {"staff": {"duties": ""}}, set(), "is empty"),
    (DUTIES, {"staff": {"duties": 7}}, set(), "is 7, and not a list of names or a string"),
    (DUTIES, {"staff": {"duties": True}}, set(), "is true, and not a list"),
    (DUTIES, {"staff": {"duties": ["curator", 7, None]}}, {"curator"}, "holds 7, which is no name"),
    (DUTIES, {"staff": {"duties": [["curator"]]}}, set(), 'holds ["curator"], which is no name'),
    (COMMAS, {"duties": "curator,botanist"}, {"curator", "botanist"}, None),
    (COMMAS, {"duties": " curator , botanist ,"}, {"curator", "botanist"}, None),
    (COMMAS, {"duties": "guest-registrar"}, {"guest-registrar"}, None),
    (COMMAS, {"duties": ["curator,botanist"]}, {"curator,botanist"}, None),
    (COMMAS, {"duties": " , "}, set(), 'is " , ", in which there is no name, so no roles come from it'),
    (BLANKS, {"duties": "curator  botanist"}, {"curator", "botanist"}, None),
    (PLAIN, {"duties": "curator,botanist"}, {"curator,botanist"}, 'write separator = ","'),
    (PLAIN, {"duties": "curator botanist"}, {"curator botanist"}, 'write separator = " "'),
    (PLAIN, {"duties": "Curator"}, {"Curator"}, None),
    (PLAIN, {"DUTIES": "curator"}, set(), "has no duties"),
    (PREFIX, {"duties": ["FH_curator", "TB_auditor"]}, {"curator"}, '"TB_auditor", which does not begin with FH_'),
    (PREFIX, {"duties": ["FH_FH_curator"]}, {"FH_curator"}, None),
    (PREFIX, {"duties": ["curator", "FH_"]}, set(), '"curator", which does not begin'),
    (MAPPED, {"duties": ["Head of Vault", "auditor"]}, {"curator", "auditor"}, None),
    (MAPPED, {"duties": ["SOWER", "sower"]}, {"botanist", "sower"}, None),
    (BOTH, {"duties": "FH_HEAD,X_9,FH_registrar,HEADER"}, {"curator", "auditor", "registrar"}, '"HEADER"'),
    (URL, {"https://fernhollow.example/roles": ["curator"]}, {"curator"}, None),
    (URL, {"https://fernhollow": {"example/roles": ["curator"]}}, set(), "has no"),
    (DOTTED, {"fern.hollow": {"roles": ["curator"]}}, {"curator"}, None),
]


class TokenShapes(unittest.TestCase):
    def test_every_shape_gives_exact_names_or_a_reason(self) -> None:
        check = TokenCheck(TokenRules(("HS256",)), OneKey(KEY))
        ends = datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=5)
        for where, said, roles, noted in SHAPES:
            with self.subTest(said=said):
                token = jwt.encode({"sub": "3", "exp": ends, **said}, KEY, "HS256")
                reading = BearerToken(check, where).read(Sent(authorization=f"Bearer {token}"))
                assert reading is not None
                self.assertEqual(reading.caller.roles, roles)
                self.assertEqual(reading.caller.id, "3")
                if noted is None:
                    self.assertEqual(reading.caller.notes, ())
                else:
                    self.assertIn(noted, " | ".join(reading.caller.notes))

    def test_groups_scopes_and_attributes(self) -> None:
        where = names(groups="crew", scopes="scope", attributes={"status": "now.is", "site": "at"}, separator=";")
        for said, groups, scopes, attributes, noted in (
            (
                {"crew": "a b;c", "scope": "x:a x:b", "now": {"is": "active"}, "at": 7},
                {"a b", "c"},
                {"x:a", "x:b"},
                {"status": "active", "site": 7},
                "",
            ),
            ({"crew": ["a b"], "scope": ["x:a"], "at": None}, {"a b"}, {"x:a"}, {"site": None}, "caller.status is mis"),
            ({"scope": ""}, set(), set(), {}, "scope of the token is empty, so no scopes"),
            ({"crew": 3}, set(), set(), {}, "has no scope, so no scopes come from it"),
        ):
            with self.subTest(said=said):
                caller = read_claims({"sub": "3", **said}, where).caller
                self.assertEqual((caller.groups, caller.scopes), (groups, scopes))
                self.assertEqual(dict(caller.attributes), attributes)
                self.assertIn(noted, " | ".join(caller.notes))
        self.assertIsNone(read_claims({"sub": 3}, names()).caller.scopes)

    def test_claims_that_name_nobody(self) -> None:
        for said in ({}, {"sub": None}, {"sub": ""}, {"sub": True}, {"sub": 1.5}, {"sub": ["3"]}, {"sub": {"id": 3}}):
            with self.subTest(said=said), self.assertRaisesRegex(Unidentified, "sub"):
                read_claims(said, names())

    def test_ways_to_a_claim(self) -> None:
        for text, path in (
            ("sub", ("sub",)),
            ("a.b.c", ("a", "b", "c")),
            ('"a.b".c', ("a.b", "c")),
            ('a."b/c"."d"', ("a", "b/c", "d")),
            ("X-Member", ("X-Member",)),
        ):
            self.assertEqual(claim_path(text), path)
        for text in ("", ".", "a.", "a..b", ".a", '"a', 'a"b"', '""', "a. b", "https://x.example/roles"):
            with self.subTest(text=text), self.assertRaises(ValueError):
                claim_path(text)

    plain = st.text("abcXYZ_-", min_size=1, max_size=6)

    @examples(60)
    @given(
        st.frozensets(plain, max_size=3),
        st.frozensets(plain, max_size=3),
        st.none() | st.frozensets(plain, max_size=3),
        st.sampled_from([None, ",", " ", "|"]),
        st.sampled_from(["", "P:"]),
        st.dictionaries(plain, st.integers() | plain, max_size=2),
    )
    def test_what_is_written_is_read_back(
        self, roles: Any, groups: Any, scopes: Any, separator: Any, prefix: Any, attributes: Any
    ) -> None:
        paths = {name: ("more", name) for name in attributes}
        where = ClaimNames(
            ("sub",), (("a", "roles"),), ("a", "b"), ("scope",), paths, separator, prefix, {"Boss": "abc"}
        )
        scopes = scopes if scopes is not None else frozenset({"none:such"})
        caller = Caller("3", roles, groups, attributes, scopes)
        self.assertEqual(read_claims(claims_of(caller, where), where).caller, caller)


class ActingForOthers(unittest.TestCase):
    def test_who_acts_is_read_or_the_token_refused(self) -> None:
        where = ClaimNames(("sub",), actor=("act", "sub"))
        for said, actor in (
            ({}, None),
            ({"act": None}, None),
            ({"act": {"sub": "hazel"}}, "hazel"),
            # RFC 8693, section 4.1: the outermost acts now, those within acted before.
            ({"act": {"sub": 9, "act": {"sub": "fern"}}}, 9),
        ):
            with self.subTest(said):
                self.assertEqual(read_claims({"sub": "ash", **said}, where).caller.actor, actor)
        for wrong in ({}, {"sub": ""}, {"sub": None}, {"sub": True}, {"sub": ["hazel"]}, "hazel", 7, []):
            with self.subTest(wrong), self.assertRaisesRegex(Unidentified, "names no one who acts for another"):
                read_claims({"sub": "ash", "act": wrong}, where)


class TableRows(unittest.TestCase):
    def test_rows_become_a_member(self) -> None:
        member = {"id": 3, "status": "active", "site": "north"}
        for rows, roles, groups, granted, noted in (
            ({"roles": [{"role": "curator"}]}, {"curator"}, set(), set(), ""),
            ({"roles": [{"role": "curator, botanist"}]}, {"curator", "botanist"}, set(), set(), ""),
            ({"roles": [{"role": '["curator", "guest-registrar"]'}]}, {"curator", "guest-registrar"}, set(), set(), ""),
            ({"roles": [{"role": '{"curator": true, "botanist": 0, "a": 1}'}]}, {"curator", "a"}, set(), set(), ""),
            ({"roles": [{"role": {"curator": 1, "lot": False}}]}, {"curator"}, set(), set(), ""),
            ({"roles": [{"role": '{"curator": "yes"}'}]}, set(), set(), set(), "and not true or false"),
            ({"roles": [{"role": "[" * 100_000}]}, set(), set(), set(), "begins like JSON"),
            ({"groups": [{"name": '{"crew": 1}'}]}, set(), {"crew"}, set(), ""),
            ({"roles": [{"role": None}, {"role": ""}]}, set(), set(), set(), ""),
            ({"roles": [{"role": "a"}, {"role": "b"}]}, {"a", "b"}, set(), set(), ""),
            ({"roles": [{"role": 7}]}, set(), set(), set(), "a role in the directory is 7"),
            ({"roles": [{"role": "[broken"}]}, set(), set(), set(), "begins like JSON, and is not valid JSON"),
            ({"groups": [{"name": "crew"}]}, set(), {"crew"}, set(), ""),
            ({"permissions": [{"p": "lot:read,lot:edit"}]}, set(), set(), {"lot:read", "lot:edit"}, ""),
            (
                {"permissions": [{"p": {"lot": ["read"], "memo:read": True}}]},
                set(),
                set(),
                {"lot:read", "memo:read"},
                "",
            ),
            ({"permissions": [{"p": '{"lot": {"read": true, "edit": false}}'}]}, set(), set(), {"lot:read"}, ""),
            ({"permissions": [{"p": {"lot:edit": False, "lot": None}}]}, set(), set(), set(), ""),
            ({"permissions": [{"p": {"lot": {"edit": "1"}}}]}, set(), set(), set(), "and not true or false"),
        ):
            with self.subTest(rows=rows):
                found = member_of({"member": [member], **rows}, "3")
                assert found is not None
                self.assertEqual((found.roles, found.groups, set(found.granted)), (roles, groups, granted))
                self.assertIn(noted, " | ".join(found.unreadable))
                self.assertEqual(found.caller().attributes["site"], "north")

    def test_only_the_member_who_was_asked_for(self) -> None:
        for asked, row, there in (
            ("3", {"id": 3}, True),
            (3, {"id": 3}, True),
            ("03", {"id": 3}, False),
            ("3.0", {"id": 3}, False),
            (True, {"id": 1}, False),
            ("ash", {"id": "ash"}, True),
            ("Ash", {"id": "ash"}, False),
            ("3", {"id": None}, False),
            ("3", {"number": 3}, False),
        ):
            with self.subTest(asked=asked, row=row):
                self.assertEqual(member_of({"member": [row]}, asked) is not None, there)
        self.assertIsNone(member_of({"member": [{"id": 3}, {"id": 3}]}, 3))
        self.assertIsNone(member_of({}, 3))

    def test_what_a_token_still_says_counts_for_nothing(self) -> None:
        found = member_of({"member": [{"id": 3, "status": "active"}], "roles": [{"r": "volunteer"}]}, "3")
        claimed = Caller("3", {"curator"}, {"crew"}, {"status": "x", "site": "north"}, {"lot:read"})
        caller = found.caller(claimed)
        self.assertEqual(
            (caller.id, caller.roles, caller.groups, caller.scopes), (3, {"volunteer"}, set(), {"lot:read"})
        )
        self.assertEqual(dict(caller.attributes), {"status": "active", "site": "north"})
        self.assertIn("does not say curator", caller.notes[0])

    def test_permissions_in_text_that_is_no_json(self) -> None:
        self.assertEqual(permissions_in("{lot", ","), ([], ['begins like JSON, and is not valid JSON: "{lot"']))
