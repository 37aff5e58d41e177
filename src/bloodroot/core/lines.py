"""Lines of a policy, compiled: what an endpoint, a standing rule or a guard asks."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING

from .formulas import FALSE
from .methods import ANY, covers
from .paths import overlap, specificity

if TYPE_CHECKING:
    from ..language.problems import Place
    from .paths import Template
    from .requirements import Requirement


@dataclass(slots=True, eq=False)
class Line:
    """One entry of the section ``endpoints`` or ``always``.

    Attributes:
        methods: the methods it names; empty for any.
        template: the path template.
        requirement: what it asks.
        place: where it is.
        order: its number among the lines of its section.
        description: what the line says of itself, if anything.
        action: the action that it was bound to, for a line that names one.
        exact: whether the template covers exactly the paths of the action's route.
        guards: the guards in the handler that ``requirement`` contains, where a policy knows them (`annotations`).
        declared: what the line itself requires where it has guards; None where that is ``requirement``.
        served: the template of the route whose handler has the guards: they name the parameters of the path by it.
        accepts: the findings that it is known to have.
        excepts: of a standing rule, the templates whose paths it leaves out.
    """

    methods: tuple[str, ...]
    template: Template
    requirement: Requirement
    place: Place
    order: int
    description: str | None = None
    action: str | None = None
    exact: bool = True
    guards: tuple[CompiledGuard, ...] = ()
    declared: Requirement | None = None
    served: Template | None = None
    accepts: tuple[str, ...] = ()
    excepts: tuple[Template, ...] = ()

    def concerns(self, segments: list[str]) -> bool:
        """Whether it covers a path and does not leave it out."""
        return self.template.covers(segments) and not any(left_out.covers(segments) for left_out in self.excepts)

    def overlaps(self, template: Template) -> bool | None:
        """Whether it concerns every path of a template (True), some of them (None) or none (False)."""
        found = overlap(self.template, template)
        for left_out in self.excepts if found is not False else ():
            without = overlap(left_out, template)
            if without:
                return False
            if without is None or overlap(template, left_out) is not False:
                found = None
        return found

    @property
    def pattern(self) -> str:
        """The paths that it is for, in words."""
        return " except ".join([self.template.text, *(left_out.text for left_out in self.excepts)])

    @property
    def rank(self) -> tuple[object, ...]:
        """Less is more specific: the path first, then a named method before any."""
        return specificity(self.template), not self.methods

    def may_cover(self, method: str, template: Template) -> bool:
        """Whether it may cover requests for a template, of a method or of any."""
        if self.methods and method != ANY and not covers(self.methods, method):
            return False
        if any(overlap(left_out, template) for left_out in self.excepts):
            return False
        return overlap(self.template, template) is not False or overlap(template, self.template) is not False

    @property
    def open_to_anyone(self) -> bool:
        """Whether it allows every caller."""
        return self.requirement.open_to_anyone

    @property
    def text(self) -> str:
        """The line as written, blanks squeezed."""
        return " ".join(self.place.text.split(" #")[0].split())

    @property
    def closes(self) -> bool:
        """Whether it says that no caller may: ``nobody``."""
        return self.requirement.formula is FALSE and "nobody" in self.text.split()


@dataclass(slots=True, eq=False)
class CompiledGuard:
    """What a guard in a program asks, in terms of one policy.

    Attributes:
        requirement: what it asks.
        place: where it is in the program.
    """

    requirement: Requirement
    place: Place

    @property
    def text(self) -> str:
        """The requirement as written, blanks squeezed."""
        return " ".join(self.place.text.split())


@dataclass(slots=True, eq=False)
class ActionLine:
    """An endpoint line that names an action, before it is bound to an application's routes.

    Attributes:
        name: the name of the action.
        requirement: what it asks.
        place: where it is.
        order: its number among the lines of its section.
        description: what the line says of itself, if anything.
        accepts: the findings that it is known to have.
    """

    name: str
    requirement: Requirement
    place: Place
    order: int
    description: str | None
    accepts: tuple[str, ...] = ()

    def bound(self, methods: tuple[str, ...], template: Template, exact: bool = True) -> Line:
        """The line for one route that serves the action."""
        return Line(
            methods,
            template,
            self.requirement,
            self.place,
            self.order,
            self.description,
            self.name,
            exact,
            accepts=self.accepts,
        )
