"""Random pairs of policies with things: who is let in and was not, or the other way round, is always said."""

import unittest
from dataclasses import replace

from hypothesis import HealthCheck, given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from bloodroot.comparison.changes import Change
from bloodroot.comparison.comparing import Side, compare
from tests.core.naive_things import IDS, THINGS, ThingWorld, said, thing_callers, thing_worlds, with_a_line
from tests.examples import examples

OPENS = {Change.GAINED, Change.WIDENED, Change.DIFFERENT}
CLOSES = {Change.LOST, Change.NARROWED, Change.DIFFERENT}


@st.composite
def changed(draw: st.DrawFn, world: ThingWorld) -> ThingWorld:
    """The same policy with another line, other inclusions, or both."""
    if draw(st.booleans()):
        return draw(with_a_line(world, path=world.path))
    other = draw(thing_worlds(like=world))
    if draw(st.booleans()):
        return other
    kept = replace(other, asks=world.asks, grants=world.grants)
    return kept if " in query." not in said(world.asks) else other


def is_of(kind: str, caller: Caller | None, *worlds: ThingWorld) -> bool:
    """Whether a caller may be of a kind, as it is written: each of its roles is held somewhere."""
    if caller is None or kind == "signed-out":
        return caller is None and kind == "signed-out"
    names = set() if kind == "signed-in" else {name.split(" in ")[0] for name in kind.split(" with ")}
    return any(
        names <= world.everywhere(caller).union(*(world.anywhere_in(caller, thing) for thing in THINGS))
        for world in worlds
    )


class RandomThings(unittest.TestCase):
    @examples(60, suppress_health_check=list(HealthCheck))
    @given(
        st.data(),
        thing_worlds(),
        st.lists(thing_callers(), min_size=5, max_size=5),
        st.lists(st.fixed_dictionaries({thing: st.sampled_from(IDS) for thing in THINGS}), min_size=5, max_size=5),
    )
    def test_every_change_is_said(
        self, data: st.DataObject, old: ThingWorld, who: list[Caller | None], where: list[dict[str, int]]
    ) -> None:
        new = data.draw(changed(old))
        policies = [bloodroot.parse(world.text()) for world in (old, new)]
        found = compare(Side(policies[0], "old"), Side(policies[1], "new"))
        for caller in who:
            theirs = [cell for cell in found.cells if is_of(cell.role, caller, old, new)]
            changes = {cell.change for cell in theirs}
            for ids in where:
                path = old.template().format(**{f"{thing}_id": ids[thing] for thing in THINGS})
                before, after = (world.allows(caller, ids, {}) for world in (old, new))
                about = f"{path} as {caller}: {before}, {after}; said {changes}\n{old.text()}\n{new.text()}"
                if before != after:
                    self.assertFalse(found.same_access, about)
                    # Roles that are no longer kept apart, or are now, are said once and not for each endpoint.
                    self.assertTrue(changes & (OPENS if after else CLOSES) or old.apart != new.apart, about)

    def test_a_role_in_a_record_may_be_neither_held_nor_not(self) -> None:
        # A caller who names no studio was refused: what is asked could not be answered.
        text = "things\n  studio {studio_id}\nroles in studio\n  editor\nendpoints\n  GET /studios "
        asked = ("editor in query.studio or not editor in query.studio", "signed-in")
        old, new = (bloodroot.parse(text + each) for each in asked)
        found = compare(Side(old, "old"), Side(new, "new"))
        self.assertEqual({cell.change for cell in found.cells}, {Change.WIDENED})


if __name__ == "__main__":
    unittest.main()
