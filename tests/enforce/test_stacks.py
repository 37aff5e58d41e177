"""One table of cases on every stack, over real HTTP: what each caller gets, and that nobody gets around it."""

import http.client
import json
import re
from concurrent.futures import ThreadPoolExecutor

from tests.enforce import stacks
from tests.servers import ask

OK, NO, FORM, TOKEN, GONE = 200, 403, 303, 401, 404
PAGE, DATA = "text/html", "application/json"

# method, target, and what each of these callers gets
CALLERS = ("", "new", "grower", "keeper", "clerk", "reviewer")
TABLE = [
    ("GET", "/", (OK, OK, OK, OK, OK, OK)),
    ("HEAD", "/", (OK, OK, OK, OK, OK, OK)),
    ("GET", "/assets/style.css", (OK, OK, OK, OK, OK, OK)),
    ("GET", "/sign-in", (OK, FORM, FORM, FORM, FORM, FORM)),
    ("GET", "/desk", (FORM, OK, OK, OK, OK, OK)),
    ("GET", "/lots", (FORM, OK, OK, OK, OK, OK)),
    ("HEAD", "/lots", (FORM, OK, OK, OK, OK, OK)),
    ("GET", "/lots?page=2", (FORM, OK, OK, OK, OK, OK)),
    ("GET", "/lots/new", (FORM, NO, NO, OK, NO, NO)),
    ("POST", "/lots", (FORM, NO, NO, OK, NO, NO)),
    ("GET", "/lots/1", (FORM, OK, OK, OK, OK, OK)),
    ("GET", "/lots/2", (FORM, NO, NO, OK, NO, OK)),
    ("GET", "/lots/9", (FORM, GONE, GONE, OK, GONE, OK)),
    ("PATCH", "/lots/1", (FORM, NO, NO, OK, NO, NO)),
    ("PATCH", "/plots/7", (FORM, NO, OK, OK, NO, NO)),
    ("PATCH", "/plots/8", (FORM, NO, NO, OK, NO, NO)),
    ("PATCH", "/plots/9", (FORM, NO, GONE, OK, NO, NO)),
    ("POST", "/beds/7/sow", (FORM, NO, OK, OK, NO, NO)),
    ("POST", "/beds/8/sow", (FORM, NO, NO, OK, NO, NO)),
    ("POST", "/beds/9/sow", (FORM, NO, GONE, GONE, NO, NO)),
    ("POST", "/beds/forgotten/sow", (FORM, NO, 500, OK, NO, NO)),
    ("GET", "/people/1", (FORM, OK, NO, NO, OK, NO)),
    ("GET", "/people/5", (FORM, NO, NO, NO, OK, NO)),
    ("DELETE", "/people/5", (FORM, NO, NO, NO, NO, NO)),
    ("DELETE", "/people/1", (FORM, NO, NO, NO, OK, NO)),
    ("GET", "/memos", (FORM, NO, NO, NO, NO, OK)),
    ("GET", "/drafts", (500, 500, 500, 500, 500, 500)),
    ("GET", "/labels/1", (FORM, OK, NO, OK, NO, NO)),
    ("GET", "/labels/5", (FORM, NO, NO, OK, OK, NO)),
    ("GET", "/stream", (FORM, OK, OK, OK, OK, OK)),
    ("GET", "/stream/7", (FORM, NO, 500, OK, NO, NO)),
    ("GET", "/archive/2020", (GONE, GONE, GONE, OK, GONE, GONE)),
    ("GET", "/closed", (NO, NO, NO, NO, NO, NO)),
    ("GET", "/nowhere", (GONE, GONE, GONE, GONE, GONE, GONE)),
    ("POST", "/parcels/3/send", (FORM, NO, NO, NO, OK, NO)),
    ("GET", "/api/lots", (TOKEN, OK, OK, OK, OK, OK)),
]
# caller, method, target, status, a part of the body, headers that must be there
MORE = [
    ("asleep", "PATCH", "/plots/7", NO, "Your account is asleep.", {}),
    ("grower", "PATCH", "/plots/8", NO, "Only its grower may change a plot.", {}),
    ("both", "GET", "/lots", NO, "", {}),
    ("both", "GET", "/", OK, "plain", {}),
    ("broken", "GET", "/", 500, "", {}),
    ("gone", "GET", "/", OK, "plain for nobody", {}),
    ("gone", "GET", "/lots", TOKEN, "Member 9 is gone.", {"www-authenticate": r'.*error="invalid_token".*is gone"'}),
    ("scoped", "GET", "/lots", OK, "plain for 4", {}),
    ("scoped", "GET", "/lots/new", NO, "", {"www-authenticate": '.*error="insufficient_scope", scope="lot:edit"'}),
    ("new", "GET", "/lots/new", NO, "", {"cache-control": "no-store", "vary": ".*Cookie"}),
    ("", "GET", "/lots?a=b&c=%2F", FORM, "", {"location": r"/sign-in\?next=/lots%3Fa%3Db%26c%3D%252F"}),
    ("", "POST", "/lots", FORM, "", {"location": "/sign-in"}),
    ("new", "GET", "/sign-in", FORM, "", {"location": "/desk"}),
    ("", "GET", "/api/lots", TOKEN, "Send a token.", {"www-authenticate": 'Bearer realm="Tarn Bank"'}),
    (
        "new",
        "GET",
        "/lots",
        OK,
        "plain for 1",
        {"vary": ".*Cookie", "cache-control": "private, no-cache", "x-app": "yes"},
    ),
    ("", "GET", "/menu", OK, "menu [] [[False, False], [False, False]] for nobody", {"vary": ".*Cookie"}),
    (
        "new",
        "GET",
        "/menu",
        OK,
        "menu ['GET /desk'] [[True, True], [False, False]] for 1",
        {"cache-control": "private.*"},
    ),
    ("keeper", "GET", "/menu", OK, "['GET /lots/new', 'GET /archive/1', 'GET /desk', 'lot:edit']", {}),
    ("new", "GET", "/stream", OK, "0 for 1\n1 for 1\n2 for 1\n", {}),
    ("new", "GET", "/lots/1", OK, "with namespace(id=1, secret=False)", {}),
    ("keeper", "GET", "/lots/1", OK, "with namespace(id=1, secret=False)", {}),
    ("clerk", "POST", "/parcels/3/send", OK, "plain 3 for 5", {}),
]


