"""The policy: compiled once, then asked about each request."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..language import tree
from ..language.parser import parse_with_problems
from ..language.problems import Place, PolicyError, Problem, suggestion
from .conditions import TRUE, UNKNOWN, Disjunction, Facts, Formula, Known, both, can_be_true, findings
from .decision import Decision, Outcome, Step, may_hold
from .paths import ANY, PathIndex, Template, TemplateError, overlap, parse_template, read_path
from .requirements import Elsewhere, Resolver, conditions_in, references_in
from .roles import SIGNED_OUT, Held, RoleTable, compile_roles

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator, Mapping

    from .caller import Caller


@dataclass(slots=True, eq=False)
class Line:
    """One entry of the section ``endpoints`` or ``always``, compiled.

    Attributes:
        methods: the methods it names; empty for any.
        template: the path template.
        requirement: what it asks.
        opens: bits of which any one is enough to be let in.
        plain: whether nothing but those bits can let anybody in.
        place: where it stands.
        order: its number among the lines of its section.
        description: what the line says of itself, if anything.
    """

    methods: tuple[str, ...]
    template: Template
    requirement: Formula
    opens: int
    plain: bool
    place: Place
    order: int
    description: str | None = None

    @property
    def text(self) -> str:
        """The line as written, blanks squeezed."""
        return " ".join(self.place.text.split("#")[0].split())


@dataclass(slots=True)
class _Trace:
    """The steps of a decision, kept only when somebody asks for them."""

    steps: list[Step] = field(default_factory=list)

    def add(self, name: str, verdict: str, text: str, line: Line | None = None) -> None:
        where, written = (line.place.at, line.text) if line is not None else ("", "")
        self.steps.append(Step(name, verdict, text, where, written))


class Policy:
    """Says who may do what. Made by `bloodroot.load` or `bloodroot.parse`; safe to share between threads.

    Attributes:
        title: the name of the policy, or None.
        roles: the roles, their inclusion and groups.
        conditions: named conditions.
        permissions: what each declared permission is granted to, by its name as written.
        endpoints: the endpoint lines, in the order of the file.
        standing: the standing rules, in the order of the file.
    """

    def __init__(
        self,
        title: str | None,
        roles: RoleTable,
        resolver: Resolver,
        endpoints: tuple[Line, ...],
        standing: tuple[Line, ...],
        index: PathIndex[Line],
    ) -> None:
        self.title = title
        self.roles = roles
        self.conditions = resolver.conditions
        self.permissions = resolver.permissions
        self.endpoints = endpoints
        self.standing = standing
        self._resolver = resolver
        self._index = index

    # Questions --------------------------------------------------------------------------------

    def decide(
        self,
        caller: Caller | None,
        method: str,
        path: str,
        *,
        record: Any = None,
        query: Mapping[str, Any] | None = None,
        args: Mapping[str, Any] | None = None,
        now: datetime.datetime | None = None,
        assume: Mapping[str, bool] | None = None,
    ) -> Decision:
        """Decide one request.

        Args:
            caller: who asks; None for a signed-out caller.
            method: the request method, in capitals.
            path: the path as the client sent it, still percent-encoded, without a query.
            record: the object or mapping that the endpoint acts on, or None where it is not known yet.
            query: parameters of the query by name, or None where they are not known.
            args: arguments of a guarded call by name, or None where they are not known.
            now: the moment of the decision, by default the present one (UTC).
            assume: conditions whose value is taken as given, by name: to ask "what if".

        Returns:
            The decision. Bad input is refused, never an error.
        """
        question = (caller, method, path, record, query, args, now, assume)
        segments = read_path(path)
        if segments is None:
            return Decision(Outcome.DENY, "ambiguous-path", None, None, self, question)
        line = self._index.find(method, segments)
        if line is None:
            return Decision(Outcome.DENY, "closed", None, None, self, question)
        held = self.roles.held(caller)
        if not self.standing and not held.apart and not assume:
            # Roles alone decide most requests, and those are decided here. The steps below say the same.
            if held.bits & line.opens:
                return Decision(Outcome.ALLOW, None, line, None, self, question)
            if line.plain and caller is not None and not line.opens & SIGNED_OUT:
                return Decision(Outcome.DENY, "role", line, None, self, question)
        outcome, reason, remainder = self._weigh_request(question, segments, line, held, None)
        return Decision(outcome, reason, line, remainder, self, question)

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
        asked = self._resolver.permission(permission)
        if asked is None:
            raise LookupError(f'unknown permission "{permission}"{suggestion(permission, self.permissions)}')
        held = self.roles.held(caller)
        bits = 0 if held.apart else held.bits
        return asked.fold(self._facts(bits, caller, record=record, args=args)) is TRUE

    def line_for(self, method: str, path: str) -> Line | None:
        """The endpoint line that decides a method and a path as the client sent it, or None."""
        segments = read_path(path)
        return None if segments is None else self._index.find(method, segments)

    def asked(self, line: Line, method: str) -> list[tuple[Line, Formula]]:
        """All that is asked of a caller at an endpoint, whatever the parameters of its path turn out to be.

        Returns:
            The standing rules that concern the endpoint and the endpoint's own line, each with what it asks.
        """
        asked: list[tuple[Line, Formula]] = []
        for rule in self.standing:
            covered = overlap(rule.template, line.template) if _covers(rule, method) else False
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
        facts = self._facts(0 if held.apart else held.bits, caller)
        facts.now = None
        outcome, _, remainder = self._weigh(self.asked(line, method), facts, held, caller, None)
        return outcome, remainder

    def asks_for(self, root: str, line: Line, method: str) -> bool:
        """Whether what is asked at an endpoint rests on ``record``, ``query`` or another root of references."""
        return any(
            reference.root == root for _, formula in self.asked(line, method) for reference in references_in(formula)
        )

    # How a decision comes about --------------------------------------------------------------------------------

    def _facts(self, bits: int, caller: Caller | None, **supplied: Any) -> Facts:
        moment = supplied.pop("now", None) or datetime.datetime.now(datetime.UTC)
        return Facts(bits, bits, caller=_View(caller) if caller is not None else None, now=moment, **supplied)

    def explain(self, question: tuple[Any, ...]) -> tuple[Step, ...]:
        """The same decision once more, with its steps written down. For `Decision.steps`, which has the question."""
        trace = _Trace()
        caller, method, path = question[:3]
        segments = read_path(path)
        if segments is None:
            trace.add("path", "refused", f"the path {path} can be read in more than one way")
            return tuple(trace.steps)
        held = self.roles.held(caller)
        for name in held.unknown:
            trace.add("roles", "passed", f"the policy does not know the {name}, so it counts for nothing")
        line = self._index.find(method, segments)
        if line is None:
            trace.add("line", "refused", f"no line covers {method} {path}, and what is not declared is closed")
            return tuple(trace.steps)
        trace.add("line", "passed", f"the most specific line for {method} {path}", line)
        self._weigh_request(question, segments, line, held, trace)
        return tuple(trace.steps)

    def _weigh_request(
        self, question: tuple[Any, ...], segments: list[str], line: Line, held: Held, trace: _Trace | None
    ) -> tuple[Outcome, str | None, Formula | None]:
        """Outcome, reason and remainder for a request whose line is known."""
        caller, method, _, record, query, args, now, assume = question
        facts = self._facts(
            0 if held.apart else held.bits,
            caller,
            record=record,
            path=line.template.values(segments),
            query=query,
            args=args,
            now=now,
            assumed=assume or {},
        )
        rules = [rule for rule in self.standing if _covers(rule, method) and rule.template.covers(segments)]
        return self._weigh([(each, each.requirement) for each in (*rules, line)], facts, held, caller, trace)

    def _weigh(
        self,
        asked: list[tuple[Line, Formula]],
        facts: Facts,
        held: Held,
        caller: Caller | None,
        trace: _Trace | None,
    ) -> tuple[Outcome, str | None, Formula | None]:
        """Outcome, reason and remainder for all that is asked, standing rules first and the endpoint last."""
        line = asked[-1][0]
        folded = [formula.fold(facts) for _, formula in asked]
        if held.apart:
            if all(formula is TRUE for formula in folded):
                return Outcome.ALLOW, None, None
            if trace:
                told = " and ".join(held.apart)
                trace.add("apart", "refused", f"the caller holds {told}, which are kept apart")
            return Outcome.DENY, "apart", None
        if caller is None and not may_hold(folded) and self.opens_after_sign_in(asked, facts):
            if trace:
                trace.add("sign-in", "refused", "the caller is signed out; somebody signed in might be let in", line)
            return Outcome.SIGN_IN, "signed-out", None
        remains = []
        for (each, _), formula in zip(asked, folded, strict=True):
            if not can_be_true(formula):
                return Outcome.DENY, self._reason(each, facts, caller, trace, is_rule=each is not line), None
            if trace:
                _tell(trace, each, formula, is_rule=each is not line)
            if formula is not TRUE:
                remains.append(formula)
        if remains:
            return Outcome.DEPENDS, None, both(remains)
        return Outcome.ALLOW, None, None

    def opens_after_sign_in(self, asked: list[tuple[Line, Formula]], facts: Facts) -> bool:
        """Whether anybody who is signed in might be let in where this signed-out caller is not."""
        imagined = Facts(
            self.roles.base,
            ~SIGNED_OUT,
            caller=UNKNOWN,
            record=facts.record,
            path=facts.path,
            query=facts.query,
            args=facts.args,
            now=facts.now,
            assumed=facts.assumed,
        )
        return may_hold([formula.fold(imagined) for _, formula in asked])

    def _reason(self, line: Line, facts: Facts, caller: Caller | None, trace: _Trace | None, *, is_rule: bool) -> str:
        """Why a line refuses: being signed in, roles and permissions, or a condition."""
        where = "standing" if is_rule else "roles"
        if caller is not None:
            visitor = Facts(SIGNED_OUT, SIGNED_OUT, record=facts.record, path=facts.path, query=facts.query)
            if can_be_true(line.requirement.fold(visitor)):
                if trace:
                    trace.add(
                        where, "refused", "the page is for signed-out visitors, and the caller is signed in", line
                    )
                return "signed-in"
        # With every question about conditions left open, only roles and permissions can refuse.
        roles_alone = line.requirement.fold(Facts(facts.certain, facts.possible, caller=UNKNOWN))
        if not can_be_true(roles_alone):
            if trace:
                has = ", ".join(self.roles.names(facts.certain)) or "no role"
                trace.add(where, "refused", f"asks for {line.requirement.words()}; the caller has {has}", line)
            return "role"
        for condition in conditions_in(roles_alone):
            if not can_be_true(condition.fold(facts)):
                if trace:
                    value = condition.fold(facts)
                    verdict = value.name if isinstance(value, Known) else "never true"
                    found = ", ".join(findings(condition, facts))
                    text = f"{condition.name} is {verdict}: {condition.test.words()}" + (f" ({found})" if found else "")
                    trace.add("standing" if is_rule else "conditions", "refused", text, line)
                return condition.name
        if trace:
            text = f"what remained to be asked does not hold: {roles_alone.words()}"
            trace.add("standing" if is_rule else "conditions", "refused", text, line)
        return next((condition.name for condition in conditions_in(roles_alone)), "condition")


class _View:
    """A caller as conditions see it: ``id``, and the attributes by name."""

    __slots__ = ("_caller",)

    def __init__(self, caller: Caller) -> None:
        self._caller = caller

    def __getattr__(self, name: str) -> Any:
        if name == "id":
            if self._caller.id is None:
                raise AttributeError(name)
            return self._caller.id
        try:
            return self._caller.attributes[name]
        except KeyError:
            raise AttributeError(name) from None


def _tell(trace: _Trace, line: Line, formula: Formula, *, is_rule: bool) -> None:
    """The step of a line that does not refuse."""
    name = "standing" if is_rule else "roles"
    asked = line.requirement.words()
    if formula is TRUE:
        trace.add(name, "passed", f"asks for {asked}, which holds", line)
    else:
        trace.add("standing" if is_rule else "conditions", "open", f"depends on {remains_in_words(formula)}", line)


def remains_in_words(formula: Formula) -> str:
    """A remainder in words: conditions by name, with what each of them still asks."""
    named = {c.name: c.test.words() for c in conditions_in(formula)}
    told = ", ".join(f"{name}: {test}" for name, test in named.items())
    return f"{formula.words()} ({told})" if told else formula.words()


def _covers(rule: Line, method: str) -> bool:
    return not rule.methods or method in rule.methods or method == ANY or (method == "HEAD" and "GET" in rule.methods)


# Compiling --------------------------------------------------------------------------------


def parse(text: str, name: str = "<text>") -> Policy:
    """Compile a policy text.

    Args:
        text: the policy.
        name: what to call it in messages, as a rule its file name.

    Raises:
        PolicyError: with every mistake found.
    """
    document, problems = parse_with_problems(text, name)
    roles = compile_roles(document, problems)
    resolver = Resolver(document, roles, problems)
    index: PathIndex[Line] = PathIndex()
    endpoints = tuple(_lines(document.endpoints, resolver, problems))
    for line in endpoints:
        for method, other in index.add(line.methods, line.template, line):
            problems.append(
                Problem(
                    f"{method} {line.template.text} stands for the same requests as the line in {other.place.at}; "
                    "say in one line what both ask",
                    line.place,
                )
            )
    standing = tuple(_lines(document.standing, resolver, problems))
    if not document.endpoints and not problems:
        problems.append(
            Problem(
                "this policy has no endpoints; without any, every request is refused", Place(document.source, 1, 1, 1)
            )
        )
    if problems:
        raise PolicyError(problems)
    return Policy(document.title, roles, resolver, endpoints, standing, index)


def _lines(
    entries: Iterable[tree.Endpoint | tree.Standing], resolver: Resolver, problems: list[Problem]
) -> Iterator[Line]:
    """Entries with a path, compiled; mistakes are added to ``problems``."""
    for order, entry in enumerate(entries):
        requirement, opens, plain = resolver.asked(entry.requirement, entry.asks_at)
        try:
            template = parse_template(entry.path.text)
        except TemplateError as error:
            problems.append(Problem(str(error), entry.path.place(entry.place)))
            continue
        if not plain:
            _check_path_names(requirement, template, entry, problems)
        yield Line(
            entry.methods,
            template,
            requirement,
            opens,
            plain,
            entry.place,
            order,
            entry.description,
        )


def _check_path_names(
    requirement: Formula, template: Template, entry: tree.Endpoint | tree.Standing, problems: list[Problem]
) -> None:
    """A condition that asks for a path parameter the path does not have could never hold."""
    for reference in references_in(requirement):
        if reference.root == "path" and reference.names[0] not in template.names:
            names = ", ".join(f"{{{name}}}" for name in template.names) or "no parameters"
            problems.append(
                Problem(
                    f"this asks for {reference.words()}, and the path has {names}"
                    f"{suggestion(reference.names[0], template.names)}",
                    entry.path.place(entry.place),
                )
            )
            return
