"""What a run needs to know about one project: ``bloodroot.toml``, or ``[tool.bloodroot]`` in ``pyproject.toml``."""

from __future__ import annotations

import os
import re
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from .core.caller import Caller
from .core.paths import Template, TemplateError, parse_template
from .language.problems import suggestion

NAME = "bloodroot.toml"
_ASKED = re.compile(r"\{(env|persona)\.([^{}]*)\}")


class SettingsError(Exception):
    """Settings that cannot be used. The message names the file, the key and the way out."""


@dataclass(frozen=True, slots=True)
class Persona:
    """A made-up caller with credentials, used to probe.

    Attributes:
        name: its name in the settings.
        signed_in: False for a visitor.
        roles: roles held directly.
        groups: groups that a directory would send.
        attributes: what conditions may ask for; ``id`` becomes the caller's id.
        values: texts for ``{persona.NAME}``: the attributes, and whatever else the settings say of this persona.
    """

    name: str
    signed_in: bool = True
    roles: tuple[str, ...] = ()
    groups: tuple[str, ...] = ()
    attributes: Mapping[str, Any] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)

    @property
    def caller(self) -> Caller | None:
        """The persona as a policy sees it; None for a visitor."""
        if not self.signed_in:
            return None
        rest = {name: value for name, value in self.attributes.items() if name != "id"}
        return Caller(self.attributes.get("id"), self.roles, self.groups, rest)


@dataclass(frozen=True, slots=True)
class Example:
    """A record for which a condition is known to hold or to fail.

    Attributes:
        values: parameters of the path that lead to it.
        mark: text that stands in this record and in no other, or None.
    """

    values: Mapping[str, str]
    mark: str | None = None


@dataclass(frozen=True, slots=True)
class Sample:
    """For one condition, a record where it holds and one where it fails."""

    holds: Example | None = None
    fails: Example | None = None


@dataclass(frozen=True, slots=True)
class SignIn:
    """How a persona signs in.

    Attributes:
        how: ``form`` or ``json``.
        path: where to.
        fields: what is sent, with ``{persona.NAME}`` and ``{env.NAME}`` to be filled in.
        token: where a JSON answer has the bearer token, names with dots between them; None for cookies.
        covers: the paths that this way of signing in is for; None for all.
    """

    how: str
    path: str
    fields: Mapping[str, str]
    token: str | None = None
    covers: Template | None = None


@dataclass(frozen=True, slots=True)
class Body:
    """What is sent along with a request: a form or JSON."""

    kind: str
    content: Any


@dataclass(frozen=True, slots=True)
class Settings:
    """Everything in the file, checked.

    Attributes:
        file: the file itself.
        policy: the policy file.
        app: the application object as ``module:name``, or None.
        personas: by name, in the order of the file.
        values: for each parameter of a path, a value.
        samples: for conditions, by name.
        sign_ins: ways to sign in, as they stand in the file.
        reset: a command, or ``module:function``, that puts the data back; None where there is none.
        bodies: what is sent, by method and path template such as ``POST /trials``.
    """

    file: Path
    policy: Path
    app: str | None = None
    personas: Mapping[str, Persona] = field(default_factory=dict)
    values: Mapping[str, str] = field(default_factory=dict)
    samples: Mapping[str, Sample] = field(default_factory=dict)
    sign_ins: tuple[SignIn, ...] = ()
    reset: str | None = None
    bodies: Mapping[str, Body] = field(default_factory=dict)

    @property
    def folder(self) -> Path:
        """The project's folder: relative names start here."""
        return self.file.parent

    def fill(self, text: str, persona: Persona | None, where: str) -> str:
        """A text with ``{env.NAME}`` and ``{persona.NAME}`` filled in.

        Raises:
            SettingsError: the environment, or the persona, has no such name.
        """

        def filled(match: re.Match[str]) -> str:
            root, name = match.groups()
            if root == "env":
                if name not in os.environ:
                    raise SettingsError(
                        f"{self.file.name}: {where} asks for {match[0]}, and {name} is not set; set it in the "
                        f'environment, or in a file of NAME=value lines named by environment = "..."'
                    )
                return os.environ[name]
            if persona is None or name not in persona.values:
                called = f'persona "{persona.name}"' if persona else "nobody"
                raise SettingsError(
                    f"{self.file.name}: {where} asks for {match[0]}, and {called} has no {name}; "
                    f'write {name} = "..." under [personas.{persona.name if persona else "..."}]'
                )
            return persona.values[name]

        return _ASKED.sub(filled, text)