class Stacks(stacks.OnEveryStack):
    def on_every_stack(self, caller: str, method: str, target: str, **headers: str) -> dict[str, tuple[int, dict, str]]:
        return {name: ask(port, method, target, X_Caller=caller, **headers) for name, port in self.ports.items()}

    def test_the_table(self) -> None:
        self.assertGreater(len(TABLE) * len(CALLERS) + len(MORE), 80)
        for method, target, expected in TABLE:
            for caller, status in zip(CALLERS, expected, strict=True):
                stacks.reached.clear()
                for name, (got, headers, body) in self.on_every_stack(caller, method, target, Accept=PAGE).items():
                    with self.subTest(f"{name}: {method} {target} as {caller or 'nobody'}"):
                        # Without a framework it is not known what is served, and nothing is without a line.
                        expected = NO if target == "/nowhere" and name in ("asgi", "wsgi") else status
                        self.assertEqual(got, expected, body)
                        # Whoever is let in hears from the handler itself that there is no such bed.
                        told = (caller, target) == ("keeper", "/beds/9/sow")
                        # Without a framework all missing pages are ours, as the policy hides some.
                        let_in = status == OK or (told and name not in ("asgi", "wsgi"))
                        self.assertEqual(headers.get("x-app"), "yes" if let_in else None)
                        if method == "HEAD":
                            self.assertEqual(body, "")
                if status not in (OK, 500, GONE) and not target.startswith(("/beds", "/memos", "/labels")):
                    self.assertEqual(stacks.reached, [], f"{method} {target} as {caller}")

    def test_bodies_and_headers(self) -> None:
        for caller, method, target, status, part, wanted in MORE:
            for name, (got, headers, body) in self.on_every_stack(caller, method, target, Accept=PAGE).items():
                with self.subTest(f"{name}: {method} {target} as {caller or 'nobody'}"):
                    self.assertEqual(got, status, body)
                    self.assertIn(part, body)
                    for header, pattern in wanted.items():
                        self.assertRegex(headers.get(header, ""), f"^{pattern}$")

    def test_programs_get_problem_details(self) -> None:
        for caller, target, status, title, detail in (
            ("", "/lots", 401, "Unauthorized", "Sign in to use this."),
            ("new", "/lots/new", 403, "Forbidden", "You do not have access to this."),
            ("new", "/sign-in", 403, "Forbidden", "This is only for people who are not signed in."),
            ("grower", "/lots//1", 400, "Bad Request", None),
        ):
            for name, (got, headers, body) in self.on_every_stack(caller, "GET", target, Accept=DATA).items():
                with self.subTest(f"{name}: {target}"):
                    self.assertEqual((got, headers["content-type"]), (status, "application/problem+json"))
                    problem = json.loads(body)
                    self.assertEqual(
                        (problem["type"], problem["title"], problem["status"]), ("about:blank", title, status)
                    )
                    if detail is not None:
                        self.assertEqual(problem["detail"], detail)

    def test_what_is_open_to_anyone_stays_as_cacheable_as_it_was(self) -> None:
        for name, (got, headers, _) in self.on_every_stack("new", "GET", "/assets/style.css").items():
            with self.subTest(name):
                self.assertEqual((got, headers.get("vary"), headers.get("cache-control")), (OK, None, None))

    def test_bypasses_reach_no_handler(self) -> None:
        # As a clerk, who may see neither the form for new lots nor the archive.
        for method, target in (
            *(("GET", f"/lots{slash}new") for slash in ("%2f", "%2F", "%5c", "//", "/./", "/x/../", "/%2e%2e/lots/")),
            *(
                ("GET", f"/lots/new{end}")
                for end in ("/", "/.", "/..", "//", ";a=b", "%00", "%3b", "?a=b", "?_method=GET")
            ),
            *(("GET", f"/lots/{name}") for name in ("%6eew", "%256eew", "ne%77", "%c0%ae%c0%ae")),
            *(("GET", f"{start}lots/new") for start in ("//", "/%2f", "/./", "/../", "/x/%2e%2e/", "/%5c")),
            *(
                ("GET", path)
                for path in ("/archive//2020", "/archive/2020/", "/archive/%2e", "/archive/2020%2f..%2f..%2f")
            ),
            *((method, "/lots/new") for method in ("HEAD", "OPTIONS", "TRACE", "PROPFIND", "get")),
            *((method, "/lots/1") for method in ("PATCH", "POST", "PUT", "DELETE")),
        ):
            stacks.reached.clear()
            override = {
                "X_HTTP_Method_Override": "GET",
                "X_Method_Override": "GET",
                "X_Original_URL": "/",
                "X_Rewrite_URL": "/",
            }
            for name, (got, _, body) in self.on_every_stack("clerk", method, target, **override).items():
                with self.subTest(f"{name}: {method} {target}"):
                    self.assertNotEqual(got, OK, body)
                    self.assertNotIn("plain", body)
            self.assertEqual(stacks.reached, [], f"{method} {target}")

    def test_other_spellings_are_other_pages(self) -> None:
        # What the application itself takes for a lot of this name may be asked for as that lot, and as nothing else.
        for target in ("/LOTS/NEW", "/lots/NEW", "/lots/new%20", "/lots/new.json", "/Archive/2020"):
            stacks.reached.clear()
            for name, (got, _, _) in self.on_every_stack("clerk", "GET", target).items():
                with self.subTest(f"{name}: {target}"):
                    self.assertIn(got, (NO, GONE))
            self.assertEqual(stacks.reached, [])

    def test_a_preflight_is_a_request_like_others(self) -> None:
        sent = {"Origin": "https://tarn.example", "Access_Control_Request_Method": "PATCH"}
        for name, (got, _, _) in self.on_every_stack("", "OPTIONS", "/lots/1", **sent).items():
            with self.subTest(name):
                self.assertEqual(got, NO)

    def test_what_is_hidden_is_the_applications_own_missing_page(self) -> None:
        """Status, headers and body of a hidden page, and of a missing record, are those of an address without one."""
        varying = ("date", "server", "keep-alive", "connection")
        for caller, method, target in (("new", "GET", "/archive/1"), ("grower", "PATCH", "/plots/9")):
            for accept in (PAGE, DATA):
                hidden = self.on_every_stack(caller, method, target, Accept=accept)
                missing = self.on_every_stack(caller, method, "/nowhere/1", Accept=accept)
                for name, (status, headers, body) in hidden.items():
                    with self.subTest(f"{name}: {method} {target} for {accept}"):
                        if name in ("asgi", "wsgi"):
                            self.assertEqual(status, GONE)
                            if accept == PAGE:
                                self.assertEqual(body, "<p>our own missing page</p>")
                            continue
                        kept = {key: value for key, value in headers.items() if key not in varying}
                        there = {key: value for key, value in missing[name][1].items() if key not in varying}
                        self.assertEqual((status, kept, body), (GONE, there, missing[name][2]))

    def test_no_decision_is_crossed_under_load(self) -> None:
        """Thousands of requests, 50 at once, by callers of mixed roles; each answer must be for its own caller."""
        mixed = [
            (caller, method, target, status)
            for method, target, expected in TABLE
            if method == "GET" and target not in ("/drafts", "/stream/7", "/closed", "/nowhere")
            for caller, status in zip(CALLERS, expected, strict=True)
        ]
        ids = {"": "nobody", "new": "1", "grower": "3", "keeper": "4", "clerk": "5", "reviewer": "6"}

        def wrong(case: tuple[str, str, str, int], got: int, body: str) -> bool:
            served_for = set(re.findall(r" for (\w+)", body))
            return got != case[3] or (got == OK and bool(served_for) and served_for != {ids[case[0]]})

        def work(port: int, numbers: range) -> list[object]:
            bad: list[object] = []
            connection = http.client.HTTPConnection("127.0.0.1", port, timeout=60)
            for number in numbers:
                case = mixed[number * 7919 % len(mixed)]
                connection.request("GET", case[2], headers={"x-caller": case[0]})
                response = connection.getresponse()
                body = response.read().decode()
                if wrong(case, response.status, body):
                    bad.append((case, response.status, body))
            connection.close()
            return bad

        for name, count in (
            ("starlette", 1500),
            ("fastapi", 300),
            ("django on asgi", 300),
            ("flask", 300),
            ("wsgi", 300),
        ):
            with self.subTest(name), ThreadPoolExecutor(50) as pool:
                shares = [range(first, count, 50) for first in range(50)]
                port = self.ports[name]
                self.assertEqual([bad for found in pool.map(work, [port] * 50, shares) for bad in found], [])
