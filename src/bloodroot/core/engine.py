"""The engine behind a policy: it finds the line of a question and weighs all that is asked of the caller."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, NamedTuple

from .binding import Binding, BoundLines, Route, binding_of
from .caller import Caller
from .conditions import findings
from .decision import Decision, Outcome, Step
from .formulas import FALSE, FAULTY, TRUE, Disjunction, Facts, Formula, both, can_be_true
from .methods import COMMON, covers
from .overlaps import Overlaps
from .path_index import PathIndex
from .paths import is_method, overlap, read_path, specificity
from .question import Question
from .reasons import Trace, add_passed, as_signed_in, blamable, reason_of, roles_alone
from .request_facts import facts_for, known_to_signed_in, path_facts
from .requirements import PATH, OtherPath, permissions_in, references_in, without_guarded
from .resolver import Resolver
from .role_cache import RoleCache, is_plain
from .roles import SIGNED_OUT, Held, RoleTable

if TYPE_CHECKING:
    from collections.abc import Iterable, Mapping, Sequence

    from .answers import Answers
    from .fields import FieldRules
    from .lines import ActionLine, CompiledGuard, Line
    from .paths import Template

_COMMON = frozenset(COMMON)
_FEW = 16  # rules that are compared one by one
# Callers with roles that are kept apart are allowed what both of these are allowed.
_ANYONE: tuple[Caller | None, ...] = (None, Caller())


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


class WeighedPart(NamedTuple):
    """What one line asks, and what is known where it is: its own template names the parameters of the path."""

    line: Line | CompiledGuard
    formula: Formula
    facts: Facts
    is_rule: bool = False


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


def _together(verdicts: list[Weighed]) -> Weighed:
    """What comes of a question for a caller who is allowed only what each of some others is."""
    if any(verdict.outcome not in (Outcome.ALLOW, Outcome.DEPENDS) for verdict in verdicts):
        return _APART
    remains = [verdict.remainder for verdict in verdicts if verdict.remainder is not None]
    return Weighed(Outcome.DEPENDS, None, both(remains)) if remains else Weighed(Outcome.ALLOW)


class Engine:
    """Decides questions.

    Args:
        parts: the policy.
        bound: its lines once they are bound to the routes of an application; None where they are not.
    """

    def __init__(self, parts: Parts, bound: BoundLines | None = None) -> None:
        self.roles = parts.roles
        self.resolver = parts.resolver
        self.endpoints = parts.endpoints if bound is None else bound.lines
        self.unbound = parts.actions if bound is None else ()
        self.standing = parts.standing
        self.answers = parts.answers
        self.kept = RoleCache()
        self._index = parts.index
        self._routes = None if bound is None else bound.routes
        self._served = None if bound is None else bound.served
        self._fold = None if bound is None else bound.fold
        self._written = parts.endpoints
        self._by_template: Overlaps[Line] | None = None  # made where routes are bound
        self._standing_by_template: Overlaps[Line] | None = None
        self._actions = {} if bound is None else {action.name: action for action in parts.actions}

    # Lines --------------------------------------------------------------------------------

    def line(self, method: str, segments: list[str]) -> Line | None:
        """The line that decides: that of the action which serves the path, else the most specific path line."""
        if self._routes is not None:
            found = self._routes.find(method, segments)
            if found is not None and not isinstance(found, Route):
                return found
            if found is not None and found.guards and self._fold is not None:
                return self._fold(found, method, self._index.find(method, segments))
        return self._index.find(method, segments)

    def line_for(self, method: str, path: str) -> Line | None:
        """The endpoint line that decides a method and a path as the client sent it, or None."""
        segments = read_path(path)
        return None if segments is None else self.line(method, segments)

    def line_by_path(self, method: str, segments: list[str]) -> Line | None:
        """The path line that decides where no route is served; lines of actions do not count."""
        return self._index.find(method, segments)

    def line_for_all(self, method: str, parts: list[str | None]) -> Line | None:
        """The line that decides whatever some segments of a path are, or None where that cannot be said.

        Args:
            method: the method.
            parts: the segments; None for one that may be anything.
        """
        if self._routes is not None:
            # Where that cannot be said, the line of some action may decide for some of the paths.
            found = self._routes.find_for_all(method, parts)
            if not isinstance(found, Route):
                return found
        return self._index.find_for_all(method, parts)

    def binding(self, route: Route) -> Binding:
        """What may decide for a route that a framework serves."""
        if self._by_template is None:
            self._by_template = Overlaps((line.template, line) for line in self._written)
        # A route that came later may have the name of an action, and was not meant by it.
        is_known = self._served is not None and route.key in self._served
        return binding_of(route, self._by_template, self._actions if is_known else {})

    def line_served(self, binding: Binding, method: str, segments: list[str]) -> Line | None:
        """The line that decides a request which a framework serves by a route."""
        return binding.line_for(method, segments, self._index)

    def line_at(self, route: Route, method: str, segments: list[str]) -> Line | None:
        """The line that decides where a route is served, with its guards where these are known."""
        line = self.line_served(self.binding(route), method, segments)
        return line if self._fold is None else self._fold(route, method, line)

    def candidates(self, method: str, path: str) -> list[Line]:
        """Every endpoint line that covers a method and a path, the one that decides first, then by specificity."""
        segments = read_path(path)
        if segments is None:
            return []
        found = [line for line in self.endpoints if covers(line.methods, method) and line.template.covers(segments)]
        decides = self.line(method, segments)
        return sorted(found, key=lambda line: (line is not decides, specificity(line.template), not line.methods))

    def rules_for(self, method: str, path: str) -> list[Line]:
        """Every standing rule that must hold for a method and a path."""
        return self._rules(method, read_path(path) or [])

    def rules_near(self, template: Template) -> list[Line]:
        """The standing rules that cover some path of a template, in the order of the file."""
        if len(self.standing) <= _FEW:
            return [rule for rule in self.standing if overlap(rule.template, template) is not False]
        if self._standing_by_template is None:
            self._standing_by_template = Overlaps((rule.template, rule) for rule in self.standing)
        near = self._standing_by_template.near(template)
        return sorted(
            (rule for rule in near if overlap(rule.template, template) is not False), key=lambda rule: rule.order
        )

    def _rules(self, method: str, segments: list[str]) -> list[Line]:
        return [rule for rule in self.standing if covers(rule.methods, method) and rule.template.covers(segments)]

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
        line = question.line if question.routed else self.line(question.method, segments)
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
        guard, caller = question.guard, question.caller
        assert guard is not None
        held = self.roles.held(caller)
        if caller is not None and _by_roles(question, held):
            kept = self.kept.get(guard.requirement.formula, held.bits)
            if not kept.asks & PATH and kept.predicate(known_to_signed_in(question, held, kept.asks)):
                return Decision(Outcome.ALLOW, None, None, None, self, question)
        verdict = self._weigh(question, None, None)
        return Decision(verdict.outcome, verdict.reason, None, verdict.remainder, self, question)

    def settle(self, decision: Decision, question: Question) -> Decision:
        """Decide again what depended on a record, now that it is known.

        Args:
            decision: the decision before, which depends.
            question: the same question with ``record`` and ``records``.
        """
        line = decision.line
        if line is None:
            return decision
        return self._decided(question, question.segments or read_path(question.path) or [], line)

    def _decided(self, question: Question, segments: list[str], line: Line | None) -> Decision:
        caller = question.caller
        held = self.roles.held(caller)
        if line is not None:
            whole = caller is None or caller.scopes is None
            if whole and not self.standing and not held.apart and not question.assume:
                # Roles alone decide most requests, and those are decided here. `_weigh` says the same.
                asked = line.requirement
                if held.bits & asked.opens:
                    return Decision(Outcome.ALLOW, None, line, None, self, question)
                if asked.plain and caller is not None and not asked.opens & SIGNED_OUT and not caller.granted:
                    return Decision(Outcome.DENY, "role", line, None, self, question)
            if caller is not None and not line.guards and _by_roles(question, held):
                known = self._weighed_by_roles(question, segments, line, held)
                if known is not None:
                    outcome, remainder = known
                    return Decision(outcome, None, line, remainder, self, question)
        verdict = self._weigh(question, line, None)
        return Decision(verdict.outcome, verdict.reason, line, verdict.remainder, self, question)

    def _weighed_by_roles(
        self, question: Question, segments: list[str], line: Line, held: Held
    ) -> tuple[Outcome, Formula | None] | None:
        """What `_weigh` says where nothing refuses, from what is kept for each set of roles; else None."""
        remains: list[Formula] = []
        # With a record nearly everything is known, and what a predicate finds true needs no folding.
        all_known = question.record is not None or question.guarded
        for each in (*self._rules(question.method, segments), line) if self.standing else (line,):
            kept = self.kept.get(each.requirement.formula, held.bits)
            if kept.formula is TRUE:
                continue
            facts = known_to_signed_in(question, held, kept.asks)
            if kept.asks & PATH:
                names = path_facts(question, segments, each, line)
                facts.path, facts.records = names["path"], names["records"]
            if all_known and kept.predicate(facts):
                continue
            formula = kept.formula.fold(facts)
            if not can_be_true(formula):
                return None
            if formula is not TRUE:
                remains.append(formula)
        if not remains:
            return Outcome.ALLOW, None
        return Outcome.DEPENDS, both(remains) if len(remains) > 1 else remains[0]

    # The same with its steps --------------------------------------------------------------------------------

    def steps(self, question: Question) -> tuple[Step, ...]:
        """The steps of a decision: it is made once more, and written down."""
        trace = Trace()
        segments = read_path(question.path)
        if question.guard is not None:
            self._weigh(question, None, trace)
            return tuple(trace.steps)
        reason = _unreadable(question, segments)
        if reason is not None:
            text = f"the path {question.path} can be read in more than one way"
            if reason == "method":
                text = f"{question.method} is not a method: a method is a token in capitals, such as GET"
            trace.add("path", "refused", text)
            return tuple(trace.steps)
        assert segments is not None
        line = question.line if question.routed else self.line(question.method, segments)
        self._weigh(question, line, trace)
        return tuple(trace.steps)

    def _weigh(self, question: Question, line: Line | None, trace: Trace | None) -> Weighed:
        """What comes of a question whose line is known, or of a guard."""
        caller = question.caller
        held = self.roles.held(caller)
        if trace and question.guard is None:
            for name in held.unknown:
                trace.add("caller", "passed", f"the policy does not know the {name}, so it gives no role here")
            for note in caller.notes if caller is not None else ():
                trace.add("caller", "passed", note)
        if held.apart:
            return self._weigh_apart(question, line, held, trace)
        if question.guard is None:
            if line is None:
                if trace:
                    path = f"{question.method} {question.path}"
                    trace.add("line", "refused", f"no line covers {path}, and what is not declared is closed")
                return Weighed(Outcome.DENY, "closed")
            if trace:
                which = "the line of the action that serves" if line.action else "the most specific line for"
                trace.add("line", "passed", f"{which} {question.method} {question.path}", line)
        return self._weigh_asked(self._asked(question, line, held), caller, trace)

    def _weigh_apart(self, question: Question, line: Line | None, held: Held, trace: Trace | None) -> Weighed:
        """A caller who holds roles that are kept apart is allowed what is open to anyone."""
        if line is not None or question.guard is not None:
            others = [question.with_(caller=other) for other in _ANYONE]
            verdict = _together([self._weigh(other, line, None) for other in others])
            if verdict.reason is None:
                if trace:
                    text = f"the caller holds {' and '.join(held.apart)}, which are kept apart; this is open to anyone"
                    trace.add("apart", "passed", text)
                    depends = (other for other in others if self._weigh(other, line, None).remainder is not None)
                    self._weigh(next(depends, others[-1]), line, trace)
                return verdict
        if trace:
            trace.add("apart", "refused", f"the caller holds {' and '.join(held.apart)}, which are kept apart")
        return _APART

    def _weigh_asked(self, asked: list[WeighedPart], caller: Caller | None, trace: Trace | None) -> Weighed:
        """What comes of all that is asked: standing rules first, and the endpoint or the guard last."""
        last = asked[-1].line
        folded = [each.formula.fold(each.facts) for each in asked]
        if (
            caller is None
            and not all(map(can_be_true, folded))
            and self.opens_after_sign_in((each.formula, each.facts) for each in asked)
        ):
            if trace:
                trace.add("sign-in", "refused", "the caller is signed out; a signed-in caller might be let in", last)
            return Weighed(Outcome.SIGN_IN, "signed-out")
        remains = []
        for (line, requirement, facts, is_rule), formula in zip(asked, folded, strict=True):
            if not can_be_true(formula):
                reason = reason_of(self.roles, line, requirement, facts, caller, trace, is_rule=is_rule)
                return Weighed(Outcome.DENY, reason)
            if trace:
                add_passed(trace, line, requirement, formula, facts, is_rule=is_rule)
            if formula is not TRUE:
                remains.append(formula)
        return Weighed(Outcome.DEPENDS, None, both(remains)) if remains else Weighed(Outcome.ALLOW)

    def opens_after_sign_in(self, asked: Iterable[tuple[Formula, Facts]]) -> bool:
        """Whether a signed-in caller might be let in where this signed-out caller is not, of whom this is known."""
        return all(can_be_true(formula.fold(as_signed_in(facts, self.roles))) for formula, facts in asked)

    def _asked(self, question: Question, line: Line | None, held: Held) -> list[WeighedPart]:
        """All that is asked of a caller: what a guard asks, or the standing rules and the line of an endpoint."""
        segments = read_path(question.path) if question.path else None
        if question.guard is not None:
            line = question.line if question.routed else self.line(question.method, segments) if segments else None
            facts = self._facts(question, segments, line, held)
            if question.values is not None:
                facts = _of_handler(question, facts, question.values)
            return [WeighedPart(question.guard, question.guard.requirement.formula, facts)]
        assert line is not None
        facts = self._facts(question, segments, line, held)
        asked = []
        for rule in self._rules(question.method, segments or []) if self.standing else ():
            own = facts
            if rule.template.names and segments is not None:
                # A rule has names of its own for the parts of the path.
                own = replace(facts, **path_facts(question, segments, rule, line))
            asked.append(WeighedPart(rule, _beside_guards(rule.requirement.formula, line), own, is_rule=True))
        # With its guards the line is asked part by part, so that the steps show each of them.
        if line.declared is None or line.declared.formula is not TRUE:
            asked.append(WeighedPart(line, (line.declared or line.requirement).formula, facts))
        if line.guards:
            served = line.served.values(segments) if line.served is not None and segments is not None else {}
            facts = _of_handler(question, facts, served)
            asked += [WeighedPart(guard, guard.requirement.formula, facts) for guard in line.guards]
        return asked

    def possible_reasons(self, decision: Decision) -> set[str]:
        """Every reason that a request may be refused for, once all is known that its decision leaves open."""
        question = decision.question
        line, caller = decision.line, question.caller
        if decision.reason is not None and decision.reason in _OF_CALLERS:
            return {decision.reason}
        found: set[str] = set()
        if caller is None and decision.remainder is not None:
            found.add("signed-out")
        for each, formula, facts, _ in self._asked(question, line, self.roles.held(caller)):
            left = roles_alone(formula, facts)
            if not can_be_true(left):
                found.add(reason_of(self.roles, each, formula, facts, caller, None, is_rule=False))
                break
            if left is not TRUE:
                found |= blamable(left)
        return found

    # What is asked at an endpoint --------------------------------------------------------------------------------

    def asked(self, line: Line, method: str) -> list[tuple[Line, Formula]]:
        """All that is asked of a caller at an endpoint, whatever the parameters of its path turn out to be.

        Returns:
            The standing rules that concern the endpoint and the endpoint's own line, each with what it asks.
        """
        asked: list[tuple[Line, Formula]] = []
        for rule in self.rules_near(line.template) if self.standing else ():
            if covers(rule.methods, method):
                formula = _beside_guards(rule.requirement.formula, line)
                if overlap(rule.template, line.template) is None:
                    formula = Disjunction((OtherPath(rule.template.text), formula))
                asked.append((rule, formula))
        asked.append((line, line.requirement.formula))
        return asked

    def outcome_at(self, line: Line, method: str, caller: Caller | None) -> tuple[Outcome, Formula | None]:
        """What an endpoint says to a caller before anything is known of the request but its line.

        Returns:
            The outcome and, where it depends, what remains to be known.
        """
        return self.outcome_of([formula for _, formula in self.asked(line, method)], caller)

    def outcome_of(self, asked: Sequence[Formula], caller: Caller | None) -> tuple[Outcome, Formula | None]:
        """What comes of all that standing rules and a line ask, before anything is known of the request.

        Returns:
            The outcome and, where it depends, what remains to be known.
        """
        if self.roles.held(caller).apart:
            each = [self.outcome_of(asked, other) for other in _ANYONE]
            outcome, _, remainder = _together([Weighed(outcome, None, left) for outcome, left in each])
            return outcome, remainder
        facts = self.facts_of(caller)
        facts.now = None
        folded = [formula.fold(facts) for formula in asked]
        if not all(map(can_be_true, folded)):
            if caller is None and self.opens_after_sign_in((formula, facts) for formula in asked):
                return Outcome.SIGN_IN, None
            return Outcome.DENY, None
        remains = [formula for formula in folded if formula is not TRUE]
        return (Outcome.DEPENDS, both(remains)) if remains else (Outcome.ALLOW, None)

    def asks_for(self, root: str, line: Line, method: str) -> bool:
        """Whether what is asked at an endpoint rests on ``record``, ``query`` or another root of references."""
        return any(
            reference.root == root for _, formula in self.asked(line, method) for reference in references_in(formula)
        )

    # Facts --------------------------------------------------------------------------------

    def counted_as(self, caller: Caller | None) -> tuple[Caller | None, ...]:
        """The callers that all must be allowed what a caller is to be allowed.

        That is the caller alone. One who holds roles that are kept apart is allowed what is
        allowed to a signed-out caller and to one without a role.
        """
        return _ANYONE if self.roles.held(caller).apart else (caller,)

    def left_of(
        self, formula: Formula, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None
    ) -> Formula:
        """What is left of a requirement for a caller."""
        return both(formula.fold(self.facts_of(each, record, args)) for each in self.counted_as(caller))

    def left_at_any_time(self, formula: Formula, caller: Caller | None) -> Formula:
        """What is left of a requirement for a caller before the time is known."""
        every = [self.facts_of(each) for each in self.counted_as(caller)]
        for facts in every:
            facts.now = None
        return both(formula.fold(facts) for facts in every)

    def facts_of(self, caller: Caller | None, record: Any = None, args: Mapping[str, Any] | None = None) -> Facts:
        """What is known of one of the callers of `counted_as`, a record and the arguments of a call."""
        return facts_for(self.roles.held(caller), caller, record=record, args=args)

    def _facts(self, question: Question, segments: list[str] | None, line: Line | None, held: Held) -> Facts:
        """What is known at a line."""
        names = path_facts(question, segments, line, line) if line is not None and segments is not None else {}
        if "records" not in names:
            names["records"] = question.records
        return facts_for(
            held,
            question.caller,
            record=question.record,
            query=question.query,
            args=question.args,
            now=question.now,
            guarded=question.guarded,
            assumed=question.assume or {},
            **names,
        )

    def faults(self, decision: Decision) -> list[str]:
        """Why the condition that refused could not be decided, by names and types; empty where it could."""
        question, line = decision.question, decision.line
        condition = self.resolver.conditions.get(decision.reason or "")
        formula = condition if condition is not None else line.requirement.formula if line is not None else FALSE
        facts = self._facts(question, read_path(question.path), line, self.roles.held(question.caller))
        return findings(formula, facts, types=True) if formula.fold(facts) is FAULTY else []

    def scopes_missing(self, decision: Decision) -> tuple[str, ...]:
        """The permissions a token would have to name so that its owner is not refused; empty if that is not why."""
        question = decision.question
        caller = question.caller
        asking: Line | CompiledGuard | None = question.guard or decision.line
        if caller is None or caller.scopes is None or asking is None:
            return ()
        whole = question.with_(caller=replace(caller, scopes=None))
        if self._weigh(whole, decision.line, None).reason is not None:
            return ()
        return tuple(dict.fromkeys(each.name for each in permissions_in(asking.requirement.formula)))


def _unreadable(question: Question, segments: list[str] | None) -> str | None:
    """The reason of a request that can be read in more than one way; None for one that cannot."""
    if segments is None or question.unreadable:
        return "ambiguous-path"
    return None if question.method in _COMMON or is_method(question.method) else "method"


def _of_handler(question: Question, facts: Facts, served: Mapping[str, Any]) -> Facts:
    """The facts for a guard in the handler: it names the parameters of the path as the route does."""
    return replace(facts, path={**(facts.path or {}), **served}, records=question.records)


def _beside_guards(formula: Formula, line: Line) -> Formula:
    """What a standing rule requires at a line: guards that are asked as well have passed."""
    return without_guarded(formula) if line.guards else formula


def _by_roles(question: Question, held: Held) -> bool:
    """Whether what is kept for roles says all that the policy says of a caller."""
    return not held.apart and not question.assume and is_plain(question.caller)
