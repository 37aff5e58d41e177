"""The policy: compiled once, then asked about each request."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from ..language.errors import UnknownNameError
from ..language.parser import parse_guard
from ..language.problems import Place, PolicyError, SourceText, suggestion
from .binding import BoundLines, Route, bound_lines
from .decision import Decision, Outcome
from .evaluate import Evaluator, Parts
from .fields import FieldsRefused
from .flags import FlaggedEndpoint, Flags
from .lines import CompiledGuard
from .methods import COMMON
from .moving import moved
from .paths import is_method, read_path, read_plain
from .permissions import holds, permission_named
from .question import Question
from .records import names_of
from .redirects import redirect_problems
from .request_facts import counted_as, facts_of
from .whereabouts import where

if TYPE_CHECKING:
    import datetime
    from collections.abc import Iterable, Mapping

    from .caller import Caller
    from .fields import FieldRules
    from .moving import Moved

_COMMON = frozenset(COMMON)
_ALLOW = Outcome.ALLOW


class Policy:
    """Says who may do what. Made by `bloodroot.load` or `bloodroot.parse`; safe to share between threads.

    Attributes:
        title: the name of the policy, or None.
        roles: the roles, their inclusion and groups.
        conditions: named conditions.
        permissions: what each declared permission is granted to, by its name as written.
        endpoints: the endpoint lines, in the order of the file; lines that name an action once they are bound.
        unbound: endpoint lines that name an action, as long as the policy is not bound to an application.
        standing: the standing rules, in the order of the file.
        answers: what refused callers get.
        fields: who reads and changes what, by kind of record.
        hides: whether some denial hides what it refuses.
        lookup: finds the line that decides, and the standing rules that concern it.
        evaluator: what decides, for those who enforce the policy.
        resolver: the permissions and conditions by name, and what other names mean.
        declared: what it was compiled to, before it was bound to routes.
    """

    def __init__(self, parts: Parts, bound: BoundLines | None = None) -> None:
        self.title = parts.title
        self.roles = parts.roles
        self.conditions = parts.resolver.conditions
        self.permissions = parts.resolver.permissions
        self.resolver = parts.resolver
        self.standing = parts.standing
        self.answers = parts.answers
        self.fields = parts.fields
        self.hides = any(denial.kind == "hide" for denial in parts.answers.denials)
        self.evaluator = Evaluator(parts, bound)
        self.lookup = self.evaluator.lookup
        self.endpoints = self.lookup.endpoints
        self.unbound = self.lookup.unbound
        # As it was before it was bound, so that it can be bound again.
        self.declared = parts
        self._find = parts.tree.find if bound is None else self.lookup.find
        self._by_roles = self.evaluator.by_roles
        self._flagged: dict[str, FlaggedEndpoint] = {}

    def bind(self, routes: Iterable[Route]) -> Policy:
        """The policy with its ``action`` lines turned into the methods and paths of an application's routes.

        Args:
            routes: every route of the application, those included that no ``action`` line names.

        Raises:
            PolicyError: an action that no route serves, a path line for the very template of an action's route, or a
                redirect that goes in a circle now.
        """
        policy = Policy(self.declared, bound_lines(self.declared.endpoints, self.declared.actions, routes))
        problems = list(redirect_problems(policy.evaluator))
        if problems:
            raise PolicyError(problems)
        return policy

    # Questions --------------------------------------------------------------------------------

    def decide(
        self,
        caller: Caller | None,
        method: str,
        path: str,
        # Not keyword-only, as seven such arguments take as long as finding the line.
        record: Any = None,
        records: Mapping[str, Any] | None = None,
        query: Mapping[str, Any] | None = None,
        args: Mapping[str, Any] | None = None,
        now: datetime.datetime | None = None,
        guarded: bool = False,
        assume: Mapping[str, bool] | None = None,
    ) -> Decision:
        """Decide one request.

        Args:
            caller: who asks; None for a signed-out caller.
            method: the request method, in capitals.
            path: the path as the client sent it, still percent-encoded, without a query.
            record: the object or mapping that the endpoint acts on, or None where it is not known yet; give this and
                what follows by name.
            records: the records that parameters of the path identify, by parameter, or None where none is known.
            query: parameters of the query by name, or None where they are not known.
            args: arguments of a guarded call by name, or None where they are not known.
            now: the time of the decision, by default the present (UTC).
            guarded: whether a guard in the handler has let the caller pass.
            assume: conditions whose value is taken as given, by name: to ask "what if".

        Returns:
            The decision. Bad input is refused, never an error.
        """
        segments = read_plain(path)
        if segments is None:
            segments = read_path(path)
        if segments is not None and not assume and (method in _COMMON or is_method(method)):
            line = self._find(method, segments)
            outcome = self._by_roles(caller, line, segments) if line is not None else None
            if outcome is not None:
                # Nothing else was asked, and a question need not be made.
                reason = None if outcome is _ALLOW else "role"
                return Decision(outcome, reason, line, None, self.evaluator, (caller, method, path))
        question = Question(caller, method, path)
        question.record, question.records, question.query = record, records, query
        question.args, question.now, question.guarded, question.assume = args, now, guarded, assume
        return self._decided(question, segments)

    def _decided(self, question: Question, segments: list[str] | None) -> Decision:
        return self.evaluator.decide(question, segments)

    def guard(self, requirement: str, place: Place | None = None) -> CompiledGuard:
        """A guard: a requirement in a program, for `check`.

        Args:
            requirement: in the words of the policy, such as ``registrar or args.member_id == caller.id``.
            place: where it begins in the program, for messages; by default a source of its own.

        Raises:
            PolicyError: it cannot be read, or names a role, permission or condition that the policy does not know.
        """
        place = place or Place(SourceText("<guard>", (requirement,)), 1, 1, len(requirement))
        compiled, problems = self.resolver.guard(parse_guard(requirement, place), place)
        if problems:
            raise PolicyError(problems)
        return CompiledGuard(compiled, place)

    def check(
        self,
        caller: Caller | None,
        guard: CompiledGuard,
        *,
        method: str = "",
        path: str = "",
        record: Any = None,
        query: Mapping[str, Any] | None = None,
        args: Mapping[str, Any] | None = None,
        now: datetime.datetime | None = None,
    ) -> Decision:
        """Decide what a guard asks; the endpoint's own line and the standing rules are not asked again.

        Args:
            caller: who asks; None for a signed-out caller.
            guard: made by `guard`.
            method: the method of the request that the call is part of, or an empty string without one.
            path: the path of that request, as in `decide`.
            record: the record at hand, or None where it is not known yet.
            query: parameters of the query by name, or None.
            args: arguments of the call by name, or None.
            now: the time of the decision, by default the present (UTC).
        """
        question = Question(caller, method, path)
        question.record, question.query, question.args, question.now = record, query, args, now
        question.guard = guard
        return self.evaluator.decide_guard(question)

    def may(
        self,
        caller: Caller | None,
        permission: str,
        *,
        record: Any = None,
        args: Mapping[str, Any] | None = None,
    ) -> bool:
        """Whether a caller has a permission, for this record where it depends on one.

        Raises:
            UnknownNameError: the policy has no such permission.
        """
        return holds(self.evaluator, permission_named(self.resolver, permission), caller, record, args)

    def flags(self, caller: Caller | None, names: Iterable[str], *, record: Any = None) -> dict[str, bool]:
        """What of this a caller may do: for a page or an API to show what is possible.

        Args:
            caller: who asks; None for a signed-out caller.
            names: permissions such as ``trial:edit``, and endpoints such as ``GET /trials/new``. Of an endpoint its
                line and the standing rules are asked, so that a link is shown exactly where it leads somewhere;
                ``POST /trials/{id}`` takes the id from the record.
            record: the record at hand, if there is one.

        Returns:
            By name. What depends on a record that is not at hand is False.

        Raises:
            UnknownNameError: the policy has no such permission, or no line for such an endpoint.
        """
        return Flags(self.evaluator, self._flagged, caller, names).of(record)

    def flags_of_each(
        self, caller: Caller | None, names: Iterable[str], records: Iterable[Any]
    ) -> list[dict[str, bool]]:
        """`flags` for each of a list of records, in one pass.

        Raises:
            UnknownNameError: as `flags`.
        """
        flags = Flags(self.evaluator, self._flagged, caller, names)
        return [flags.of(record) for record in records]

    def readable(
        self, caller: Caller | None, kind: str, record: Any = None, names: Iterable[str] | None = None
    ) -> frozenset[str]:
        """The fields of a record that a caller may see.

        Args:
            caller: who asks; None for a signed-out caller.
            kind: the kind of record, as in ``fields accession``.
            record: a mapping, a dataclass or an object; None for the fields that the policy names.
            names: the fields to ask about; by default all of the record's.

        Returns:
            Names of fields. Where the policy says nothing of this kind, all of the record's.

        Raises:
            UnknownNameError: the policy knows no such kind, but one of nearly the same name.
        """
        rules = self._rules_for(kind)
        asked = list(names) if names is not None else None
        if rules is None:
            return frozenset(names_of(record) if asked is None else asked)
        if asked is None:
            asked = [*(names_of(record) if record is not None else (name for name in rules.rules if name != "*"))]
        other_facts = [
            rules.readable(asked, facts_of(self.roles, other, record)) for other in counted_as(self.roles, caller)
        ]
        return other_facts[0].intersection(*other_facts[1:])

    def changeable(self, caller: Caller | None, kind: str, changes: Iterable[str], record: Any = None) -> None:
        """Check that a caller may change every one of these fields.

        Args:
            caller: who asks; None for a signed-out caller.
            kind: the kind of record, as in ``fields accession``.
            changes: the names of the fields, or a mapping of them to new values. A change of what says which record
                this one belongs to, as ``studio_id``, needs the right there as well; of the name alone it is not
                known where.
            record: the record as it is, for conditions that ask for it.

        Raises:
            FieldsRefused: naming each field that may not be changed.
            UnknownNameError: the policy knows no such kind, but one of nearly the same name.
        """
        rules = self._rules_for(kind)
        if rules is None:
            return
        names = list(changes)
        counted = counted_as(self.roles, caller)
        each = [rules.refused(names, facts_of(self.roles, other, record)) for other in counted]
        move = self.moved(kind, record, changes)
        if move is not None:
            # To move a record, the right is needed where it is and where it goes.
            each += [rules.refused([move.attribute], facts_of(self.roles, other, move.record)) for other in counted]
        refused = [name for name in names if any(name in found for found in each)]
        if refused:
            raise FieldsRefused(kind, refused)

    def moved(self, kind: str, record: Any, changes: Iterable[str]) -> Moved | None:
        """What becomes of a record where a change moves it into another one, as kiln 4 from studio 7 into studio 8.

        Args:
            kind: the kind of record, a thing of the policy.
            record: the record as it is, or None for one that is new.
            changes: new values by field. Of names alone it is not known where they lead, so that what requires a role
                there refuses.

        Returns:
            None where it is not moved.
        """
        return moved(self.roles.things, kind, record, changes)

    def where(self, caller: Caller | None, permission: str) -> dict[str, frozenset[Any]]:
        """Where a caller may do something, for menus and lists: ``{"studio": {7}}``.

        Args:
            caller: who asks; None for a signed-out caller.
            permission: such as ``kiln:edit``.

        Returns:
            For each thing in which a role gives the permission, the identifiers of the records in which the caller
            has it, or may have it for some of what belongs there, as they are in ``caller.roles_in``; `EVERYWHERE`
            for a caller who needs no role in a particular one.

        Raises:
            UnknownNameError: the policy has no such permission.
        """
        return where(self.roles, permission_named(self.resolver, permission), caller)

    def _rules_for(self, kind: str) -> FieldRules | None:
        rules = self.fields.get(kind)
        if rules is None and (guess := suggestion(kind, self.fields)):
            # A misspelled kind would otherwise open every field.
            raise UnknownNameError(f"the policy has no section fields {kind}{guess}")
        return rules


class PolicyAsServed(Policy):
    """A policy that decides a request by what the framework serves for it, as enforcement does."""

    def __init__(self, parts: Parts, bound: BoundLines) -> None:
        super().__init__(parts, bound)
        # What decides is not known by the path alone.
        self._find = lambda method, segments: None  # noqa: ARG005

    def _decided(self, question: Question, segments: list[str] | None) -> Decision:
        served = self.lookup.served(question.path) if segments is not None else None
        if served is not None:
            segments = read_path(served.path) or []
            question.path, question.routed, question.values = served.path, True, served.values
            question.line = self.lookup.at_route(served.route, question.method, segments)
        return super()._decided(question, segments)
