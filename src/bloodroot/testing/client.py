"""A client that acts as a persona."""

from __future__ import annotations

from collections.abc import Mapping
from contextlib import AbstractContextManager
from typing import Any

import httpx

from ..enforce import active_policies
from ..enforce.in_test import InTest, requests_of_test
from ..probe.credentials import Credentials, client_of
from ..probe.sending import body_of
from ..probe.sign_in import sign_in, visit, way_for
from ..settings import Body, Persona, Settings, SignIn
from .in_tests import InTests


class Client:
    """Sends requests to an application as one persona.

    In an application that is protected it does not sign in: enforcement takes each request for the persona's. In any
    other it signs in first, as the settings say.

    Args:
        application: the application.
        settings: how to sign in.
        persona: whom to act as.
        sign_in: whether to sign in all the same, for handlers that look into the session themselves.

    Attributes:
        persona: whom it acts as.
        signs_in: whether it signs in.
    """

    def __init__(
        self, application: InTests, settings: Settings, persona: Persona, *, sign_in: bool | None = None
    ) -> None:
        self._application = application
        self._settings = settings
        self.persona = persona
        self.signs_in = not active_policies.is_any() if sign_in is None else sign_in
        self._credentials: dict[SignIn | None, Credentials] = {}

    def get(self, path: str, **values: Any) -> httpx.Response:
        """`request` with the method GET."""
        return self.request("GET", path, **values)

    def post(self, path: str, **values: Any) -> httpx.Response:
        """`request` with the method POST."""
        return self.request("POST", path, **values)

    def put(self, path: str, **values: Any) -> httpx.Response:
        """`request` with the method PUT."""
        return self.request("PUT", path, **values)

    def patch(self, path: str, **values: Any) -> httpx.Response:
        """`request` with the method PATCH."""
        return self.request("PATCH", path, **values)

    def delete(self, path: str, **values: Any) -> httpx.Response:
        """`request` with the method DELETE."""
        return self.request("DELETE", path, **values)

    def request(
        self,
        method: str,
        path: str,
        *,
        form: Mapping[str, Any] | None = None,
        json: Any = None,
        headers: Mapping[str, str] | None = None,
    ) -> httpx.Response:
        """Send a request; redirects are not followed.

        Args:
            method: in capitals.
            path: the path, with its query.
            form: the fields of a form to send, or None. The token that the application expects back with forms is
                added.
            json: a value to send as JSON, or None.
            headers: more headers.

        Returns:
            The response.

        Raises:
            SettingsError: the persona cannot sign in.
        """
        credentials = self.credentials(path)
        sent = {**credentials.headers, **{name.lower(): value for name, value in (headers or {}).items()}}
        if credentials.cookies:
            sent["cookie"] = "; ".join(f"{name}={value}" for name, value in credentials.cookies.items())
        content = Body("json", json) if json is not None else Body("form", form) if form is not None else None
        body = body_of(content, method, credentials, sent)

        async def answered() -> httpx.Response:
            with self.acting():
                async with client_of(self._application, self._settings.probe.timeout) as client:
                    return await client.request(method, path, headers=sent, **body)

        return self._application.run(answered())

    def acting(self) -> AbstractContextManager[None]:
        """What requests are sent within, to be the persona's."""
        return requests_of_test(InTest(not self.signs_in, self.persona.caller))

    def forget(self) -> None:
        """Sign in anew before the next request: a session may have ended."""
        self._credentials.clear()

    def credentials(self, path: str) -> Credentials:
        """What the persona sends to a path."""
        way = way_for(self._settings, path.partition("?")[0])
        if way not in self._credentials:
            signs_in = self.signs_in and self.persona.signed_in and way is not None
            work = (
                sign_in(self._settings, self.persona, way, self._application)
                if signs_in and way is not None
                else visit(self._settings, way, self._application)
            )
            self._credentials[way] = self._application.run(work)
        return self._credentials[way]
