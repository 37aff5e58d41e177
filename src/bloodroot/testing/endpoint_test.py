"""One endpoint, asked as every persona."""

from __future__ import annotations

import unittest
from collections.abc import Mapping
from dataclasses import replace
from urllib.parse import urlsplit

from ..frameworks.adapter import Around
from ..probe.asked_endpoints import AskedEndpoint
from ..probe.facts import AnswerSettings, ResponseKind, Seen, facts_of, ways_of
from ..probe.judging import Observation, Verdict, is_not_served, judge
from ..probe.plan import Case, Plan
from ..probe.resetting import Data
from ..probe.sending import request_of
from ..probe.sign_in import client_of
from ..probe.spelling import is_other_spelling
from ..probe.watching import Watched
from ..settings import Settings
from .client import Client
from .in_tests import InTests
from .under_test import Project
from .writing_down import write_down

_NOT_SIGNED_IN = "the persona is not signed in; where handlers look into the session themselves, write sign_in = True"


def check(endpoint: AskedEndpoint, test: unittest.TestCase, project: Project, *, sign_in: bool | None) -> None:
    """Ask one endpoint as every persona, and see that each answer is as declared.

    Args:
        asked: the endpoint.
        test: the test that fails where an answer is not.
        project: the project under test.
        sign_in: whether personas sign in, as `Client` has it.
    """
    whole = project.plan
    cases = tuple(case for case in whole.cases if case.asked is endpoint)
    untried = tuple(skipped for skipped in whole.untried if skipped.asked is endpoint)
    mine = replace(whole, cases=cases, untried=untried)
    clients = {
        persona.name: project.clients.setdefault(
            (persona.name, sign_in), Client(project.application, project.settings, persona, sign_in=sign_in)
        )
        for persona in project.settings.personas.values()
    }
    facts = _asked_all(test, project, mine, clients)
    observations = judge(mine, facts)
    if is_not_served(observations):
        return
    write_down(observations)
    for observation in observations:
        with test.subTest(
            persona=observation.case.persona.name, request=f"{observation.case.method} {observation.case.target}"
        ):
            if observation.verdict is Verdict.INCONCLUSIVE:
                # What was not judged is neither well nor wrong.
                test.skipTest(_message(observation, acts=not clients[observation.case.persona.name].signs_in))
            if observation.verdict is not Verdict.AGREE:
                test.fail(_message(observation, acts=not clients[observation.case.persona.name].signs_in))
    for left in untried:
        with test.subTest(persona=left.persona.name):
            test.skipTest(f"{endpoint.name} as {left.persona.name} was not tried: {left.why}")


def put_back(test: unittest.TestCase, project: Project) -> None:
    """Put the data back before a test, where the settings say how and no transaction of the test's own does."""
    if _rollback_in(test, project.application) is None:
        project.application.run(Data(project.settings, project.application).put_back(in_thread=False))


def _message(observation: Observation, *, acts: bool) -> str:
    case = observation.case
    place = (
        f"{case.asked.line.place.at}: {case.asked.line.text}" if case.asked.line is not None else "no line covers it"
    )
    answered = f"it answered {observation.seen.status} {observation.seen.location}".rstrip()
    said = [
        f"{observation.verdict.value}: {case.method} {case.target} as {case.persona.name}"
        + (f" [{case.sample}]" if case.sample else ""),
        f"declared {case.declared.value}, observed {observation.text}; {answered}",
        *([f"to settle it, {observation.settle}"] if observation.settle else []),
        *([f"first exception: {observation.seen.note}"] if observation.seen.note else []),
        *([_NOT_SIGNED_IN] if acts and observation.seen.came is ResponseKind.FAILED else []),
        place,
    ]
    return "\n".join(said)


def _asked_all(
    test: unittest.TestCase, project: Project, mine: Plan, clients: Mapping[str, Client]
) -> dict[Case, Seen]:
    settings, application = project.settings, project.application
    ways = ways_of(settings, here=True)
    data = Data(settings, application, _rollback_in(test, application))
    if data.around is None and not data.can_put_back and any(not case.safe for case in mine.cases):
        test.fail(f"{mine.cases[0].asked.name} would change data, and nothing puts it back; write reset under [probe]")
    facts: dict[Case, Seen] = {}
    for case in mine.cases:
        client = clients[case.persona.name]
        application.run(data.put_back(in_thread=False))
        before = application.run(data.fingerprint(in_thread=False)) if data.can_be_seen and not case.safe else None
        data.touched = not case.safe
        within = None if case.safe else data.around
        seen = _ask(application, settings, case, client, ways, mine, within)
        if seen.came in (ResponseKind.SIGN_IN, ResponseKind.UNPROVEN) and client.signs_in and case.persona.signed_in:
            # The session may have gone with the data of a test before.
            client.forget()
            seen = _ask(application, settings, case, client, ways, mine, within)
        if within is not None:
            seen = replace(seen, changed=data.around.changed, data=data.around.after) if data.around else seen
        elif before is not None:
            after = application.run(data.fingerprint(in_thread=False))
            seen = replace(seen, changed=after != before, data=after)
        if case.changes and case.plain in facts and seen.changed:
            # What the request changes anyway is no change of the field.
            seen = replace(seen, changed=seen.data != facts[case.plain].data)
        facts[case] = seen
    application.run(data.put_back(in_thread=False))
    return facts


def _ask(
    application: InTests,
    settings: Settings,
    case: Case,
    client: Client,
    ways: AnswerSettings,
    mine: Plan,
    around: Around | None,
) -> Seen:
    credentials = client.credentials(case.path)

    async def asked() -> Seen:
        watched, followed = Watched(), ""
        with client.acting():
            async with client_of(application, settings.probe.timeout) as sender:
                response = await sender.send(request_of(sender, settings, case, credentials, watched, around))
                location = response.headers.get("location", "")
                if is_other_spelling(case.path, response.status_code, location):
                    watched, followed = Watched(), urlsplit(location).path
                    sent = request_of(sender, settings, case, credentials, watched, around, followed)
                    response = await sender.send(sent)
        secrets = (*mine.secrets.get(case.persona.name, ()), *case.hides)
        by_token = credentials.by_token
        return facts_of(case, response, watched, ways, secrets, followed, by_token, marks=mine.marks)

    return application.run(asked())


def _rollback_in(test: unittest.TestCase, application: InTests) -> Around | None:
    """What takes a request back, for a test that is in a transaction of its framework; else None."""
    return application.made_with[0].rollback_in(test) if application.made_with is not None else None
