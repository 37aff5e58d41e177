"""Trees compiled into a policy: names resolved, lines put in their places, mistakes of meaning found."""

from __future__ import annotations

import gc
from contextlib import contextmanager
from typing import TYPE_CHECKING

from ..language import tree
from ..language.parser import parse_with_problems
from ..language.problems import ENOUGH, Place, PolicyError, Problem, suggestion
from .answers import ELSEWHERE, REASONS, Answers, Denial
from .evaluate import Parts
from .fields import FieldRule, FieldRules
from .formulas import FALSE
from .lines import ActionLine, Line
from .methods import ANY
from .paths import Template, TemplateError, overlap, parse_template, specificity
from .placing import unplaced_fields, unplaced_roles
from .policy import Policy
from .redirects import redirect_problems
from .requirements import references_in
from .resolver import Resolver, of_record
from .roles import compile_roles
from .routing import PathTree

if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator

    from .formulas import Formula
    from .roles import RoleTable


def parse(text: str, name: str = "<text>") -> Policy:
    """Compile a policy text.

    Args:
        text: the policy. It cannot include files: a string has no folder to look for them in.
        name: what to call it in messages, as a rule its file name.

    Raises:
        PolicyError: with every mistake found.
    """
    with collector_paused():
        document, problems = parse_with_problems(text, name)
        for section in document.headed("include"):
            problems.append(Problem("a string cannot include files; save it as a file and load that", section.place))
        return compile_documents([document], problems)


_MANY_OBJECTS = 10_000


@contextmanager
def collector_paused() -> Iterator[None]:
    """Keep the collector of garbage from running while a policy is compiled.

    Nearly all that is made there is kept, in tens of thousands of objects. The collector would look through them again
    and again and find nothing, for a quarter of the time.
    """
    if not gc.isenabled():
        yield
        return
    gc.disable()
    try:
        yield
    finally:
        # Counting what is frozen takes long where an application has frozen all that it has imported.
        if gc.get_count()[0] > _MANY_OBJECTS and gc.get_freeze_count() == 0:
            # To the oldest generation with all of it: else the first collection of the youngest would look through it.
            gc.freeze()
            gc.unfreeze()
        gc.enable()


def compile_documents(documents: list[tree.Document], problems: list[Problem]) -> Policy:
    """Compile a policy that is spread over one or more files.

    Args:
        documents: the trees, that of the main file first.
        problems: those already found, to be reported with the others.

    Raises:
        PolicyError: with every mistake found.
    """
    whole = merged(documents)
    roles = compile_roles(whole, problems)
    resolver = Resolver(whole, roles, problems)
    endpoints, actions = _endpoints(whole, roles, resolver, problems)
    parts = Parts(
        _title(whole, problems),
        roles,
        resolver,
        endpoints,
        actions,
        _standing(whole, roles, resolver, problems),
        _indexed(endpoints, problems),
        Answers(_denials(whole, resolver, problems), resolver.conditions),
        _fields(whole, roles, resolver, problems),
    )
    if not endpoints and not actions and not problems:
        message = "this policy has no endpoints; without any, every request is refused"
        problems.append(Problem(message, Place(whole.source, 1, 1, 1)))
    if ELSEWHERE in resolver.conditions and roles.things:
        message = f'"{ELSEWHERE}" is a reason of its own where there are things; give the condition another name'
        problems.append(Problem(message, Place(whole.source, 1, 1, 1)))
    policy = Policy(parts)
    if not problems:
        problems.extend(redirect_problems(policy.evaluator))
    if problems:
        raise PolicyError(problems)
    return policy


def merged(documents: list[tree.Document]) -> tree.Document:
    """The trees of several files as one."""
    return tree.Document(
        documents[0].source,
        [section for document in documents for section in document.sections],
        {name for document in documents for name in document.broken},
    )


def _title(document: tree.Document, problems: list[Problem]) -> str | None:
    named = document.headed("policy")
    for other in named[1:]:
        problems.append(Problem(f"this policy has a name already, in {named[0].place.at}", other.place))
    return named[0].argument if named else None


def _endpoints(
    document: tree.Document, roles: RoleTable, resolver: Resolver, problems: list[Problem]
) -> tuple[tuple[Line, ...], tuple[ActionLine, ...]]:
    """The endpoint lines, those with a path and those that name actions."""
    lines: list[Line] = []
    actions: list[ActionLine] = []
    named: dict[str, Place] = {}
    for order, entry in enumerate(document.entries(tree.Endpoint)):
        requirement = resolver.requirement(entry.requirement, entry.asks_at)
        about = (entry.description,)
        if entry.path is None:
            for word in entry.actions:
                place = word.place(entry.place)
                first = named.setdefault(word.text, place)
                if first is not place:
                    problems.append(Problem(f"action {word.text} has a line already, in {first.at}", place))
                accepts = tuple(accept.finding for accept in entry.accepts)
                actions.append(ActionLine(word.text, requirement, place, order, *about, accepts))
            continue
        template = _template(entry.path, entry.place, problems)
        if template is not None:
            if not requirement.plain:
                _check_path_names(requirement.formula, template, entry.path.place(entry.place), problems)
            if roles.things:
                problems += unplaced_roles(roles, requirement.formula, template, entry.path.place(entry.place))
            accepts = tuple(accept.finding for accept in entry.accepts)
            lines.append(Line(entry.methods, template, requirement, entry.place, order, *about, accepts=accepts))
    return tuple(lines), tuple(actions)


