"""Coverage: a survey says of an endpoint what `decide` says of requests to it."""

import random
import re
import unittest
from itertools import islice, product

from bloodroot import Policy, PolicyError, parse
from bloodroot.survey.coverage import Surveyed, survey
from bloodroot.survey.endpoints import Endpoint, Found
from tests.examples import number

CASES = number(300, 20_000)
SEGMENTS = ("*", "a", "b", "{}", "{}.json", "v{}")
METHODS = ("GET", "POST", "HEAD", "DELETE", "any")
SERVED = ("GET", "POST", "PUT", "PATCH", "DELETE")


def template(maker: random.Random, wild: float) -> str:
    parts = [maker.choice(SEGMENTS).replace("{}", f"{{p{number}}}") for number in range(maker.randint(0, 3))]
    return "/" + "/".join([*parts, *(["**"] if maker.random() < wild else [])])


def requests(path: str) -> list[str]:
    """Paths that a template covers: those with values that lines name, and others."""
    choices = []
    for part in path.split("/")[1:]:
        before, _, after = re.sub(r"\{.*\}", "{", part).partition("{")
        values = [part] if part.isalnum() or not part else ["a", "b", "z", "va", "a.json"]
        choices.append([*values, "", "a/z"] if part == "**" else [before + value + after for value in values])
        if part == "*":
            choices[-1] = values
    return ["/" + "/".join(filter(None, some)) for some in islice(product(*choices), 200)]


def unnamed(path: str) -> str:
    """A path of a template, whose values no line names, and as deep as it may be."""
    return re.sub(r"\{[^}]*\}|(?<![*])\*(?![*])", "other", path).replace("**", "/".join(["other"] * 50))


class Coverage(unittest.TestCase):
    def test_as_requests_are_decided(self) -> None:
        tried = 0
        for seed in range(CASES):
            maker = random.Random(seed)
            lines = {
                (maker.choice(METHODS), template(maker, 0.2)): maker.choice(("anyone", "nobody"))
                for _ in range(maker.randint(1, 6))
            }
            text = "endpoints\n" + "".join(f"  {method} {path} {asks}\n" for (method, path), asks in lines.items())
            try:
                policy = parse(text)
            except PolicyError:
                continue  # Two lines cover the same requests.
            tried += 1
            endpoints = []
            for _ in range(maker.randint(1, 5)):
                method = maker.choice(METHODS)
                endpoints.append(Endpoint(() if method == "any" else (method,), template(maker, 0.3), "x", "x"))
            result = survey([Found("x", tuple(endpoints))], policy)
            idle = {line.place.at for line in result.idle}
            for row in result.endpoints:
                with self.subTest(text, endpoint=f"{row.method} {row.endpoint.template}"):
                    self.hold(policy, row, idle)
        self.assertGreater(tried, CASES * 0.9)

    def hold(self, policy: Policy, row: Surveyed, idle: set[str]) -> None:
        methods = SERVED if row.method == "any" else (row.method,)
        for method in methods:
            decision = policy.decide(None, method, unnamed(row.endpoint.template))
            self.assertEqual(decision.line is None, row.line is None or method in row.closed)
            for path in requests(row.endpoint.template):
                line = policy.decide(None, method, path).line
                self.assertFalse(line is not None and line.place.at in idle, f"{method} {path}")