def find_settings(start: Path | None = None) -> Path | None:
    """The settings file of the project that a folder belongs to, by default the current one; None without one."""
    folder = (start or Path.cwd()).resolve()
    for each in (folder, *folder.parents):
        if (each / NAME).is_file():
            return each / NAME
        project = each / "pyproject.toml"
        if project.is_file():
            try:
                found = tomllib.loads(project.read_text("utf-8"))
            except (OSError, ValueError):
                continue
            if "bloodroot" in found.get("tool", {}):
                return project
    return None


def read_settings(file: Path) -> Settings:
    """Read and check a settings file; the file named by its ``environment`` fills in what the environment lacks.

    Raises:
        SettingsError: naming the first key that cannot be used.
    """
    try:
        text = file.read_text("utf-8-sig")
        table = tomllib.loads(text)
    except FileNotFoundError:
        raise SettingsError(f"{file}: there is no such file") from None
    except (OSError, UnicodeDecodeError) as error:
        raise SettingsError(f"{file}: this file cannot be read: {error}") from None
    except tomllib.TOMLDecodeError as error:
        raise SettingsError(f"{file}: this is not TOML: {error}") from None
    if file.name == "pyproject.toml":
        table = table.get("tool", {}).get("bloodroot", {})
    return _Reader(file, text).settings(table)


