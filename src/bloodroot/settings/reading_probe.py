"""``[samples]``, ``[bodies]`` and ``[probe]``, read and checked."""

from __future__ import annotations

import re
from dataclasses import dataclass
from difflib import get_close_matches
from typing import Any

from ..core.paths import TemplateError, parse_template
from .checked import SettingsTable
from .probing import (
    ActingSettings,
    Body,
    Example,
    FieldSamples,
    KnownAnswer,
    ListedValue,
    ProbeRules,
    Sample,
    SignIn,
    ThingSample,
)

SIGN_IN_WAYS = ("form", "json", "bearer", "basic", "header")
_ANSWER = re.compile(r"([1-5][0-9][0-9])(?:\s+(\S.*))?")


@dataclass(frozen=True, slots=True)
class Samples:
    """``[samples]``.

    Attributes:
        values: for each parameter, its value.
        candidates: for each parameter, several values: which suits whom is for the records to say.
        conditions: the records for each condition.
        things: the records of each thing.
    """

    values: dict[str, str]
    candidates: dict[str, tuple[str, ...]]
    conditions: dict[str, Sample]
    things: dict[str, dict[str, ThingSample]]


def read_samples(table: SettingsTable) -> Samples:
    """``[samples]``: values for parameters, records for conditions, and records of things."""
    values: dict[str, str] = {}
    candidates: dict[str, tuple[str, ...]] = {}
    samples: dict[str, Sample] = {}
    things: dict[str, dict[str, ThingSample]] = {}
    for name, value in table.values.items():
        if isinstance(value, dict) and _is_of_records(value):
            things[name] = {each: _thing_sample(found) for each, found in table.table(name).each_table().items()}
        elif isinstance(value, dict):
            sample = table.table(name, "samples.NAME")
            sample.known()
            found = [tuple(map(_example, sample.tables(key))) if key in sample else () for key in ("holds", "fails")]
            samples[name] = Sample(*found)
        elif isinstance(value, list):
            candidates[name] = tuple(
                SettingsTable(table.checked, table.path, {name: each}).value(name) for each in value
            )
        else:
            values[name] = table.value(name)
    return Samples(values, candidates, samples, things)


def _is_of_records(table: dict[str, Any]) -> bool:
    """Whether it is a table of records, by their identifiers: not one with the examples of a condition, misspelled."""
    near = any(get_close_matches(key, ("holds", "fails")) for key in table)
    return bool(table) and not near and all(isinstance(value, dict) for value in table.values())


def _thing_sample(table: SettingsTable) -> ThingSample:
    values = table.each_value()
    mark = values.pop("mark", None)
    return ThingSample(values, mark)


def _example(table: SettingsTable) -> Example:
    query = table.table("query").each_value()
    values = SettingsTable(
        table.checked, table.path, {k: v for k, v in table.values.items() if k != "query"}
    ).each_value()
    mark = values.pop("mark", None)
    if not values and not query:
        table.problem(None, "this needs the parameters of the path, such as { trial_id = 7 }")
    return Example(values, mark, query)


def read_bodies(table: SettingsTable) -> dict[str, tuple[Body, ...]]:
    """``[bodies]``: what is sent, by method and path template."""
    bodies = {
        " ".join(name.split()): [_body(each) for each in table.tables(name, "bodies.NAME")] for name in table.values
    }
    return {name: found for name, each in bodies.items() if (found := tuple(body for body in each if body is not None))}


def _body(table: SettingsTable) -> Body | None:
    if len(table.values) != 1 or next(iter(table.values)) not in table.keys:
        table.problem(None, "this must be { form = { ... } } or { json = ... }")
        return None
    if "form" in table:
        return Body("form", table.table("form").each_value())
    return Body("json", table.values["json"])


def read_probe(table: SettingsTable) -> ProbeRules:
    """``[probe]``."""
    table.known()
    state = _state(table)
    answers = table.table("answers", "probe.answers")
    answers.known()
    known_answers = [_answer(answers, key, text) for key in answers.keys for text in answers.names(key)]
    return ProbeRules(
        tuple(_sign_in(each) for each in table.tables("sign_in", "probe.sign_in")),
        table.text("reset"),
        tuple(known_answer for known_answer in known_answers if known_answer is not None),
        state,
        table.text("engine"),
        table.text("take_away"),
        {kind: _fields(each) for kind, each in table.table("fields").each_table("probe.fields.KIND").items()},
        {name: _listed(each) for name, each in table.table("values").each_table("probe.values.NAME").items()},
        int(table.number("at_once", least=1, most=100, unit="requests")),
        table.number("rate", least=0.01, most=100_000, unit="requests a second") if "rate" in table else None,
        table.number("timeout", least=0.1, most=3600, unit="seconds"),
        table.file("journal"),
        tuple(table.names("exclude")),
        table.table("accept").each_value(),
        tuple(table.checked.file.parent / name for name in table.names("recorded")),
        tuple(table.names("personas")),
        table.table("copies").each_value(),
        _acting(table.table("acting", "probe.acting")) if "acting" in table else None,
    )


