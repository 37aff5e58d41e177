"""``bloodroot.toml``, or ``[tool.bloodroot]`` in ``pyproject.toml``: found and read."""

from __future__ import annotations

import os
import tomllib
from pathlib import Path
from typing import Any

from ..language.problems import suggestion
from . import identity
from .checked import Checked, SettingsError
from .project import Body, Example, Persona, Sample, Settings, SignIn

NAME = "bloodroot.toml"
_KNOWN = (
    "policy",
    "app",
    "environment",
    "identity",
    "directory",
    "token",
    "personas",
    "samples",
    "probe",
    "bodies",
)


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


class _Reader(Checked):
    """Reads the whole file."""

    def settings(self, table: dict[str, Any]) -> Settings:
        """The whole file."""
        self.check_keys("", table, _KNOWN)
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
            identity.read_sources(self, table.get("identity", [])),
            identity.read_development(self, table.get("token")),
            identity.read_directory(self, table.get("directory")),
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
        known = ("signed_in", "roles", "groups", "permissions", "attributes")
        extra = {key: value for key, value in table.items() if key not in known}
        for key, value in extra.items():
            if key not in self.asked:
                guess = suggestion(key, known) or f"; nothing asks for {{persona.{key}}}"
                raise self.fail(f"{where}.{key}", f"unknown key{guess}")
            if not isinstance(value, str | int | float) or isinstance(value, bool):
                raise self.fail(f"{where}.{key}", "this must be a text or a number")
        signed_in = self.flag(f"{where}.signed_in", table.get("signed_in", True))
        attributes = self.table(f"{where}.attributes", table.get("attributes", {}))
        roles = self.texts(f"{where}.roles", table.get("roles", []))
        if not signed_in and (roles or attributes):
            raise self.fail(f"{where}.signed_in", "a persona that is not signed in has no roles and no attributes")
        values = {key: str(value) for key, value in {**attributes, **extra, "name": name}.items()}
        groups = self.texts(f"{where}.groups", table.get("groups", []))
        permissions = self.texts(f"{where}.permissions", table.get("permissions", []))
        return Persona(name, signed_in, roles, groups, attributes, values, permissions)

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
        return SignIn(
            how,
            path,
            {name: self.value(f"{where}.fields.{name}", value) for name, value in fields.items()},
            self.text(f"{where}.token", table.get("token"), None),
            self.template(f"{where}.for", table.get("for")),
        )

    def body(self, where: str, value: Any) -> Body:
        table = self.table(where, value)
        if len(table) != 1 or next(iter(table)) not in ("form", "json"):
            raise self.fail(where, "this must be { form = { ... } } or { json = ... }")
        ((kind, content),) = table.items()
        if kind == "form":
            content = {name: self.value(f"{where}.{name}", each) for name, each in self.table(where, content).items()}
        return Body(kind, content)
