"""What takes the place of `provider.mjs` where Node is missing or too old: the same port, the same lines, the same tokens."""

import base64
import json
import secrets
import sys
import threading
import time
import urllib.parse
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import jwt
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from jwt.algorithms import ECAlgorithm, RSAAlgorithm

PORT = int(sys.argv[1])
ISSUER = f"http://127.0.0.1:{PORT}"
SECRET = "made up for tests, and for nothing else"
HOUSE = {"ash": ["member"], "fern": ["member"], "hazel": ["keeper"], "wren": []}
HERE = "https://kilnhouse.example/"
RESOURCES = {f"{HERE}es": "ES256", f"{HERE}rs": "RS256", f"{HERE}opaque": None, "https://elsewhere.example/": "ES256"}
PUBLISHED = {"ES256": ECAlgorithm, "RS256": RSAAlgorithm}


class State:
    """What the lines on standard input change."""

    def __init__(self) -> None:
        self.mode, self.turn, self.opaque = "well", 0, dict[str, dict[str, Any]]()
        self.new_keys()

    def new_keys(self) -> None:
        self.turn += 1
        self.keys: dict[str, Any] = {
            "ES256": ec.generate_private_key(ec.SECP256R1()),
            "RS256": rsa.generate_private_key(65537, 2048),
        }

    def published(self) -> list[dict[str, Any]]:
        return [
            {
                **json.loads(PUBLISHED[name].to_jwk(key.public_key())),
                "alg": name,
                "use": "sig",
                "kid": f"{name}-{self.turn}",
            }
            for name, key in self.keys.items()
        ]


STATE = State()


class Handler(BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def log_message(self, *_: object) -> None: ...

    def answer(self, status: int, body: Any) -> None:
        data = body if isinstance(body, bytes) else json.dumps(body).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/json")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        self.wfile.write(data)

    def lies(self) -> bool:
        """Answer as the mode says; False where it says nothing of this request."""
        mode, asked = STATE.mode, self.path.startswith(("/.well-known", "/jwks"))
        if mode == "well" or not (asked or mode in ("error", "silent")):
            return False
        if mode == "silent":
            while STATE.mode == "silent":
                time.sleep(0.05)
        elif mode == "endless":
            self.send_response(200)
            self.end_headers()
            while STATE.mode == "endless":
                self.wfile.write(b"        ")
                time.sleep(0.05)
        else:
            other = {"issuer": "http://127.0.0.1:1", "jwks_uri": f"{ISSUER}/jwks"}
            none = {"issuer": ISSUER, "jwks_uri": f"{ISSUER}/jwks", "keys": []}
            said = {"html": b"<h1>Moved</h1>", "no-keys": none, "other-issuer": other}
            self.answer(503 if mode == "error" else 200, said.get(mode, b"later"))
        self.close_connection = True
        return True

    def do_GET(self) -> None:
        if self.lies():
            return
        found = {"/jwks": {"keys": STATE.published()}}
        where = {"jwks_uri": f"{ISSUER}/jwks", "introspection_endpoint": f"{ISSUER}/token/introspection"}
        found["/.well-known/openid-configuration"] = {"issuer": ISSUER, **where}
        self.answer(200 if self.path in found else 404, found.get(self.path, {}))

    def do_POST(self) -> None:
        body = self.rfile.read(int(self.headers.get("Content-Length", 0))).decode()
        form = dict(urllib.parse.parse_qsl(body))
        if self.lies():
            return
        if self.path == "/token/introspection":
            pair = base64.b64decode(self.headers.get("Authorization", "").removeprefix("Basic ")).decode()
            is_known = [urllib.parse.unquote_plus(part) for part in pair.split(":")] == ["service", SECRET]
            self.answer(200 if is_known else 401, STATE.opaque.get(form["token"], {"active": False}))
        elif self.path == "/token/revocation":
            STATE.opaque.pop(form["token"], None)
            self.answer(200, b"")
        else:
            self.token(form)

    def token(self, form: dict[str, str]) -> None:
        person, resource = form.get("username"), form.get("resource", "")
        is_machine = form.get("grant_type") == "client_credentials"
        if not is_machine and (person not in HOUSE or form.get("password") != "made up"):
            return self.answer(400, {"error": "invalid_grant"})
        if form.get("client_secret") != SECRET or resource not in RESOURCES:
            return self.answer(400, {"error": "invalid_request"})
        now = int(time.time())
        said = {
            "iss": ISSUER,
            "aud": resource,
            "iat": now,
            "exp": now + 300,
            "sub": form["client_id"],
            "kind": "machine",
        }
        if is_machine:
            said["scope"] = form.get("scope", "")
        else:
            del said["kind"]
            realm, own = ([name for name in HOUSE[str(person)] if (name == "keeper") is each] for each in (False, True))
            more = {"realm_access": {"roles": realm}, "resource_access": {"kilnhouse": {"roles": own}}}
            said |= {"sub": str(person), **more}
        algorithm = RESOURCES[resource]
        if algorithm is None:
            token = secrets.token_urlsafe(32)
            STATE.opaque[token] = {"active": True, **said}
        else:
            header = {"typ": "at+jwt", "kid": f"{algorithm}-{STATE.turn}"}
            token = jwt.encode(said, STATE.keys[algorithm], algorithm, header)
        return self.answer(200, {"access_token": token, "expires_in": 300, "token_type": "Bearer"})


server = ThreadingHTTPServer(("127.0.0.1", PORT), Handler)
server.daemon_threads = True
threading.Thread(target=server.serve_forever, daemon=True).start()
print("ready", flush=True)
for line in sys.stdin:
    wanted = json.loads(line)
    if wanted.get("keys"):
        STATE.new_keys()
    STATE.mode = wanted.get("mode", STATE.mode)
    print("done", flush=True)
