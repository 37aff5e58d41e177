"""How long an old session or token still opens doors after a role was taken away."""

from __future__ import annotations

import asyncio
import contextlib
import time
from collections.abc import AsyncIterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ..core.caller import Caller
from ..core.endpoint_outcomes import outcome_at
from ..identity import directory_of
from ..settings import Persona, Settings, SettingsError
from ..survey.applications import imported
from .facts import ResponseKind
from .resetting import called
from .sign_in import sign_in, way_for

if TYPE_CHECKING:
    from ..core.policy import Policy
    from ..settings import SignIn
    from .application import Application
    from .plan import Case, Plan
    from .sending import Sender

_PAUSE = 0.1


@dataclass(frozen=True, slots=True)
class Stale:
    """How long one persona was still let in.

    Attributes:
        case: the request.
        how: by what it was known: ``session`` or ``token``.
        seconds: how long it was let in; None where it still was at the end.
        limit: the most seconds that it may be.
    """

    case: Case
    how: str
    seconds: float | None
    limit: float

    @property
    def late(self) -> bool:
        """Whether the role was kept for too long."""
        return self.seconds is None

    @property
    def words(self) -> str:
        """What was seen."""
        case = self.case
        who = f"{case.persona.name} by {case.method} {case.target}, with the {self.how} of before,"
        if self.seconds is None:
            return f"roles taken away still let in {who} after {self.limit:g} seconds"
        return f"roles taken away let in {who} for {self.seconds:g} seconds, of at most {self.limit:g}"


async def staleness(
    policy: Policy, settings: Settings, plan: Plan, application: Application, sender: Sender, limit: float
) -> list[Stale]:
    """Take the roles of a persona away, once for each way of signing in, and see how long the old credentials count.

    Args:
        policy: what is declared.
        settings: the directory, or the hook that takes roles away.
        plan: the requests of the probe.
        application: the application.
        sender: what sends requests.
        limit: the most seconds that a role may be kept.

    Raises:
        SettingsError: nothing can take roles away, or no request shows that they are gone.
    """
    stale = []
    for way in settings.probe.sign_ins:
        case = _telling(policy, settings, plan, way)
        if case is not None:
            stale.append(await _measured(settings, case, way, application, sender, limit))
    if not stale:
        raise SettingsError(
            "--stale: no persona is let in anywhere, by GET and for its roles alone; there is nothing to take away"
        )
    return stale


def _telling(policy: Policy, settings: Settings, plan: Plan, way: SignIn) -> Case | None:
    """A request that a persona may make for its roles alone."""
    for case in plan.cases:
        caller = case.persona.caller
        if case.method != "GET" or not case.allowed or case.asked.line is None or caller is None or case.spelled:
            continue
        if way_for(settings, case.path) is not way or (settings.probe.take_away is None and not case.persona.member):
            continue
        bare = Caller(caller.id, (), (), caller.attributes)
        outcome, _, remainder = outcome_at(policy, case.asked.line, "GET", bare)
        if outcome.value == "deny" and remainder is None:
            return case
    return None


async def _measured(
    settings: Settings, case: Case, way: SignIn, application: Application, sender: Sender, limit: float
) -> Stale:
    credentials = await sign_in(settings, case.persona, way, application)
    how = "token" if credentials.by_token else "session"
    before = await sender.send(case, credentials)
    if before.came not in (ResponseKind.MADE, ResponseKind.DONE):
        raise SettingsError(
            f"--stale: {case.persona.name} is not let in by GET {case.path} before anything is taken away"
        )
    async with _without_roles(settings, case.persona):
        start = time.monotonic()
        while True:
            seen = await sender.send(case, credentials)
            passed = time.monotonic() - start
            if seen.came not in (ResponseKind.MADE, ResponseKind.DONE):
                return Stale(case, how, round(passed, 1), limit)
            if passed > limit:
                return Stale(case, how, None, limit)
            await asyncio.sleep(_PAUSE)


@contextlib.asynccontextmanager
async def _without_roles(settings: Settings, persona: Persona) -> AsyncIterator[None]:
    """A persona without its roles for a while."""
    hook = settings.probe.take_away
    if hook is not None:
        function = imported(hook, settings.folder, "probe.take_away")
        give_back = await called(lambda: function(persona.name), "probe.take_away", in_thread=True)
        try:
            yield
        finally:
            if callable(give_back):
                await called(give_back, "probe.take_away", in_thread=True)
        return
    caller = persona.caller
    assert caller is not None
    try:
        with directory_of(settings).without_roles(caller.id):
            yield
    except TypeError as error:
        raise SettingsError(
            f"{settings.file.name}: the tables of the directory are the application's own; "
            'write take_away = "module:function" under [probe], which takes the roles of the persona named away'
        ) from error
