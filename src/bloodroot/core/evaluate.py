"""The evaluator behind a policy: it weighs all that is asked of a caller, and says why something is refused."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, NamedTuple

from .answers import ELSEWHERE
from .binding import BoundLines
from .by_roles import by_roles_alone
from .caller import Caller
from .closed_tokens import opened_by_scopes
from .conditions import findings
from .decision import Decision, Later, Outcome, Step, StepVerdict, left_open_by
from .formulas import CAN_BE_TRUE, FALSE, FAULTY, TRUE, Facts, Formula, both, can_be_true
from .line_lookup import LineLookup
from .locating import ANYWHERE, ANYWHERE_APART, locate_record, there_of
from .methods import COMMON
from .paths import is_method, read_path
from .question import Question
from .reasons import Trace, add_passed, blamable, opens_after_sign_in, reason_of, roles_alone
from .request_facts import ANYONE_AT_ALL, facts_for, known_to_signed_in, path_facts
from .request_location import location_at, names_of_record
from .requirements import NOW, PATH, THERE, asks_of, permissions_in, rests_on_records, without_guarded
from .resolver import Resolver
from .role_cache import RoleCache
from .roles import Held, RoleTable, kind_of_role
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from .answers import Answers
    from .fields import FieldRules
    from .lines import ActionLine, CompiledGuard, Line
    from .locating import Location, There, Wanted
    from .predicates import Predicate
    from .roles_in import RolesIn


_COMMON = frozenset(COMMON)


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
        tree: the endpoint lines by path.
        answers: what refused callers get.
        fields: who reads and changes what, by kind of record.
    """

    title: str | None
    roles: RoleTable
    resolver: Resolver
    endpoints: tuple[Line, ...]
    actions: tuple[ActionLine, ...]
    standing: tuple[Line, ...]
    tree: PathTree[Line]
    answers: Answers
    fields: dict[str, FieldRules]


class WeighedPart(NamedTuple):
    """What one line asks, and what is known where it is: its own template names the parameters of the path."""

    line: Line | CompiledGuard
    formula: Formula
    facts: Facts
    is_rule: bool = False
    location: Location | None = None  # where what is asked is only that the records of the path belong together


class Weighed(NamedTuple):
    """What comes of a question.

    Attributes:
        outcome: the outcome.
        reason: why it is refused; None where it is not.
        remainder: where it depends, what is left to be known; None otherwise.
    """

    outcome: Outcome
    reason: str | None = None
    remainder: Formula | None = None


# Reasons that no record and no attribute can change.
_OF_CALLERS = ("signed-out", "signed-in", "role", "apart", "closed")
_APART = Weighed(Outcome.DENY, "apart")


def outcome_left(left: Iterable[Formula]) -> Weighed:
    """What comes of parts of which none refuses, by what is left of each."""
    remains = [formula for formula in left if formula is not TRUE]
    return Weighed(Outcome.DEPENDS, None, both(remains)) if remains else Weighed(Outcome.ALLOW)


def outcome_of_all(weighed: list[Weighed]) -> Weighed:
    """What comes of a question for a caller who is allowed only what each of some others is."""
    if any(part.outcome not in (Outcome.ALLOW, Outcome.DEPENDS) for part in weighed):
        return _APART
    return outcome_left(part.remainder for part in weighed if part.remainder is not None)


