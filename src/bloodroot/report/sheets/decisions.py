"""One decision, the lines that cover a path, who gets in there, and what an application answered."""

from __future__ import annotations

import shlex
from collections.abc import Iterator
from typing import TYPE_CHECKING

from ...core.caller import roles_in_records
from ...core.decision import Outcome
from ...core.requirements import requirement_in_words
from ...endings import Ending
from ..sheet import OF_OUTCOME, Cell, Line, Meaning, Section, Sheet, line, place, plural, quiet, strong

if TYPE_CHECKING:
    from ...core.decision import Decision
    from ...core.entrance import Entrance, Treated
    from ...core.explanation import Explanation
    from ...probe.asking import AskResult
    from ..results import LinesResult

_VERDICTS = {
    "passed": Cell("✓", Meaning.GOOD, "ok"),
    "refused": Cell("✗", Meaning.WRONG, "no"),
    "open": Cell("◐", Meaning.OPEN, "??"),
}
_MOST_LINES = 20  # of a body
_WIDEST = 200


def decision(result: Explanation) -> Sheet:
    """One decision: the outcome, the steps with their lines, the answer, and who would have been let in."""
    title, sections = _decided(result)
    return Sheet(title, sections)


def _decided(result: Explanation) -> tuple[Cell, tuple[Section, ...]]:
    made = result.decision
    meaning = OF_OUTCOME[made.outcome] if made.outcome is not Outcome.DENY else Meaning.WRONG
    outcome = made.outcome.value + (f" ({made.reason})" if made.reason else "")
    sections = []
    if made.reason != "signed-out" and result.who != "signed-out":
        direct, included = result.role_table.direct_and_included(result.caller)
        held = ", ".join((*direct, *included, *roles_in_records(result.caller))) or "no role"
        sections.append(Section(lines=(line(quiet(f"{result.who} holds {held}")),), tight=True))
    sections.append(Section(rows=tuple(_steps(made))))
    after = tuple(_after(result))
    if after:
        sections.append(Section(lines=after))
    return Cell(f"{result.method} {result.path} as {result.who}: {outcome}", meaning), tuple(sections)


def _steps(made: Decision) -> Iterator[tuple[Cell | str, ...]]:
    for step in made.steps:
        yield _VERDICTS[step.verdict], strong(step.name), step.text
        if step.where:
            yield "", "", place(f"{step.where}  {step.line}")


def _after(result: Explanation) -> Iterator[Line]:
    answer = result.decision.answer
    if answer is not None:
        where = f" to {answer.location}" if answer.location is not None else ""
        by = f" ({answer.place.at})" if answer.place is not None else ""
        yield line(f"The caller gets {answer.status}{where}: {answer.message}{by}")
    if result.sufficient_roles:
        yield line(f"Roles that would be enough: {', '.join(result.sufficient_roles)}")
    for hint in result.hints:
        yield line(f"{hint[0].upper()}{hint[1:]}.")
    if result.remainder is not None:
        yield line(f"Still to be known: {result.remainder}")
    if result.record is not None:
        yield line(f"To settle it, add the record: --record '{result.record}'")
    if result.records is not None:
        yield line(f"To know what belongs to what, add the records: --records '{result.records}'")


def lines(result: LinesResult) -> Sheet:
    """The lines that cover a request, the one that decides first, and the standing rules beside them."""
    method, path, lines_found = result.method, result.path, result.lines
    if not lines_found:
        return Sheet(strong(f"no line covers {method} {path}, so no one may see it"))
    rows = [("less specific" if number else "decides", line) for number, line in enumerate(lines_found)]
    rows += [("and always", rule) for rule in result.rules]
    return Sheet(
        strong(f"{method} {path} is decided by {lines_found[0].place.at}"),
        (Section(rows=tuple((word, line.place.at, line.text) for word, line in rows)),),
        columns=("", "line", "text"),
        rows=((word, line.place.at, line.text) for word, line in rows),
    )


