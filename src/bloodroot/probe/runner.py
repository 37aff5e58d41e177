"""Sends every request of a plan, as every persona, and compares the answers with the policy."""

from __future__ import annotations

import asyncio
import inspect
import re
import shlex
import subprocess
import sys
from typing import TYPE_CHECKING, Any
from urllib.parse import urlsplit

import httpx

from ..settings import Persona, Settings, SettingsError, SignIn
from ..survey.applications import imported
from .application import running, transport_to
from .cases import Case, Plan, Untried, plan
from .result import Result
from .sign_in import Credentials, sign_in, visiting, way_for
from .verdicts import Observation, Observed, is_other_spelling, read

if TYPE_CHECKING:
    from collections.abc import Callable

    from ..core.policy import Policy

_BASE = "http://127.0.0.1"
_AT_ONCE = 8
_RESET_SECONDS = 60


def probe(policy: Policy, settings: Settings, *, progressed: Callable[[int, int], None] | None = None) -> Result:
    """Ask the application named in the settings, in this process.

    Args:
        policy: what is declared.
        settings: the application, the personas, the samples.
        progressed: called after each answer with how many have come and how many there will be.

    Raises:
        SettingsError: the application cannot be imported or started, a persona cannot sign in, the data cannot be
            put back, or the settings lack what is needed.
    """
    if not settings.personas:
        raise SettingsError(f"{settings.file.name}: there are no personas to ask as; write [personas.NAME]")
    if settings.app is None:
        raise SettingsError(f'{settings.file.name}: there is no application to ask; write app = "module:name"')
    app = imported(settings.app, settings.folder, "app")
    return asyncio.run(_Probe(settings, plan(policy, settings), app, progressed).run())


class _Probe:
    """One run: the credentials collected so far, and whether the data has been touched."""

    def __init__(self, settings: Settings, what: Plan, app: Any, progressed: Callable[[int, int], None] | None) -> None:
        self.settings = settings
        self.plan = what
        self.app = app
        self.progressed = progressed
        self.transport = transport_to(app)
        self.credentials: dict[tuple[str, int], asyncio.Task[Credentials]] = {}
        self.sign_in_paths = {way.path for way in settings.sign_ins}
        self.answered = 0
        self.touched = True

    async def run(self) -> Result:
        """Everything that only reads, many at once; then what changes data, one by one with the data put back."""
        reading = [case for case in self.plan.cases if case.safe]
        changing = [case for case in self.plan.cases if not case.safe]
        untried = list(self.plan.untried)
        if self.settings.reset is None and changing:
            why = "it would change data, and nothing puts it back; write reset under [probe]"
            untried += [Untried(case.line, case.method, case.persona, why) for case in changing]
            changing = []
        self.total = len(reading) + len(changing)
        observations: dict[Case, Observation] = {}
        async with (
            running(self.app),
            httpx.AsyncClient(transport=self.transport, base_url=_BASE, follow_redirects=False) as client,
        ):
            await self._put_back()
            limit = asyncio.Semaphore(_AT_ONCE)

            async def one(case: Case) -> None:
                async with limit:
                    observations[case] = await self._ask(client, case)

            try:
                async with asyncio.TaskGroup() as group:
                    for case in reading:
                        group.create_task(one(case))
            except ExceptionGroup as failed:
                # The first failure ended the others; it is the one to report.
                raise failed.exceptions[0] from None
            for case in changing:
                await self._put_back()
                observations[case] = await self._ask(client, case)
                # Whatever was let in, or failed half way, may have changed something.
                self.touched = not observations[case].kept_out
            await self._put_back()
        ordered = tuple(observations[case] for case in self.plan.cases if case in observations)
        return Result(ordered, tuple(untried))

    async def _ask(self, client: httpx.AsyncClient, case: Case) -> Observation:
        way = way_for(self.settings, case.path)
        observation = await self._send(client, case, await self._credentials(case.persona, way))
        if case.persona.signed_in and way is not None and observation.observed is Observed.SIGN_IN:
            # A session may have ended, or gone when the data was put back: ask once more, freshly signed in.
            self.credentials.pop((case.persona.name, id(way)), None)
            observation = await self._send(client, case, await self._credentials(case.persona, way))
        self.answered += 1
        if self.progressed is not None:
            self.progressed(self.answered, self.total)
        return observation

    async def _send(self, client: httpx.AsyncClient, case: Case, credentials: Credentials) -> Observation:
        headers = dict(credentials.headers)
        if credentials.cookies:
            headers["cookie"] = "; ".join(f"{name}={value}" for name, value in credentials.cookies.items())
        body = self.settings.bodies.get(f"{case.method} {case.line.template.text}")
        sent: dict[str, Any] = {}
        if body is not None:
            sent = {"data": body.content} if body.kind == "form" else {"json": body.content}
        # Cookies that one answer sets must not go along with the next request, which may be another persona's.
        client.cookies.clear()
        path = case.path
        response = await client.request(case.method, path, headers=headers, **sent)
        location = response.headers.get("location", "")
        if is_other_spelling(path, response.status_code, location):
            # The router asks for another spelling before any handler has seen the request: follow it once.
            client.cookies.clear()
            path = urlsplit(location).path
            response = await client.request(case.method, path, headers=headers, **sent)
        return read(case, response, path, self.sign_in_paths, self.plan.secrets.get(case.persona.name, ()))

    async def _credentials(self, persona: Persona, way: SignIn | None) -> Credentials:
        """What the persona sends with a request; the first request of each signs in, and the others wait for it."""
        if not persona.signed_in:
            return visiting(way)
        if way is None:
            raise SettingsError(f'persona "{persona.name}" has no way to sign in; write [probe.sign_in]')
        key = (persona.name, id(way))
        if key not in self.credentials:
            signing_in = sign_in(self.settings, persona, way, self.transport, _BASE)
            self.credentials[key] = asyncio.create_task(signing_in)
        return await self.credentials[key]

    async def _put_back(self) -> None:
        """Put the data back where it may have been changed."""
        if not self.touched or self.settings.reset is None:
            return
        self.touched = False
        reset = self.settings.reset
        if re.fullmatch(r"[\w.]+:[\w.]+", reset):
            try:
                done = imported(reset, self.settings.folder, "probe.reset")()
                if inspect.isawaitable(done):
                    await done
            except SettingsError:
                raise
            except (Exception, SystemExit) as error:
                raise SettingsError(f"probe.reset failed: {type(error).__name__}: {error}") from None
            return
        await asyncio.to_thread(_run, reset, self.settings)


def _run(command: str, settings: Settings) -> None:
    """Run the reset command in the project's folder."""
    try:
        words = shlex.split(command)
    except ValueError as error:
        raise SettingsError(f"probe.reset cannot be read as a command: {error}") from None
    if words and words[0] in ("python", "python3"):
        words[0] = sys.executable  # the interpreter that has the application's packages
    try:
        done = subprocess.run(  # noqa: S603
            words, cwd=settings.folder, capture_output=True, text=True, timeout=_RESET_SECONDS, check=False
        )
    except (OSError, IndexError) as error:
        raise SettingsError(f"probe.reset cannot run: {error}") from None
    except subprocess.TimeoutExpired:
        raise SettingsError(f"probe.reset did not end within {_RESET_SECONDS} seconds") from None
    if done.returncode:
        last = (done.stderr.strip() or done.stdout.strip() or "it says nothing").splitlines()[-1]
        raise SettingsError(f"probe.reset ended with status {done.returncode}: {last}")
