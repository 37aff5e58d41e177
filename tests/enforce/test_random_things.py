"""Random applications with things on four frameworks: a handler runs only where the naive reading lets it."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import unittest
from collections import Counter
from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import django.core.handlers.asgi
import django.core.handlers.wsgi
from hypothesis import HealthCheck, Phase, given
from hypothesis import strategies as st

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import StartUpError, current
from tests.core.naive_things import IDS, MISSING, THINGS, ThingWorld, said, thing_callers, thing_worlds, with_a_line
from tests.enforce.random_applications import Asked, ask_asgi, ask_wsgi
from tests.enforce.stacks import Small, as_django_project, fastapi_app, flask_app, starlette_app
from tests.examples import examples

NOT_THERE = 4  # no thing has such a record
ASKED = (*IDS, NOT_THERE)


class Application:
    """An application whose lines share things, roles and records.

    Args:
        worlds: a world for each line; they differ in the line and its permissions.
        who: the callers.
        renamed: whether the routes call the parameters by names of their own.
        by_thing: the things whose records are loaded by thing; those of the others are loaded by parameter.
        settled: the thing whose records handlers settle, and nothing loads; or None.
    """

    def __init__(
        self, worlds: list[ThingWorld], who: list[Caller | None], renamed: bool, by_thing: set[str], settled: str | None
    ) -> None:
        self.worlds, self.who, self.settled = worlds, who, settled
        self.loaded: Counter[tuple[str, str]] = Counter()
        self.reached: list[int] = []
        grants = {name: roles for world in worlds for name, roles in world.grants.items()}
        lines = [f"  GET {self.template(number)} {said(world.asks)}" for number, world in enumerate(worlds)]
        self.text = "\n".join([*replace(worlds[0], grants=grants).declared(), "endpoints", *lines])
        policy = bloodroot.parse(self.text)
        named = {thing for world in worlds for thing in world.path}
        # What the routes call by another name than the policy is loaded by thing.
        by_thing = named if renamed else by_thing
        by_the_way = {thing for world in worlds for thing in world.led_to() - {*world.path}}
        by_parameter = {f"{thing}_id": self.loader(thing) for thing in named - by_thing - {settled}}
        loaders = by_parameter | {thing: self.loader(thing) for thing in (by_the_way | by_thing & named) - {settled}}
        served: list[Any] = []
        for number in range(len(worlds)):
            path = self.template(number)
            if renamed:
                for thing in THINGS:
                    path = path.replace(f"{{{thing}_id}}", f"{{{thing[0]}}}")
            served.append(("GET", path, f"n{number}", self.handler(number)))
        self.small = Small(served, policy, policy, self.identify, loaders)

    def starts(self) -> bool:
        try:
            flask_app(self.small)
        except StartUpError:
            return False
        return True

    def template(self, number: int) -> str:
        return f"/n{number}" + "".join(f"/{thing}/{{{thing}_id}}" for thing in self.worlds[number].path)

    def identify(self, request: Any) -> Caller | None:
        return self.who[int(request.headers.get("x-caller"))]

    def record(self, thing: str, text: str) -> Any:
        return None if text == str(NOT_THERE) else self.worlds[0].record(thing, int(text))

    def loader(self, thing: str) -> Callable[[Any], Any]:
        def load(identifier: Any) -> Any:
            self.loaded[thing, str(identifier)] += 1
            return self.record(thing, str(identifier))

        return load

    def handler(self, number: int) -> Callable[..., Any]:
        def handle(**values: str) -> tuple[int, str]:
            thing, path = self.settled, self.worlds[number].path
            if thing in path:
                record = self.record(thing, list(values.values())[path.index(thing)])
                if record is None:
                    return 404, "nothing here"
                current().settle(record)
            self.reached.append(number)
            return 200, "served"

        return handle

    def naive(self, number: int, who: Caller | None, ids: dict[str, int]) -> bool:
        world = self.worlds[number]
        records = {thing: {**of, NOT_THERE: MISSING} for thing, of in world.records.items()}
        above = replace(world, records=records)
        if self.settled in world.path and ids[self.settled] == NOT_THERE:
            return False  # the handler says so
        return above.allows(who, ids, {})


@contextlib.contextmanager
def on_each(small: Small) -> Iterator[dict[str, Callable[[Asked], int]]]:
    """How to ask the application on each framework."""
    starlette, fastapi, flask = starlette_app(small), fastapi_app(small), flask_app(small)
    with as_django_project(small):
        waiting, threaded = django.core.handlers.asgi.ASGIHandler(), django.core.handlers.wsgi.WSGIHandler()
        yield {
            "starlette": lambda request: asyncio.run(ask_asgi(starlette, request))[0],
            "fastapi": lambda request: asyncio.run(ask_asgi(fastapi, request))[0],
            "flask": lambda request: ask_wsgi(flask, request)[0],
            "django": lambda request: ask_wsgi(threaded, request)[0],
            "django on asgi": lambda request: asyncio.run(ask_asgi(waiting, request))[0],
        }


def without_queries(world: ThingWorld) -> bool:
    return " in query." not in said(world.asks)


class RandomThings(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        logging.disable(logging.CRITICAL)
        cls.addClassCleanup(logging.disable, logging.NOTSET)

    @examples(12, 400, suppress_health_check=list(HealthCheck), phases=[Phase.generate])
    @given(st.data(), thing_worlds().filter(without_queries), st.lists(thing_callers(), min_size=2, max_size=3))
    def test_no_handler_runs_that_the_documents_refuse(
        self, data: st.DataObject, world: ThingWorld, who: list[Caller | None]
    ) -> None:
        worlds = [world]
        for mark in "abc":
            worlds.append(data.draw(with_a_line(world, mark).filter(without_queries)))
        chosen = data.draw(st.sets(st.sampled_from(THINGS)))
        renamed, settled = data.draw(st.booleans()), data.draw(st.sampled_from([None, "room"]))
        app = Application(worlds, who, renamed, chosen, settled)
        places = st.fixed_dictionaries({thing: st.sampled_from(ASKED) for thing in THINGS})
        asked = data.draw(st.lists(st.tuples(st.integers(0, 3), st.integers(0, len(who) - 1), places), min_size=16,
                                   max_size=16))  # fmt: skip
        if not app.starts():
            # Nothing loads the room, and its handlers cannot settle it alone.
            app = Application(worlds, who, renamed, chosen, None)
        with on_each(app.small) as ways:
            for number, caller, ids in asked:
                path = app.template(number).format(**{f"{thing}_id": ids[thing] for thing in THINGS})
                allowed = app.naive(number, who[caller], ids)
                for name, ask in ways.items():
                    app.reached.clear()
                    app.loaded.clear()
                    status = ask(Asked("GET", path, str(caller)))
                    about = f"{name} GET {path} as {who[caller]}: {status}\n{app.text}\n{world.records}"
                    self.assertEqual(app.reached, [number] if allowed else [], about)
                    self.assertIn(status, (200,) if allowed else (401, 403, 404), about)
                    self.assertLess(max(app.loaded.values(), default=0), 2, "each record is loaded once: " + about)


if __name__ == "__main__":
    unittest.main()
