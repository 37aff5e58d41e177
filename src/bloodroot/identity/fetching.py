"""What another machine says, asked over HTTP within a time that ends: slow, endless and lying answers included."""

from __future__ import annotations

import asyncio
import json
import ssl
import threading
from collections.abc import Callable, Coroutine
from concurrent.futures import Future
from functools import cache
from typing import Any, TypeVar

import httpx

from ..addresses import is_protected
from ..language.errors import BloodrootError

T = TypeVar("T")

_LARGEST = 1_000_000  # bytes of a response: more than any provider publishes
SECONDS = 5.0  # for all that one question takes


class FetchError(BloodrootError):
    """Nothing that can be used came back; the message says why, and names no secret."""


async def json_from(client: httpx.AsyncClient, url: str, **request: Any) -> dict[str, Any]:
    """The JSON object that an address answers with.

    Args:
        client: what asks.
        url: the address; a redirect is not followed.
        request: what else is sent: ``data`` makes it a POST of a form.

    Raises:
        FetchError: it is not protected, or the answer is no JSON object with the status 200.
    """
    if not is_protected(url):
        raise FetchError(f"{url}: only https is asked, since others could answer on the way")
    method = "POST" if "data" in request else "GET"
    try:
        async with client.stream(method, url, headers={"accept": "application/json"}, **request) as response:
            if response.status_code != 200:
                raise FetchError(f"{url} answered {response.status_code}")
            body = bytearray()
            async for piece in response.aiter_bytes():
                body += piece
                if len(body) > _LARGEST:
                    raise FetchError(f"{url} answered with more than {_LARGEST} bytes")
    except httpx.HTTPError as error:
        raise FetchError(f"{url}: {type(error).__name__} {error}".rstrip()) from error
    except httpx.InvalidURL as error:
        raise FetchError(f"{url}: this is no address") from error
    try:
        value = json.loads(bytes(body))
    except (ValueError, RecursionError) as error:
        raise FetchError(f"{url} did not answer with JSON") from error
    if not isinstance(value, dict):
        raise FetchError(f"{url} did not answer with a JSON object")
    return value


@cache
def _trusted() -> ssl.SSLContext:
    """The authorities that are trusted; to read them takes longer than most questions."""
    return httpx.create_ssl_context()


def in_a_thread(work: Callable[[httpx.AsyncClient], Coroutine[Any, Any, T]], seconds: float = SECONDS) -> Future[T]:
    """What some asking comes to, within a time, in a thread of its own that ends by then.

    The work is cancelled when the time is up, wherever it is: a machine that sends one byte a second holds up nothing.
    """
    future: Future[T] = Future()

    async def whole() -> T:
        async with (
            asyncio.timeout(seconds),
            httpx.AsyncClient(follow_redirects=False, timeout=seconds, verify=_trusted()) as client,
        ):
            return await work(client)

    def run() -> None:
        try:
            future.set_result(asyncio.run(whole()))
        except TimeoutError:
            future.set_exception(FetchError(f"there was no answer within {seconds:g} seconds"))
        except BaseException as error:
            future.set_exception(error if isinstance(error, FetchError) else FetchError(f"{type(error).__name__}"))

    threading.Thread(target=run, name="bloodroot asks", daemon=True).start()
    return future
