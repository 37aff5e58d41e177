"""What the tests of one settings file share: the application, the policy, the plan."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from ..core.patterns import check_patterns, matches
from ..core.policy import Policy
from ..files import load
from ..identity.personas import with_members
from ..probe.facts import Seen
from ..probe.forms_seen import FormsSeen
from ..probe.plan import Case, Plan
from ..probe.planning import personas_asked
from ..probe.runner import endpoints_to_ask, planned_for, with_values
from ..probe.verifying import verify
from ..settings import Settings, SettingsError, find_settings, read_settings
from ..settings.policy_names import check_names
from ..survey.applications import bound, imported
from .client import Client
from .in_tests import InTests


class Project:
    """A project under test.

    Args:
        file: its settings; None for those of the current folder or above.
        only: patterns of the endpoints to test; empty for all.
        personas: names of the personas to test as; empty for those that the settings ask as.

    Raises:
        SettingsError: there are no settings, or they cannot be used; a pattern is for no endpoint.
        PolicyError: the policy cannot be used.
    """

    def __init__(self, file: str | Path | None, only: Sequence[str] = (), personas: Sequence[str] = ()) -> None:
        path = Path(file) if file is not None else find_settings()
        if path is None:
            raise SettingsError("there are no settings; write bloodroot.toml, or name one: settings = ...")
        self.settings: Settings = read_settings(path.resolve())
        if self.settings.app is None:
            raise SettingsError(f'{path.name}: there is no application to test; write app = "module:name"')
        self.application = InTests(imported(self.settings.app, self.settings.folder, "app"))
        self.policy: Policy = bound(load(self.settings.policy, root=self.settings.root), self.settings)
        check_names(self.settings, self.policy)
        for name in personas:
            if name not in self.settings.personas:
                raise SettingsError(
                    f'personas: unknown persona "{name}"; personas are {", ".join(self.settings.personas)}'
                )
        self.endpoints = endpoints_to_ask(self.policy, self.settings, self.application)
        check_patterns("only", only, [endpoint.name for endpoint in self.endpoints])
        self.asked = [endpoint for endpoint in self.endpoints if not only or matches(endpoint.name, only)]
        self.personas = personas or [persona.name for persona in personas_asked(self.settings)]
        self._plan: Plan | None = None
        self._verified = False
        self._complete = False
        # By the name of a persona, and whether it signs in: sessions last for more than one test.
        self.clients: dict[tuple[str, bool | None], Client] = {}
        # What only reads is asked for once, in the first test that needs it.
        self.facts: dict[Case, Seen] = {}
        self.forms = FormsSeen()

    def complete(self) -> None:
        """Ask the directory for the personas that are its members, once: not before there are tests that run."""
        if not self._complete and any(persona.member is not None for persona in self.settings.personas.values()):
            self.settings = with_members(self.settings)
        if not self._complete and (self.settings.probe.values or self.settings.candidates):
            self.settings = self.application.run(with_values(self.policy, self.settings, self.application))
        self._complete = True

    def verify(self) -> None:
        """Let the records themselves have their say in the plan, once: not before they are there."""
        if not self._verified:
            self._verified = True
            self._plan = self.application.run(verify(self.policy, self.plan, self.application))

    @property
    def plan(self) -> Plan:
        """Every request."""
        self.complete()
        if self._plan is None:
            self._plan = planned_for(self.policy, self.settings, self.application, self.endpoints)
        return self._plan