def entrance(result: Entrance) -> Sheet:
    """How many kinds of callers are let in, the lines that say so, and who gets what."""
    headline = f"{result.method} {result.path}: {result.let_in} of {plural(result.count, 'kind')} of caller let in"
    sections = [Section(lines=tuple(_deciding(result)))]
    for title, treated in (("", result.roles), ("Personas", result.personas)):
        if treated:
            sections.append(Section((strong(title),) if title else (), rows=tuple(map(_treated, treated))))
    example = next((name for role in result.roles for name in role.names if role.outcome is not Outcome.ALLOW), None)
    command = shlex.join(["bloodroot", "why", example or "", result.method, result.path])
    return Sheet(
        strong(headline),
        tuple(sections),
        (f"Next: {command} shows the steps.",) if example is not None else (),
        ("caller", "outcome", "condition", "reason"),
        (
            (name, treated.outcome.value, treated.remainder or "", treated.reason or "")
            for treated in (*result.roles, *result.personas)
            for name in treated.names
        ),
    )


def _deciding(result: Entrance) -> Iterator[Line]:
    if result.line is None:
        yield line("No line covers it, and what is not declared is closed.", indent=2)
        return
    for before, each in (("", result.line), *(("and always ", rule) for rule in result.rules)):
        yield line(f"{before}{each.text}  {each.place.at}", indent=2)
        yield line(quiet(f"requires {requirement_in_words(each.requirement.formula)}"), indent=4)


def _treated(treated: Treated) -> tuple[Cell | str | tuple[Cell | str, ...], ...]:
    words: tuple[Cell | str, ...] = (", ".join(treated.names),)
    if treated.remainder is not None:
        words += (Cell(f"\nif {treated.remainder}", Meaning.OPEN),)
    elif treated.answer is not None:
        words += (quiet(f"\n{treated.reason}; {_answer(treated)}"),)
    return Cell(f"  {treated.outcome.value}", OF_OUTCOME[treated.outcome]), words


def _answer(treated: Treated) -> str:
    answer = treated.answer
    assert answer is not None
    if answer.hidden:
        return "gets what a missing page gets"
    if answer.location is not None:
        return f"is sent to {answer.location}, or gets {answer.otherwise}"
    return f"gets {answer.status}: {answer.message}"


def ask(result: AskResult) -> Sheet:
    """The answer, its headers and the beginning of its body; then the decision and its steps."""
    explanation = result.explanation
    answered = f"{result.status} {result.phrase}".rstrip()
    sections = []
    if result.body_sent:
        sections.append(Section(lines=(line(quiet(f"Sent with the body of {result.body_sent}.")),), tight=True))
    sections.append(Section(lines=tuple(line(f"{name}: {value}") for name, value in result.headers)))
    body = [_printable(text) for text in result.body.splitlines() if text.strip()]
    if body:
        shown = [line(quiet(text), indent=2) for text in body[:_MOST_LINES]]
        if len(body) > _MOST_LINES:
            shown.append(line(f"and {len(body) - _MOST_LINES} lines more", indent=2))
        sections.append(Section(lines=tuple(shown)))
    outcome, decided = _decided(explanation)
    says = strong(_policy_says(explanation.decision.outcome))
    sections.append(Section((says,), (line(Cell(outcome.text, outcome.meaning, bold=True)),)))
    headline = strong(f"{explanation.method} {explanation.path} as {explanation.who} answered {answered}")
    return Sheet(headline, (*sections, *decided), (_ASKED[result.ending],))


_ASKED = {
    Ending.WELL: "The application answers as declared.",
    Ending.FOUND: "The application does not answer as declared. Next: bloodroot why says what the policy asks.",
    Ending.UNJUDGED: "One answer does not show whether this is as declared. Next: bloodroot probe asks with samples.",
}


def _policy_says(outcome: Outcome) -> str:
    words = {
        Outcome.ALLOW: "lets this caller in",
        Outcome.DENY: "refuses this caller",
        Outcome.SIGN_IN: "asks this caller to sign in",
        Outcome.DEPENDS: "lets this caller in if a condition holds",
    }
    return f"The policy {words[outcome]}:"


def _printable(text: str) -> str:
    """A line of a body that no terminal takes for a command, and no longer than a terminal is wide."""
    text = "".join(character if character.isprintable() else " " for character in text)
    return text if len(text) <= _WIDEST else f"{text[:_WIDEST]}..."
