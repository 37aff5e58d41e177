"""What docs/serve.md shows, and the module for Node, against a service that runs."""

import json
import os
import re
import shutil
import subprocess
from pathlib import Path

from tests.serving.serving import SECRETS, Serving, free_port

ROOT = Path(__file__).parents[2]
TEXT = (ROOT / "docs" / "serve.md").read_text("utf-8")
NODE = """
import http from "node:http";
import { Decisions, enforced } from "MODULE/index.js";

const at = (url, token = process.env.DESK_SECRET) => new Decisions({ url, token, timeout: TIMEOUT });
const subject = { type: "user", id: "ash", properties: { roles: ["member"] } };
const fire = (id) => ({ subject, action: { name: "can_fire" }, resource: { type: "kiln", id } });
const decisions = at("BASE");
const found = {};
found.own = await decisions.ask(fire("7"));
found.others = (await decisions.ask(fire("8"))).context.reason;
found.several = (await decisions.askAll([{ resource: fire("7").resource }, { resource: fire("8").resource }], fire("7")))
  .map((each) => each.decision);
found.none = await decisions.askAll([]);
found.wrongSecret = (await at("BASE", "x").ask(fire("7"))).context.error.message;
found.gone = (await at("http://127.0.0.1:CLOSED").ask(fire("7"))).context.error.message;
// Services that answer something else, or nothing: never a permit.
const answers = ['{"decision": "true"}', "[]", "null", "", '{"evaluations": [{"decision": true}]}'];
const strange = http.createServer((request, response) => {
  const place = Number(request.headers.authorization.split(" ")[1]);
  if (place === answers.length) return;
  if (place > answers.length) response.writeHead(302, { Location: "BASE/health" });
  response.end(answers[place]);
});
await new Promise((begun) => strange.listen(0, "127.0.0.1", begun));
const base = `http://127.0.0.1:${strange.address().port}`;
found.strange = [];
for (let place = 0; place < answers.length + 2; place++) {
  found.strange.push((await at(base, place).ask(fire("7"))).decision);
  found.strange.push(...(await at(base, place).askAll([fire("7"), fire("8")])).map((each) => each.decision));
}
const app = http.createServer((request, response) => {
  const who = request.headers["x-who"];
  const subjectOf = async () => {
    if (who === "broken") throw new Error("the session cannot be read");
    return who ? { type: "user", id: who, properties: { roles: ["member"] } } : null;
  };
  enforced(decisions, subjectOf)(request, response, () => response.end("handled"));
});
await new Promise((begun) => app.listen(0, "127.0.0.1", begun));
found.enforced = [];
for (const [method, path, who] of CASES) {
  const sent = { method, path, port: app.address().port, host: "127.0.0.1", headers: who ? { "x-who": who } : {} };
  found.enforced.push(await new Promise((done) => http.request(sent, (response) => {
    let text = "";
    response.on("data", (piece) => (text += piece)).on("end", () => done([response.statusCode, text.trim()]));
  }).end()));
}
console.log(JSON.stringify(found));
process.exit(0);
"""


class Page(Serving):
    def setUp(self) -> None:
        super().setUp()
        for name, text in re.findall(r"In `([\w.]+)`(?:, [\w ]+)?:\n\n```\w*\n(.*?)```", TEXT, re.S):
            self.write(name, text)
        self.assertEqual(
            {file.name for file in self.folder.iterdir()},
            {"access.bloodroot", "bloodroot.toml", "kilnhouse.py", "Decide.java", "decide.go"},
        )
        self.environment = {**os.environ, "DESK_SECRET": SECRETS["DESK"], "HOME": str(self.folder)}

    def test_what_it_shows(self) -> None:
        self.assertEqual(self.bloodroot("format", "--check").status, 0)
        shown = re.findall(r"```sh\n(curl .*?)```\n```json\n(.*?)```", TEXT, re.S)
        self.assertEqual(len(shown), 2)
        with self.serving(DESK_SECRET=SECRETS["DESK"]) as client:
            base = str(client.base_url).rstrip("/")
            for command, answer in shown:
                seen = self.printed("sh", "-c", command.replace("http://127.0.0.1:8180", base))
                self.assertEqual(json.loads(seen), json.loads(answer))
            for name, words in (("Decide.java", ["java"]), ("decide.go", ["go", "run"])):
                if shutil.which(words[0]) is None:
                    continue  # what the machine has is tried
                text = (self.folder / name).read_text("utf-8")
                self.write(name, text.replace("http://127.0.0.1:8180", base))
                self.assertEqual(self.printed(*words, name), "true")
                self.write(name, text.replace("http://127.0.0.1:8180", base).replace("ash", "fern"))
                self.assertEqual(self.printed(*words, name), "false")
                self.write(name, text.replace("127.0.0.1:8180", f"127.0.0.1:{free_port()}"))
                self.assertEqual(self.printed(*words, name), "false")

    def printed(self, *words: str) -> str:
        done = subprocess.run(
            words, cwd=self.folder, env=self.environment, capture_output=True, text=True, timeout=120, check=False
        )
        self.assertEqual(done.returncode, 0, done.stderr)
        return done.stdout.strip()

    def test_the_module_for_node(self) -> None:
        if shutil.which("node") is None:
            self.skipTest("node is not installed; scripts/system-packages installs it")
        denied = "Only its owner may fire a kiln."
        cases = (
            (("GET", "/kilns", "ash"), [200, "handled"]),
            (("GET", "/kilns", None), [401, "Sign in to use this."]),
            (("POST", "/kilns/7", "ash"), [200, "handled"]),
            (("POST", "/kilns/8", "ash"), [403, denied]),
            (("DELETE", "/kilns/7", "ash"), [403, "No one has access to this."]),
            (
                ("GET", "//kilns", "ash"),
                [400, "This address can be read in more than one way. Check its slashes, dots and signs."],
            ),
            (("GET", "http://kilns.example/kilns", "ash"), [403, "Refused."]),
            (("GET", "/kilns", "broken"), [503, "Refused."]),
        )
        with self.serving(DESK_SECRET=SECRETS["DESK"]) as client:
            program = NODE.replace("BASE", str(client.base_url).rstrip("/")).replace("CLOSED", str(free_port()))
            program = program.replace("MODULE", str(ROOT / "clients" / "node")).replace("TIMEOUT", "1500")
            program = program.replace("CASES", json.dumps([request for request, _ in cases]))
            self.write("try.mjs", program)
            seen = json.loads(self.printed("node", "try.mjs"))
        for (request, expected), found in zip(cases, seen.pop("enforced"), strict=True):
            with self.subTest(request):
                self.assertEqual(found, expected)
        self.assertEqual(set(seen.pop("strange")), {False})
        self.assertEqual(
            seen,
            {
                "own": {"decision": True, "context": {}},
                "others": "own",
                "several": [True, False],
                "none": [],
                "wrongSecret": "the service answers 401",
                "gone": "the service cannot be asked: ECONNREFUSED",
            },
        )