class Evaluator:
    """Decides questions.

    Args:
        parts: the policy.
        bound: its lines once they are bound to the routes of an application; None where they are not.

    Attributes:
        roles: the roles of the policy.
        resolver: its permissions and conditions.
        answers: what refused callers get.
        lookup: finds lines.
        cache: what requirements come to for sets of roles.
        by_roles: what the bits of a caller's roles alone decide at a line; None where more has to be asked. The one
            short cut; `tests/core/test_settling.py` holds it to the weighing.
    """

    def __init__(self, parts: Parts, bound: BoundLines | None = None) -> None:
        self.roles = parts.roles
        self.resolver = parts.resolver
        self.answers = parts.answers
        self.lookup = LineLookup(parts.endpoints, parts.actions, parts.standing, parts.tree, bound)
        self.cache = RoleCache(ANYWHERE_APART if self.roles.apart_in else ANYWHERE)
        self.by_roles = by_roles_alone(self.roles, self.lookup.standing)

    # Decisions --------------------------------------------------------------------------------

    def decide(self, question: Question, segments: list[str] | None) -> Decision:
        """Decide a question.

        Args:
            question: what is asked.
            segments: the path as `core.paths.read_path` reads it.
        """
        reason = _unreadable(question, segments)
        if reason is not None:
            return Decision(Outcome.DENY, reason, None, None, self, question)
        assert segments is not None
        line = question.line if question.routed else self.lookup.find(question.method, segments)
        return self._decided(question, segments, line)

    def decide_routed(self, question: Question, segments: list[str]) -> Decision:
        """Decide a request for which a framework has chosen the route, and so the line.

        Args:
            question: what is asked, with ``routed``, ``line`` and ``values`` as the framework has them.
            segments: the path as `core.paths.read_path` reads it.
        """
        question.segments = segments
        return self._decided(question, segments, question.line)

    def decide_unread(self, question: Question) -> Decision:
        """Refuse a request whose path or method can be read in more than one way; nothing else is asked of it."""
        question.unreadable = is_method(question.method)
        return self.decide(question, read_path(question.path))

    def decide_guard(self, question: Question) -> Decision:
        """Decide what ``question.guard`` asks, within the request that the question is about."""
        return self._decided_past_roles(question, None, None)

    def remainder(self, question: Question, line: Line | None) -> Formula | None:
        """What a question that depends leaves to be known, for the line that decides."""
        segments = None if question.guard is not None else question.segments or read_path(question.path)
        return self._weigh(question, segments, line).remainder

    def settle(self, decision: Decision, question: Question) -> Decision:
        """Decide again what depended on a record, now that it is known.

        Args:
            decision: the decision before, which depends.
            question: the same question with ``record`` and ``records``.
        """
        line = decision.line
        if line is None:
            return decision
        if left_open := left_open_by(decision):
            outcome = _outcome_with_records(left_open, question)
            if outcome is not None:
                return Decision(outcome, None, line, Later() if outcome is Outcome.DEPENDS else None, self, question)
        # Roles alone have not decided it, and have not changed.
        return self._decided_past_roles(question, question.segments or read_path(question.path) or [], line)

    def _decided(self, question: Question, segments: list[str] | None, line: Line | None) -> Decision:
        # A route may name things that its line does not.
        if line is not None and not question.assume and not (self.roles.has_things and question.values):
            by_roles = self.by_roles(question.caller, line, segments)
            if by_roles is not None:
                return Decision(by_roles, None if by_roles is Outcome.ALLOW else "role", line, None, self, question)
        return self._decided_past_roles(question, segments, line)

    def _decided_past_roles(self, question: Question, segments: list[str] | None, line: Line | None) -> Decision:
        left_open: list[tuple[Predicate, Facts]] = []
        outcome = self._by_predicates(question, segments, line, left_open)
        if outcome is not None:
            later = Later(left_open) if outcome is Outcome.DEPENDS else None
            return Decision(outcome, None, line, later, self, question)
        outcome, reason, remainder = self._weigh(question, segments, line)
        return Decision(outcome, reason, line, remainder, self, question)

    def steps(self, question: Question) -> tuple[Step, ...]:
        """The steps of a decision: it is made once more, and written down."""
        trace = Trace()
        segments = read_path(question.path)
        reason = _unreadable(question, segments) if question.guard is None else None
        if reason is not None:
            text = f"the path {question.path} can be read in more than one way"
            if reason == "method":
                text = f"{question.method} is not a method: a method is a token in capitals, such as GET"
            trace.add("path", StepVerdict.REFUSED, text)
        elif question.guard is not None or question.routed:
            self._weigh(question, segments, question.line, trace)
        else:
            self._weigh(question, segments, self.lookup.find(question.method, segments or []), trace)
        return tuple(trace.steps)

    # Weighing --------------------------------------------------------------------------------

    def _weigh(
        self, question: Question, segments: list[str] | None, line: Line | None, trace: Trace | None = None
    ) -> Weighed:
        """What comes of a question whose line is known, or of a guard."""
        caller, guard = question.caller, question.guard
        held = self.roles.held(caller)
        if trace and guard is None:
            trace.add_caller(caller, held)
        if held.apart:
            return self._weigh_apart(question, segments, line, held, trace)
        if guard is None and line is None:
            if trace:
                path = f"{question.method} {question.path}"
                trace.add("line", StepVerdict.REFUSED, f"no line covers {path}, and what is not declared is closed")
            return Weighed(Outcome.DENY, "closed")
        if trace and line is not None and guard is None:
            trace.add("line", StepVerdict.PASSED, line_in_words(line, question), line)
        parts = self._asked(question, segments, line)
        if parts and parts[0].location is not None and not can_be_true(parts[0].formula):
            # A caller who is refused whatever the records are gets that refusal, and learns nothing of where they are.
            without = self._asked(question.with_(record=None, records=None), segments, line)
            if self._weigh_asked(without, caller, None).reason is not None:
                parts = without
        return self._weigh_asked(parts, caller, trace)

    def _weigh_apart(
        self, question: Question, segments: list[str] | None, line: Line | None, held: Held, trace: Trace | None
    ) -> Weighed:
        """A caller who holds roles that are kept apart is allowed what is open to anyone."""
        names = " and ".join(held.apart)
        if line is not None or question.guard is not None:
            others = [question.with_(caller=other) for other in ANYONE_AT_ALL]
            weighed = [self._weigh(other, segments, line) for other in others]
            together = outcome_of_all(weighed)
            if together.reason is None:
                if trace:
                    text = f"the caller holds {names}, which are kept apart; this is open to anyone"
                    trace.add("apart", StepVerdict.PASSED, text)
                    depends = (o for o, part in zip(others, weighed, strict=True) if part.remainder is not None)
                    self._weigh(next(depends, others[-1]), segments, line, trace)
                return together
        if trace:
            trace.add("apart", StepVerdict.REFUSED, f"the caller holds {names}, which are kept apart")
        return _APART

    def _by_predicates(
        self,
        question: Question,
        segments: list[str] | None,
        line: Line | None,
        left_open: list[tuple[Predicate, Facts]],
    ) -> Outcome | None:
        """What predicates of what is left for a set of roles decide, without a remainder.

        Args:
            left_open: becomes those that depend, where nothing but records decides these.

        Returns:
            None where something refuses, and where roles are not all that gives permissions.
        """
        caller = question.caller
        if caller is None or caller.scopes is not None or caller.granted or question.assume:
            return None
        held = self.roles.held(caller)
        asking = self._asking(question, segments, line)
        if held.apart or not asking:
            return None
        outcome = Outcome.ALLOW
        # Where a request is, which records its path is about, and how late it is, is found anew with each record.
        same = not self.roles.has_things
        there = None
        if self.roles.has_things and question.guard is None:
            there = self._there(question, segments, asking)  # type: ignore[arg-type]
            together = there.location.together if there is not None and there.location is not None else TRUE
            if not can_be_true(together):
                return None
            if together is not TRUE:
                outcome = Outcome.DEPENDS
        for rule in asking:
            remaining = self.cache.get(rule.requirement.formula, held.bits)
            if remaining.formula is TRUE:
                continue
            if question.guard is not None and remaining.asks & (THERE | PATH):
                return None
            facts = known_to_signed_in(question, held, remaining.asks)
            facts.there = there
            if remaining.asks & PATH:
                if segments is None:
                    return None
                names = path_facts(question, segments, rule, line)  # type: ignore[arg-type]
                facts.path, facts.records = names["path"], names["records"]
            bits = remaining.predicate(facts)
            if not bits & CAN_BE_TRUE:
                return None
            if bits != CAN_BE_TRUE:
                outcome = Outcome.DEPENDS
                left_open.append((remaining.predicate, facts))
            same &= not remaining.asks & (PATH | NOW)
        if not same:
            left_open.clear()
        return outcome

    def _asking(
        self, question: Question, segments: list[str] | None, line: Line | None
    ) -> tuple[Line | CompiledGuard, ...]:
        """What a predicate is asked of: a guard, or a line and the standing rules; empty where more than these asks."""
        if question.guard is not None:
            return (question.guard,)
        if line is None or line.guards:
            return ()
        return (line, *self.lookup.rules_at(question.method, segments or [])) if self.lookup.standing else (line,)

    def _weigh_asked(self, parts: list[WeighedPart], caller: Caller | None, trace: Trace | None) -> Weighed:
        """What comes of all that is asked: standing rules first, and the endpoint or the guard last."""
        left = [part.formula.fold(part.facts) for part in parts]
        refuses = not all(map(can_be_true, left))
        if refuses and caller is None and opens_after_sign_in(self.roles, [(p.formula, p.facts) for p in parts]):
            if trace:
                text = "the caller is signed out; a signed-in caller might be let in"
                trace.add("sign-in", StepVerdict.REFUSED, text, parts[-1].line)
            return Weighed(Outcome.SIGN_IN, "signed-out")
        for (line, requirement, facts, is_rule, location), formula in zip(parts, left, strict=True):
            if location is not None:
                refuses = not can_be_true(formula)
                if trace:
                    verdict = StepVerdict.REFUSED if refuses else StepVerdict.OPEN
                    trace.add("things", verdict, location.words(), line)
                if refuses:
                    return Weighed(Outcome.DENY, ELSEWHERE)
                continue
            if not can_be_true(formula):
                reason = reason_of(self.roles, line, requirement, facts, caller, trace, is_rule=is_rule)
                return Weighed(Outcome.DENY, reason)
            if trace:
                add_passed(trace, line, requirement, formula, facts, is_rule=is_rule)
        return outcome_left(left)

    def _asked(self, question: Question, segments: list[str] | None, line: Line | None) -> list[WeighedPart]:
        """All that is asked of a caller: what a guard asks, or the standing rules and the line of an endpoint."""
        if question.guard is not None:
            segments = read_path(question.path) if question.path else None
            line = question.line
            if not question.routed:
                line = self.lookup.find(question.method, segments) if segments else None
            facts = _facts(
                question, segments, line, self.roles, self._there(question, segments, (line,) if line else ())
            )
            if question.values is not None:
                facts = _of_handler(question, facts, question.values)
            return [WeighedPart(question.guard, _of_line(question.guard.requirement.formula, facts), facts)]
        assert line is not None
        rules = self.lookup.rules_at(question.method, segments or []) if self.lookup.standing else ()
        there = self._there(question, segments, (line, *rules))
        facts = _facts(question, segments, line, self.roles, there)
        parts = []
        location = there.location if there is not None else None
        if location is not None and location.together is not TRUE:
            parts.append(WeighedPart(line, location.together, facts, location=location))
        for rule in rules:
            # A standing rule is about the caller, whatever token that sends.
            own = facts if facts.allowed == -1 else facts.with_(allowed=-1, hidden_allowed=-1)
            if rule.template.names and segments is not None:
                # A rule has names of its own for the parts of the path.
                own = own.with_(**path_facts(question, segments, rule, line))
            parts.append(WeighedPart(rule, beside_guards(rule.requirement.formula, line), own, is_rule=True))
        # With its guards the line is asked part by part, so that the steps show each of them.
        if line.declared is None or line.declared.formula is not TRUE:
            parts.append(WeighedPart(line, _of_line((line.declared or line.requirement).formula, facts), facts))
        if line.guards:
            served = line.served.values(segments) if line.served is not None and segments is not None else {}
            facts = _of_handler(question, facts, served)
            parts += [WeighedPart(guard, _of_line(guard.requirement.formula, facts), facts) for guard in line.guards]
        return parts

    def wanted(self, question: Question, line: Line | None) -> list[Wanted]:
        """The records that have to be known to say where a request is, and that are not at hand."""
        segments = question.segments or read_path(question.path)
        rules = self.lookup.rules_at(question.method, segments or []) if self.lookup.standing else ()
        there = self._there(question, segments, (line, *rules) if line is not None else ())
        return there.location.wanted if there is not None and there.location is not None else []

    def holds_for(self, question: Question, formula: Formula, thing: str, record: Any) -> bool:
        """Whether what was required holds for a record of a thing as well, wherever the path of the question leads.

        What rests on the record in other ways than by roles is not asked of it again.
        """
        if not asks_of(formula) & THERE:
            return True
        location = locate_record(self.roles.things, self.roles.things.by_name[thing], record)
        there = there_of(self.roles, question.caller, location)
        facts = _facts(question, None, None, self.roles, there)
        left = roles_alone(formula, facts)
        return can_be_true(left) and not rests_on_records(left)

    def kinds_there(self, question: Question, line: Line | None) -> list[str]:
        """The roles that a caller was given in the records that a request leads to, as ``editor in studio``."""
        caller = question.caller
        location = self._location(question, line) if caller is not None and caller.roles_in else None
        if caller is None or location is None:
            return []
        held: RolesIn = caller.roles_in  # type: ignore[assignment]
        found = ((thing, held.at(thing, each.value, textual=each.textual)) for thing, each in location.records.items())
        return [kind_of_role(name, thing) for thing, names in found for name in sorted(names)]

    def things_there(self, question: Question, line: Line | None) -> dict[str, Any]:
        """The records that a request leads to, by thing, as far as they are known."""
        location = self._location(question, line)
        return {thing: each.value for thing, each in location.records.items()} if location is not None else {}

    def _location(self, question: Question, line: Line | None) -> Location | None:
        if not self.roles.things:
            return None
        there = self._there(
            question, question.segments or read_path(question.path), (line,) if line is not None else ()
        )
        return there.location if there is not None else None

    def names_things(self, line: Line) -> bool:
        """Whether a line is about particular records of things: its path names some, or it requires roles in them."""
        things = self.roles.things
        return bool(things) and (
            bool(things.named(line.template.names)) or bool(asks_of(line.requirement.formula) & THERE)
        )

    def _there(self, question: Question, segments: list[str] | None, lines: tuple[Line, ...]) -> There | None:
        """What a caller holds where a request is; None for a policy without things."""
        roles = self.roles
        if not roles.things:
            return None
        location = location_at(roles.things, question, segments, lines)
        names = names_of_record(question, segments, lines)
        is_known = any(name in roles.things.by_parameter for name in names)
        return there_of(roles, question.caller, location, None if is_known else question.record)

    # Of a decision that was made ----------------------------------------------------------------------------

    def possible_reasons(self, decision: Decision) -> set[str]:
        """Every reason that a request may be refused for, once all is known that its decision leaves open."""
        question = decision.question
        line, caller = decision.line, question.caller
        if decision.reason is not None and decision.reason in _OF_CALLERS:
            return {decision.reason}
        reasons: set[str] = set()
        if caller is None and decision.remainder is not None:
            reasons.add("signed-out")
        parts = self._asked(question, read_path(question.path), line)
        for part, formula, facts, _, location in parts:
            if location is not None:
                reasons.add(ELSEWHERE)
                continue
            left = roles_alone(formula, facts)
            if not can_be_true(left):
                reasons.add(reason_of(self.roles, part, formula, facts, caller, None, is_rule=False))
                break
            if left is not TRUE:
                reasons |= blamable(left)
        return reasons

    def faults(self, decision: Decision) -> list[str]:
        """Why the condition that refused could not be decided, by names and types; empty where it could."""
        question, line = decision.question, decision.line
        condition = self.resolver.conditions.get(decision.reason or "")
        formula = condition if condition is not None else line.requirement.formula if line is not None else FALSE
        segments = read_path(question.path)
        there = self._there(question, segments, (line,) if line is not None else ())
        facts = _facts(question, segments, line, self.roles, there)
        return findings(formula, facts, types=True) if formula.fold(facts) is FAULTY else []

    def scopes_missing(self, decision: Decision) -> tuple[str, ...]:
        """The permissions a token would have to name so that its owner is not refused; empty if that is not why."""
        question = decision.question
        caller = question.caller
        asking: Line | CompiledGuard | None = question.guard or decision.line
        if caller is None or caller.scopes is None or asking is None:
            return ()
        whole = question.with_(caller=replace(caller, scopes=None))
        if self._weigh(whole, read_path(question.path), decision.line).reason is not None:
            return ()
        return tuple(dict.fromkeys(permission.name for permission in permissions_in(asking.requirement.formula)))


