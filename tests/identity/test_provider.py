"""Tokens of a real identity provider, whose keys change, and which is slow, gone or lies."""

import asyncio
import concurrent.futures
import datetime
import threading
import time
import unittest
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any
from unittest import mock

import httpx
import jwt
from cryptography.hazmat.primitives.asymmetric import ec
from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import JSONResponse
from starlette.routing import Route

import bloodroot
from bloodroot.enforce import current
from bloodroot.enforce import starlette as enforce
from bloodroot.identity import load, remote_keys
from bloodroot.identity.fetching import FetchError, in_a_thread, json_from
from bloodroot.identity.keys import NoKey
from bloodroot.identity.remote_keys import ProviderKeys
from bloodroot.identity.waiting import without_waiting
from bloodroot.settings import SettingsError
from tests import provider
from tests.identity.test_tokens import published
from tests.program import InFolder
from tests.servers import ask, serving

POLICY = """
roles
  member
  keeper  includes member
endpoints
  GET  /open   anyone
  GET  /kilns  member
  GET  /vault  keeper
"""
SOURCE = """
from = "jwt"
issuer = "{issuer}"
audience = ["https://kilnhouse.example/es", "https://kilnhouse.example/rs"]
type = "at+jwt"
roles = ["realm_access.roles", "resource_access.kilnhouse.roles"]
"""


def application(identify: Any) -> Starlette:
    async def shown(request: Request) -> JSONResponse:
        return JSONResponse(current().caller.id if current().caller else None)

    app = Starlette(routes=[Route(path, shown) for path in ("/open", "/kilns", "/vault")])
    enforce.protect(app, bloodroot.parse(POLICY), identify=identify)
    return app


class RealProvider(InFolder):
    def setUp(self) -> None:
        super().setUp()
        self.issuer = self.enterContext(provider.running())
        self.enterContext(mock.patch.object(remote_keys, "AGAIN", 0.3))

    def served(self, *sources: str) -> Callable[..., Any]:
        blocks = (f"[[identity]]\n{source}\n" for source in sources or (SOURCE.format(issuer=self.issuer.issuer),))
        port = self.enterContext(serving(application(load(self.write("bloodroot.toml", "\n".join(blocks))))))

        def asked(path: str, token: str) -> tuple[int, str]:
            status, headers, body = ask(port, "GET", path, Authorization=f"Bearer {token}")
            return status, body if status == 200 else headers.get("www-authenticate", "")

        return asked

    def test_keys_that_change_while_the_application_serves(self) -> None:
        asked = self.served()
        for turn in range(3):
            for of in ("es", "rs"):
                hazel, ash, wren = (self.issuer.token(name, of) for name in ("hazel", "ash", "wren"))
                self.assertEqual(asked("/vault", hazel), (200, '"hazel"'), f"{turn} {of}")
                self.assertEqual(
                    [asked("/vault", ash)[0], asked("/kilns", ash)[0], asked("/kilns", wren)[0]], [403, 200, 403]
                )
            self.issuer.tell(keys=True)
            time.sleep(0.35)
        # What was signed with keys that are gone counts no more once they were read again.
        asked("/kilns", self.issuer.token("ash"))
        self.assertIn("names a key that is not in the set", asked("/vault", hazel)[1])

    def test_a_provider_that_is_started_again(self) -> None:
        with provider.running() as first:
            asked = self.served(SOURCE.format(issuer=first.issuer))
            before, other = first.token("hazel"), first.token("ash")
            self.assertEqual(asked("/vault", before)[0], 200)
        time.sleep(0.35)
        # It is gone: what it has signed holds, and what it has not does not.
        self.assertEqual((asked("/vault", before)[0], asked("/kilns", other)[0]), (200, 200))
        with provider.running(int(first.issuer.rpartition(":")[2])) as again:
            again.tell(keys=True)
            time.sleep(0.35)
            self.assertEqual(asked("/vault", again.token("hazel"))[0], 200)
            self.assertEqual(asked("/vault", before)[0], 401)

    def test_tokens_for_others_and_of_others(self) -> None:
        asked = self.served()
        with provider.running() as other:
            for token, why in (
                (other.token("hazel"), "names a key that is not in the set|not signed with the key"),
                (self.issuer.token("hazel", resource="https://elsewhere.example/"), "is not meant for"),
                (self.issuer.token("hazel", "opaque"), "is not a token that can be read"),
            ):
                with self.subTest(why):
                    status, said = asked("/vault", token)
                    self.assertEqual(status, 401)
                    self.assertRegex(said, why)

    def test_two_issuers_on_the_same_paths(self) -> None:
        with provider.running() as other:
            sources = [SOURCE.format(issuer=each.issuer) for each in (self.issuer, other)]
            asked = self.served(*sources)
            for each in (self.issuer, other):
                self.assertEqual(asked("/vault", each.token("hazel")), (200, '"hazel"'))
            with provider.running() as third:
                self.assertIn("no issuer that counts here", asked("/vault", third.token("hazel"))[1])
            # Signed with a key of the other, in the name of this one.
            claims = {"iss": self.issuer.issuer, "sub": "hazel", "exp": time.time() + 60}
            forged = jwt.encode(claims, ec.generate_private_key(ec.SECP256R1()), "ES256", {"kid": "ES256-1"})
            self.assertEqual(asked("/vault", forged)[0], 401)

    def test_a_provider_that_is_gone_slow_or_lies(self) -> None:
        for mode in ("error", "html", "no-keys", "other-issuer", "endless", "silent"):
            with (
                self.subTest(mode),
                mock.patch.object(remote_keys, "FRESH", 0.2),
                mock.patch.object(remote_keys, "SECONDS", 3.2),
                mock.patch.object(in_a_thread, "__defaults__", (3.0,)),
            ):
                before = self.issuer.token("hazel")
                asked = self.served()
                self.assertEqual(asked("/vault", before)[0], 200)
                self.issuer.tell(mode=mode)
                time.sleep(0.4)
                began = time.monotonic()
                # The last good keys go on to count, and nothing waits.
                self.assertEqual([asked("/vault", before)[0] for _ in range(20)], [200] * 20)
                self.assertLess(time.monotonic() - began, 20)  # 60 seconds, if each waited
                cold = self.served()
                began = time.monotonic()
                wanted = [("/vault", before), ("/open", "")] * 30
                with concurrent.futures.ThreadPoolExecutor(30) as pool:
                    found = list(pool.map(cold, *zip(*wanted, strict=True)))
                self.assertEqual([status for status, _ in found], [401, 200] * 30)
                self.assertLess(time.monotonic() - began, 30)  # 90 seconds, if each waited
                self.issuer.tell(mode="well")
                time.sleep(1)
                self.assertEqual(cold("/vault", before)[0], 200)


