"""The tree of a policy: what was written, as plain data. What it means is the business of ``core``.

Places do not count when two trees are compared. The nodes are slotted but not frozen: a large policy makes a hundred
thousand of them, and freezing triples the time that takes.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from .problems import Place, Source


@dataclass(slots=True)
class Word:
    """A name, a permission, an audience or ``guarded``, as written.

    A word knows how far it stands from the origin of its entry, not where that is: lines that ask for the same then
    share one requirement.

    Attributes:
        text: as written.
        down: lines below the origin.
        across: columns from the origin on its own line, or from the first column on a line below it.
    """

    text: str
    down: int = field(compare=False, repr=False)
    across: int = field(compare=False, repr=False)

    def place(self, origin: Place) -> Place:
        """Where the word stands, given where the origin of its entry is."""
        column = self.across + (origin.column if not self.down else 1)
        return Place(origin.source, origin.line + self.down, column, len(self.text))


@dataclass(slots=True)
class Negation:
    """``not`` before a term."""

    part: Node


@dataclass(slots=True)
class AllOf:
    """Parts joined by ``and``."""

    parts: list[Node]


@dataclass(slots=True)
class AnyOf:
    """Parts joined by ``or``."""

    parts: list[Node]


@dataclass(slots=True)
class Given:
    """A requirement that counts only ``if`` a condition holds."""

    requirement: Node
    condition: Node


@dataclass(slots=True)
class Comparison:
    """Two operands and what stands between them: ``==``, ``in``, ``not in`` and the like."""

    left: Node
    operator: str
    right: Node


@dataclass(slots=True)
class Reference:
    """``caller.status``, ``record.owner.id``: a root and the names that lead from it."""

    root: str
    names: tuple[str, ...]


@dataclass(slots=True)
class Literal:
    """A text, a number, ``true``, ``false`` or ``none``."""

    value: str | int | float | bool | None


@dataclass(slots=True)
class Now:
    """The word ``now``: the moment of the decision."""


@dataclass(slots=True)
class Listing:
    """Operands between square brackets."""

    items: list[Node]


# A requirement uses Word, Negation, AllOf, AnyOf and Given; an expression all but Given.
Node = Word | Negation | AllOf | AnyOf | Given | Comparison | Reference | Literal | Now | Listing


@dataclass(slots=True)
class Role:
    """``curator includes botanist "answers for the collection"``."""

    name: Word
    includes: list[Word]
    default: bool
    description: str | None
    place: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Apart:
    """``apart registrar, auditor``: nobody may hold two of these."""

    roles: list[Word]
    place: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Group:
    """``"science-staff" botanist``: a group that the directory sends, and the roles it stands for."""

    name: str
    roles: list[Word]
    place: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Grant:
    """Who is given a permission, and under which condition."""

    to: Word
    condition: Node | None


@dataclass(slots=True)
class Permission:
    """``trial:edit  curator, botanist if own-trial``."""

    name: Word
    grants: list[Grant]
    description: str | None
    place: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Condition:
    """``own-trial  record.botanist_id == caller.id``, and what a refused caller is told."""

    name: Word
    expression: Node
    message: str | None
    place: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Endpoint:
    """``PUT PATCH  /accessions/{accession_id}  accession:edit``. No methods stand for ``any``.

    ``asks_at`` is the origin of the words in the requirement, ``place`` that of the path.
    """

    methods: tuple[str, ...]
    path: Word
    requirement: Node
    description: str | None
    place: Place = field(compare=False, repr=False)
    asks_at: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Standing:
    """A line of the section ``always``. No methods stand for every method."""

    methods: tuple[str, ...]
    path: Word
    requirement: Node
    description: str | None
    place: Place = field(compare=False, repr=False)
    asks_at: Place = field(compare=False, repr=False)


@dataclass(slots=True)
class Document:
    """A whole policy text, its entries gathered by section.

    ``broken`` holds the first word of every entry that could not be read, so that a name is not called unknown
    only because its own line has a mistake in it.
    """

    source: Source
    title: str | None = None
    roles: list[Role] = field(default_factory=list)
    apart: list[Apart] = field(default_factory=list)
    groups: list[Group] = field(default_factory=list)
    permissions: list[Permission] = field(default_factory=list)
    conditions: list[Condition] = field(default_factory=list)
    endpoints: list[Endpoint] = field(default_factory=list)
    standing: list[Standing] = field(default_factory=list)
    broken: set[str] = field(default_factory=set)
