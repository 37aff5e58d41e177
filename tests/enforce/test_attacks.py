"""Attacks over raw sockets on every stack: none reaches a handler that the policy keeps from its caller.

Each attack is the very bytes that go over the line. What may come back is a refusal, an error of the server itself, or a
page that the caller may see; never the page behind the line.
"""

import socket

from tests.enforce import stacks

# As a clerk, who may see neither the form for new lots nor the archive, and who may change no lot.
CLERK = b"X-Caller: clerk"


def request(line: bytes, *headers: bytes, body: bytes = b"") -> bytes:
    length = [b"Content-Length: %d" % len(body)] if body else []
    return b"\r\n".join([line, b"Host: tarn.example", *headers, *length, b"Connection: close", b"", b""]) + body


def get(target: bytes, *headers: bytes, method: bytes = b"GET") -> bytes:
    return request(method + b" " + target + b" HTTP/1.1", CLERK, *headers)


PATHS = [
    b"//lots/new",
    b"///lots//new",
    b"/lots//new",
    b"/lots/new//",
    b"/lots/./new",
    b"/./lots/new",
    b"/lots/new/.",
    b"/lots/x/../new",
    b"/x/../lots/new",
    b"/..%2flots/new",
    b"/%2e/lots/new",
    b"/%2e%2e/lots/new",
    b"/lots/%2e/new",
    b"/lots%2fnew",
    b"/lots%2Fnew",
    b"/lots%5cnew",
    b"/lots\\new",
    b"\\lots\\new",
    b"/lots/new;",
    b"/lots/new;a=b",
    b"/lots;a=b/new",
    b"/lots/new%3b",
    b"/lots/new%00",
    b"/lots/new%00.css",
    b"/assets/..%2flots/new",
    b"/assets/../lots/new",
    b"/assets/%2e%2e/lots/new",
    b"/assets/..;/lots/new",
    b"/assets/%2e%2e%2flots%2fnew",
    b"/lots/%6e%65%77",
    b"/%6cots/new",
    b"/lots/ne%77",
    b"/lots/%256eew",
    b"/lots/new%0a",
    b"/lots/new%0d%0aX-Caller:%20keeper",
    b"/lots/%c0%aenew",
    b"/lots/new%c0%af",
    b"/lots/new%e3%80%80",
    b"/lots/new%ff",
    b"/lots/new?/../../assets/x",
    b"/lots/new#/assets/x",
    b"/lots/new%23",
    b"/lots/new%3f",
    b"http://tarn.example/lots/new",
    b"http://tarn.example//lots/new",
    b"http://other.example/lots/new",
    b"HTTP://tarn.example/lots/new",
    b"http://[::1]/lots/new",
    b"http://[/lots/new",
    b"lots/new",
    b"*",
    b"/archive/2020%2f",
    b"/archive/./2020",
    b"/archive%2f2020",
    b"/archive//2020",
    b"/archive/2020;x",
    b"/archive/%32020",
]
HEADERS = [
    [b"X-HTTP-Method-Override: POST"],
    [b"X-Original-URL: /"],
    [b"X-Rewrite-URL: /"],
    [b"X-Forwarded-Prefix: /lots"],
    [b"X-Script-Name: /lots"],
    [b"Script-Name: /lots"],
    [b"X-Forwarded-Uri: /"],
    [b"X-Caller : keeper"],
    [b"X_Caller: keeper"],
    [b"X-Caller: keeper"],
    [b"x-caller:keeper\x0b"],
    [b"Forwarded: for=127.0.0.1;host=x;proto=https"],
    [b"X-Forwarded-For: 127.0.0.1"],
    [b"Authorization: Bearer \xff\xfe"],
    [b"Cookie: session=\xed\xa0\x80; a=b=c; \x01"],
    [b"Accept: \xff, application/json;q=1e999"],
    [b"Upgrade: websocket", b"Connection: Upgrade", b"Sec-WebSocket-Key: x", b"Sec-WebSocket-Version: 13"],
    [b"Upgrade: h2c", b"HTTP2-Settings: x"],
    [b"Expect: 100-continue"],
    [b"Range: bytes=0-1"],
    [b"If-None-Match: *"],
    [b"Transfer-Encoding: chunked"],
]
METHODS = [
    b"get",
    b"Get",
    b"gEt",
    b"HEAD",
    b"OPTIONS",
    b"TRACE",
    b"CONNECT",
    b"PROPFIND",
    b"GET\t",
    b"G3T",
    b"QUERY",
    b"_GET",
]
SMUGGLED = [
    # A second request within the first, for a server that reads lengths in another way than what is in front of it.
    request(
        b"POST /sign-in HTTP/1.1", CLERK, b"Transfer-Encoding: chunked", body=b"0\r\n\r\nGET /lots/new HTTP/1.1\r\n\r\n"
    ),
    request(b"GET /lots/new HTTP/1.0", CLERK),
    b"GET /lots/new\r\n\r\n",
    request(b"GET  /lots/new HTTP/1.1", CLERK),
    request(b"GET /lots/new HTTP/9.9", CLERK),
    request(b"GET /lots/new  HTTP/1.1", CLERK),
    request(b"GET\t/lots/new\tHTTP/1.1", CLERK),
    b"GET /lots/new HTTP/1.1\nHost: x\nX-Caller: clerk\nConnection: close\n\n",
    request(b"GET /assets/x HTTP/1.1\r\n\r\nGET /lots/new HTTP/1.1", CLERK),
]


def ask(port: int, sent: bytes) -> tuple[str, str]:
    """What comes back for some bytes: the first line, and all of it."""
    with socket.create_connection(("127.0.0.1", port), 5) as line:
        line.settimeout(0.5)
        answer = b""
        try:
            line.sendall(sent)
            while True:
                try:
                    piece = line.recv(65536)
                except TimeoutError:
                    if line.gettimeout() == 5:
                        break
                    # A server that waits for the rest of a request is told that there is none.
                    line.shutdown(socket.SHUT_WR)
                    line.settimeout(5)
                    continue
                if not piece:
                    break
                answer += piece
        except ConnectionError:
            pass
    text = answer.decode("latin-1")
    return text.split("\r\n", 1)[0], text


class Attacks(stacks.OnEveryStack):
    def attack(self, sent: bytes) -> None:
        for name, port in self.ports.items():
            stacks.reached.clear()
            first, text = ask(port, sent)
            with self.subTest(f"{name}: {sent[:120]!r}"):
                self.assertEqual([each for each in stacks.reached if each.startswith("secret")], [], text)
                self.assertNotRegex(text, r"secret( \w+)* for")
                self.assertNotIn("for 4", text)  # the keeper
                # What a client sends may cause no error: neither in what is protected nor in the protection.
                self.assertNotIn(" 500 ", first, text)

    def test_there_are_enough(self) -> None:
        self.assertGreaterEqual(len(PATHS) + len(HEADERS) + len(METHODS) + len(SMUGGLED), 100)

    def test_paths(self) -> None:
        for target in PATHS:
            self.attack(get(target))

    def test_headers(self) -> None:
        for headers in HEADERS:
            self.attack(get(b"/lots/new", *headers))
            self.attack(get(b"/archive/2020", *headers))

    def test_methods(self) -> None:
        for method in METHODS:
            for target in (b"/lots/new", b"/archive/2020", b"/lots/1"):
                if (method, target) in ((b"HEAD", b"/lots/1"),):
                    continue
                self.attack(get(target, method=method))

    def test_requests_within_requests(self) -> None:
        for sent in SMUGGLED:
            self.attack(sent)