def _state(table: SettingsTable) -> str | tuple[str, ...] | None:
    if isinstance(table.values.get("state"), list):
        return table.names("state")
    state = table.text("state")
    if state is not None and ":" not in state:
        message = 'this must be "module:function", which returns a value that changes when the data does'
        table.problem("state", f'{message}, or the files and tables that hold the data, such as ["seedbank.db"]')
    return state


def _fields(table: SettingsTable) -> FieldSamples:
    table.known()
    change = tuple(" ".join(name.split()) for name in table.names("change"))
    values = table.table("values").values
    if bool(change) != bool(values):
        table.problem(None, "change says where fields are changed, and values what is sent; write both, or neither")
    return FieldSamples(table.table("marks").each_value(), change, values)


def _listed(table: SettingsTable) -> ListedValue:
    table.known()
    texts = {key: table.text(key) for key in table.keys}
    for key, value in texts.items():
        if value is None:
            table.problem(None, f'{key} is missing; write {{ list = "/api/trials", at = "0.id", as = "curator" }}')
    path = texts["list"] or "/"
    if not path.startswith("/"):
        table.problem("list", "a path begins with /")
    return ListedValue(path, texts["at"] or "", texts["as"] or "")


def _answer(table: SettingsTable, key: str, text: str) -> KnownAnswer | None:
    match = _ANSWER.fullmatch(text.strip())
    if match is None:
        table.problem(key, f'"{text}": write a status, and what the page says or where it leads: "302 /home"')
        return None
    status, said = int(match[1]), match[2] or ""
    if not 300 <= status < 400:
        if status < 300 and not said and key != "done":
            table.problem(key, f'"{text}" would be every page; write what it says too, as in "200 You have no access"')
        return KnownAnswer(key, status, said)
    if not said:
        table.problem(key, f'"{text}": write where it leads too, as in "{status} /home"')
        return None
    try:
        return KnownAnswer(key, status, said, parse_template(said))
    except TemplateError as error:
        table.problem(key, f'"{text}": {error}')
        return None


def _acting(table: SettingsTable) -> ActingSettings:
    table.known()
    path, page = table.text("path") or "", table.text("page")
    for key, value in (("path", path), ("page", page)):
        if value is not None and not value.startswith("/"):
            table.problem(key if value else None, f"{key} is missing, or no path: it begins with /")
    return ActingSettings(path, page, table.table("fields").each_value(), table.text("token"))


def _sign_in(table: SettingsTable) -> SignIn:
    how = table.choice("how", SIGN_IN_WAYS) or "form"
    table.known_of(how, "how")
    path = table.text("path") or ""
    if how in ("form", "json") and not path.startswith("/"):
        table.problem("path", "this must be the path of the application's own sign-in, such as /sign-in")
    elsewhere = "://" in path or path.startswith("{env.")
    if how == "bearer" and path and not path.startswith("/") and not elsewhere:
        table.problem("path", "a path begins with /, and the address of a provider with https://")
    if how == "bearer" and path and "token" not in table and not elsewhere:
        table.problem(None, 'token is missing: where does the answer have it? Write token = "access_token"')
    fields = table.table("fields").each_value()
    if how == "basic" and set(fields) != {"name", "password"}:
        table.problem("fields", 'this must be { name = "...", password = "{env.NAME}" }')
    if how == "header" and not fields:
        table.problem("fields", 'this must be the headers that the proxy sends, as in { "X-Member" = "{persona.id}" }')
    lands = table.text("lands")
    if lands is not None and not lands.startswith("/"):
        table.problem("lands", "this must be the path of the page that signing in leads to, such as /desk")
    token = table.text("token") or ("access_token" if elsewhere else None)
    return SignIn(how, path, fields, token, table.template("for"), lands, table.text("csrf"))
