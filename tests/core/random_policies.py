"""Policies made at random, for properties that hold for all of them."""

from __future__ import annotations

from hypothesis import strategies as st

from bloodroot.core.paths import overlap, parse_template

ROLES = [f"r{number}" for number in range(5)]
CONDITIONS = {
    "mine": "record.owner == caller.id",
    "ripe": "record.age >= 3",
    "awake": 'caller.status == "awake"',
    "both": "mine and not ripe",
    "listed": 'record.kind in ["seed", caller.kind]',
    "free": "record.helper? == none or record.age? > 5",
}
PERMISSIONS = [f"p{number}:do" for number in range(4)]
PATHS = ["/", "/a", "/a/b", "/a/{x}", "/a/{x}/c", "/a/*/d", "/b/{x}.csv", "/b/{x}", "/b/**", "/c/{x}/{y}"]
RULES = ["/**", "/a/**", "/a/*", "/b/{x}", "/c", "/a/b"]
METHODS = ["GET", "POST", "GET POST", "any"]


@st.composite
def requirements(draw: st.DrawFn, depth: int = 2, *, negative: bool = True) -> str:
    """A requirement of roles, permissions, audiences and conditions."""
    names = [*ROLES, *PERMISSIONS, *CONDITIONS, "anyone", "signed-in", "nobody", *(["signed-out"] if negative else [])]
    if depth == 0 or draw(st.integers(0, 2)) == 0:
        return draw(st.sampled_from(names))
    kind = draw(st.sampled_from(["or", "and", "if", *(["not"] if negative else [])]))
    left = draw(requirements(depth - 1, negative=negative))
    if kind == "not":
        return f"(not ({left}))"
    if kind == "if":
        return f"(({left}) if {draw(st.sampled_from(sorted(CONDITIONS)))})"
    return f"({left} {kind} {draw(requirements(depth - 1, negative=negative))})"


@st.composite
def policies(draw: st.DrawFn, *, negative: bool = True) -> tuple[str, list[str], list[str]]:
    """The head of a policy, its endpoint lines and its standing rules; without ``not`` if negative is off."""
    head = ["policy", "roles"]
    for number, role in enumerate(ROLES):
        below = draw(st.lists(st.sampled_from(ROLES[:number]), max_size=2, unique=True)) if number else []
        default = " default" if draw(st.integers(0, 5)) == 0 else ""
        head.append(f"  {role}" + (f" includes {', '.join(below)}" if below else "") + default)
    head.append("permissions")
    for permission in PERMISSIONS:
        grants = draw(st.lists(st.sampled_from([*ROLES, "anyone", "signed-in", "nobody"]), max_size=3))
        conditions = [draw(st.sampled_from(["", "", *CONDITIONS])) for _ in grants]
        given = (f"{who} if {test}" if test else who for who, test in zip(grants, conditions, strict=True))
        head.append(f"  {permission} {', '.join(given)}")
    head.append("conditions")
    if not negative:
        head += [f"  {name} {test}" for name, test in {**CONDITIONS, "both": "mine and ripe"}.items()]
    else:
        head += [f"  {name} {test}" for name, test in CONDITIONS.items()]
    paths = draw(st.lists(st.sampled_from(PATHS), min_size=1, max_size=6, unique=True))
    lines = [f"{draw(st.sampled_from(METHODS))} {path} {draw(requirements(negative=negative))}" for path in paths]
    rules = [
        f"{path} {draw(requirements(1, negative=negative))}{_except(draw, path)}"
        for path in draw(st.lists(st.sampled_from(RULES), max_size=2, unique=True))
    ]
    return "\n".join(['policy "Random"', *head[1:]]), lines, rules


def _except(draw: st.DrawFn, path: str) -> str:
    """What a standing rule leaves out."""
    template = parse_template(path)
    left_out = [each for each in PATHS if each != path and overlap(template, parse_template(each)) is not False]
    if not left_out or not draw(st.booleans()):
        return ""
    return "".join(f" except {each}" for each in draw(st.lists(st.sampled_from(left_out), max_size=2, unique=True)))


def written(head: str, lines: list[str], rules: list[str]) -> str:
    """The text of a policy."""
    always = ["always", *(f"  {rule}" for rule in rules)] if rules else []
    return "\n".join([head, "endpoints", *(f"  {line}" for line in lines), *always])