class _Reader:
    """Checks a table key by key. What is wrong is told with the line that it most likely stands on."""

    def __init__(self, file: Path, text: str) -> None:
        self.file = file
        self.lines = text.splitlines()
        self.asked = {name for root, name in _ASKED.findall(text) if root == "persona"}

    def fail(self, where: str, message: str) -> SettingsError:
        key = where.rsplit(".", 1)[-1].strip('"')
        pattern = re.compile(rf'^\s*(?:\[+[^\]]*\b)?"?{re.escape(key)}"?\s*[\]=.]')
        number = next((number for number, line in enumerate(self.lines, 1) if pattern.match(line)), None)
        place = f"{self.file.name}:{number}" if number else self.file.name
        return SettingsError(f"{place}: {where}: {message}")

    def settings(self, table: dict[str, Any]) -> Settings:
        """The whole file."""
        known = ("policy", "app", "environment", "personas", "samples", "probe", "bodies")
        self.check_keys("", table, known)
        folder = self.file.parent
        environment = self.text("environment", table.get("environment"), None)
        if environment is not None:
            self.take_environment(folder / environment)
        values, samples = self.samples(self.table("samples", table.get("samples", {})))
        probe = self.table("probe", table.get("probe", {}))
        self.check_keys("probe", probe, ("reset", "sign_in"))
        sign_ins = probe.get("sign_in", [])
        if isinstance(sign_ins, dict):
            sign_ins = [sign_ins]
        if not isinstance(sign_ins, list):
            raise self.fail("probe.sign_in", "this must be a table, or several with [[probe.sign_in]]")
        return Settings(
            self.file,
            folder / (self.text("policy", table.get("policy"), "access.bloodroot") or ""),
            self.text("app", table.get("app"), None),
            {
                name: self.persona(name, self.table(f"personas.{name}", persona))
                for name, persona in self.table("personas", table.get("personas", {})).items()
            },
            values,
            samples,
            tuple(self.sign_in(self.table("probe.sign_in", each)) for each in sign_ins),
            self.text("probe.reset", probe.get("reset"), None),
            {
                " ".join(name.split()): self.body(f'bodies."{name}"', body)
                for name, body in self.table("bodies", table.get("bodies", {})).items()
            },
        )

    def take_environment(self, file: Path) -> None:
        """NAME=value lines, for names that the environment does not have yet."""
        try:
            lines = file.read_text("utf-8").splitlines()
        except OSError as error:
            raise self.fail("environment", f"{file.name} cannot be read: {error.strerror}") from None
        for number, line in enumerate(lines, 1):
            if line.strip() and not line.lstrip().startswith("#"):
                name, equals, value = line.partition("=")
                if not equals or not name.strip().isidentifier():
                    raise SettingsError(f"{file.name}:{number}: this line is not NAME=value")
                os.environ.setdefault(name.strip(), value.strip().strip('"'))

    def persona(self, name: str, table: dict[str, Any]) -> Persona:
        where = f"personas.{name}"
        known = ("signed_in", "roles", "groups", "attributes")
        extra = {key: value for key, value in table.items() if key not in known}
        for key, value in extra.items():
            if key not in self.asked:
                guess = suggestion(key, known) or f"; nothing asks for {{persona.{key}}}"
                raise self.fail(f"{where}.{key}", f"unknown key{guess}")
            if not isinstance(value, str | int | float) or isinstance(value, bool):
                raise self.fail(f"{where}.{key}", "this must be a text or a number")
        signed_in = table.get("signed_in", True)
        if not isinstance(signed_in, bool):
            raise self.fail(f"{where}.signed_in", "this must be true or false")
        attributes = self.table(f"{where}.attributes", table.get("attributes", {}))
        roles = self.texts(f"{where}.roles", table.get("roles", []))
        if not signed_in and (roles or attributes):
            raise self.fail(f"{where}.signed_in", "a persona that is not signed in has no roles and no attributes")
        values = {key: str(value) for key, value in {**attributes, **extra, "name": name}.items()}
        groups = self.texts(f"{where}.groups", table.get("groups", []))
        return Persona(name, signed_in, roles, groups, attributes, values)

    def samples(self, table: dict[str, Any]) -> tuple[dict[str, str], dict[str, Sample]]:
        values: dict[str, str] = {}
        samples: dict[str, Sample] = {}
        for name, value in table.items():
            where = f"samples.{name}"
            if isinstance(value, dict):
                self.check_keys(where, value, ("holds", "fails"))
                each = {key: self.example(f"{where}.{key}", example) for key, example in value.items()}
                samples[name] = Sample(each.get("holds"), each.get("fails"))
            else:
                values[name] = self.value(where, value)
        return values, samples

    def example(self, where: str, value: Any) -> Example:
        table = {key: self.value(f"{where}.{key}", each) for key, each in self.table(where, value).items()}
        mark = table.pop("mark", None)
        if not table:
            raise self.fail(where, "this needs the parameters of the path, such as { trial_id = 7 }")
        return Example(table, mark)

    def sign_in(self, table: dict[str, Any]) -> SignIn:
        where = "probe.sign_in"
        self.check_keys(where, table, ("how", "path", "fields", "token", "for"))
        how = self.text(f"{where}.how", table.get("how"), None)
        if how not in ("form", "json"):
            raise self.fail(f"{where}.how", 'this must be "form" or "json"')
        path = self.text(f"{where}.path", table.get("path"), None)
        if path is None or not path.startswith("/"):
            raise self.fail(f"{where}.path", "this must be the path of the application's own sign-in, such as /sign-in")
        fields = self.table(f"{where}.fields", table.get("fields", {}))
        covers = self.text(f"{where}.for", table.get("for"), None)
        try:
            template = parse_template(covers) if covers is not None else None
        except TemplateError as error:
            raise self.fail(f"{where}.for", str(error)) from None
        return SignIn(
            how,
            path,
            {name: self.value(f"{where}.fields.{name}", value) for name, value in fields.items()},
            self.text(f"{where}.token", table.get("token"), None),
            template,
        )

    def body(self, where: str, value: Any) -> Body:
        table = self.table(where, value)
        if len(table) != 1 or next(iter(table)) not in ("form", "json"):
            raise self.fail(where, "this must be { form = { ... } } or { json = ... }")
        ((kind, content),) = table.items()
        if kind == "form":
            content = {name: self.value(f"{where}.{name}", each) for name, each in self.table(where, content).items()}
        return Body(kind, content)

    def check_keys(self, where: str, table: dict[str, Any], known: tuple[str, ...]) -> None:
        for key in table:
            if key not in known:
                guess = suggestion(key, known) or f"; known are {', '.join(known)}"
                raise self.fail(f"{where}.{key}".strip("."), f"unknown key{guess}")

    def table(self, where: str, value: Any) -> dict[str, Any]:
        if not isinstance(value, dict):
            raise self.fail(where, "this must be a table")
        return value

    def text(self, where: str, value: Any, default: str | None) -> str | None:
        if value is None:
            return default
        if not isinstance(value, str) or not value:
            raise self.fail(where, "this must be a text")
        return value

    def texts(self, where: str, value: Any) -> tuple[str, ...]:
        if not isinstance(value, list) or not all(isinstance(each, str) for each in value):
            raise self.fail(where, 'this must be a list of names, such as ["curator"]')
        return tuple(value)

    def value(self, where: str, value: Any) -> str:
        """A text or a number, as text."""
        if isinstance(value, bool) or not isinstance(value, str | int | float):
            raise self.fail(where, "this must be a text or a number")
        return str(value)
