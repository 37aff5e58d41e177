"""Which tokens are believed, under which keys, and what is said of the others."""

import base64
import datetime
import json
import os
import unittest

import jwt
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
)
from jwt.algorithms import ECAlgorithm, OKPAlgorithm, RSAAlgorithm

from bloodroot import Unidentified
from bloodroot.identity import load
from bloodroot.identity.keys import KeySet, OneKey
from bloodroot.identity.tokens import TokenCheck
from bloodroot.settings import SettingsError, TokenRules
from tests.program import InFolder
from tests.requests import Sent

KEY = b"a key for tests, and nothing else but tests"
OTHER = b"another key for tests, which nobody believes"
PRIVATE = {
    "RS256": rsa.generate_private_key(65537, 2048),
    "ES256": ec.generate_private_key(ec.SECP256R1()),
    "EdDSA": ed25519.Ed25519PrivateKey.generate(),
}
PUBLISHED = {"RS256": RSAAlgorithm, "ES256": ECAlgorithm, "EdDSA": OKPAlgorithm}


def soon(minutes: float = 5) -> datetime.datetime:
    return datetime.datetime.now(datetime.UTC) + datetime.timedelta(minutes=minutes)


def public_pem(key: object) -> str:
    return key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()


def private_pem(key: object) -> str:
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


def published(algorithm: str, key: object, **more: object) -> dict[str, object]:
    return {**json.loads(PUBLISHED[algorithm].to_jwk(key.public_key())), **more}


def forged(header: dict[str, object], claims: dict[str, object], signature: str = "") -> str:
    """A token put together by hand."""
    parts = (base64.urlsafe_b64encode(json.dumps(part).encode()).rstrip(b"=").decode() for part in (header, claims))
    return ".".join((*parts, signature))


