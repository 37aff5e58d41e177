"""What checks look at: a policy with its text, and what is known of the application it is for."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from functools import cached_property

from ..core.binding import Route
from ..core.finding import Needs
from ..core.policy import Policy
from ..core.reasoning import Reasoner
from ..enforce.loaders import LoaderKey
from ..language import tree
from ..language.parser import parse_guard
from ..language.problems import Place, PolicyError, Problem, SourceText
from ..settings import Settings
from ..survey.coverage import SurveyResult
from ..survey.endpoints import Endpoint
from .reach import Reach


@dataclass(slots=True)
class Uses:
    """Which names are used where.

    Attributes:
        names: in requirements, grants, fields and guards: of roles, permissions and conditions.
        denied: names of conditions that are the reason of a denial.
    """

    names: set[str] = field(default_factory=set)
    denied: set[str] = field(default_factory=set)


@dataclass
class Subject:
    """Everything that checks may look at.

    Attributes:
        policy: the policy; with what guards require, where the application is known.
        document: its text as a tree, with all that it includes.
        survey: the endpoints, held against the policy; None where none are known.
        routes: the routes of the application; empty where it is not known.
        settings: the settings; None where there are none.
        guard_problems: what guards require and the policy does not know.
        report_only: the templates at which the application enforces nothing.
        loaders: what the application has loaders of records for; None where that is not known.
        reasoner: what answers whether conditions can hold.
    """

    policy: Policy
    document: tree.Document
    survey: SurveyResult | None = None
    routes: tuple[Route, ...] = ()
    settings: Settings | None = None
    guard_problems: tuple[Problem, ...] = ()
    loaders: frozenset[LoaderKey] | None = None
    report_only: tuple[str, ...] = ()
    reasoner: Reasoner = field(default_factory=Reasoner)

    @cached_property
    def reach(self) -> Reach:
        """Who is let in where."""
        return Reach(self.policy, self.survey.endpoints if self.survey is not None else (), self.reasoner)

    @cached_property
    def uses(self) -> Uses:
        """Which names the policy and the guards use."""
        uses = Uses()
        seen: set[int] = set()
        for entry in all_entries(self.document):
            for node in requirements_of(entry):
                # Most lines share their requirement with others.
                if id(node) not in seen:
                    seen.add(id(node))
                    uses.names.update(word.text for word in words_in(node))
            if isinstance(entry, tree.Denial):
                uses.denied.add(entry.reason.text)
        for node in self.guard_nodes:
            uses.names.update(word.text for word in words_in(node))
        return uses

    @cached_property
    def guard_nodes(self) -> tuple[tree.Node, ...]:
        """What the guards of the application require."""
        found = []
        for text, place in {guard.text: guard.place for route in self.routes for guard in route.guards}.items():
            try:
                found.append(parse_guard(text, place))
            except PolicyError:
                continue
        return tuple(found)

    @cached_property
    def grants(self) -> dict[str, list[tree.Grant]]:
        """The grants of each permission, by its name as written."""
        return {entry.name.text: entry.grants for entry in self.document.entries(tree.Permission)}

    @property
    def sign_in_pages(self) -> frozenset[str]:
        """Where signed-out callers are sent to, and where personas sign in."""
        pages = {denial.to for denial in self.policy.answers.denials if denial.reason in ("signed-out", "any")}
        if self.settings is not None:
            pages |= {way.path for way in self.settings.probe.sign_ins}
        return frozenset(page for page in pages if page)

    def knows(self, needs: Needs) -> bool:
        """Whether what a check needs is known."""
        return {
            Needs.POLICY: True,
            Needs.ENDPOINTS: self.survey is not None,
            Needs.ROUTES: bool(self.routes),
            Needs.SETTINGS: self.settings is not None,
        }[needs]


def all_entries(document: tree.Document) -> Iterator[tree.Entry]:
    """Every entry of a policy, in the order of the files."""
    return (entry for section in document.sections for entry in section.entries)


def requirements_of(entry: tree.Entry) -> Iterator[tree.Node]:
    """The requirements and expressions that an entry is made of; a grant's role among them."""
    match entry:
        case tree.Endpoint() | tree.Standing():
            yield entry.requirement
        case tree.Permission():
            for grant in entry.grants:
                yield grant.to
                if grant.condition is not None:
                    yield grant.condition
        case tree.Condition():
            yield entry.expression
        case tree.Field():
            yield from (node for node in (entry.read, entry.change) if node is not None)


def nodes_in(node: tree.Node) -> Iterator[tree.Node]:
    """A node and all that it is made of."""
    waiting = [node]
    while waiting:
        child = waiting.pop()
        yield child
        match child:
            case tree.AllOf() | tree.AnyOf():
                waiting += child.parts
            case tree.Negation():
                waiting.append(child.part)
            case tree.Held():
                waiting += [part for part in (child.role, child.reference) if part is not None]
            case tree.Given():
                waiting += [child.requirement, child.condition]
            case tree.Comparison():
                waiting += [child.left, child.right]
            case tree.Listing():
                waiting += child.items


def words_in(node: tree.Node) -> Iterator[tree.Word]:
    """The names in a requirement or an expression."""
    return (child for child in nodes_in(node) if isinstance(child, tree.Word))


def place_of_endpoint(endpoint: Endpoint) -> Place:
    """Where an endpoint was found: file and line of its handler, or the source that describes it."""
    file, colon, line = endpoint.place.rpartition(":")
    if colon and line.isdecimal() and file:
        return Place(SourceText(file, ()), int(line), 1, 1)
    return Place(SourceText(endpoint.source, ()), 1, 1, 1)
