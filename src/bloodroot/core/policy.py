"""The policy: compiled once, then asked about each request."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from ..language.parser import parse_guard
from ..language.problems import Place, PolicyError, Source, suggestion
from .binding import Binding, Route, binding_of, bound_lines
from .caller import CallerView
from .conditions import TRUE, UNKNOWN, Disjunction, Facts, Formula, both, can_be_true
from .decision import Decision, Outcome, Step
from .fields import FieldsRefused, names_of
from .flags import Flags
from .lines import Line, covers_method
from .paths import COMMON, PathIndex, is_method, overlap, parse_template, read_path, specificity
from .question import Question
from .redirects import redirect_problems
from .requirements import (
    NOW,
    PATH,
    Elsewhere,
    Resolver,
    asks_of,
    bits_that_open,
    permissions_in,
    references_in,
)
from .roles import SIGNED_OUT, Held, RoleTable
from .weighing import Asked, Trace, facts_for, weigh

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping

    from .answers import Answers
    from .caller import Caller
    from .fields import FieldRules
    from .lines import ActionLine


EVERYWHERE = parse_template("/**")
_KEPT = 8192


@dataclass(slots=True)
class Parts:
    """What a compiled policy consists of.

    Attributes:
        title: the name of the policy, or None.
        roles: the roles, their inclusion and groups.
        resolver: the permissions and conditions by name.
        endpoints: the endpoint lines with a path, in the order of the file.
        actions: the endpoint lines that name an action and are not bound to a route yet.
        standing: the standing rules, in the order of the file.
        index: the endpoint lines by path.
        answers: what refused callers get.
        fields: who reads and changes what, by kind of record.
    """

    title: str | None
    roles: RoleTable
    resolver: Resolver
    endpoints: tuple[Line, ...]
    actions: tuple[ActionLine, ...]
    standing: tuple[Line, ...]
    index: PathIndex[Line]
    answers: Answers
    fields: dict[str, FieldRules]


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
    """

    def __init__(self, parts: Parts, routes: PathIndex[Line | Route] | None = None) -> None:
        self.title = parts.title
        self.roles = parts.roles
        self.conditions = parts.resolver.conditions
        self.permissions = parts.resolver.permissions
        self.endpoints = parts.endpoints
        self.unbound = parts.actions
        self.standing = parts.standing
        self.answers = parts.answers
        self.fields = parts.fields
        # As it was before it was bound, so that it can be bound again.
        self._declared = parts
        self._resolver = parts.resolver
        self._index = parts.index
        self._routes = routes
        self._actions: dict[str, ActionLine] = {}
        self._kept: dict[tuple[Line, int], tuple[Formula, int]] = {}

    def bind(self, routes: Iterable[Route]) -> Policy:
        """The policy with its ``action`` lines turned into the methods and paths of an application's routes.

        Args:
            routes: every route of the application, those included that no ``action`` line names.

        Raises:
            PolicyError: an action that no route serves, a path line for the very template of an action's route, or a
                redirect that goes in a circle now.
        """
        declared = self._declared
        lines, index = bound_lines(declared.endpoints, declared.actions, routes)
        policy = Policy(replace(declared, endpoints=lines, actions=()), index)
        policy._declared = declared
        policy._actions = {action.name: action for action in declared.actions}
        problems = list(redirect_problems(policy))
        if problems:
            raise PolicyError(problems)
        return policy

    def binding(self, route: Route) -> Binding:
        """What may decide for a route that a framework serves: for enforcement, once the policy is bound."""
        return binding_of(route, self._declared.endpoints, self._actions)

    def line_served(self, binding: Binding, method: str, segments: list[str]) -> Line | None:
        """The line that decides a request which a framework serves by a route."""
        return binding.line_for(method, segments, self._index)

    def line_by_path(self, method: str, segments: list[str]) -> Line | None:
        """The path line that decides where no route is served; lines of actions do not count."""
        return self._index.find(method, segments)

    # Questions --------------------------------------------------------------------------------

    def decide(
        self,
        caller: Caller | None,
        method: str,
        path: str,
        *,
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
            record: the object or mapping that the endpoint acts on, or None where it is not known yet.
            records: the records that parameters of the path stand for, by parameter, or None where none is known.
            query: parameters of the query by name, or None where they are not known.
            args: arguments of a guarded call by name, or None where they are not known.
            now: the moment of the decision, by default the present one (UTC).
            guarded: whether a guard in the handler has let the caller pass.
            assume: conditions whose value is taken as given, by name: to ask "what if".

        Returns:
            The decision. Bad input is refused, never an error.
        """
        segments = read_path(path)
        if segments is None:
            return Decision(Outcome.DENY, "ambiguous-path", None, None, self, (caller, method, path))
        if method not in COMMON and not is_method(method):
            return Decision(Outcome.DENY, "method", None, None, self, (caller, method, path))
        line = self._index.find(method, segments) if self._routes is None else self._line(method, segments)
        if line is not None and not self.standing and (caller is None or caller.scopes is None) and not assume:
            # Roles alone decide most requests, and those are decided here as `_decided` would.
            held = self.roles.held(caller)
            if not held.apart:
                if held.bits & line.opens:
                    return Decision(Outcome.ALLOW, None, line, None, self, (caller, method, path))
                if line.plain and caller is not None and not line.opens & SIGNED_OUT and not caller.granted:
                    return Decision(Outcome.DENY, "role", line, None, self, (caller, method, path))
        question = Question(caller, method, path)
        question.record, question.records, question.query = record, records, query
        question.args, question.now, question.guarded, question.assume = args, now, guarded, assume
        return self._decided(question, segments, line)

    def decide_unread(self, question: Question) -> Decision:
        """Refuse a request whose path or method can be read in more than one way; nothing else is asked of it."""
        question.unreadable = is_method(question.method)
        reason = "ambiguous-path" if question.unreadable else "method"
        return Decision(Outcome.DENY, reason, None, None, self, question)

    def decide_routed(self, question: Question, segments: list[str]) -> Decision:
        """Decide a request for which a framework has chosen the route, and so the line.

        Args:
            question: what is asked, with ``routed``, ``line`` and ``values`` as the framework has them.
            segments: the path as `core.paths.read_path` reads it.
        """
        return self._decided(question, segments, question.line)

    def settle(self, decision: Decision, question: Question) -> Decision:
        """Decide again what depended on a record, now that it is known.

        Args:
            decision: the decision before, which depends.
            question: the same question with ``record`` and ``records``.
        """
        line = decision.line
        if line is None:
            return decision
        held = self.roles.held(question.caller)
        remainder = decision.remainder
        if remainder is not None and not self.standing and _plain(question, held):
            # What remained is all that is left to be asked; only a refusal needs the whole once more, for its reason.
            _, asks = self._for_roles(line, held.bits)
            if not asks & PATH and remainder.fold(_known(question, held, asks)) is TRUE:
                return Decision(Outcome.ALLOW, None, line, None, self, question)
        return self._decided(question, read_path(question.path) or [], line)

    def _decided(self, question: Question, segments: list[str], line: Line | None) -> Decision:
        caller = question.caller
        held = self.roles.held(caller)
        if line is None:
            return Decision(Outcome.DENY, "apart" if held.apart else "closed", None, None, self, question)
        if not self.standing and not held.apart and not question.assume and (caller is None or caller.scopes is None):
            # Roles alone decide most requests, and those are decided here. The steps below say the same.
            if held.bits & line.opens:
                return Decision(Outcome.ALLOW, None, line, None, self, question)
            if line.plain and caller is not None and not line.opens & SIGNED_OUT and not caller.granted:
                return Decision(Outcome.DENY, "role", line, None, self, question)
        if _plain(question, held):
            known = self._weighed_by_roles(question, segments, line, held)
            if known is not None:
                outcome, remainder = known
                return Decision(outcome, None, line, remainder, self, question)
        outcome, reason, remainder = self._weigh_request(question, segments, line, held, None)
        return Decision(outcome, reason, line, remainder, self, question)

    def _weighed_by_roles(
        self, question: Question, segments: list[str], line: Line, held: Held
    ) -> tuple[Outcome, Formula | None] | None:
        """What `_weigh_request` says where nothing refuses, from what is kept for each set of roles; else None."""
        remains: list[Formula] = []
        for each in (*self.standing, line) if self.standing else (line,):
            if each is not line and not (covers_method(each, question.method) and each.template.covers(segments)):
                continue
            formula, asks = self._for_roles(each, held.bits)
            if formula is TRUE:
                continue
            facts = _known(question, held, asks)
            if asks & PATH:
                located = _located(question, segments, each, line)
                facts.path, facts.records = located["path"], located["records"]
            formula = formula.fold(facts)
            if not can_be_true(formula):
                return None
            if formula is not TRUE:
                remains.append(formula)
        if not remains:
            return Outcome.ALLOW, None
        return Outcome.DEPENDS, both(remains) if len(remains) > 1 else remains[0]

    def _for_roles(self, line: Line, bits: int) -> tuple[Formula, int]:
        """What is left of a line for a signed-in caller with these roles, and whether that asks for path or time."""
        found = self._kept.get((line, bits))
        if found is None:
            formula = line.requirement.fold(Facts(bits, bits, caller=UNKNOWN))
            if len(self._kept) >= _KEPT:
                # Roles come from tokens: without a limit they could fill the memory.
                self._kept.clear()
            found = self._kept[line, bits] = formula, asks_of(formula)
        return found

    def guard(self, text: str, place: Place | None = None) -> Line:
        """A requirement beside the lines of the policy, for `check`.

        Args:
            text: what is asked, such as ``trial:edit`` or ``registrar or args.member_id == caller.id``.
            place: where it begins in the program, for messages; by default a source of its own.

        Raises:
            PolicyError: it cannot be read, or names a role, permission or condition that the policy does not know.
        """
        place = place or Place(Source("<guard>", (text,)), 1, 1, len(text))
        formula, problems = self._resolver.apart_from_lines(parse_guard(text, place), place)
        if problems:
            raise PolicyError(problems)
        return Line((), EVERYWHERE, formula, *bits_that_open(formula), place, 0)

    def check(
        self,
        caller: Caller | None,
        guard: Line,
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
            method: the method of the request that the call is part of, or an empty text without one.
            path: the path of that request, as in `decide`.
            record: the record at hand, or None where it is not known yet.
            query: parameters of the query by name, or None.
            args: arguments of the call by name, or None.
            now: the moment of the decision, by default the present one (UTC).
        """
        question = Question(caller, method, path)
        question.record, question.query, question.args, question.now = record, query, args, now
        question.guard = guard
        return self.decide_guard(question)

    def decide_guard(self, question: Question) -> Decision:
        """Decide what ``question.guard`` asks, within the request that the question is about."""
        segments = read_path(question.path) if question.path else None
        line = question.line
        if not question.routed:
            line = self._line(question.method, segments) if segments is not None else None
        held = self.roles.held(question.caller)
        outcome, reason, remainder = self._weigh_request(question, segments, line, held, None)
        return Decision(outcome, reason, question.guard, remainder, self, question)

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
            LookupError: the policy has no such permission.
        """
        return self.permission(permission).fold(self.facts_of(caller, record, args)) is TRUE

    def flags(self, caller: Caller | None, asked: Iterable[str], *, record: Any = None) -> dict[str, bool]:
        """What of this a caller may do: for a page or an API to show what is possible.

        Args:
            caller: who asks; None for a signed-out caller.
            asked: permissions such as ``trial:edit``, and endpoints such as ``GET /trials/new``. Of an endpoint its
                line and the standing rules are asked, so that a link is shown exactly where it leads somewhere;
                ``POST /trials/{id}`` takes the id from the record.
            record: the record at hand, if there is one.

        Returns:
            By what was asked. What depends on a record that is not at hand is False.

        Raises:
            LookupError: the policy has no such permission, or no line for such an endpoint.
        """
        return Flags(self, caller, asked).of(record)

    def flags_of_each(
        self, caller: Caller | None, asked: Iterable[str], records: Iterable[Any]
    ) -> list[dict[str, bool]]:
        """`flags` for each of a list of records, in one pass.

        Raises:
            LookupError: as `flags`.
        """
        flags = Flags(self, caller, asked)
        return [flags.of(record) for record in records]

    def permission(self, name: str) -> Formula:
        """What a permission asks.

        Raises:
            LookupError: the policy has no such permission.
        """
        asked = self._resolver.permission(name)
        if asked is None:
            raise LookupError(f'unknown permission "{name}"{suggestion(name, self.permissions)}')
        return asked

    def scopes_missing(self, decision: Decision) -> tuple[str, ...]:
        """The permissions a token would have to name so that its owner is not refused; empty if that is not why."""
        question = decision.question
        caller = question.caller
        if caller is None or caller.scopes is None or decision.line is None:
            return ()
        whole = question.with_(caller=replace(caller, scopes=None))
        if question.guard is not None:
            again = self.decide_guard(whole)
        else:
            again = self._decided(whole, read_path(question.path) or [], decision.line)
        if again.reason is not None:
            return ()
        return tuple(dict.fromkeys(each.name for each in permissions_in(decision.line.requirement)))

    def remainders(self, caller: Caller | None) -> dict[str, Formula]:
        """What remains of each permission for a caller of whom alone something is known.

        Returns:
            By name, in the order of the file and then of the lines: every permission declared or asked for somewhere.
        """
        requirements = [line.requirement for line in self.endpoints] + [line.requirement for line in self.unbound]
        asked = dict.fromkeys(each.name for formula in requirements for each in permissions_in(formula))
        facts = self.facts_of(caller, None)
        facts.now = None
        found = {}
        for name in (*self.permissions, *asked):
            formula = self._resolver.permission(name)
            if formula is not None and not name.endswith("*"):
                found[name] = formula.fold(facts)
        return found

    def knows(self, permission: str) -> bool:
        """Whether the policy has a permission; for ``thing:*``, whether it has any of that thing."""
        if self._resolver.permission(permission) is not None:
            return True
        return permission.endswith(":*") and any(name.startswith(permission[:-1]) for name in self.permissions)

    def readable(self, caller: Caller | None, kind: str, record: Any = None) -> frozenset[str]:
        """The fields of a record that a caller may see.

        Args:
            caller: who asks; None for a signed-out caller.
            kind: the kind of record, as in ``fields accession``.
            record: a mapping, a dataclass or an object; None for the fields that the policy names.

        Returns:
            Names of fields. Where the policy says nothing of this kind, all of the record's.

        Raises:
            LookupError: the policy knows no such kind, but one of nearly the same name.
        """
        rules = self._rules_for(kind)
        if rules is None:
            return frozenset(names_of(record))
        names = names_of(record) if record is not None else [name for name in rules.rules if name != "*"]
        return rules.readable(names, self.facts_of(caller, record))

    def changeable(self, caller: Caller | None, kind: str, changes: Iterable[str], record: Any = None) -> None:
        """Check that a caller may change every one of these fields.

        Args:
            caller: who asks; None for a signed-out caller.
            kind: the kind of record, as in ``fields accession``.
            changes: the names of the fields, or a mapping of them to new values.
            record: the record as it is, for conditions that ask for it.

        Raises:
            FieldsRefused: naming each field that may not be changed.
            LookupError: the policy knows no such kind, but one of nearly the same name.
        """
        rules = self._rules_for(kind)
        refused = rules.refused(changes, self.facts_of(caller, record)) if rules is not None else []
        if refused:
            raise FieldsRefused(kind, refused)

    def _rules_for(self, kind: str) -> FieldRules | None:
        rules = self.fields.get(kind)
        if rules is None and (guess := suggestion(kind, self.fields)):
            # A slip of the pen would otherwise open every field.
            raise LookupError(f"the policy has no section fields {kind}{guess}")
        return rules

    def facts_of(self, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None) -> Facts:
        """What is known of a caller, a record and the arguments of a call, for folding formulas."""
        return facts_for(self.roles.held(caller), caller, record=record, args=args)

    def line_for(self, method: str, path: str) -> Line | None:
        """The endpoint line that decides a method and a path as the client sent it, or None."""
        segments = read_path(path)
        return None if segments is None else self._line(method, segments)

    def candidates(self, method: str, path: str) -> list[Line]:
        """Every endpoint line that covers a method and a path, the one that decides first, then by specificity."""
        segments = read_path(path)
        if segments is None:
            return []
        found = [line for line in self.endpoints if covers_method(line, method) and line.template.covers(segments)]
        decides = self._line(method, segments)
        return sorted(found, key=lambda line: (line is not decides, specificity(line.template), not line.methods))

    def rules_for(self, method: str, path: str) -> list[Line]:
        """Every standing rule that must hold for a method and a path."""
        segments = read_path(path) or []
        return [rule for rule in self.standing if covers_method(rule, method) and rule.template.covers(segments)]

    def asked(self, line: Line, method: str) -> list[tuple[Line, Formula]]:
        """All that is asked of a caller at an endpoint, whatever the parameters of its path turn out to be.

        Returns:
            The standing rules that concern the endpoint and the endpoint's own line, each with what it asks.
        """
        asked: list[tuple[Line, Formula]] = []
        for rule in self.standing:
            covered = overlap(rule.template, line.template) if covers_method(rule, method) else False
            if covered:
                asked.append((rule, rule.requirement))
            elif covered is None:
                asked.append((rule, Disjunction((Elsewhere(rule.template.text), rule.requirement))))
        asked.append((line, line.requirement))
        return asked

    def outcome_at(self, line: Line, method: str, caller: Caller | None) -> tuple[Outcome, Formula | None]:
        """What an endpoint says to a caller before anything is known of the request but its line.

        Returns:
            The outcome and, where it depends, what remains to be known.
        """
        held = self.roles.held(caller)
        facts = facts_for(held, caller)
        facts.now = None
        asked = [Asked(each, formula, facts) for each, formula in self.asked(line, method)]
        outcome, _, remainder = weigh(self.roles, asked, held, caller, None)
        return outcome, remainder

    def asks_for(self, root: str, line: Line, method: str) -> bool:
        """Whether what is asked at an endpoint rests on ``record``, ``query`` or another root of references."""
        return any(
            reference.root == root for _, formula in self.asked(line, method) for reference in references_in(formula)
        )

    def _line(self, method: str, segments: list[str]) -> Line | None:
        """The line that decides: that of the action which serves the path, else the most specific path line."""
        if self._routes is not None:
            found = self._routes.find(method, segments)
            if found is not None and not isinstance(found, Route):
                return found
        return self._index.find(method, segments)

    # How a decision comes about --------------------------------------------------------------------------------

    def explain(self, question: Question) -> tuple[Step, ...]:
        """The same decision once more, with its steps written down. For `Decision.steps`, which has the question."""
        trace = Trace()
        caller, method, path = question.caller, question.method, question.path
        segments = read_path(path)
        if question.guard is not None:
            line = question.line if question.routed else None
            self._weigh_request(question, segments, line, self.roles.held(caller), trace)
            return tuple(trace.steps)
        if segments is None or question.unreadable:
            trace.add("path", "refused", f"the path {path} can be read in more than one way")
            return tuple(trace.steps)
        if not is_method(method):
            trace.add("path", "refused", f"{method} is not a method: a method is a token in capitals, such as GET")
            return tuple(trace.steps)
        held = self.roles.held(caller)
        for name in held.unknown:
            trace.add("caller", "passed", f"the policy does not know the {name}, so it gives no role here")
        if caller is not None:
            for note in caller.notes:
                trace.add("caller", "passed", note)
        line = question.line if question.routed else self._line(method, segments)
        if held.apart:
            both = " and ".join(held.apart)
            open_to_anyone = line is not None and not self._weigh_request(question, segments, line, held, None)[1]
            if not open_to_anyone:
                trace.add("apart", "refused", f"the caller holds {both}, which are kept apart")
                return tuple(trace.steps)
        if line is None:
            trace.add("line", "refused", f"no line covers {method} {path}, and what is not declared is closed")
            return tuple(trace.steps)
        which = "the line of the action that serves" if line.action is not None else "the most specific line for"
        trace.add("line", "passed", f"{which} {method} {path}", line)
        self._weigh_request(question, segments, line, held, trace)
        return tuple(trace.steps)

    def _weigh_request(
        self, question: Question, segments: list[str] | None, line: Line | None, held: Held, trace: Trace | None
    ) -> tuple[Outcome, str | None, Formula | None]:
        """Outcome, reason and remainder for a request whose line is known, or for a guard."""
        facts = self._facts(question, segments, line, held)
        if question.guard is not None:
            return weigh(
                self.roles, [Asked(question.guard, question.guard.requirement, facts)], held, question.caller, trace
            )
        asked = []
        if segments is not None:
            for rule in self.standing:
                if covers_method(rule, question.method) and rule.template.covers(segments):
                    own = facts
                    if rule.template.names and line is not None:
                        # A rule has names of its own for the parts of the path.
                        own = replace(facts, **_located(question, segments, rule, line))
                    asked.append(Asked(rule, rule.requirement, own))
        assert line is not None
        asked.append(Asked(line, line.requirement, facts))
        return weigh(self.roles, asked, held, question.caller, trace)

    def _facts(self, question: Question, segments: list[str] | None, line: Line | None, held: Held) -> Facts:
        """What is known at a line."""
        located = _located(question, segments, line, line) if line is not None and segments is not None else {}
        if "records" not in located:
            located["records"] = question.records
        return facts_for(
            held,
            question.caller,
            record=question.record,
            query=question.query,
            args=question.args,
            now=question.now,
            guarded=question.guarded,
            assumed=question.assume or {},
            **located,
        )


def _plain(question: Question, held: Held) -> bool:
    """Whether what is kept for roles tells all that the policy says of a caller."""
    caller = question.caller
    return (
        caller is not None and not held.apart and caller.scopes is None and not caller.granted and not question.assume
    )


def _known(question: Question, held: Held, asks: int) -> Facts:
    """What is known of a signed-in caller and the request, but for the parameters of the path."""
    now = question.now
    if now is None and asks & NOW:
        now = datetime.datetime.now(datetime.UTC)
    assert question.caller is not None
    return Facts(
        held.bits,
        held.bits,
        CallerView(question.caller),
        question.record,
        question.records,
        None,
        question.query,
        question.args,
        now,
        None,
        None,
        question.guarded,
    )


def _located(question: Question, segments: list[str], each: Line, line: Line) -> dict[str, Any]:
    """The parameters of the path, and the records they stand for, as a line or a standing rule calls them.

    A rule, a line and the route that is served may call different parts of the path by one name, or read one part in
    two ways (``07`` and 7). A record counts under a name only where that is the part it was loaded for; a parameter of
    the line whose name the route reads in another way is left out, so that a condition on it is faulty.

    Args:
        question: what is asked.
        segments: the path.
        each: the line or the rule that is weighed.
        line: the line of the endpoint.
    """
    served, records = question.values, question.records
    if served is not None and each.action is not None:
        return {"path": served, "records": records}
    values: dict[str, Any] = each.template.values(segments) if each.template.covers(segments) else {}
    named = served if served is not None else values if each is line else line.template.values(segments)
    if records and named is not values:
        records = {
            name: record for name, record in records.items() if values.get(name, named.get(name)) == named.get(name)
        }
    if served is not None and each is line:
        values = {name: text for name, text in values.items() if served.get(name, text) == text}
    return {"path": values, "records": records}
