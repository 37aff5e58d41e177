"""What an operation of an OpenAPI document says of access: its security, the answers to refused callers, `x-access`."""

from __future__ import annotations

from collections.abc import Callable, Iterable, MutableMapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

from .core.caller import imagined
from .core.decision import Outcome
from .core.matrix import matrix_of_roles, row_of, spreading_of_roles
from .core.paths import read_path
from .core.question import Question

if TYPE_CHECKING:
    from .core.lines import Line
    from .core.paths import Template
    from .core.policy import Policy

# Where requirements are written: OpenAPI has a place for scopes alone.
REQUIREMENT = "x-access"
_BEARER = {"type": "http", "scheme": "bearer"}


@dataclass(frozen=True, slots=True)
class OperationAccess:
    """What is required of the callers of one operation.

    Attributes:
        open_to: ``anyone``, ``some`` signed-out callers, or ``nobody`` who is signed out.
        access: what is required, and which roles are let in.
        refusals: what refused callers get, by status, in words.
    """

    open_to: str
    access: dict[str, Any]
    refusals: dict[str, str]

    def fill_in(
        self, operation: MutableMapping[str, Any], schemes: Schemes, as_key: Callable[[str], str] = str
    ) -> None:
        """Write it into an operation; answers that the operation has already stay. Written twice it says the same.

        Args:
            operation: the operation.
            schemes: the security schemes of its document.
            as_key: makes a status a key of its responses.
        """
        operation["security"] = schemes.of(operation, self.open_to)
        operation[REQUIREMENT] = self.access
        responses = operation.setdefault("responses", {})
        if isinstance(responses, MutableMapping):
            statuses = {str(status) for status in responses}
            for status, message in self.refusals.items():
                if status not in statuses:
                    responses[as_key(status)] = {"description": message}


class AccessOfOperations:
    """What a policy requires of operations.

    Args:
        policy: the policy.
    """

    def __init__(self, policy: Policy) -> None:
        self._policy = policy
        self._spreading = spreading_of_roles(policy)
        self._names = [column.name for column in matrix_of_roles(policy).columns]
        self._callers = (None, imagined(), *(imagined(name) for name in policy.roles.kinds))
        self._known: dict[object, list[str]] = {}

    def of(self, line: Line | None, rules: Iterable[Line], method: str, template: Template) -> OperationAccess:
        """What is required of one operation.

        Args:
            line: the line that decides; None where nothing covers it.
            rules: the standing rules that concern all of its requests.
            method: its method, in capitals.
            template: its path.
        """
        refusals = self._answers(line, method, template)
        if line is None:
            return OperationAccess("nobody", {"requirement": "nobody", "roles": {}}, refusals)
        row = row_of(self._policy, self._spreading, replace(line, template=template), (method,))
        cells = {name: row.cell(number) for number, name in enumerate(self._names)}
        open_to = {Outcome.ALLOW: "anyone", Outcome.DEPENDS: "some"}.get(cells["signed-out"].outcome, "nobody")
        access: dict[str, Any] = {"requirement": line.requirement.words()}
        always = [rule.requirement.words() for rule in rules]
        if always:
            access["always"] = always
        access["roles"] = {
            name: cell.words() for name, cell in cells.items() if cell.outcome in (Outcome.ALLOW, Outcome.DEPENDS)
        }
        return OperationAccess(open_to, access, refusals)

    def _answers(self, line: Line | None, method: str, template: Template) -> dict[str, str]:
        """What refused callers get, by status: signed-out ones first, then those with too little."""
        path = template.fill(dict.fromkeys(template.names, "x"))
        answers: dict[str, list[str]] = {}
        for reason in self._reasons(line, method, path):
            answer = self._policy.answers.answer(method, path, reason)
            said = answers.setdefault(str(answer.otherwise or answer.status), [])
            if answer.message not in said:
                said.append(answer.message)
        return {status: " ".join(messages) for status, messages in answers.items()}

    def _reasons(self, line: Line | None, method: str, path: str) -> list[str]:
        """Why callers of one kind or another are refused, or may be."""
        if line is None:
            return ["closed"]
        segments = read_path(path) or []
        evaluator = self._policy.evaluator
        rules = tuple(evaluator.lookup.rules_at(method, segments))
        # Where the same is asked, the same may refuse; a rule may have names of its own for the parts of the path.
        own_path = path if any(rule.template.names for rule in rules) else ""
        key = line.requirement, line.guards, rules, line.template.names, own_path
        found = self._known.get(key)
        if found is not None:
            return found
        reasons: dict[str, None] = {}
        for caller in self._callers:
            question = Question(caller, method, path)
            question.line, question.routed = line, True
            decision = evaluator.decide_routed(question, segments)
            if decision.reason is not None:
                reasons[decision.reason] = None
            elif decision.outcome is Outcome.DEPENDS:
                reasons |= dict.fromkeys(sorted(evaluator.possible_reasons(decision)))
        self._known[key] = list(reasons)
        return self._known[key]


class Schemes:
    """The security schemes of a document: those that it uses, else those that it declares, else a bearer token.

    Args:
        document: the whole document.
    """

    def __init__(self, document: MutableMapping[str, Any]) -> None:
        self._document = document
        components = document.get("components")
        declared = components.get("securitySchemes") if isinstance(components, MutableMapping) else None
        self._all = list(declared) if isinstance(declared, MutableMapping) else []
        self._made_up = False
        self._usual = _alternatives(document.get("security")) or [{name: []} for name in self._all] or [{"bearer": []}]

    def of(self, operation: MutableMapping[str, Any], open_to: str) -> list[Any]:
        """The security requirements of an operation."""
        if open_to == "anyone":
            return []
        alternatives = _alternatives(operation.get("security")) or self._usual
        found = [{name: list(scopes or ()) for name, scopes in alternative.items()} for alternative in alternatives]
        self._made_up = self._made_up or (not self._all and found == [{"bearer": []}])
        # An empty alternative: some are let in without signing in.
        return [*found, {}] if open_to == "some" else found

    def declare(self) -> None:
        """Declare the scheme that was made up where there was none."""
        if self._made_up:
            components = self._document.setdefault("components", {})
            components.setdefault("securitySchemes", {})["bearer"] = dict(_BEARER)


def _alternatives(security: Any) -> list[Any]:
    if not isinstance(security, list):
        return []
    return [each for each in security if isinstance(each, MutableMapping) and each]
