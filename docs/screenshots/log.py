"""An audit log as the seed bank of the demo writes one, for the picture of replay: python log.py FOLDER."""

import datetime
import json
import random
import sys
from pathlib import Path

import bloodroot

MEMBERS = {3: ["curator"], 5: ["botanist"], 6: ["botanist"], 8: ["volunteer"], 9: ["volunteer"], 11: ["registrar"]}


def main(folder: Path) -> None:
    """Six weeks of requests, to four of five lines."""
    policy = bloodroot.load(folder / "access.bloodroot")
    numbers = random.Random(4)
    began = datetime.datetime(2026, 10, 5, 8, tzinfo=datetime.UTC)
    lines = []
    used = [line for line in policy.endpoints if line.order % 5 and "send" not in line.template.text]
    for number in range(40_000):
        line = numbers.choice(used)
        path = line.template.text.replace("**", "logo.svg")
        for name in line.template.names:
            path = path.replace(f"{{{name}}}", str(numbers.randrange(1, 40)))
        method = numbers.choice(line.methods or ("GET",))
        member = numbers.choice([*MEMBERS, None])
        attributes = {"status": "active"}
        caller = bloodroot.Caller(member, MEMBERS[member], attributes=attributes) if member is not None else None
        allowed = policy.decide(caller, method, path).outcome in ("allow", "depends")
        lines.append(
            {
                "time": (began + datetime.timedelta(seconds=number * 90)).isoformat(timespec="milliseconds"),
                "request": f"{number:08x}",
                "caller": member,
                "actor": None,
                "roles": MEMBERS.get(member),
                "groups": [] if member is not None else None,
                "scopes": None,
                "scoped_roles": None,
                "method": method,
                "path": path,
                "things": {},
                "line": f"access.bloodroot:{line.place.line}",
                "outcome": "allow" if allowed else "deny" if member is not None else "sign-in",
                "reason": None if allowed else "role",
                "enforced": True,
                "seconds": 0.0002,
            }
        )
    (folder / "audit.jsonl").write_text("".join(f"{json.dumps(each)}\n" for each in lines), "utf-8")


if __name__ == "__main__":
    main(Path(sys.argv[1]))
