"""Which line a path finds, and which paths can be read at all."""

import itertools
import unittest

from bloodroot.core.paths import TemplateError, overlap, parse_template, read_path
from bloodroot.core.routing import PathTree


class Reading(unittest.TestCase):
    def test_paths_that_can_be_read_one_way(self) -> None:
        for path, segments in {
            "/": [],
            "/a": ["a"],
            "/a/": ["a"],
            "/a/b.c": ["a", "b.c"],
            "/a/..b/c..": ["a", "..b", "c.."],
            "/A": ["A"],
            "/a%20b": ["a b"],
            "/caf%C3%A9": ["café"],
            "/café": ["café"],
            "/100%25": ["100%"],
            "/%252e": ["%2e"],
            "/a+b&c=d,(e)": ["a+b&c=d,(e)"],
            "/.well-known/x": [".well-known", "x"],
        }.items():
            with self.subTest(path):
                self.assertEqual(read_path(path), segments)

    def test_paths_that_can_be_read_two_ways_are_not_read(self) -> None:
        for path in (
            *("", "a", "//", "//a", "/a//b", "/a//", "/./a", "/a/.", "/a/..", "/../a", "/a/./b", "/a/../b"),
            *("/%2e/a", "/a/%2E%2e", "/a/.%2e/b", "/a%2fb", "/a%2Fb", "/a%5cb", "/a\\b", "/a;b", "/a%3bb", "/a;v=1/b"),
            *("/a%00b", "/a\nb", "/a%0ab", "/a%7f", "/a%c2%85", "/%ff", "/%c3", "/%", "/%2", "/%zz", "/a?b", "/a#b"),
            "/\ud800",
        ):
            with self.subTest(path):
                self.assertIsNone(read_path(path))


class Finding(unittest.TestCase):
    lines = (
        ("GET", "/lots"),
        ("GET", "/lots/{id}"),
        ("GET", "/lots/new"),
        ("GET", "/lots/{id}.csv"),
        ("GET", "/lots/v{id}.csv"),
        ("any", "/lots/{id}"),
        ("GET", "/lots/*/parts"),
        ("GET", "/lots/{id}/parts/{part}"),
        ("GET", "/lots/new/parts/last"),
        ("any", "/lots/**"),
        ("HEAD", "/heads"),
        ("GET", "/heads"),
        ("any", "/**"),
    )
    cases = (
        ("GET", "/", "any /**"),
        ("GET", "/lots", "GET /lots"),
        ("GET", "/lots/", "GET /lots"),
        ("POST", "/lots", "any /lots/**"),
        ("GET", "/lots/7", "GET /lots/{id}"),
        ("HEAD", "/lots/7", "GET /lots/{id}"),
        ("POST", "/lots/7", "any /lots/{id}"),
        ("GET", "/lots/new", "GET /lots/new"),
        ("POST", "/lots/new", "any /lots/{id}"),
        ("GET", "/lots/7.csv", "GET /lots/{id}.csv"),
        ("GET", "/lots/v7.csv", "GET /lots/v{id}.csv"),
        ("GET", "/lots/.csv", "GET /lots/{id}"),
        ("GET", "/lots/7/parts", "GET /lots/*/parts"),
        ("GET", "/lots/7/parts/3", "GET /lots/{id}/parts/{part}"),
        ("GET", "/lots/new/parts/last", "GET /lots/new/parts/last"),
        ("GET", "/lots/new/parts/3", "GET /lots/{id}/parts/{part}"),
        ("GET", "/lots/7/parts/3/4", "any /lots/**"),
        ("HEAD", "/heads", "HEAD /heads"),
        ("GET", "/elsewhere", "any /**"),
        ("GET", "/LOTS", "any /**"),
    )

    def index(self, lines: tuple[tuple[str, str], ...]) -> PathTree[str]:
        index: PathTree[str] = PathTree()
        for method, path in lines:
            taken = index.add(() if method == "any" else (method,), parse_template(path), f"{method} {path}")
            self.assertEqual(taken, [])
        return index

    def test_the_most_specific_line_is_found_in_whatever_order_they_stand(self) -> None:
        for lines in (self.lines, self.lines[::-1], self.lines[5:] + self.lines[:5]):
            index = self.index(lines)
            for method, path, found in self.cases:
                with self.subTest(f"{method} {path}"):
                    self.assertEqual(index.find(method, read_path(path) or []), found)

    def test_nothing_is_found_where_nothing_stands(self) -> None:
        index = self.index((("GET", "/a/b/c"), ("GET", "/a/{x}/d"), ("POST", "/a/**")))
        for path in ("/", "/a", "/a/b", "/a/b/e", "/a/b/c/d"):
            with self.subTest(path):
                self.assertIsNone(index.find("GET", read_path(path) or []))
        self.assertEqual(index.find("GET", ["a", "b", "d"]), "GET /a/{x}/d")
        index = self.index((("GET", "/s/*/end"), ("GET", "/v/v{x}"), ("GET", "/w/{x}.csv/end")))
        for path, found in (
            ("/s/x/other", None),
            ("/s/x/end", "GET /s/*/end"),
            ("/v/w7", None),
            ("/v/v7", "GET /v/v{x}"),
        ):
            self.assertEqual(index.find("GET", read_path(path) or []), found, path)
        self.assertIsNone(index.find("GET", ["w", "7.txt", "end"]))

    def test_the_same_shape_twice_is_noticed(self) -> None:
        index: PathTree[str] = PathTree()
        index.add(("GET", "PUT"), parse_template("/a/{x}"), "first")
        self.assertEqual(index.add(("PUT", "POST"), parse_template("/a/{y}/"), "second"), [("PUT", "first")])

    def test_a_search_among_many_dead_ends_ends(self) -> None:
        index: PathTree[str] = PathTree()
        for number, parts in enumerate(itertools.product(("a", "*"), repeat=9)):
            index.add(("GET",), parse_template("/" + "/".join(parts) + f"/end{number}"), str(number))
        self.assertIsNone(index.find("GET", ["a"] * 9 + ["nowhere"]))


