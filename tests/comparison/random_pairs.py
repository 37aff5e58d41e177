"""Random policies, and the same with some lines changed."""

import random

from bloodroot.core.paths import overlap, parse_template

ROLES = ("reader", "writer", "owner", "clerk")
GROUPS = ("staff", "all", "new")
SEGMENTS = ("a", "b", "{id}", "{x}", "*", "a-{x}", "{x}-z")
CONDITIONS = {
    "own": "record.owner == caller.id",
    "mine": "path.id == caller.id",
    "active": 'caller.status == "active"',
    "small": "record.size < 5",
    "open": "record.open",
    "alone": "caller.actor? == none",
    "late": "record.until < now",
    "year": 'query.year == "2026"',
}
OTHERS = {
    "own": ("record.owner == caller.id or record.open", "caller.id == record.owner", "record.keeper == caller.id"),
    "mine": ("path.id != caller.id", "caller.id == path.id"),
    "active": ('caller.status != "left"', 'caller.status == "active" or caller.chief'),
    "small": ("record.size < 4", "record.size <= 5", "not record.size >= 5"),
    "open": ("not record.open", "record.open == true"),
    "alone": ("caller.actor? != none", "caller.actor == none", "not caller.actor? != none"),
    "late": ("record.until <= now", "not record.until >= now"),
    "year": ('query.year in ["2025", "2026"]',),
}
METHODS = ("GET", "POST", "PUT", "any", "GET POST")


class Draft:
    """A policy that can be changed a little at a time."""

    def __init__(self, random: random.Random) -> None:
        self.random = random
        self.includes = {"writer": ["reader"] if random.random() < 0.5 else [], "owner": ["writer"]}
        self.default = "reader" if random.random() < 0.2 else ""
        self.apart = {("clerk", "owner")} if random.random() < 0.3 else set()
        self.groups = {"staff": ["writer"], "all": ["reader", "clerk"] if random.random() < 0.3 else ["clerk"]}
        self.conditions = dict(CONDITIONS)
        self.grants = {"doc:read": self.grant(), "doc:edit": self.grant()}
        self.endpoints = {self.place(): self.requirement() for _ in range(random.randint(2, 6))}
        self.always = {}
        for _ in range(random.randint(0, 2)):
            self.add_rule()
        self.denials = {reason: self.answer() for reason in ("role", "any", "own") if random.random() < 0.5}
        self.fields = {name: self.requirement() for name in ("size", "*") if random.random() < 0.6}

    def add_rule(self) -> None:
        """A standing rule, which may leave a path out."""
        place = self.place()
        requirement = self.requirement()
        for _, path in self.random.sample(list(self.endpoints), min(2, len(self.endpoints))):
            covers = overlap(parse_template(place[1]), parse_template(path)) is not False
            if covers and self.random.random() < 0.4:
                requirement += f" except {path}"
        self.always[place] = requirement

    def place(self) -> tuple[str, str]:
        """A method and a template."""
        parts = [self.random.choice(SEGMENTS) for _ in range(self.random.randint(1, 3))]
        if self.random.random() < 0.2:
            parts[-1] = "**"
        seen: set[str] = set()
        for number, part in enumerate(parts):
            if "{" in part:
                name = part[part.index("{") + 1 : part.index("}")]
                if name in seen:
                    parts[number] = "a"
                seen.add(name)
        return self.random.choice(METHODS), "/" + "/".join(parts)

    def grant(self) -> str:
        pick = self.random.choice
        return pick(("reader", "writer if own", "owner, clerk if small", "clerk", "writer, clerk"))

    def answer(self) -> str:
        return self.random.choice(("status 403", 'status 409 "no"', "hide", "status 401"))

    def term(self) -> str:
        term = self.random.choice((*ROLES, "doc:read", "doc:edit", "signed-in", "signed-out", "anyone", "nobody"))
        return f"not {term}" if self.random.random() < 0.1 else term

    def requirement(self) -> str:
        found = []
        for _ in range(self.random.choice((1, 1, 2))):
            text = " and ".join(self.term() for _ in range(self.random.choice((1, 1, 1, 2))))
            if self.random.random() < 0.5:
                text += f" if {self.condition()}"
            found.append(text)
        return " or ".join(found)

    def condition(self) -> str:
        return self.random.choice(("own", "active", "small", "open", "late", "year", "alone"))

    def change(self) -> None:
        """Change something."""
        pick = self.random.choice
        what = self.random.randint(0, 13)
        if what <= 3 and self.endpoints:
            self.endpoints[pick(list(self.endpoints))] = self.requirement()
        elif what == 4:
            self.endpoints[self.place()] = self.requirement()
        elif what == 5 and len(self.endpoints) > 1:
            del self.endpoints[pick(list(self.endpoints))]
        elif what == 6:
            name = pick(list(CONDITIONS))
            self.conditions[name] = pick(OTHERS[name])
        elif what == 7:
            self.grants[pick(list(self.grants))] = self.grant()
        elif what == 8:
            self.add_rule()
            self.denials[pick(("role", "any", "own"))] = self.answer()
        elif what == 9:
            self.includes["writer"] = [] if self.includes["writer"] else ["reader"]
            self.fields["size"] = self.requirement()
        elif what == 10:
            self.groups[pick(("staff", "all", "new"))] = self.random.sample(ROLES, pick((1, 1, 2)))
        elif what == 11:
            self.apart ^= {pick((("clerk", "owner"), ("clerk", "reader"), ("clerk", "writer")))}
        elif what == 12:
            self.includes["clerk"] = [] if self.includes.get("clerk") else [pick(("reader", "writer"))]
        else:
            self.denials[pick(("role", "any", "own", "closed"))] = self.answer()

    def text(self) -> str:
        """The policy, its lines in any order."""
        lines = ["roles"]
        for role in ROLES:
            includes = self.includes.get(role)
            lines.append(f"  {role}{' includes ' + ', '.join(includes) if includes else ''}")
            if role == self.default:
                lines[-1] += " default"
        lines += [f"  apart {one}, {other}" for one, other in sorted(self.apart)]
        lines += ["groups", *(f'  "{name}" {", ".join(roles)}' for name, roles in self.groups.items())]
        lines += ["conditions", *(f"  {name} {test}" for name, test in self.conditions.items())]
        lines += ["permissions", *(f"  {name} {to}" for name, to in self.grants.items())]
        for section, entries in (("endpoints", self.endpoints), ("always", self.always)):
            shuffled = list(entries.items())
            self.random.shuffle(shuffled)
            lines += [section, *(f"  {method} {path} {asks}" for (method, path), asks in shuffled)]
        lines += ["denials", *(f"  {reason} {answer}" for reason, answer in self.denials.items())]
        if self.fields:
            lines += ["fields doc", *(f"  {name} read {asks}" for name, asks in self.fields.items())]
        return "\n".join(lines) + "\n"
