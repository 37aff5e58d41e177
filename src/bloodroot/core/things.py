"""Things: the kinds of record that an application has, and which of them belong to which."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..language import tree
from ..language.problems import ENOUGH, Problem, suggestion
from .order import in_order

if TYPE_CHECKING:
    from collections.abc import Iterable

    from ..language.problems import Place

_PARAMETER = re.compile(r"\{[^\W\d][\w-]*\}").fullmatch


@dataclass(frozen=True, slots=True)
class Thing:
    """A kind of record.

    Attributes:
        name: its name.
        parameters: the parameters of paths that identify one.
        parent: the thing that each one belongs to, or None.
        by: the attribute that identifies what a record belongs to, as names that lead from the record.
        description: what it is, or None.
        place: where it is declared.
    """

    name: str
    parameters: tuple[str, ...]
    parent: str | None
    by: tuple[str, ...]
    description: str | None
    place: Place

    @property
    def identified_by(self) -> tuple[str, ...]:
        """The attributes of a record of which the first that it has identifies it."""
        return *self.parameters, "id"

    @property
    def loader_names(self) -> tuple[str, ...]:
        """The names under which what loads a record may be registered, in the order in which they count."""
        return self.name, *self.parameters

    @property
    def leads_by_record(self) -> bool:
        """Whether the record itself has the record that it belongs to, as with ``by kiln.id``."""
        return len(self.by) > 1 and self.by[-1] == "id"


class Things:
    """The things of a policy, by name; there may be none.

    Attributes:
        by_name: each thing.
        by_parameter: the thing that a parameter of a path identifies.
    """

    def __init__(self, things: Iterable[Thing] = ()) -> None:
        self.by_name = {thing.name: thing for thing in things}
        self.by_parameter = {name: thing for thing in self.by_name.values() for name in thing.parameters}
        self._chains: dict[str, tuple[Thing, ...]] = {}

    def __bool__(self) -> bool:
        return bool(self.by_name)

    def chain(self, name: str) -> tuple[Thing, ...]:
        """A thing, what it belongs to, and so on to the last."""
        chain = self._chains.get(name)
        if chain is None:
            thing = self.by_name[name]
            chain = self._chains[name] = (thing, *(self.chain(thing.parent) if thing.parent is not None else ()))
        return chain

    def named(self, parameters: Iterable[str]) -> tuple[tuple[str, Thing], ...]:
        """Those of some parameters of a path that identify a thing, each with that thing."""
        return tuple((name, self.by_parameter[name]) for name in parameters if name in self.by_parameter)

    def led_to(self, parameters: Iterable[str]) -> dict[str, Thing]:
        """The things that some parameters of a path lead to: those that they identify, and all that these belong to."""
        return {each.name: each for _, thing in self.named(parameters) for each in self.chain(thing.name)}

    def are_tied(self, named: Iterable[tuple[str, Thing]]) -> bool:
        """Whether two of the parameters lead to one thing, so that they have to agree."""
        seen: set[str] = set()
        for _, thing in named:
            names = {each.name for each in self.chain(thing.name)}
            if seen & names:
                return True
            seen |= names
        return False


def compile_things(document: tree.Document, problems: list[Problem]) -> Things:
    """Resolve the section ``things``; mistakes are added to ``problems``."""
    declared: dict[str, tree.Thing] = {}
    for entry in document.entries(tree.Thing):
        first = declared.setdefault(entry.name.text, entry)
        if first is not entry:
            problems.append(Problem(f'thing "{entry.name.text}" is declared already, in {first.place.at}', entry.place))
    names = {**dict.fromkeys(declared), **dict.fromkeys(document.broken)}
    parents: dict[str, list[str]] = {}
    for name, entry in declared.items():
        parent = entry.parent
        parents[name] = [parent.text] if parent is not None and parent.text in declared else []
        if parent is not None and parent.text not in names:
            guess = suggestion(parent.text, declared) if len(problems) < ENOUGH else ""
            problems.append(Problem(f'unknown thing "{parent.text}"{guess}', parent.place(entry.place)))
    circle = in_order(parents).circle
    if circle:
        message = f"these things belong to each other in a circle: {' → '.join(circle)}"
        problems.append(Problem(message, declared[circle[0]].place))
        return Things()
    parameters = _parameters(declared, problems)
    return Things(
        Thing(
            name,
            tuple(parameter for parameter, owner in parameters.items() if owner == name),
            next(iter(parents[name]), None),
            entry.by,
            entry.description,
            entry.place,
        )
        for name, entry in declared.items()
    )


def _parameters(declared: dict[str, tree.Thing], problems: list[Problem]) -> dict[str, str]:
    """For each parameter the thing that it identifies."""
    parameters: dict[str, str] = {}
    for name, entry in declared.items():
        for word in entry.parameters:
            place = word.place(entry.place)
            parameter = word.text[1:-1]
            if not _PARAMETER(word.text):
                message = f'"{parameter}" cannot name a parameter; names are letters, digits, - and _'
                problems.append(Problem(message, place))
            elif parameter in parameters:
                owner = parameters[parameter]
                message = (
                    f"{word.text} identifies {_a(owner)} already, and a parameter identifies one thing"
                    if owner != name
                    else f"{word.text} is here twice"
                )
                problems.append(Problem(message, place))
            elif parameter != name and parameter in declared:
                # Records on the way are known by the names of their things.
                message = f"{word.text} has the name of another thing; call the parameter {{{parameter}_id}}"
                problems.append(Problem(message, place))
            else:
                parameters[parameter] = name
    return parameters


def _a(name: str) -> str:
    return f"{'an' if name[0] in 'aeiou' else 'a'} {name}"