class FourHours(unittest.TestCase):
    """A provider over four hours, simulated: the time is a number, and each asking ends as the test says."""

    def setUp(self) -> None:
        self.now, self.asked = 1000.0, 0
        self.keys = {name: ec.generate_private_key(ec.SECP256R1()) for name in "ab"}
        self.answer: list[str] | Exception | None = ["a"]
        self.under_way: list[Future[Any]] = []
        self.provider = ProviderKeys(("ES256",), url="https://id.example/keys", clock=lambda: self.now, ask=self.ask)

    def ask(self, work: Callable[[httpx.AsyncClient], Any]) -> Future[Any]:
        self.asked += 1
        found: Future[Any] = Future()
        if self.answer is None:
            self.under_way.append(found)
            return found
        if isinstance(self.answer, Exception):
            found.set_exception(self.answer)
            return found
        entries = [published("ES256", self.keys[name], kid=name) for name in self.answer]

        async def answered() -> Any:
            transport = httpx.MockTransport(lambda request: httpx.Response(200, json={"keys": entries}))
            async with httpx.AsyncClient(transport=transport) as client:
                return await work(client)

        try:
            found.set_result(asyncio.run(answered()))
        except FetchError as error:
            found.set_exception(error)
        return found

    def counts(self, kid: str) -> bool:
        try:
            self.provider.key_for({"alg": "ES256", "kid": kid})
        except NoKey:
            return False
        return True

    def test_well_then_gone_for_four_hours_then_well(self) -> None:
        self.assertTrue(self.counts("a"))
        self.answer = FetchError("gone")
        with self.assertLogs("bloodroot.identity", "WARNING"):
            for _ in range(4 * 60 * 60):
                self.now += 1
                self.assertTrue(self.counts("a"))
                self.assertFalse(self.counts("x"))
        # Once a minute, whatever tokens name.
        self.assertLessEqual(self.asked, 4 * 60 + 2)
        self.answer = ["b"]
        self.now += 61
        self.assertEqual((self.counts("b"), self.counts("a")), (True, False))

    def test_a_day_without_keys_ends_it(self) -> None:
        self.assertTrue(self.counts("a"))
        self.answer = FetchError("gone")
        with self.assertLogs("bloodroot.identity", "WARNING"):
            self.now += remote_keys.KEPT + 1
            self.assertFalse(self.counts("a"))

    def test_a_set_without_keys_is_no_set(self) -> None:
        self.assertTrue(self.counts("a"))
        self.answer = []
        with self.assertLogs("bloodroot.identity", "WARNING"):
            self.now += remote_keys.FRESH + 1
            self.assertTrue(self.counts("a"))

    def test_many_who_ask_at_once_are_one_asking(self) -> None:
        self.assertTrue(self.counts("a"))
        self.answer, self.now = None, self.now + 61
        threads = [threading.Thread(target=self.counts, args=("b",)) for _ in range(30)]
        began = time.monotonic()
        for thread in threads:
            thread.start()
        for _ in range(200):
            if sum(thread.is_alive() for thread in threads) <= 4:
                break
            time.sleep(0.01)
        # Four wait for the answer; the others are refused at once, and what is known counts.
        self.assertTrue(self.counts("a"))
        self.assertLess(time.monotonic() - began, 10)
        self.assertEqual(self.asked, 2)
        self.under_way[0].set_exception(FetchError("gone"))
        for thread in threads:
            thread.join(3)
            self.assertFalse(thread.is_alive())

    def test_an_event_loop_does_not_wait(self) -> None:
        self.assertTrue(self.counts("a"))
        self.answer, self.now = None, self.now + 61
        began = time.monotonic()
        with without_waiting():
            self.assertFalse(self.counts("b"))
        self.assertLess(time.monotonic() - began, 4)  # six seconds, if it waited
        self.assertEqual((self.asked, self.provider.ready({"alg": "ES256", "kid": "b"})), (2, False))
        self.under_way[0].set_exception(FetchError("gone"))

    def test_first_keys_are_asked_for_ever_more_seldom(self) -> None:
        self.answer = FetchError("gone")
        at = []
        with self.assertLogs("bloodroot.identity", "WARNING"):
            for _ in range(200):
                before = self.asked
                self.assertFalse(self.counts("a"))
                at += [self.now - 1000] * (self.asked - before)
                self.now += 1
        self.assertEqual(at, [0, 5, 15, 35, 75, 135, 195])


