"""The requests of one test, and those of others that say what their answers mean."""

from __future__ import annotations

import unittest
from collections.abc import Iterator, Mapping
from dataclasses import replace

from ..frameworks.adapter import Around
from ..probe.asked_endpoints import AskedEndpoint
from ..probe.credentials import client_of
from ..probe.facts import ResponseKind, Seen, ways_of
from ..probe.plan import Case
from ..probe.resetting import Data
from ..probe.sending import Connection, LookedFor
from .client import Client
from .in_tests import InTests
from .under_test import Project


class Asking:
    """Asks what one test needs.

    Args:
        test: the test; it fails where the data cannot be put back.
        project: the project under test. What was read is kept there, for all tests.
        clients: by the name of a persona, what asks as it.
    """

    def __init__(self, test: unittest.TestCase, project: Project, clients: Mapping[str, Client]) -> None:
        self.test = test
        self.project = project
        self.clients = clients
        self.settings = project.settings
        self.application = project.application
        self.ways = ways_of(project.settings, here=True)
        self.data = Data(project.settings, project.application, rollback_in(test, project.application))

    def facts(self, endpoint: AskedEndpoint) -> dict[Case, Seen]:
        """What came back at an endpoint, and wherever else it is needed to judge that."""
        known = self.project.facts
        mine = [case for case in self.project.plan.cases if case.asked is endpoint]
        if not self.data.can_put_back and self.data.around is None and any(not case.safe for case in mine):
            self.test.fail(f"{endpoint.name} would change data, and nothing puts it back; write reset under [probe]")
        self.read([case for case in self.project.plan.cases if case.safe and not case.twin])
        self.read([case for case in mine if case.safe])
        facts = dict(known)
        for case in mine:
            if not case.safe:
                facts[case] = self.changed(case, facts)
        for case in self.beside(mine):
            if case not in facts and (self.data.can_put_back or self.data.around is not None):
                facts[case] = known[case] = self.changed(case, facts)
        self.application.run(self.data.put_back(in_thread=False))
        return facts

    def beside(self, mine: list[Case]) -> Iterator[Case]:
        """Requests that change data, at other endpoints, without which it is not known what answers mean.

        Those for records that are read by POST; and for records that no one may see here, those who may change them.
        """
        plan = self.project.plan
        pages = {secret.by for several in plan.unsure.values() for secret in several if secret.by is not None}
        yield from (case for case in plan.cases if case.asked in pages and case.allowed and not case.spelled)
        open_paths = {case.path for case in mine if case.allowed}
        hidden = [case.values for case in mine if not case.allowed and case.values and case.path not in open_paths]
        for values in hidden:
            others = (case for case in plan.cases if case.allowed and not case.safe and case.values == values)
            yield from list(others)[:1]

    def read(self, cases: list[Case]) -> None:
        """Ask what only reads, unless that was done; a refusal that changes data all the same is seen."""
        known = self.project.facts
        waiting = [case for case in cases if case not in known]
        if not waiting:
            return
        self.application.run(self.data.put_back(in_thread=False))
        before = self.fingerprint()
        refused = [case for case in waiting if not case.allowed]
        for case in refused:
            known[case] = self.asked(case)
        if before is not None and self.fingerprint() != before:
            for case in refused:
                known[case] = self.changed(case, known)
        for case in waiting:
            if case.allowed:
                known[case] = self.asked(case)
        self.data.touched = before is not None and self.fingerprint() != before

    def fingerprint(self) -> str | None:
        """What the data is like; None where that is not looked at."""
        return self.application.run(self.data.fingerprint(in_thread=False)) if self.data.can_be_seen else None

    def changed(self, case: Case, facts: Mapping[Case, Seen]) -> Seen:
        """Ask, and see whether the data is another one afterwards."""
        self.application.run(self.data.put_back(in_thread=False))
        before = self.fingerprint()
        around = self.data.around if not case.safe else None
        self.data.touched = True
        seen = self.asked(case, around)
        if around is not None:
            seen = replace(seen, changed=around.changed, data=around.after)
        elif before is not None:
            after = self.fingerprint()
            seen = replace(seen, changed=after != before, data=after or "")
        if case.changes and case.plain is not None and case.plain in facts and seen.changed:
            # What the request changes anyway is no change of the field.
            seen = replace(seen, changed=seen.data != facts[case.plain].data)
        return seen

    def asked(self, case: Case, around: Around | None = None) -> Seen:
        """Ask, signed in anew where that has ended."""
        client = self.clients[case.persona.name]
        seen = self.once(case, client, around)
        ended = seen.came in (ResponseKind.SIGN_IN, ResponseKind.UNPROVEN)
        if ended and client.signs_in and case.persona.signed_in:
            # The session may have gone with the data of a test before.
            client.forget()
            seen = self.once(case, client, around)
        return seen

    def once(self, case: Case, client: Client, around: Around | None) -> Seen:
        """Ask once."""
        credentials = client.credentials(case.path)
        plan, application, settings = self.project.plan, self.application, self.settings
        look = LookedFor(self.ways, plan.secrets, plan.looked_for, self.project.forms)

        async def asked() -> Seen:
            with client.acting():
                async with client_of(application, settings.probe.timeout) as sender:
                    connection = Connection(sender, settings, sender.send, look)
                    return connection.facts(case, await connection.exchange(case, credentials, around))

        return application.run(asked())


def rollback_in(test: unittest.TestCase, application: InTests) -> Around | None:
    """What takes a request back, for a test that is in a transaction of its framework; else None."""
    return application.made_with.adapter.rollback_in(test) if application.made_with is not None else None
