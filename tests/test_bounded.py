"""7: no request, file or policy keeps a processor for long, whatever is in it.

The limit is far above what each takes, and far below what it took when work grew faster than its input.
"""

import resource
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

from starlette.responses import PlainTextResponse

import bloodroot
from bloodroot import Caller
from bloodroot.enforce import asgi
from bloodroot.enforce.responses import is_program
from bloodroot.request import AsgiRequest
from bloodroot.survey.documents import survey_openapi
from bloodroot.survey.endpoints import SurveyError
from bloodroot.survey.logs import survey_log
from bloodroot.survey.requests import Observed
from tests.program import InFolder
from tests.servers import ask, serving

SECONDS = 6.0
MB = 1 << 20


class Bounded(InFolder):
    def soon(self, work: Callable[[], Any]) -> Any:
        began = time.process_time()
        found = work()
        self.assertLess(time.process_time() - began, SECONDS)
        return found

    def test_7_headers_and_paths_of_a_request(self) -> None:
        headers: tuple[tuple[bytes, bytes], ...] = (
            (b"accept", b"text/html;q=0.9," * (MB // 4)),
            (b"accept", b"text/html;q=" + b"1" * 4 * MB),
            (b"accept", b";" * 4 * MB),
            (b"content-type", b";" * 4 * MB),
            (b"cookie", b'a="' + b"\\" * MB + b'"'),
            (b"cookie", b"a=b;" * MB),
            (b"authorization", b"Bearer " + b"a." * MB),
        )
        for name, value in headers:
            request = AsgiRequest({"path": "/x", "headers": [(name, value)], "query_string": b"a&" * MB})
            with self.subTest(name, value=value[:20]):
                self.soon(lambda request=request: (is_program(request), request.cookies))
        request = AsgiRequest({"path": "/x", "headers": [(b"cookie", b'a=b; c="d e"; f; =g; a=h')]})
        self.assertEqual(request.cookies, {"a": "h", "c": "d e"})
        lines = "".join(f"  GET /a/{{x}}/b{n}/* anyone\n  GET /a/*/{{y}}/c{n} anyone\n" for n in range(60))
        policy = bloodroot.parse(f"endpoints\n{lines}  any /** anyone\n")
        for path in ("/a" * MB, "/%41" * MB, "/" + "a" * MB, "/é" * MB, "/a/b" * MB):
            with self.subTest(path[:8]):
                decision = self.soon(lambda path=path: policy.decide(Caller(1), "GET", path))
                self.assertEqual(decision.reason, "ambiguous-path")
        self.assertTrue(policy.decide(None, "GET", "/a" * 8000).allowed)

        async def serve(scope: Any, receive: Any, send: Any) -> None:
            await PlainTextResponse("served")(scope, receive, send)

        with serving(asgi.AccessMiddleware(serve, policy, identify=lambda request: None)) as port:
            status = self.soon(lambda: ask(port, "GET", "/a", Accept="text/html;q=0.9," * 3500)[0])
            self.assertEqual(status, 200)

    def test_7_lines_of_a_log(self) -> None:
        good = '192.0.2.1 - - [04/May/2026:12:00:00 +0000] "GET /a HTTP/1.1" 200 5\n'
        start = "192.0.2.1 - "
        for odd in (" [" * 30_000, "[x] " * 15_000, '" [x] "GET ' * 5_000, '[x] "GET a ' * 5_000, "a [" * 20_000):
            file = Path(self.write("access.log", f"{good}{start}{odd}\n" * 3))
            with self.subTest(odd[:8]):
                found = self.soon(lambda file=file: survey_log(file, Observed()))
                self.assertEqual(found.endpoints[0].count, 3)

    def test_7_yaml_that_stands_for_more_than_it_is(self) -> None:
        steps = [f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9)}]" for n in range(1, 10)]
        merged = [f"m{n}: &m{n} {{<<: [{', '.join([f'*m{n - 1}'] * 9)}]}}" for n in range(1, 10)]
        head = "openapi: 3.0.0\npaths: {}\n"
        for text, message in (
            (f"{head}a0: &a0 [x]\n" + "\n".join(steps), "with its aliases written out"),
            (f"{head}m0: &m0 {{x: 1}}\n" + "\n".join(merged), "with its aliases written out"),
            (f"{head}x: &x [*x]\n", "an alias is within what it stands for"),
        ):
            file = Path(self.write("api.yaml", text))
            with self.subTest(message), self.assertRaisesRegex(SurveyError, message):
                self.soon(lambda file=file: survey_openapi(file))
        # How deep a document may be, PyYAML says: from 6.0.4 on it has a limit.
        file = Path(self.write("api.yaml", f"{head}x: " + "[" * 5000 + "]" * 5000))
        try:
            self.assertEqual(self.soon(lambda: survey_openapi(file)).endpoints, ())
        except SurveyError as error:
            self.assertIn("this is not YAML", str(error))
        shared = f"{head}x: &x {{a: 1}}\ny: [{', '.join(['*x'] * 500)}]\n"
        self.assertEqual(survey_openapi(Path(self.write("api.yaml", shared))).endpoints, ())

    def test_7_conditions_that_are_hard_to_reason_about(self) -> None:
        def hard(number: int) -> str:
            before = f"c{number - 1}"
            return f"{before} and record.x{number} == 1 or {before} and record.y{number} == 1"

        def long(number: int) -> str:
            return f"c{number - 1} or record.x{number} in [{', '.join(map(str, range(300)))}]"

        for make in (hard, long):
            conditions = "".join(f"  c{number} {make(number)}\n" for number in range(1, 20))
            self.write(
                "access.bloodroot",
                f"roles\n  keeper\nconditions\n  c0 record.a == 1\n{conditions}"
                "endpoints\n  GET /a/{x} keeper if c19\n  PUT /a/{x} keeper if c18\n",
            )
            before = resource.getrusage(resource.RUSAGE_CHILDREN)
            done = self.bloodroot("check")
            after = resource.getrusage(resource.RUSAGE_CHILDREN)
            self.assertLess(after.ru_utime - before.ru_utime, 5 * SECONDS)
            self.assertIn("checked", done.out)