class Addresses(InFolder):
    def test_what_is_not_protected_is_not_asked(self) -> None:
        for lines, message in (
            ('issuer = "http://id.example"', "read by https alone"),
            ('jwks_url = "http://id.example/keys"\nissuer = "x"', "read by https alone"),
            ('issuer = "id.example"', "there is no key to check tokens with"),
            ('issuer = "https://id.example"\nalgorithm = ["HS256", "RS256"]', "HS256 signs with a secret"),
        ):
            with self.subTest(lines), self.assertRaisesRegex(SettingsError, message):
                load(self.write("bloodroot.toml", f'[identity]\nfrom = "jwt"\n{lines}\n'))

        async def plain() -> None:
            async with httpx.AsyncClient() as client:
                await json_from(client, "http://192.0.2.1/keys")

        with self.assertRaisesRegex(FetchError, "only https"):
            asyncio.run(plain())

    def test_two_sources_that_cannot_be_distinguished(self) -> None:
        one = '[[identity]]\nfrom = "jwt"\nkey = "{{env.{key}}}"\n{more}\n'
        for first, second, message in (
            (("K", ""), ("L", ""), "given to one of them by its issuer"),
            (("K", 'issuer = "a"'), ("L", ""), "given to one of them by its issuer"),
            (("K", 'issuer = "a"'), ("L", 'issuer = "a"'), "given to one of them by its issuer"),
            (("K", 'issuer = "a"'), ("K", 'issuer = "b"'), "one could sign in the name of the other"),
            (("K", 'for = "/a/**"\nissuer = "a"'), ("L", 'for = "/{x}/b"'), "given to one of them by its issuer"),
            (("K", 'for = "/a/**"'), ("L", 'for = "/b/**"'), ""),
            (("K", 'cookie = "c"'), ("L", ""), ""),
            (("K", 'for = "/a/**"'), ("L", ""), ""),
        ):
            text = "".join(one.format(key=key, more=more) for key, more in (first, second))
            file = self.write("bloodroot.toml", text)
            with self.subTest(text), mock.patch.dict("os.environ", {"K": "k" * 40, "L": "l" * 40}):
                if message:
                    with self.assertRaisesRegex(SettingsError, message):
                        load(file)
                else:
                    load(file)

    def test_a_token_in_a_cookie(self) -> None:
        key = "a key for tests, and nothing else but tests"
        text = '[identity]\nfrom = "jwt"\nkey = "{env.K}"\ncookie = "pass"\nroles = "duties"\n'
        with mock.patch.dict("os.environ", {"K": key}):
            app = application(load(self.write("bloodroot.toml", text)))
        ends = datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=1)
        good = jwt.encode({"sub": "3", "duties": ["keeper"], "exp": ends}, key)
        with serving(app) as port:
            for headers, status in (
                ({"Cookie": f"other=1; pass={good}"}, 200),
                ({"Authorization": f"Bearer {good}"}, 401),
                ({"Cookie": f"pass={good}x"}, 401),
                ({"Cookie": f"pass={good}; pass={good}"}, 401),
                ({"Cookie": "pass="}, 401),
            ):
                with self.subTest(headers):
                    found, more, _ = ask(port, "GET", "/vault", **headers)
                    self.assertEqual(found, status)
                    self.assertNotIn("invalid_token", more.get("www-authenticate", ""))
