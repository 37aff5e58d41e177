"""Tokens that only their provider can read, asked about there (RFC 7662)."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Coroutine
from concurrent.futures import Future
from concurrent.futures import TimeoutError as NotInTime
from typing import Any
from urllib.parse import quote_plus

import httpx

from ..addresses import is_protected
from ..core.caller import Unidentified
from ..request import Request
from ..settings import ClaimNames, IntrospectionRules
from .claims import Reading, read_claims
from .fetching import SECONDS, FetchError, in_a_thread, json_from
from .remote_keys import discovered
from .sources import TokenSource
from .waiting import may_wait

_LOG = logging.getLogger("bloodroot.identity")

_KEPT = 4096
_PAUSE = 5.0  # seconds for which a provider that has failed is not asked
_AT_ONCE = 32  # askings under way at the same time; others are refused at once


class Introspection(TokenSource):
    """Opaque tokens. What the provider says of one is remembered for some seconds, and no longer than the token holds.

    While the provider cannot be asked, tokens that are not remembered are refused, and nothing waits for it for some
    seconds.

    Args:
        rules: where to ask, and what the answer must be.
        names: where each part of a caller is in the answer.
        secret: what the application shows to the provider.
        cookie: the cookie that has the token; None for the header ``Authorization``.
        ask: has an asking done elsewhere, as `in_a_thread`.
    """

    def __init__(
        self,
        rules: IntrospectionRules,
        names: ClaimNames,
        secret: str,
        cookie: str | None = None,
        ask: Callable[[Callable[[httpx.AsyncClient], Coroutine[Any, Any, Any]]], Future[Any]] = in_a_thread,
    ) -> None:
        super().__init__(cookie)
        self.rules = rules
        self.names = names
        self._secret = secret
        self._ask = ask
        self._url = rules.url
        self._held: dict[str, tuple[Reading | Unidentified, float]] = {}
        self._not_before = 0.0
        self._waiting = threading.Semaphore(_AT_ONCE)

    def takes(self, token: str) -> bool:
        """Whether it is no JSON Web Token, which others read by themselves."""
        return token.count(".") != 2

    def waits(self, request: Request) -> bool:
        """Whether the provider has to be asked."""
        token = self.token(request)
        return token is not None and self._remembered(token) is None and time.monotonic() >= self._not_before

    def _remembered(self, token: str) -> Reading | Unidentified | None:
        found = self._held.get(token)
        return found[0] if found is not None and time.time() < found[1] else None

    def read(self, request: Request) -> Reading | None:
        """The caller that the provider says a token is for."""
        token = self.token(request)
        if token is None:
            return None
        reading = self._remembered(token)
        if reading is None:
            until = time.time() + self.rules.cache
            claims = self._answer(token)
            try:
                reading = self._reading(claims)
            except Unidentified as error:
                reading = error
            until = min(until, _ends(claims)) if isinstance(reading, Reading) else until
            if len(self._held) >= _KEPT:
                self._held.clear()
            self._held[token] = reading, until
        if isinstance(reading, Unidentified):
            raise Unidentified(reading.reason, token=self.by_header)
        return reading

    def _answer(self, token: str) -> dict[str, Any]:
        """What the provider says of a token.

        Raises:
            Unidentified: it cannot be asked; the next request asks again.
        """
        if not may_wait() or time.monotonic() < self._not_before or not self._waiting.acquire(blocking=False):
            raise Unidentified("the provider of this token cannot be asked at present")
        try:
            answer: dict[str, Any] = self._ask(lambda client: self._ask_about(client, token)).result(SECONDS + 1)
        except (FetchError, NotInTime, RuntimeError) as error:
            self._not_before = time.monotonic() + _PAUSE
            _LOG.warning("%s cannot be asked about tokens: %s", self.rules.url or self.rules.issuer, error)
            raise Unidentified("the provider of this token cannot be asked at present") from error
        finally:
            self._waiting.release()
        return answer

    async def _ask_about(self, client: httpx.AsyncClient, token: str) -> dict[str, Any]:
        if self._url is None:
            url = (await discovered(client, self.rules.issuer or "")).get("introspection_endpoint")
            if not isinstance(url, str) or not is_protected(url):
                raise FetchError(f"{self.rules.issuer} names no introspection_endpoint with https")
            self._url = url
        # RFC 6749, section 2.3.1: both parts are encoded as in a form.
        pair = quote_plus(self.rules.client), quote_plus(self._secret)
        return await json_from(client, self._url, data={"token": token}, auth=pair)

    def _reading(self, claims: dict[str, Any]) -> Reading:
        """The caller of an answer.

        Raises:
            Unidentified: the token does not hold, or is for others.
        """
        rules = self.rules
        if claims.get("active") is not True:
            raise Unidentified("the provider says that the token does not hold")
        if _ends(claims) <= time.time():
            raise Unidentified("the token has expired")
        if rules.issuer is not None and claims.get("iss", rules.issuer) != rules.issuer:
            raise Unidentified(f"the token does not come from {rules.issuer}")
        audience = claims.get("aud")
        named = {audience} if isinstance(audience, str) else set(audience) if isinstance(audience, list) else set()
        if rules.audience and not named & set(rules.audience):
            raise Unidentified(f"the token is not meant for {' or '.join(rules.audience)}")
        if named and not rules.audience:
            raise Unidentified("the token is meant for an audience, and the settings name none; write audience")
        return read_claims(claims, self.names, "the answer of the provider")


def _ends(claims: dict[str, Any]) -> float:
    ends = claims.get("exp")
    if ends is None:
        return float("inf")
    return float(ends) if isinstance(ends, int | float) and not isinstance(ends, bool) else 0.0
