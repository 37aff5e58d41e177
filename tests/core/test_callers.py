"""Callers stay as they were made, and say what they hold in one way alone."""

import copy
import json
import pickle
import unittest
from typing import Any

import bloodroot
from bloodroot import Caller


class Callers(unittest.TestCase):
    def test_14_nothing_of_a_caller_can_be_changed(self) -> None:
        given: dict[str, Any] = {"team": [1, 2], "seat": {"at": ["x"]}, "tags": {"a"}}
        caller = Caller(1, ["keeper"], attributes=given, granted={"lot:edit": "the directory"})
        given["team"].append(3)
        given["status"] = "active"
        attributes: Any = caller.attributes
        self.assertEqual(attributes, {"team": (1, 2), "seat": {"at": ("x",)}, "tags": {"a"}})
        changes = (
            lambda: attributes.update(status="active"),
            lambda: attributes.__setitem__("status", "active"),
            lambda: attributes.pop("team"),
            lambda: attributes.clear(),
            lambda: attributes.setdefault("status", "active"),
            lambda: attributes["seat"].update(at=[]),
            lambda: caller.granted.update({"lot:read": "me"}),  # type: ignore[attr-defined]
            lambda: setattr(caller, "roles", {"owner"}),
        )
        for change in changes:
            with self.assertRaises((TypeError, AttributeError)):
                change()
        for name, method in (("team", "append"), ("tags", "add")):
            self.assertFalse(hasattr(attributes[name], method))
        for other in (copy.deepcopy(caller), pickle.loads(pickle.dumps(caller)), copy.copy(caller)):
            self.assertEqual(other, caller)
        self.assertEqual(json.loads(json.dumps({**attributes, "tags": []}))["team"], [1, 2])

    def test_14_mappings_and_strings_are_no_collections_of_names(self) -> None:
        for name in ("roles", "groups", "scopes"):
            for value in ({"keeper": False}, "keeper", b"keeper"):
                with self.subTest(name, value=value), self.assertRaisesRegex(TypeError, f"Caller.{name} is a coll"):
                    Caller(1, **{name: value})

    def test_14_lists_of_a_caller_are_compared_as_ever(self) -> None:
        policy = bloodroot.parse(
            "conditions\n  mine  path.team in caller.teams\n  same  caller.teams == [1, 2]\n"
            "endpoints\n  GET /teams/{team} mine\n  GET /same same\n"
        )
        caller = Caller(1, attributes={"teams": [1, 2]})
        self.assertTrue(policy.decide(caller, "GET", "/teams/2").allowed)
        self.assertFalse(policy.decide(caller, "GET", "/teams/3").allowed)
        self.assertTrue(policy.decide(caller, "GET", "/same").allowed)

    def test_a_caller_has_no_attributes_but_its_own(self) -> None:
        caller = Caller(3, {"u"}, attributes={"x": 3})
        for name, outcome in (("x", "allow"), ("_caller", "deny"), ("followed", "deny"), ("keys", "deny")):
            with self.subTest(name):
                text = f"roles\n  u\nconditions\n  same  caller.{name} == caller.{name}\nendpoints\n  GET /a  same\n"
                self.assertEqual(bloodroot.parse(text).decide(caller, "GET", "/a").outcome, outcome)