class Believing(unittest.TestCase):
    def refused(self, check: TokenCheck, token: str) -> str:
        """Why a token is not believed. No reason shows the token, its signature or the key."""
        with self.assertRaises(Unidentified) as caught:
            check.claims(token)
        self.assertTrue(caught.exception.token)
        for secret in (*token.split("."), KEY.decode(), OTHER.decode()):
            if secret:
                self.assertNotIn(secret, caught.exception.reason)
        return caught.exception.reason

    def test_what_makes_a_token_good_or_bad(self) -> None:
        rules = TokenRules(("HS256",), issuer="fernhollow", audience=("vault",), leeway=5)
        good = {"sub": "3", "iss": "fernhollow", "aud": "vault", "exp": soon()}
        past, later = soon(-1), soon(1)
        for change, reason in (
            ({}, None),
            ({"aud": ["desk", "vault"]}, None),
            ({"exp": soon(-0.05)}, None),  # three seconds ago, and clocks may differ by five
            ({"nbf": soon(0.05)}, None),
            ({"exp": past}, "the token has expired"),
            ({"nbf": later}, "the token is not valid yet"),
            ({"iat": later}, "the token is not valid yet"),
            ({"exp": None}, "the token has no exp, so it would be valid for ever"),
            ({"exp": "soon"}, "this is not a token that can be read"),
            ({"iss": "tarnbank"}, "the token does not come from fernhollow"),
            ({"iss": None}, "the token has no iss"),
            ({"aud": "desk"}, "the token is not meant for vault"),
            ({"aud": "vault-2"}, "the token is not meant for vault"),
            ({"aud": None}, "the token has no aud"),
        ):
            with self.subTest(change=change):
                claims = {name: value for name, value in {**good, **change}.items() if value is not None}
                token = jwt.encode(claims, KEY, "HS256")
                if reason is None:
                    self.assertEqual(TokenCheck(rules, OneKey(KEY)).claims(token)["sub"], "3")
                else:
                    self.assertEqual(self.refused(TokenCheck(rules, OneKey(KEY)), token), reason)

    def test_tokens_that_try_something(self) -> None:
        check = TokenCheck(TokenRules(("HS256",)), OneKey(KEY))
        claims = {"sub": "3", "exp": int(soon().timestamp())}
        good = jwt.encode(claims, KEY, "HS256")
        head, body, sign = good.split(".")
        rs256 = TokenCheck(TokenRules(("RS256",)), OneKey(PRIVATE["RS256"].public_key()))
        with_public_key = jwt.api_jws.PyJWS()
        with_public_key._algorithms["HS256"].prepare_key = lambda key: key  # what a forger's library would allow
        confused = with_public_key.encode(json.dumps(claims).encode(), public_pem(PRIVATE["RS256"]).encode(), "HS256")
        for name, who, token, reason in (
            ("another key", check, jwt.encode(claims, OTHER, "HS256"), "not signed with the key that counts here"),
            ("no signature", check, f"{head}.{body}.", "not signed with the key"),
            ("none", check, forged({"alg": "none"}, claims), 'says alg "none", and only HS256 counts'),
            ("None", check, forged({"alg": "None"}, claims), 'says alg "None"'),
            ("none, signed", check, forged({"alg": "none"}, claims, sign), 'says alg "none"'),
            ("longer hash", check, jwt.encode(claims, KEY * 2, "HS512"), 'says alg "HS512"'),
            ("public key as secret", rs256, confused, 'says alg "HS256", and only RS256'),
            ("other claims", check, f"{head}.{forged({}, {'sub': '4'}).split('.')[1]}.{sign}", "not signed with"),
            ("crit", check, jwt.encode(claims, KEY, "HS256", {"crit": ["exp"], "exp": 1}), ""),
            ("no algorithm", check, forged({"typ": "JWT"}, claims, sign), ""),
            ("no JSON", check, f"{head[:-4]}.{body}.{sign}", "not a token that can be read"),
            ("two parts", check, f"{head}.{body}", "not a token that can be read"),
            ("nothing", check, "", "not a token that can be read"),
            ("a word", check, "curator", "not a token that can be read"),
            ("not ASCII", check, "ä.ö.ü", "not a token that can be read"),
            ("claims are a list", check, forged({"alg": "HS256"}, []), ""),
            ("very long", check, "a" * 20_000, "longer than any header"),
        ):
            with self.subTest(name):
                self.assertIn(reason, self.refused(who, token))
        self.assertIn(
            "settings name none; write audience", self.refused(check, jwt.encode({**claims, "aud": "x"}, KEY))
        )

    def test_the_type_of_a_token(self) -> None:
        check = TokenCheck(TokenRules(("HS256",), type="at+jwt"), OneKey(KEY))
        for said, good in (("at+jwt", True), ("application/at+JWT", True), ("JWT", False), ("id+jwt", False)):
            token = jwt.encode({"sub": "3", "exp": soon()}, KEY, "HS256", {"typ": said})
            if good:
                self.assertEqual(check.claims(token)["sub"], "3")
            else:
                self.assertIn('not of the type "at+jwt"', self.refused(check, token))