def _indexed(endpoints: tuple[Line, ...], problems: list[Problem]) -> PathTree[Line]:
    """The endpoint lines by path. Two of one shape and method are a mistake."""
    index: PathTree[Line] = PathTree()
    for line in endpoints:
        for method, other in index.add(line.methods, line.template, line):
            problems.append(
                Problem(
                    f"{method} {line.template.text} covers the same requests as the line in {other.place.at}; "
                    "write in one line what both require",
                    _path_of(line),
                )
            )
    return index


def _path_of(line: Line) -> Place:
    """The path in the text of a line; the line's own place where the path is on a line below."""
    place, path = line.place, line.template.text
    column = place.text.find(path, place.column)
    return place if column < 0 else place._replace(column=column + 1, length=len(path))


def _standing(
    document: tree.Document, roles: RoleTable, resolver: Resolver, problems: list[Problem]
) -> tuple[Line, ...]:
    lines = []
    for order, entry in enumerate(document.entries(tree.Standing)):
        requirement = resolver.requirement(entry.requirement, entry.asks_at)
        template = _template(entry.path, entry.place, problems)
        if template is not None:
            _check_path_names(requirement.formula, template, entry.path.place(entry.place), problems)
            problems += unplaced_roles(roles, requirement.formula, template, entry.path.place(entry.place))
            found = [_template(path, entry.place, problems) for path in entry.excepts]
            excepts = tuple(left_out for left_out in found if left_out is not None)
            problems += _leave_out_nothing(template, zip(excepts, entry.excepts, strict=False), entry.place)
            line = Line(entry.methods, template, requirement, entry.place, order, entry.description)
            line.excepts = excepts
            lines.append(line)
    return tuple(lines)


def _leave_out_nothing(
    template: Template, excepts: Iterable[tuple[Template, tree.Word]], place: Place
) -> Iterator[Problem]:
    """Paths that a standing rule leaves out and never covered."""
    for left_out, word in excepts:
        if overlap(template, left_out) is False and overlap(left_out, template) is False:
            message = (
                f"this rule is for {template.text}, which does not cover {left_out.text}: there is nothing to leave out"
            )
            yield Problem(message, word.place(place))


def _template(path: tree.Word, origin: Place, problems: list[Problem]) -> Template | None:
    try:
        return parse_template(path.text)
    except TemplateError as error:
        problems.append(Problem(str(error), path.place(origin)))
        return None


def _check_path_names(formula: Formula, template: Template, place: Place, problems: list[Problem]) -> None:
    """A condition that requires a path parameter the path does not have could never hold."""
    for reference in references_in(formula):
        if reference.root in ("path", "records") and reference.names[0] not in template.names:
            names = ", ".join(f"{{{name}}}" for name in template.names) or "no parameters"
            guess = suggestion(reference.names[0], template.names)
            problems.append(Problem(f"this requires {reference.words()}, and the path has {names}{guess}", place))
            return


def _denials(document: tree.Document, resolver: Resolver, problems: list[Problem]) -> list[Denial]:
    denials: list[Denial] = []
    known_denials: dict[object, Denial] = {}
    reasons = {*REASONS, "any", *resolver.conditions, *document.broken}
    if document.headed("things"):
        reasons.add(ELSEWHERE)
    for entry in document.entries(tree.Denial):
        reason = entry.reason.text
        if reason not in reasons:
            guess = suggestion(reason, reasons) if len(problems) < ENOUGH else ""
            guess = guess or f"; reasons are {', '.join(REASONS)}, any, and conditions"
            problems.append(Problem(f'unknown reason "{reason}"{guess}', entry.reason.place(entry.place)))
        template = _template(entry.path, entry.place, problems) if entry.path is not None else None
        to = entry.to.text if entry.to is not None else None
        about = (entry.kind, entry.status, to, entry.message, entry.place)
        denial = Denial(entry.methods, template, reason, *about)
        if to is not None and entry.to is not None:
            target = _template(entry.to, entry.place, problems)
            if target is not None and not all(isinstance(part, str) for part in target.segments):
                message = "a redirect leads to one page; write a path without {names} and stars"
                problems.append(Problem(message, entry.to.place(entry.place)))
        shape = specificity(template, exact=True) if template is not None else None
        for method in entry.methods or (ANY,):
            other = known_denials.setdefault((shape, reason, method), denial)
            if other is not denial:
                message = f"the denial in {other.place.at} answers the same refusals; remove one of the two"
                problems.append(Problem(message, entry.place))
                break
        denials.append(denial)
    return denials


def _fields(
    document: tree.Document, roles: RoleTable, resolver: Resolver, problems: list[Problem]
) -> dict[str, FieldRules]:
    kinds: dict[str, FieldRules] = {}
    for section in document.headed("fields"):
        kind = section.argument or ""
        rules = kinds.setdefault(kind, FieldRules(kind))
        for entry in section.entries:
            assert isinstance(entry, tree.Field)
            if entry.name in rules.rules:
                at = rules.rules[entry.name].place.at
                problems.append(Problem(f'field "{entry.name}" has an entry already, in {at}', entry.place))
            read, change = (
                FALSE if asked is None else resolver.requirement(asked, entry.place).formula
                for asked in (entry.read, entry.change)
            )
            if kind in roles.things.by_name:
                read, change = of_record(read, kind), of_record(change, kind)
            else:
                problems += unplaced_fields(kind, (read, change), entry.place)
            rules.rules[entry.name] = FieldRule(read, change, entry.place)
    return kinds
