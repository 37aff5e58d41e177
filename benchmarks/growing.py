"""Policies of which one part grows: twice the text may take twice the work, to compile it and to use it."""

from __future__ import annotations

import contextlib
from collections.abc import Callable

import bloodroot
from bloodroot import Caller
from bloodroot.core.matrix import matrix_of_roles

HEAD = "roles\n  r0\n"
OPEN = "endpoints\n  GET /** r0\n"


def _entries(count: int, entry: Callable[[int], str]) -> str:
    return "".join(f"  {entry(number)}\n" for number in range(count))


def resting(count: int) -> str:
    """Conditions each of which rests on the one before twice: written out, the last one doubles with each of them."""
    tests = _entries(count, lambda n: f"c{n + 1} (c{n} or record.b == {n}) and (c{n} or record.c == {n})")
    lines = f"endpoints\n  GET /x r0 if c{count}\n  GET /y r0 if not c{count}\n"
    return f"{HEAD}conditions\n  c0 record.a == 1\n{tests}{lines}"


def alternatives(count: int) -> str:
    """One condition with many alternatives."""
    test = " or ".join(f"record.a == {number}" for number in range(count))
    return f"{HEAD}conditions\n  c {test}\nendpoints\n  GET /x r0 if c\n"


def redirects(count: int) -> str:
    """Redirects each of which leads to the page of the next one."""
    denials = _entries(count, lambda n: f"/a{n} role go /a{n + 1}")
    return f"{HEAD}{OPEN}  GET /a{count} anyone\ndenials\n{denials}"


def denials(count: int) -> str:
    """Denials for paths of their own."""
    return f"{HEAD}{OPEN}denials\n{_entries(count, lambda n: f'/a{n} role status 404')}"


def apart(count: int) -> str:
    """Roles each of which is kept apart from the next one."""
    return f"roles\n{_entries(count, lambda n: f'r{n}')}{_entries(count - 1, lambda n: f'apart r{n}, r{n + 1}')}{OPEN}"


def partial(count: int) -> str:
    """Templates with text around a name, all of them in one segment."""
    return f"{HEAD}endpoints\n{_entries(count, lambda n: f'GET /a/x{n}y{{n}} r0')}"


def standing(count: int) -> str:
    """Standing rules for paths of their own."""
    return f"{HEAD}{OPEN}always\n{_entries(count, lambda n: f'/a{n}/** r0')}"


def families(count: int) -> str:
    """Permissions that are granted as families."""
    lines = _entries(count, lambda n: f"GET /a{n} a{n}:b:c")
    return f"{HEAD}permissions\n{_entries(count, lambda n: f'a{n}:* r0')}endpoints\n{lines}"


def unknown(count: int) -> str:
    """Misspelled names among many."""
    return (
        f"roles\n{_entries(count, lambda n: f'role{n}')}endpoints\n{_entries(count, lambda n: f'GET /a{n} rolle{n}')}"
    )


# Each with a size that is halved and doubled; conditions rest on at most 40 others.
GROWING: dict[Callable[[int], str], int] = {
    resting: 20,
    alternatives: 1000,
    redirects: 1000,
    denials: 2000,
    apart: 1000,
    partial: 1000,
    standing: 1000,
    families: 1000,
    unknown: 500,
}


def use(text: str) -> None:
    """Compile a policy, and ask it what users ask: decisions with and without a record, flags, steps, the matrix."""
    try:
        policy = bloodroot.parse(text)
    except bloodroot.PolicyError as error:
        str(error)
        return
    for path in ("/x", "/y", "/a0", "/a/x1y7", "/a/none"):
        for caller in (Caller(1), Caller(1, {"r0"})):
            for record in (None, {"a": -1, "b": 1, "c": 1}, {}):
                decision = policy.decide(caller, "GET", path, record=record)
                assert decision.steps
                if decision.remainder is not None:
                    decision.remainder.words()
                if decision.reason is not None:
                    assert decision.answer
            with contextlib.suppress(bloodroot.UnknownNameError):
                policy.flags_of_each(caller, [f"GET {path}"], [{"a": -1, "b": 1, "c": 1}, {}])
    matrix = matrix_of_roles(policy)
    for row in matrix.rows[:2]:
        for cell in matrix.cells(row):
            cell.words()