class KeysFromSettings(InFolder):
    def identify(self, text: str, token: str) -> object:
        """The caller behind a token, under settings of their own."""
        file = self.write("bloodroot.toml", text)
        return load(file)(Sent(authorization=f"Bearer {token}"))

    def test_every_algorithm_with_every_kind_of_key(self) -> None:
        claims = {"sub": "3", "exp": soon()}
        for algorithm, key in PRIVATE.items():
            token = jwt.encode(claims, key, algorithm)
            self.write("public.pem", public_pem(key))
            self.write("keys.json", json.dumps({"keys": [published(algorithm, key)]}))
            os.environ["TARN_PUBLIC"] = public_pem(key)
            self.addCleanup(os.environ.pop, "TARN_PUBLIC", None)
            for line in ('key_file = "public.pem"', 'jwks_file = "keys.json"', 'key = "{env.TARN_PUBLIC}"'):
                with self.subTest(algorithm=algorithm, line=line):
                    text = f'[identity]\nfrom = "jwt"\nalgorithm = "{algorithm}"\n{line}\n'
                    self.assertEqual(self.identify(text, token).id, "3")
                    stranger = jwt.encode({**claims, "sub": "4"}, KEY, "HS256")
                    with self.assertRaises(Unidentified):
                        self.identify(text, stranger)

    def test_a_certificate_is_a_key_too(self) -> None:
        key = PRIVATE["ES256"]
        name = x509.Name([x509.NameAttribute(x509.oid.NameOID.COMMON_NAME, "fernhollow")])
        builder = x509.CertificateBuilder(name, name, key.public_key(), 1, soon(-9), soon(9))
        self.write("cert.pem", builder.sign(key, hashes.SHA256()).public_bytes(Encoding.PEM).decode())
        token = jwt.encode({"sub": "3", "exp": soon()}, key, "ES256")
        text = '[identity]\nfrom = "jwt"\nalgorithm = "ES256"\nkey_file = "cert.pem"\n'
        self.assertEqual(self.identify(text, token).id, "3")

    def test_a_set_of_keys_is_read_again_when_it_changes(self) -> None:
        old, new = PRIVATE["EdDSA"], ed25519.Ed25519PrivateKey.generate()
        others = [published("RS256", PRIVATE["RS256"], kid="r"), published("EdDSA", old, kid="e", use="enc")]
        file = self.write("keys.json", json.dumps({"keys": [*others, published("EdDSA", old, kid="one")]}))
        check = TokenCheck(TokenRules(("EdDSA",)), KeySet(file, ("EdDSA",)))

        def made(key: object, **header: str) -> str:
            return jwt.encode({"sub": "3", "exp": soon()}, key, "EdDSA", header)

        self.assertEqual(check.claims(made(old, kid="one"))["sub"], "3")
        self.assertEqual(check.claims(made(old))["sub"], "3")
        with self.assertRaisesRegex(Unidentified, "a key that is not in the set"):
            check.claims(made(new, kid="two"))
        both = [published("EdDSA", old, kid="one"), published("EdDSA", new, kid="two")]
        self.write("keys.json", json.dumps({"keys": both}))
        self.assertEqual(check.claims(made(new, kid="two"))["sub"], "3")
        with self.assertRaisesRegex(Unidentified, "names no key, and there are 2"):
            check.claims(made(new))
        with self.assertRaisesRegex(Unidentified, "not signed with the key"):
            check.claims(made(new, kid="one"))

    def test_keys_that_cannot_be_used(self) -> None:
        small = rsa.generate_private_key(65537, 1024)
        wide = ec.generate_private_key(ec.SECP384R1())
        self.write("private.pem", private_pem(PRIVATE["RS256"]))
        self.write("small.pem", public_pem(small))
        self.write("wide.pem", public_pem(wide))
        self.write("rsa.pem", public_pem(PRIVATE["RS256"]))
        self.write("no.pem", "no key\n")
        self.write("no.json", "{")
        self.write("list.json", "[]")
        self.write("other.json", json.dumps({"keys": [published("RS256", PRIVATE["RS256"])]}))
        self.write("broken.json", json.dumps({"keys": [{"kty": "OKP", "crv": "Ed25519", "x": "?"}]}))
        os.environ["TARN_SHORT"] = "short"
        self.addCleanup(os.environ.pop, "TARN_SHORT", None)
        for algorithm, line, message in (
            ("HS256", 'key = "{env.TARN_SHORT}"', "the key has 5 bytes, and HS256 requires 32"),
            ("HS256", 'key = "{env.TARN_NOT_SET}"', "TARN_NOT_SET is not set"),
            ("RS256", 'key_file = "private.pem"', "this holds a private key"),
            ("RS256", 'key_file = "small.pem"', "1024 bits is too short"),
            ("ES256", 'key_file = "wide.pem"', "this key is on secp384r1"),
            ("EdDSA", 'key_file = "rsa.pem"', "EdDSA requires a key of the kind Ed25519"),
            ("RS256", 'key_file = "no.pem"', "there is no public key in PEM here"),
            ("RS256", 'key_file = "missing.pem"', "missing.pem: No such file"),
            ("EdDSA", 'jwks_file = "no.json"', "no.json: this is not JSON"),
            ("EdDSA", 'jwks_file = "list.json"', "not a JSON Web Key Set"),
            ("EdDSA", 'jwks_file = "other.json"', "there is no key for EdDSA in this set"),
            ("EdDSA", 'jwks_file = "broken.json"', "a key of this set cannot be read"),
            ("EdDSA", 'jwks_file = "missing.json"', "missing.json: No such file"),
        ):
            with self.subTest(line=line), self.assertRaisesRegex(SettingsError, message.replace("(", r"\(")):
                self.identify(f'[identity]\nfrom = "jwt"\nalgorithm = "{algorithm}"\n{line}\n', "a.b.c")
