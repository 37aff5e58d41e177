"""The tree of a policy: what was written, as plain data. What it means is in ``core``.

Each entry may accept findings of the checks.

Places do not count when two trees are compared. The nodes are slotted but not frozen: a large policy makes a hundred
thousand of them, and freezing triples the time that takes.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar

from .problems import Place, SourceText

T = TypeVar("T")


@dataclass(slots=True)
class Word:
    """A name, a permission, an audience or ``guarded``, as written.

    A word knows how far it is from the origin of its entry, not where that is: lines that ask for the same then
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
        """Where the word is, given where the origin of its entry is."""
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
    """Two operands and what is between them: ``==``, ``in``, ``not in`` and the like."""

    left: Node
    operator: str
    right: Node


@dataclass(slots=True)
class Reference:
    """``caller.status``, ``record.owner.id``: a root and the names that lead from it.

    With a question mark, as in ``caller.actor?``, it is none where there is no such attribute.
    """

    root: str
    names: tuple[str, ...]
    optional: bool = False


@dataclass(slots=True)
class Held:
    """``editor in any studio``, ``editor in args.studio_id``: a role of a thing, and in which record it is held.

    Attributes:
        role: the role.
        thing: of ``in any studio``, the thing; None where a reference says which record.
        reference: what leads to the identifier of the record; None for any.
    """

    role: Word
    thing: Word | None
    reference: Reference | None


@dataclass(slots=True)
class Literal:
    """A string, a number, ``true``, ``false`` or ``none``."""

    value: str | int | float | bool | None


@dataclass(slots=True)
class Now:
    """The word ``now``: the time of the decision."""


@dataclass(slots=True)
class Clock:
    """``now.time`` and ``now.weekday``: what clocks in the zone of the policy show."""

    part: str


@dataclass(slots=True)
class Moment:
    """``2027-01-01``, ``2027-01-01T09:00Z``, ``09:00``: a date, with a time or without one, or a time, as written."""

    text: str


@dataclass(slots=True)
class Shifted:
    """``record.due + 24h``: a moment, and how much later or earlier."""

    moment: Node
    sign: str
    duration: str


@dataclass(slots=True)
class Listing:
    """Operands between square brackets."""

    items: list[Node]


# A requirement uses Word, Held, Negation, AllOf, AnyOf and Given; an expression all but Held and Given.
Node = (
    Word
    | Held
    | Negation
    | AllOf
    | AnyOf
    | Given
    | Comparison
    | Reference
    | Literal
    | Now
    | Clock
    | Moment
    | Shifted
    | Listing
)


@dataclass(slots=True)
class Accept:
    """``accept open-change "a public form"``: a finding that an entry is known to have, and why that is right."""

    finding: str
    reason: str


@dataclass(slots=True)
class Role:
    """``curator includes botanist "answers for the collection"``."""

    name: Word
    includes: list[Word]
    default: bool
    description: str | None
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Apart:
    """``apart registrar, auditor``: no one may hold two of these."""

    roles: list[Word]
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Thing:
    """``kiln {kiln_id} in studio by studio_id``: a kind of record, and what each of them belongs to.

    Attributes:
        name: the name of the thing.
        parameters: the parameters of paths that identify one, in braces as written.
        parent: the thing that each belongs to, or None.
        by: the attribute of a record that identifies what it belongs to, as names that lead from the record.
        description: what it is, or None.
    """

    name: Word
    parameters: list[Word]
    parent: Word | None
    by: tuple[str, ...]
    description: str | None
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Group:
    """``"science-staff" botanist``: a group that the directory sends, and the roles it gives."""

    name: str
    roles: list[Word]
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


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
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Condition:
    """``own-trial  record.botanist_id == caller.id``, and what a refused caller is shown."""

    name: Word
    expression: Node
    message: str | None
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Endpoint:
    """``PUT PATCH  /accessions/{accession_id}  accession:edit``, or ``action exchanges.send  exchange:send``.

    Without methods it is for ``any``. ``asks_at`` is the origin of the words in the requirement, ``place``
    that of the others.
    """

    methods: tuple[str, ...]
    path: Word | None
    actions: list[Word]
    requirement: Node
    description: str | None
    place: Place = field(compare=False, repr=False)
    asks_at: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Standing:
    """A line of the section ``always``. Without methods it is for every method; what ``excepts`` cover is left out."""

    methods: tuple[str, ...]
    path: Word
    requirement: Node
    description: str | None
    place: Place = field(compare=False, repr=False)
    asks_at: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()
    excepts: tuple[Word, ...] = ()


@dataclass(slots=True)
class Denial:
    """``/api/**  signed-out  status 401``: what a refused caller gets.

    Attributes:
        methods: empty for every method.
        path: None for every path.
        reason: why the caller was refused, or ``any``.
        kind: ``status``, ``go`` or ``hide``.
        status: for ``status``, the code.
        to: for ``go``, the page.
        message: what the caller is shown, or None.
    """

    methods: tuple[str, ...]
    path: Word | None
    reason: Word
    kind: str
    status: int | None
    to: Word | None
    message: str | None
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


@dataclass(slots=True)
class Field:
    """``coordinates  read curator  change registrar``: a field, or ``*`` for every other one."""

    name: str
    read: Node | None
    change: Node | None
    place: Place = field(compare=False, repr=False)
    accepts: tuple[Accept, ...] = ()


Entry = Role | Apart | Thing | Group | Permission | Condition | Endpoint | Standing | Denial | Field


_KEYWORDS: dict[type, str] = {
    Role: "roles",
    Apart: "roles",
    Thing: "things",
    Group: "groups",
    Permission: "permissions",
    Condition: "conditions",
    Endpoint: "endpoints",
    Standing: "always",
    Denial: "denials",
    Field: "fields",
}


@dataclass(slots=True)
class Section:
    """A section as it is in the file: its keyword, what the header says beside it, and its entries.

    ``policy`` may have a zone beside its name. The section ``roles in studio`` has the keyword ``roles in``.
    """

    keyword: str
    argument: str | None
    entries: list[Entry]
    place: Place = field(compare=False, repr=False)
    zone: str | None = None


@dataclass(slots=True)
class Document:
    """A whole policy text: its sections in the order of the file.

    ``broken`` holds the first word of every entry that could not be read, so that a name is not called unknown
    only because its own line has a mistake in it.
    """

    source: SourceText = field(compare=False, repr=False)
    sections: list[Section] = field(default_factory=list)
    broken: set[str] = field(default_factory=set, compare=False, repr=False)

    def entries(self, kind: type[T]) -> list[T]:
        """Every entry of one kind, in the order of the file."""
        keyword = _KEYWORDS[kind]
        return [entry for section in self.headed(keyword) for entry in section.entries if isinstance(entry, kind)]

    def headed(self, keyword: str) -> list[Section]:
        """Every section with this keyword."""
        return [section for section in self.sections if section.keyword == keyword]
