"""The keys that a provider publishes, kept and read again: last good ones for a while, none for ever."""

from __future__ import annotations

import logging
import os
import threading
import time
from collections.abc import Callable, Coroutine, Mapping
from concurrent.futures import Future
from typing import Any
from urllib.parse import urlsplit, urlunsplit

import httpx

from ..addresses import is_protected
from ..language.errors import BloodrootError
from ..settings import SettingsError
from .fetching import SECONDS, FetchError, in_a_thread, json_from
from .keys import NoKey, SetKey, chosen, keys_in
from .waiting import may_wait

_LOG = logging.getLogger("bloodroot.identity")

FRESH = 600.0  # seconds after which keys are read again, without any request waiting for it
KEPT = 86_400.0  # seconds for which keys count that could not be read again
AGAIN = 60.0  # seconds between two readings for keys that are not known
_FIRST = 5.0  # seconds until the first keys are asked for again; twice as many after each failure, up to AGAIN
# How many requests wait for a reading at the same time, while others are refused at once: where the provider has not
# failed, where keys are known, and where it has failed.
_MOST_WAIT = (64, 4, 1)


async def discovered(client: httpx.AsyncClient, issuer: str) -> dict[str, Any]:
    """What a provider says of itself (OpenID Connect Discovery 1.0, section 4; RFC 8414, section 3).

    Raises:
        FetchError: it says nothing that can be used, or speaks for another issuer.
    """
    parts = urlsplit(issuer)
    path = parts.path.rstrip("/")
    own = urlunsplit((parts.scheme, parts.netloc, f"{path}/.well-known/openid-configuration", "", ""))
    other = urlunsplit((parts.scheme, parts.netloc, f"/.well-known/oauth-authorization-server{path}", "", ""))
    found, errors = None, []
    for address in (own, other):
        try:
            found = await json_from(client, address)
            break
        except FetchError as error:
            errors.append(error)
    if found is None:
        raise errors[0]
    if found.get("issuer") != issuer:
        # OpenID Connect Discovery 1.0, section 4.3; RFC 8414, section 3.3.
        raise FetchError(f"what was published for {issuer} speaks for another issuer")
    return found


class ProviderKeys:
    """The keys of an issuer, which it publishes over HTTP.

    Keys that are known are used without asking. A token with a key that is not known has the keys read again, at most
    once a minute. After ten minutes they are read again beside the requests. Where that fails the last good ones go on
    to count, for a day; then none do.

    Args:
        algorithms: those that count.
        issuer: who publishes them, to be discovered; or None.
        url: where the key set is; None where the issuer says so.
        clock: seconds that only go forward.
        ask: has an asking done elsewhere, as `in_a_thread`.
    """

    def __init__(
        self,
        algorithms: tuple[str, ...],
        *,
        issuer: str | None = None,
        url: str | None = None,
        clock: Callable[[], float] = time.monotonic,
        ask: Callable[[Callable[[httpx.AsyncClient], Coroutine[Any, Any, Any]]], Future[Any]] = in_a_thread,
    ) -> None:
        self._algorithms = algorithms
        self._issuer = issuer
        self._url = url
        self._clock = clock
        self._ask = ask
        self._keys: list[SetKey] = []
        self._version = 0
        self._read_at = self._asked_at = float("-inf")
        self._pause = 0.0
        self._failed = False
        self._begin()

    def _begin(self) -> None:
        """What belongs to one process alone: after a fork, nothing is under way in the child."""
        self._process = os.getpid()
        self._lock = threading.Lock()
        self._under_way: threading.Event | None = None
        self._waiting = 0

    # What requests ask ---------------------------------------------------------------------

    def version(self) -> int:
        """A number that is another one whenever the keys are; old keys are read again, without waiting."""
        age = self._clock() - self._read_at
        if self._keys and age > KEPT:
            with self._lock:
                self._keys, self._version = [], self._version + 1
            _LOG.error("%s: its keys could not be read for a day, and count no more", self._name)
        elif self._keys and age > FRESH and self._may_ask():
            self._start()
        return self._version

    def ready(self, header: Mapping[str, Any]) -> bool:
        """Whether `key_for` answers without waiting for the provider."""
        self.version()
        return self._knows(header) or (self._under_way is None and not self._may_ask())

    def key_for(self, header: Mapping[str, Any]) -> Any:
        """The key that a token's ``kid`` names; the only one for its algorithm where the token names none."""
        self.version()
        if not self._knows(header):
            self._read_again()
        if not self._keys:
            raise NoKey("the keys of the issuer cannot be read at present")
        return chosen(self._keys, header)

    # How they are read ---------------------------------------------------------------------

    @property
    def _name(self) -> str:
        return self._issuer or self._url or ""

    def _knows(self, header: Mapping[str, Any]) -> bool:
        try:
            chosen(self._keys, header)
        except NoKey:
            return False
        return True

    def _may_ask(self) -> bool:
        return self._clock() - self._asked_at >= self._pause

    def _start(self) -> threading.Event | None:
        """What is set when a reading has ended, the one under way or a new one; None where it is too soon for one."""
        if self._process != os.getpid():
            self._begin()
        with self._lock:
            if self._under_way is not None:
                return self._under_way
            if not self._may_ask():
                return None
            # Counted from here, so that nothing that goes wrong has it asked without a pause.
            self._asked_at = self._clock()
            ended = self._under_way = threading.Event()
        try:
            reading = self._ask(self._read)
        except RuntimeError:  # no more threads
            reading = Future()
            reading.set_exception(FetchError("no thread can be started"))
        reading.add_done_callback(lambda reading: self._done(reading, ended))
        return ended

    def _read_again(self) -> None:
        """Read the keys again if it is time, and wait for it; not where others wait already."""
        ended = self._start()
        if not may_wait():
            return
        with self._lock:
            if ended is None or self._waiting >= _MOST_WAIT[2 if self._failed else 1 if self._keys else 0]:
                return
            self._waiting += 1
        try:
            ended.wait(SECONDS + 1)
        finally:
            with self._lock:
                self._waiting -= 1

    async def _read(self, client: httpx.AsyncClient) -> list[SetKey]:
        url = self._url
        if url is None:
            found = await discovered(client, self._issuer or "")
            url = found.get("jwks_uri")
            if not isinstance(url, str) or not is_protected(url):
                raise FetchError(f"{self._issuer} names no jwks_uri with https")
        try:
            return keys_in(await json_from(client, url), self._algorithms, url, strict=False)
        except SettingsError as error:
            raise FetchError(str(error)) from error

    def _done(self, reading: Future[Any], ended: threading.Event) -> None:
        error = reading.exception()
        with self._lock:
            if error is None:
                keys = reading.result()
                if _shown(keys) != _shown(self._keys):
                    self._keys, self._version = keys, self._version + 1
                self._read_at, self._pause = self._clock(), AGAIN
            else:
                self._pause = min(AGAIN, max(_FIRST, 2 * self._pause)) if not self._keys else AGAIN
            self._under_way, self._failed = None, error is not None
        ended.set()
        if error is not None:
            reason = str(error) if isinstance(error, BloodrootError) else type(error).__name__
            kept = "the last good keys go on to count" if self._keys else "its tokens are refused"
            _LOG.warning("%s: its keys cannot be read: %s; %s", self._name, reason, kept)


def _shown(keys: list[SetKey]) -> list[tuple[str | None, str | None, bytes]]:
    """Keys so that two sets of them can be compared."""
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    return [
        (
            each.name,
            each.algorithm,
            each.key
            if isinstance(each.key, bytes)
            else each.key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo),
        )
        for each in keys
    ]