class Templates(unittest.TestCase):
    def test_what_cannot_be_a_template(self) -> None:
        for text, part in {
            "/a//b": "empty segment",
            "/a/../b": "no . or ..",
            "/a/{b": "no partner",
            "/a/b}": "no partner",
            "/a/{}": "cannot name",
            "/a/{1}": "cannot name",
            "/a/{b}{c}": "more than one",
            "/a/b*": "mixes *",
            "/**/a": "can only be the last",
            "/{a}/{a}": "twice",
            "/a?b": "a query",
            "/a%20b": "percent",
            "/a;b": "a ;",
            "/a\\b": "backslash",
            "/" + "a/" * 200: "at most",
        }.items():
            with self.subTest(text), self.assertRaisesRegex(TemplateError, part):
                parse_template(text)

    def test_filling_and_reading_are_each_other_undone(self) -> None:
        template = parse_template("/lots/v{id}.csv/{part}")
        path = template.fill({"id": "7 b", "part": "é/x"})
        self.assertEqual(path, "/lots/v7%20b.csv/%C3%A9%2Fx")
        self.assertEqual(template.values(["lots", "v7 b.csv", "é"]), {"id": "7 b", "part": "é"})

    def test_how_a_pattern_covers_a_template(self) -> None:
        for pattern, template, covered in (
            ("/office/**", "/office", True),
            ("/office/**", "/office/{x}/y", True),
            ("/office/**", "/**", None),
            ("/office/**", "/{x}/y", None),
            ("/office/**", "/lots", False),
            ("/a/*", "/a/{x}", True),
            ("/a/*", "/a/**", None),
            ("/a/b", "/a/{x}", None),
            ("/a/b", "/a/{x}/c", False),
            ("/a/{x}.csv", "/a/{y}.csv", True),
            ("/a/{x}.csv", "/a/{y}", None),
            ("/a/{x}.csv", "/a/7.csv", True),
            ("/a/{x}.csv", "/a/7.txt", False),
            ("/a", "/a/**", None),
            ("/a/b/c", "/a/**", None),
        ):
            with self.subTest(f"{pattern} over {template}"):
                self.assertIs(overlap(parse_template(pattern), parse_template(template)), covered)
