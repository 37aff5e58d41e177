"""Requests that templates tell apart: one path for each combination of templates that can match together.

Which line decides, which standing rules must hold and which denial answers is determined by the set of templates that
match a path. Wherever two templates have paths in common, these paths are a template too: their meet. So the templates,
with all their meets, are enough to stand for every path there is, one path each; of a template that ends in ``**`` one
path for each depth up to that of the deepest template.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from itertools import chain

from ..core.paths import REST, STAR, Parameter, Segment, Template, encoded_segment, fits, specificity
from ..core.routing import PathTree

Shape = tuple[tuple[int, int, int, str, str], ...]
_MOST = 2_000
_MOST_PAIRS = 300_000
# A segment for "anything else" must not be one that text in a template speaks of.
_LETTERS = "xqzjkvwyabcdefghilmnoprstu0123456789" + "".join(map(chr, range(0x4E00, 0x9FA5)))


@dataclass(frozen=True, slots=True)
class Region:
    """Paths that no template tells apart.

    Attributes:
        template: what they have in common.
        segments: one of these paths, read into its segments; names and wildcards have a value that nothing speaks of.
        path: the same path as a client sends it.
    """

    template: Template
    segments: tuple[str, ...]
    path: str


@dataclass(frozen=True, slots=True)
class Regions:
    """The paths to look at.

    Attributes:
        found: the regions.
        complete: whether every path belongs to one of them; False where there are too many meets.
    """

    found: tuple[Region, ...]
    complete: bool


def regions_of(templates: Iterable[Template]) -> Regions:
    """One region for each combination of these templates that can match together."""
    known: dict[Shape, Template] = {}
    for template in templates:
        known.setdefault(specificity(template, exact=True), template)
    complete = _add_meets(known)
    fresh = _fresh(known.values())
    deepest = max((len(template.segments) for template in known.values()), default=0) + 1
    regions: dict[tuple[str, ...], Region] = {}
    # Templates of one depth name their paths best, and of these the ones that were given first.
    for each in sorted(known.values(), key=lambda template: template.segments[-1:] == (REST,)):
        for region in _of_depths(each, fresh, deepest):
            regions.setdefault(region.segments, region)
    return Regions(tuple(regions.values()), complete)


def _add_meets(templates: dict[Shape, Template]) -> bool:
    """Add what templates have in common, until there is nothing more; False where that would be too much."""
    # What several have in common is what one of them has in common with the rest: those that were given are enough.
    index = PathTree((template, template) for template in templates.values())
    waiting = list(templates.values())
    # Meets are few where people write policies; without a limit there may be as many as sets of templates.
    most, patience = 2 * len(templates) + _MOST, 100 * len(templates) + _MOST_PAIRS
    while waiting:
        template = waiting.pop()
        near = [other for other in index.near(template) if other is not template]
        patience -= len(near)
        if patience < 0:
            return False
        for meet in chain.from_iterable(meets(template, other) for other in near):
            shape = specificity(meet, exact=True)
            if shape not in templates:
                if len(templates) >= most:
                    return False
                templates[shape] = meet
                waiting.append(meet)
    return True


def meets(one: Template, other: Template) -> Iterator[Template]:
    """The templates for the paths that two templates have in common: none, one, or a few where text overlaps."""
    heads: list[tuple[Segment, ...]] = [()]
    for place in range(max(len(one.segments), len(other.segments)) + 1):
        left = one.segments[place] if place < len(one.segments) else None
        right = other.segments[place] if place < len(other.segments) else None
        if left is REST or right is REST:
            rest = other.segments[place:] if left is REST else one.segments[place:]
            heads = [(*head, *rest) for head in heads]
            break
        if left is None or right is None:
            if left is not right:
                return
            break
        heads = [(*head, segment) for head in heads for segment in _common(left, right)][:64]
    for head in heads:
        yield made(head)


def made(segments: tuple[Segment, ...]) -> Template:
    """A template of segments. Names that come twice get a number."""
    used: dict[str, int] = {}
    parts: list[Segment] = []
    for segment in segments:
        if isinstance(segment, Parameter):
            used[segment.name] = used.get(segment.name, 0) + 1
            name = segment.name if used[segment.name] == 1 else f"{segment.name}-{used[segment.name]}"
            parts.append(segment if name == segment.name else Parameter(name, segment.before, segment.after))
        else:
            parts.append(segment)
    text = "/" + "/".join(part.value if part is STAR or part is REST else str(part) for part in parts)
    return Template(text, tuple(parts), tuple(part.name for part in parts if isinstance(part, Parameter)))


def _common(one: Segment, other: Segment) -> Iterator[Segment]:
    """The segments that fit two segments of templates."""
    if one is STAR or other is STAR:
        yield other if one is STAR else one
    elif isinstance(one, str):
        if fits(other, one):
            yield one
    elif isinstance(other, str):
        if fits(one, other):
            yield other
    else:
        assert isinstance(one, Parameter) and isinstance(other, Parameter)
        yield from _common_text(one, other)


def _common_text(one: Parameter, other: Parameter) -> Iterator[Segment]:
    before, after = max(one.before, other.before, key=len), max(one.after, other.after, key=len)
    if not (before.startswith(one.before) and before.startswith(other.before)):
        return
    if not (after.endswith(one.after) and after.endswith(other.after)):
        return
    if (before, after) == (one.before, one.after):
        yield one
    elif (before, after) == (other.before, other.after):
        yield other
    else:
        yield Parameter(one.name, before, after)
        # `a{x}` and `{x}a` have `aa` in common, which `a{x}a` does not match: the texts may touch or overlap.
        for shared in range(min(len(before), len(after)) + 1):
            text = before + after[shared:]
            if text.endswith(after) and one.matches(text) and other.matches(text):
                yield text


def _of_depths(template: Template, fresh: str, deepest: int) -> Iterator[Region]:
    if template.segments[-1:] != (REST,):
        yield _region(template, template.segments, fresh)
        return
    start = template.segments[:-1]
    for more in range(max(1, deepest - len(start) + 1)):
        yield _region(template, (*start, *((STAR,) * more)), fresh)


def _region(template: Template, segments: tuple[Segment, ...], fresh: str) -> Region:
    values = tuple(
        part if isinstance(part, str) else f"{part.before}{fresh}{part.after}" if isinstance(part, Parameter) else fresh
        for part in segments
    )
    return Region(template, values, "/" + "/".join(map(encoded_segment, values)))


def _fresh(templates: Iterable[Template]) -> str:
    """A segment that no literal is and no text around a name fits."""
    parts = [part for template in templates for part in template.segments]
    literals = {part for part in parts if isinstance(part, str)}
    befores = {part.before for part in parts if isinstance(part, Parameter) and part.before}
    afters = {part.after for part in parts if isinstance(part, Parameter) and part.after}
    for first in _LETTERS:
        for length in (1, 2, 3):
            text = first * length
            if text not in literals and not any(map(text.startswith, befores)) and not any(map(text.endswith, afters)):
                return text
    raise AssertionError("there are more letters than that")
