"""The index finds what a plain reading of the rules would find, for any lines and any path."""

import re
import unittest
from urllib.parse import unquote_to_bytes

from hypothesis import given
from hypothesis import strategies as st

from bloodroot.core.paths import Template, overlap, parse_template, read_path, specificity
from bloodroot.core.routing import PathTree
from tests.examples import examples

PARTS = st.sampled_from(["a", "b", "v1", "{x}", "{y}", "v{x}", "{x}.c", "v{x}.c", "*"])
TEMPLATES = st.builds(
    lambda parts, rest: "/" + "/".join([*parts, *(["**"] if rest else [])]),
    st.lists(PARTS, max_size=3),
    st.booleans(),
)
METHODS = ("GET", "HEAD", "POST", "PUT", "any")
VALUES = st.sampled_from(["a", "b", "v1", "v2", "7.c", "v7.c", "z"])
PIECES = st.sampled_from(
    [*"abZ09-._~!$&'()*+,=:@%;\\?# é\x00\x7f\x85\ud800", *("%2F", "%2e", "%41", "%C3%A9", "//", "/.", "/..", "/")]
)
slowly = examples(250)


def renamed(text: str) -> Template:
    """A template whose parameters have names of their own."""
    parts = [
        part.replace("{x}", f"{{x{place}}}").replace("{y}", f"{{y{place}}}")
        for place, part in enumerate(text.split("/"))
    ]
    return parse_template("/".join(parts))


def by_the_rules(lines: list[tuple[str, Template]], method: str, segments: list[str]) -> tuple[str, Template] | None:
    """The most specific line, found by looking at every one of them."""
    rank = {method: 0, "any": 2}
    if method == "HEAD":
        rank["GET"] = 1
    fitting = [line for line in lines if line[0] in rank and line[1].covers(segments)]
    return min(fitting, key=lambda line: (specificity(line[1]), rank[line[0]]), default=None)


class TheIndex(unittest.TestCase):
    @slowly
    @given(
        st.lists(st.tuples(st.sampled_from(METHODS), TEMPLATES), max_size=12),
        st.lists(st.lists(VALUES, max_size=4), min_size=1, max_size=6),
        st.randoms(use_true_random=False),
    )
    def test_finds_the_most_specific_line(self, wanted, paths, random) -> None:  # type: ignore[no-untyped-def]
        lines: list[tuple[str, Template]] = []
        shapes = set()
        for method, text in wanted:
            template = renamed(text)
            shape = (method, specificity(template, exact=True))
            if shape not in shapes:
                shapes.add(shape)
                lines.append((method, template))
        random.shuffle(lines)
        index: PathTree[tuple[str, Template]] = PathTree()
        for line in lines:
            methods = () if line[0] == "any" else (line[0],)
            self.assertEqual(index.add(methods, line[1], line), [])
        for segments in paths:
            for method in ("GET", "HEAD", "POST", "DELETE"):
                expected = by_the_rules(lines, method, segments)
                found = index.find(method, segments)
                self.assertIs(found, expected, f"{method} {segments} in {[(m, t.text) for m, t in lines]}")

    @slowly
    @given(TEMPLATES, TEMPLATES)
    def test_notices_lines_of_one_shape(self, one: str, other: str) -> None:
        index: PathTree[str] = PathTree()
        index.add(("GET",), renamed(one), "one")
        taken = index.add(("GET",), renamed(other.replace("{x}", "{y}")), "other")
        same = specificity(renamed(one), exact=True) == specificity(renamed(other), exact=True)
        self.assertEqual(taken, [("GET", "one")] if same else [])

    @slowly
    @given(TEMPLATES, TEMPLATES, st.lists(st.lists(VALUES, max_size=4), min_size=4, max_size=12))
    def test_overlap_tells_what_paths_show(self, pattern: str, template: str, paths: list[list[str]]) -> None:
        rule, line = renamed(pattern), renamed(template)
        covered = overlap(rule, line)
        for segments in paths:
            if line.covers(segments):
                if covered is True:
                    self.assertTrue(rule.covers(segments))
                if covered is False:
                    self.assertFalse(rule.covers(segments))

    @slowly
    @given(st.lists(TEMPLATES, max_size=12), TEMPLATES)
    def test_what_may_overlap_is_near(self, others: list[str], text: str) -> None:
        template = renamed(text)
        templates = [renamed(other) for other in others]
        near = set(PathTree((other, number) for number, other in enumerate(templates)).near(template))
        for number, other in enumerate(templates):
            if overlap(template, other) is not False and overlap(other, template) is not False:
                self.assertIn(number, near, (template.text, other.text))


def read_by_the_rules(path: str) -> list[str] | None:
    """The segments of a path, one rule after the other."""
    if not path.startswith("/") or re.search(r"[?#]|%(?![0-9A-Fa-f]{2})", path) or len(path) > 16_384:
        return None
    inner = path[1:-1] if path.endswith("/") else path[1:]
    segments = []
    for part in inner.split("/") if path != "/" else ():
        try:
            segments.append(unquote_to_bytes(part).decode())
        except UnicodeError:
            return None
    return (
        None if any(s in ("", ".", "..") or re.search(r"[/\\;\x00-\x1f\x7f-\x9f]", s) for s in segments) else segments
    )


class Paths(unittest.TestCase):
    @examples(2000)
    @given(st.lists(PIECES, max_size=8).map("".join))
    def test_a_path_is_read_as_the_rules_say(self, text: str) -> None:
        for path in (f"/{text}", text):
            self.assertEqual(read_path(path), read_by_the_rules(path), repr(path))

    def test_every_sign_is_read_as_the_rules_say(self) -> None:
        for code in (*range(0x1000), *range(0x2000, 0x3100), *range(0xD7F0, 0xE010), *range(0xFE00, 0x10010), 0x10FFFF):
            path = f"/a{chr(code)}b"
            self.assertEqual(read_path(path), read_by_the_rules(path), f"U+{code:04X}")

    @slowly
    @given(st.text(max_size=30))
    def test_no_text_breaks_the_reader(self, text: str) -> None:
        for path in (text, "/" + text):
            segments = read_path(path)
            if segments is not None:
                for segment in segments:
                    self.assertNotIn("/", segment)
                    self.assertNotIn(segment, ("", ".", ".."))

    @slowly
    @given(st.lists(st.text(min_size=1, max_size=8), max_size=4))
    def test_what_is_filled_in_is_read_back(self, values: list[str]) -> None:
        template = parse_template("/" + "/".join(f"{{p{number}}}" for number in range(len(values))))
        try:
            path = template.fill({f"p{number}": value for number, value in enumerate(values)})
        except UnicodeEncodeError:
            return
        segments = read_path(path)
        if segments is not None:
            self.assertEqual(list(template.values(segments).values()), values)