def _of_line(formula: Formula, facts: Facts) -> Formula:
    """What a line or a guard asks of a caller of whom this is known."""
    return formula if facts.allowed == -1 else opened_by_scopes(formula)


def _outcome_with_records(left_open: Sequence[tuple[Predicate, Facts]], question: Question) -> Outcome | None:
    """What predicates that depended decide now that records are known; None where one of them refuses."""
    outcome = Outcome.ALLOW
    for predicate, facts in left_open:
        bits = predicate(facts.about(question.record, question.records, guarded=question.guarded))
        if not bits & CAN_BE_TRUE:
            return None
        if bits != CAN_BE_TRUE:
            outcome = Outcome.DEPENDS
    return outcome


def line_in_words(line: Line, question: Question) -> str:
    """How a line was found, for the step that says so."""
    which = "the line of the action that serves" if line.action else "the most specific line for"
    return f"{which} {question.method} {question.path}"


def _facts(
    question: Question, segments: list[str] | None, line: Line | None, roles: RoleTable, there: There | None
) -> Facts:
    """What is known at a line."""
    names = path_facts(question, segments, line, line) if line is not None and segments is not None else {}
    if "records" not in names:
        names["records"] = question.records
    return facts_for(
        roles,
        question.caller,
        record=question.record,
        query=question.query,
        args=question.args,
        now=question.now,
        guarded=question.guarded,
        assumed=question.assume or {},
        there=there if question.caller is not None else None,
        **names,
    )


def _unreadable(question: Question, segments: list[str] | None) -> str | None:
    """The reason of a request that can be read in more than one way; None for one that cannot."""
    if segments is None or question.unreadable:
        return "ambiguous-path"
    return None if question.method in _COMMON or is_method(question.method) else "method"


def _of_handler(question: Question, facts: Facts, served: Mapping[str, Any]) -> Facts:
    """The facts for a guard in the handler: it names the parameters of the path as the route does."""
    return facts.with_(path={**(facts.path or {}), **served}, records=question.records)


def beside_guards(formula: Formula, line: Line) -> Formula:
    """What a standing rule requires at a line: guards that are asked as well have passed."""
    return without_guarded(formula) if line.guards else formula
