"""Whether responses are what was declared. Nothing is said to agree without evidence.

A response is judged beside those of the other personas at the same endpoint: what callers get who may use it says what
the handler answers, and that a request as it was sent reaches it.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from urllib.parse import urlsplit

from ..core.decision import Outcome
from ..core.methods import SAFE, WEBSOCKET
from .asked_endpoints import AskedEndpoint
from .facts import AnsweredBy, ResponseKind, Seen
from .marks import settled_by_answers
from .other_ways import add_other_ways
from .page_looks import is_shown_in, says_more
from .plan import Case, Plan, Secret
from .spelling import is_same_page
from .verdicts import KEPT_OUT, SEE_SAMPLE, Observation, Verdict, says_nothing

_NUMBER = re.compile(r"[0-9]+|[0-9a-f]{8}-[0-9a-f-]{27}")


Said = tuple[Verdict, str, str]


def judge(plan: Plan, seen: Mapping[Case, Seen]) -> tuple[Observation, ...]:
    """Compare every response with what was declared, in the order of the plan."""
    groups: dict[AskedEndpoint, list[Case]] = {}
    for case in plan.cases:
        if case in seen and not case.spelled:
            groups.setdefault(case.asked, []).append(case)
    elsewhere = _elsewhere(plan, seen, groups)
    together = [_EndpointEvidence([(case, seen[case]) for case in group], plan, elsewhere) for group in groups.values()]
    for beside in together:
        elsewhere.generic |= beside.sent_by_reading
        if beside.works:
            elsewhere.turned_away |= beside.sent_when_refused_alone
    by_case: dict[Case, Observation] = {}
    for beside, group in zip(together, groups.values(), strict=True):
        for case in group:
            if not case.missing:
                by_case[case] = Observation(case, seen[case], *beside.judge(case, seen[case]))
    _as_get(by_case)
    add_other_ways(plan, seen, elsewhere.kept, by_case)
    return tuple(by_case[case] for case in plan.cases if case in by_case)


@dataclass(slots=True)
class _Elsewhere:
    """What all answers together say, which is needed to judge one.

    Attributes:
        there: paths at which some caller was answered by a handler.
        reached: values of records at which an endpoint that decides by the record let some caller in.
        proven: personas for whom a request that changes data was answered by a handler, somewhere.
        common: words that most pages, or most refusals, have.
        kept: by the name of a persona, what the answers say is kept from it.
        turned_away: redirects of those who may not: where one endpoint sends them, others will send theirs.
        generic: redirects of those who may by requests that change nothing: these are not what comes of a change.
    """

    there: set[str] = field(default_factory=set)
    reached: set[frozenset[tuple[str, str]]] = field(default_factory=set)
    proven: set[str] = field(default_factory=set)
    common: set[int] = field(default_factory=set)
    kept: Mapping[str, tuple[Secret, ...]] = field(default_factory=dict)
    turned_away: set[tuple[int, str]] = field(default_factory=set)
    generic: set[tuple[int, str]] = field(default_factory=set)


def _elsewhere(plan: Plan, seen: Mapping[Case, Seen], groups: Mapping[AskedEndpoint, list[Case]]) -> _Elsewhere:
    elsewhere = _Elsewhere(common=_common_words(plan, seen), kept=settled_by_answers(plan, seen))
    for group in groups.values():
        by_record = any(case.by_record for case in group)
        for case in group:
            if _handled(case, seen[case]):
                elsewhere.there.add(case.path)
                if by_record:
                    elsewhere.reached.add(frozenset(case.values.items()))
                if not case.safe:
                    elsewhere.proven.add(case.persona.name)
    return elsewhere


def _as_get(by_case: dict[Case, Observation]) -> None:
    """Take methods for no holes that a view answers as it does GET: it asks for no method, and does nothing."""
    gets = {
        (case.path, case.persona.name): each
        for case, each in by_case.items()
        if case.method == "GET" and case.allowed and each.verdict is Verdict.AGREE
    }
    for case, each in list(by_case.items()):
        get = gets.get((case.path, case.persona.name))
        if (
            case.asked.undeclared
            and each.verdict is Verdict.HOLE
            and get is not None
            and get.seen.look == each.seen.look
            and each.seen.changed is False
        ):
            by_case[case] = replace(each, verdict=Verdict.AGREE, text="answered as GET is")


def _common_words(plan: Plan, seen: Mapping[Case, Seen]) -> set[int]:
    """Words that most pages have, or most refusals: those of the frame around what they are about."""
    found: set[int] = set()
    for allowed in (True, False):
        by_endpoint: dict[AskedEndpoint, set[int]] = {}
        for case in plan.cases:
            if case in seen and case.allowed is allowed:
                by_endpoint.setdefault(case.asked, set()).update(seen[case].words)
        counts = Counter(word for words in by_endpoint.values() for word in words)
        found |= {word for word, count in counts.items() if 2 * count > len(by_endpoint) > 2}
    return found


def _handled(case: Case, seen: Seen) -> bool:
    """Whether a caller who may use an endpoint was answered by its handler."""
    return (
        case.allowed
        and seen.came in (ResponseKind.MADE, ResponseKind.DONE)
        and seen.by is not AnsweredBy.BEFORE
        and not seen.stranger
    )


def _shape(seen: Seen) -> tuple[int, str]:
    """A redirect, whatever the number of the record that it leads to."""
    path = urlsplit(seen.location).path
    return seen.status, "/".join("*" if _NUMBER.fullmatch(part) else part for part in path.split("/"))


def is_not_served(group: Sequence[Observation]) -> bool:
    """Whether a method that was only guessed for an endpoint turned out not to be served.

    All who may use it were answered so, and no one else was let in, or met something that says nothing of that.
    """
    if not group or not group[0].case.asked.guessed:
        return False
    if not any(observation.seen.came is ResponseKind.NOT_SERVED for observation in group):
        return False
    return all(
        observation.seen.came is ResponseKind.NOT_SERVED
        or (
            not observation.case.allowed
            and observation.seen.came in KEPT_OUT
            and observation.verdict is not Verdict.HOLE
        )
        for observation in group
    )


class _EndpointEvidence:
    """The responses of one endpoint, which say what each of them means.

    Args:
        group: its requests and their facts.
        plan: the plan, for what it keeps secret.
        elsewhere: what all answers together say.
    """

    def __init__(self, group: Sequence[tuple[Case, Seen]], plan: Plan, elsewhere: _Elsewhere) -> None:
        self.elsewhere = elsewhere
        self.plan = plan
        self.missing: dict[str, list[Seen]] = {}
        for case, seen in group:
            if case.missing and seen.came not in (ResponseKind.LOST, ResponseKind.LIMITED, ResponseKind.FAILED):
                self.missing.setdefault(case.persona.name, []).append(seen)
        group = [(case, seen) for case, seen in group if not case.missing]
        self.pages: dict[str, tuple[int, ...]] = {}
        for case, seen in group:
            if _handled(case, seen) and seen.words:
                self.pages.setdefault(case.where, seen.words)
        self.let_in = {
            case.where
            for case, seen in group
            if case.allowed and (_handled(case, seen) or (seen.came is ResponseKind.SENT and seen.changed is not False))
        }
        self.shown = {mark for _, seen in group for mark in seen.marks}
        self.decides = any(case.by_record for case, _ in group)
        self._see_redirects(group)
        # Where all who may not are refused plainly, being sent elsewhere is what the handler answers.
        refused = [(case, seen) for case, seen in group if not case.allowed]
        members = [seen.came is ResponseKind.REFUSED for case, seen in refused if case.persona.signed_in]
        self.refuses_plainly = bool(members) and all(members)
        self.asks_to_sign_in = not members and any(seen.came is ResponseKind.SIGN_IN for _, seen in refused)
        # The data changes when someone who may uses the endpoint: where it does not, nothing was done.
        self.changes = any(case.allowed and seen.changed for case, seen in group)
        self.works = any(_handled(case, seen) for case, seen in group)
        self.works = self.works or any(
            case.allowed and seen.came is ResponseKind.SENT and self._is_done(seen) for case, seen in group
        )

    def _see_redirects(self, group: Sequence[tuple[Case, Seen]]) -> None:
        """Where those who may, and those who may not, are sent."""
        came = (ResponseKind.SENT, ResponseKind.DONE)
        sent = [(case, seen) for case, seen in group if seen.came in came and seen.location]
        self.sent_when_allowed = {
            _shape(seen) for case, seen in sent if case.allowed and seen.by not in (AnsweredBy.BEFORE, AnsweredBy.ROUTE)
        }
        self.sent_when_refused = {
            _shape(seen) for case, seen in sent if not case.allowed and not _goes_where_declared(case, seen)
        }
        made = any(case.allowed and seen.came is ResponseKind.MADE for case, seen in group)
        self.ways_when_allowed = len(self.sent_when_allowed) + made
        self.sent_when_refused_alone = self.sent_when_refused - self.sent_when_allowed
        self.sent_by_reading = {_shape(seen) for case, seen in sent if case.allowed and case.safe}

    def judge(self, case: Case, seen: Seen) -> Said:
        """The verdict on one response, what was observed, and what would settle it."""
        verdict, text, settle = self._by_itself(case, seen)
        if verdict in (Verdict.AGREE, Verdict.OTHER):
            return self._looked_into(case, seen) or (verdict, text, settle)
        return verdict, text, settle

    def _looked_into(self, case: Case, seen: Seen) -> Said | None:
        """What is wrong with, or not known of, an answer that is as declared by its status; None for nothing."""
        for secret in self.elsewhere.kept.get(case.persona.name, ()):
            granted = case.allowed and self.decides and secret.record.items() <= case.values.items()
            if secret.mark in seen.marks and not granted:
                shows = f'shows "{secret.mark}", {secret.words}'
                if not secret.granted:
                    return Verdict.HOLE, shows, ""
                text = f"{shows}, although {secret.granted} lets them change it"
                return Verdict.INCONCLUSIVE, text, "if they may see it here, say so with a reason in [probe.accept]"
        if case.allowed:
            for secret in case.perhaps:
                if secret.mark in seen.marks:
                    text = f'shows "{secret.mark}", {secret.words.partition(",")[0]}; whether they may is not known'
                    return Verdict.INCONCLUSIVE, text, "write this record in [samples], under what the field depends on"
            return self._list_looked_into(case, seen)
        if seen.by is AnsweredBy.POLICY:
            return None
        page = self.pages.get(case.where, ())
        if is_shown_in(page, seen.words, self.elsewhere.common):
            return Verdict.HOLE, f"{_refusal(seen)}, and shows what those are shown who may", ""
        if seen.untokened and case.asked.method not in SAFE and seen.came in KEPT_OUT:
            text = f"{_refusal(seen)}, and was sent without {seen.untokened}, which the form of those who may has"
            return Verdict.INCONCLUSIVE, text, _FORM
        kept_out = seen.came in (ResponseKind.REFUSED, ResponseKind.NOT_FOUND, ResponseKind.SENT)
        if kept_out and case.owned and not case.crossed and case.where not in self.let_in:
            text = f"{_refusal(seen)}, and no one was let in at this record: something else may refuse there"
            return Verdict.INCONCLUSIVE, text, "add a persona who may, or another record under fails"
        return self._hidden_well(case, seen)

    def _list_looked_into(self, case: Case, seen: Seen) -> Said | None:
        """Whether a list shows records that their own page keeps from the persona, where no mark says it."""
        kept = self.plan.lists.get((case.asked, case.persona.name), ())
        if not kept or seen.came is not ResponseKind.MADE:
            return None
        record = f"{kept[0].asked.name} [{kept[0].sample}]"
        texts = self.plan.texts.get((case.asked, case.persona.name), ())
        shown = next((text for each in texts for text in each if text in seen.marks), None)
        if shown is not None:
            text = f'shows "{shown}" of a record that {record} keeps from them'
            return Verdict.INCONCLUSIVE, text, "if it may not be here, write it as its mark; else accept that"
        if texts and all(self.shown.intersection(each) for each in texts):
            return None  # those who may see these records are shown them here, and this persona is not
        text = f"{_answered(seen)}; whether records are in it that {record} keeps from them is not known"
        return Verdict.INCONCLUSIVE, text, 'write mark = "text of that record alone" beside it in [samples]'

    def _hidden_well(self, case: Case, seen: Seen) -> Said | None:
        """Whether a hidden record looks as one that is missing."""
        if seen.came is not ResponseKind.NOT_FOUND or case.answer is None or not case.answer.hidden:
            return None
        missing = self.missing.get(case.persona.name, [])
        if len(missing) < 2 or seen.look in {each.look for each in missing}:
            return None
        one, other = missing[:2]
        if one.look != other.look and not says_more(seen.words, (one.words, other.words)):
            return None
        return Verdict.OTHER, "hidden, but it does not look as a record that is missing", ""

    def _by_itself(self, case: Case, seen: Seen) -> Said:
        """What an answer says beside its status, its address and those of the other personas."""
        if seen.shown:
            return Verdict.HOLE, self._shows(case, seen.shown), ""
        if seen.changed and not case.allowed and seen.came not in (ResponseKind.MADE, ResponseKind.DONE):
            return Verdict.HOLE, f"answered {seen.status}, and changed the data all the same", ""
        unclear = says_nothing(case, seen)
        tried = seen.came in (ResponseKind.UNFIT, ResponseKind.NOT_SERVED) and case.body is not None
        if unclear is not None and case.asked.undeclared and tried and seen.changed is False:
            # The view takes any method. Sent what it is sent by POST, it has done nothing.
            return Verdict.AGREE, f"answered {seen.status}, and nothing changed", ""
        if unclear is not None:
            return Verdict.INCONCLUSIVE, *unclear
        if seen.stranger:
            text = f"answered by another handler, {seen.stranger}"
            return Verdict.INCONCLUSIVE, text, "its route comes first: move it behind, or give its line this path"
        return self._allowed(case, seen) if case.allowed else self._refused(case, seen)

    def _shows(self, case: Case, marks: Iterable[str]) -> str:
        for secret in (*self.plan.secrets.get(case.persona.name, ()), *case.hides):
            if secret.mark in marks:
                return f'shows "{secret.mark}", {secret.words}'
        return "shows what is kept from them"

    # Where access is declared --------------------------------------------------------------------

    def _allowed(self, case: Case, seen: Seen) -> Said:
        if seen.by is AnsweredBy.POLICY:
            return Verdict.BLOCKED, _refusal(seen), ""
        if seen.came in (ResponseKind.REFUSED, ResponseKind.SIGN_IN):
            if seen.by is AnsweredBy.BEFORE and not case.safe and seen.status == 403 and not seen.known:
                return Verdict.INCONCLUSIVE, "refused before its handler was chosen", _ABOUT_REQUEST
            if _is_sign_out(case, seen):
                return Verdict.AGREE, f"signed out, and sent to {seen.location}", ""
            return Verdict.BLOCKED, _refusal(seen), ""
        if seen.came is ResponseKind.MADE:
            if seen.by is AnsweredBy.BEFORE:
                text = f"answered {seen.status} before its handler"
                return Verdict.INCONCLUSIVE, text, "middleware answers here; ask a path that the handler serves"
            return Verdict.AGREE, "answered by its handler" if seen.by is not AnsweredBy.UNSEEN else "answered", ""
        if seen.came is ResponseKind.DONE or seen.changed or self._is_done(seen):
            return Verdict.AGREE, f"sent to {seen.location}" if seen.location else "done", ""
        if seen.by is AnsweredBy.ROUTE:
            return Verdict.BLOCKED, f"sent to {seen.location} before its handler", ""
        alike = _shape(seen) in self.sent_when_refused and not case.safe
        settle = _alike(seen, "who may not") if alike else _teach(seen)
        return Verdict.INCONCLUSIVE, f"sent to {seen.location}", settle

    def _is_done(self, seen: Seen) -> bool:
        """Whether a redirect is what the handler answers to those who may."""
        if (
            seen.by in (AnsweredBy.BEFORE, AnsweredBy.ROUTE)
            or _shape(seen) in self.sent_when_refused | self.elsewhere.turned_away
        ):
            return False
        # Where those who may are not all answered alike, one of them may have been turned away.
        distinct = seen.by is AnsweredBy.HANDLER or self.asks_to_sign_in
        return self.refuses_plainly or (distinct and self.ways_when_allowed == 1)

    # Where a refusal is declared --------------------------------------------------------------------

    def _refused(self, case: Case, seen: Seen) -> Said:
        if seen.by is AnsweredBy.POLICY:
            return self._as_declared(case, seen)
        if _goes_where_declared(case, seen):
            return self._sent_as_declared(seen)
        if seen.came in (ResponseKind.MADE, ResponseKind.DONE):
            if seen.by is AnsweredBy.BEFORE:
                text = f"answered {seen.status} before its handler"
                return Verdict.INCONCLUSIVE, text, _teach(seen)
            return Verdict.HOLE, "let in", ""
        if seen.came is ResponseKind.SENT:
            return self._sent(case, seen)
        if seen.came is ResponseKind.NOT_FOUND:
            return self._hidden(case, seen)
        if seen.came is ResponseKind.REFUSED and not self._is_about_the_caller(case, seen):
            return Verdict.INCONCLUSIVE, "refused, and no request of this kind was let in", _ABOUT_REQUEST
        return self._as_declared(case, seen)

    def _is_about_the_caller(self, case: Case, seen: Seen) -> bool:
        """Whether a 403 is a refusal of the caller, and not of the request.

        Checks against forged forms answer 403 as well, to requests that change data.
        """
        if case.safe or seen.known or seen.by_token:
            return True
        return self.works or case.persona.name in self.elsewhere.proven

    def _sent_as_declared(self, seen: Seen) -> Said:
        """A redirect to where refused callers are to go: unless those who may are sent there as well."""
        alike = _shape(seen) in self.sent_when_allowed and seen.by in (AnsweredBy.HANDLER, AnsweredBy.UNSEEN)
        if alike and not (seen.changed is False and self.changes):
            text = f"sent to {seen.location}, as declared, and as those who may"
            return Verdict.INCONCLUSIVE, text, _alike(seen, "who may")
        return Verdict.AGREE, f"sent to {seen.location}, as declared", ""

    def _sent(self, case: Case, seen: Seen) -> Said:
        if seen.by is AnsweredBy.ROUTE:
            return Verdict.OTHER, f"sent to {seen.location}", ""
        if seen.changed is False and self.changes:
            return Verdict.OTHER, f"sent to {seen.location}, and nothing changed", ""
        shape = _shape(seen)
        alike = shape in self.sent_when_allowed and shape not in self.elsewhere.turned_away | self.elsewhere.generic
        # A redirect shows nothing: it is a hole where something was done.
        if alike and not case.safe and seen.by is not AnsweredBy.BEFORE:
            return Verdict.HOLE, f"let in: sent to {seen.location}, as those who may", ""
        return Verdict.INCONCLUSIVE, f"sent to {seen.location}", _teach(seen)

    def _hidden(self, case: Case, seen: Seen) -> Said:
        served = case.path in self.elsewhere.there or (
            not case.asked.template.names and seen.by in (AnsweredBy.HANDLER, AnsweredBy.ROUTE)
        )
        # Nothing is at a crossed address: that its records are shown where they belong says that they are there.
        served = served or (case.crossed and self.works)
        # So does what another endpoint does with the record: one that was deleted can be restored.
        served = served or frozenset(case.values.items()) in self.elsewhere.reached
        if not served:
            return Verdict.INCONCLUSIVE, "nothing found, and no one was shown anything there", SEE_SAMPLE
        return self._as_declared(case, seen)

    def _as_declared(self, case: Case, seen: Seen) -> Said:
        """A refusal: is it the one that was declared?"""
        answer = case.answer
        if case.crossed and seen.came is ResponseKind.NOT_FOUND:
            # A crossed address names nothing, for every caller.
            return Verdict.AGREE, _refusal(seen), ""
        if case.asked.line is None or case.method == WEBSOCKET or _goes_where_declared(case, seen):
            # How to refuse what no line covers is nowhere declared, and a handshake is refused in one way alone.
            return Verdict.AGREE, _refusal(seen), ""
        if case.declared is Outcome.SIGN_IN and (answer is None or not answer.hidden):
            agrees = seen.came is ResponseKind.SIGN_IN
        elif answer is not None and answer.hidden:
            agrees = seen.came is ResponseKind.NOT_FOUND
        elif answer is not None and answer.location is not None:
            agrees = seen.status == answer.otherwise
        else:
            wanted = answer.status if answer is not None else 403
            agrees = seen.status == wanted or (seen.known and seen.came is ResponseKind.REFUSED)
        if agrees:
            return Verdict.AGREE, _refusal(seen), ""
        return Verdict.OTHER, _refusal(seen), ""


_ABOUT_REQUEST = (
    "this may be a check of the request, such as one against forged forms; see that some persona who may is let in"
)


_FORM = "let a page that the persona may see have the form, or write csrf = ... under [probe.sign_in]"


def _answered(seen: Seen) -> str:
    return "answered by its handler" if seen.by is not AnsweredBy.UNSEEN else "answered"


def _goes_where_declared(case: Case, seen: Seen) -> bool:
    answer = case.answer
    if answer is None or answer.location is None or not seen.location:
        return False
    return is_same_page(urlsplit(seen.location).path, answer.location)


def _is_sign_out(case: Case, seen: Seen) -> bool:
    """Whether a handler has ended the session of one who may use it, and led to the sign-in."""
    by_handler = seen.by in (AnsweredBy.HANDLER, AnsweredBy.UNSEEN)
    return (
        seen.came is ResponseKind.SIGN_IN and bool(seen.location) and seen.signed_out and by_handler and not case.safe
    )


def _refusal(seen: Seen) -> str:
    if seen.came is ResponseKind.SIGN_IN:
        return "asked to sign in"
    if seen.came is ResponseKind.NOT_FOUND:
        return "hidden"
    if seen.came is ResponseKind.SENT:
        return f"sent to {seen.location}"
    return "refused"


def _alike(seen: Seen, who: str) -> str:
    if seen.changed is None and seen.by is not AnsweredBy.POLICY:
        return f"those {who} are answered alike: write state under [probe], so that it is seen who changed the data"
    return f"those {who} are answered alike, and nothing changed: ask the application in this process (app = ...)"


def _teach(seen: Seen) -> str:
    if not seen.location:
        return (
            f'say what this page means: [probe.answers] refused = ["{seen.status} ..."] or done = ["{seen.status} ..."]'
        )
    where = urlsplit(seen.location).path
    return (
        f'say what this means: [probe.answers] refused = ["{seen.status} {where}"] or done = ["{seen.status} {where}"]'
    )
