"""A test for each endpoint, with a sub-test for each persona."""

from __future__ import annotations

import logging
import re
import unittest
from collections.abc import Callable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, ClassVar

from ..enforce.in_test import InTest, requests_of_test
from ..language.errors import BloodrootError
from ..probe.asked_endpoints import AskedEndpoint
from ..settings import Persona, SettingsError
from .client import Client
from .endpoint_test import check, put_back
from .under_test import Project
from .writing_down import begin_run, log_to

_NAME = re.compile(r"[^A-Za-z0-9]+")


class AccessTest(unittest.TestCase):
    """Tests what is declared for every endpoint against the application itself, in this process.

    A class that derives from this one has a test for each endpoint; it may have tests of its own. With Django, derive
    from ``django.test.TestCase`` too, behind this one: then each request that changes data is taken back, and the tests
    see what ``setUpTestData`` has made. Elsewhere ``reset`` of the settings puts the data back.

    Attributes:
        settings: the settings file; by default ``bloodroot.toml`` in the current folder or above.
        sign_in: whether personas sign in as people do. By default they do only where the application is not protected;
            handlers that look into the session themselves need it too.
        only: patterns of the endpoints to test, as those of ``bloodroot probe --only``; empty for all.
        personas: names of the personas to test as; empty for all that the settings ask as.
        log: the file in which every decision is written down, for ``bloodroot tried``; None for none.
    """

    settings: ClassVar[str | Path | None] = None
    only: ClassVar[Sequence[str]] = ()
    personas: ClassVar[Sequence[str]] = ()
    log: ClassVar[str | Path | None] = Path(".bloodroot") / "tests.jsonl"
    sign_in: ClassVar[bool | None] = None
    _project: ClassVar[Project | None] = None
    _fresh = False

    def __init_subclass__(cls, **values: Any) -> None:
        super().__init_subclass__(**values)
        begin_run()
        try:
            cls._project = Project(cls.settings, cls.only, cls.personas)
        except BloodrootError as error:
            cls._project = None
            cls._add("test_settings", partial(_fail, str(error)), "the settings can be used")
            return
        for endpoint in cls._project.asked:
            name = _NAME.sub("_", f"test_{endpoint.method}_{endpoint.template.text}").rstrip("_")
            while hasattr(cls, name):
                name += "_"
            cls._add(name, partial(_check, endpoint), endpoint.name)

    @classmethod
    def _add(cls, name: str, check: Callable[[Any], None], words: str) -> None:
        def test(self: AccessTest) -> None:
            check(self)

        test.__name__ = name
        test.__qualname__ = f"{cls.__qualname__}.{name}"
        test.__doc__ = words
        setattr(cls, name, test)

    @classmethod
    def setUpClass(cls) -> None:
        """Start the application."""
        super().setUpClass()
        project = cls._project
        if project is None:
            return
        project.application.start()
        cls.addClassCleanup(project.application.stop)
        if cls.log is not None:
            logger = logging.getLogger("bloodroot.audit")
            handler = log_to(Path(cls.log) if Path(cls.log).is_absolute() else project.settings.folder / cls.log)
            logger.addHandler(handler)
            cls.addClassCleanup(logger.removeHandler, handler)

    def run(self, result: unittest.TestResult | None = None) -> unittest.TestResult | None:
        """Run one test."""
        # Django puts its client in the place of the property, on the class or on the test.
        given = type(self).__dict__.get("client")
        if given is not None:
            del type(self).client
            self.__dict__["client"] = given
        with requests_of_test(InTest()):
            return super().run(result)

    @property
    def client(self) -> Any:
        """Gives a `Client` for a persona: ``self.client("botanist").get("/trials/7")``.

        With Django it is the test client of Django as well: ``self.client.get("/")``.
        """
        return _Clients(self, self.__dict__.get("client"))

    @client.setter
    def client(self, given: Any) -> None:
        self.__dict__["client"] = given

    def acting(self, persona: str, *, sign_in: bool | None = None) -> Client:
        """A client that acts as a persona.

        Args:
            persona: its name in the settings, or ``signed-out``.
            sign_in: whether to sign in; by default as the class says.

        Raises:
            SettingsError: there is no such persona.
        """
        project = self._ready()
        project.complete()
        if not self._fresh:
            # What a test before has changed is none of this one's.
            self._fresh = True
            put_back(self, project)
        personas = project.settings.personas
        signs_in = self.sign_in if sign_in is None else sign_in
        if persona == "signed-out" and persona not in personas:
            return Client(project.application, project.settings, Persona(persona, signed_in=False), sign_in=signs_in)
        if persona not in personas:
            names = ", ".join(personas) or "none yet"
            raise SettingsError(f'unknown persona "{persona}"; personas are {names}')
        return Client(project.application, project.settings, personas[persona], sign_in=signs_in)

    def _ready(self) -> Project:
        assert self._project is not None
        return self._project


class _Clients:
    """Makes clients for personas; whatever else is asked of it goes to the client that a framework has put there."""

    def __init__(self, test: AccessTest, given: Any) -> None:
        self._test = test
        self._given = given

    def __call__(self, persona: str, *, sign_in: bool | None = None) -> Client:
        return self._test.acting(persona, sign_in=sign_in)

    def __getattr__(self, name: str) -> Any:
        if self._given is None:
            raise AttributeError(f'client is to be called with a persona first: client("curator").{name}')
        return getattr(self._given, name)


def _fail(message: str, test: AccessTest) -> None:
    test.fail(message)


def _check(endpoint: AskedEndpoint, test: AccessTest) -> None:
    check(endpoint, test, test._ready(), sign_in=test.sign_in)
