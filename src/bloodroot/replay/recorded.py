"""Lines of logs: access logs in the common, the combined or a JSON format, and audit logs of our own.

Lines are read as bytes and cut into parts that are compared as they are: most lines differ in their time alone.
"""

from __future__ import annotations

import datetime
import json
import re
from collections.abc import Iterable, Mapping
from typing import Any, NamedTuple

from ..core.methods import WEBSOCKET
from ..survey.log_lines import LONGEST, access_line, path_of

_FIELDS = {
    "method": ("method", "request_method", "http_method", "requestMethod"),
    "path": ("path", "uri", "request_uri", "url", "requestUrl", "target"),
    "status": ("status", "status_code", "response_code", "statusCode"),
    "time": ("time", "timestamp", "@timestamp", "time_iso8601", "ts", "time_local"),
    "user": ("user", "remote_user", "user_id", "username"),
    "roles": ("roles",),
    "request": ("request",),
}
_REQUEST = re.compile(r"([A-Za-z]+) (\S+)(?: HTTP/[\d.]+)?\Z").match
_SWITCHED, _WEBSOCKET = b"101", WEBSOCKET.encode()  # what opens a WebSocket is sent as GET (RFC 6455, section 4.1)
_WHO = ("roles", "groups", "scopes", "scoped_roles", "granted")


class Recorded(NamedTuple):
    """What a line says.

    Attributes:
        who: what the caller held, as the inner part of a JSON object; None where the log does not say.
        caller: the caller's id as JSON, or the name of the user in an access log; empty for none.
        method: the method; ``permission`` for what a service was asked beside endpoints.
        path: the path as it was sent, without its query; the permission.
        was: what became of it: the outcome, the reason and whether it was enforced, as the audit log writes them, or a
            status of HTTP.
        time: when, as it is written; that of an access log with its parts in an order in which they can be compared.
    """

    who: bytes | None
    caller: bytes
    method: bytes
    path: bytes
    was: bytes
    time: bytes


class Reader:
    """Reads lines.

    Args:
        fields: for JSON access logs, where each part is, as names with dots between them; others are guessed.
        actions: names of actions as askers of the decision service have them, to those of the policy.
    """

    def __init__(self, fields: Mapping[str, str] | None = None, actions: Mapping[str, str] | None = None) -> None:
        known = fields or {}
        self._ways = {name: ((known[name],) if name in known else usual) for name, usual in _FIELDS.items()}
        self._actions = actions or {}

    @staticmethod
    def key(line: bytes) -> tuple[tuple[bytes, ...], bytes] | None:
        """What a line has in common with others like it, and its time.

        That is all but the caller's id and what names the request. It is far quicker than reading the line; None where
        it has to be read.
        """
        if line[:1] != b"{":
            match = access_line(line) if len(line) <= LONGEST else None
            if match is None:
                return None
            user, time, method, target, status = match.groups()
            return (user, method, target.partition(b"?")[0], status), _in_order(time)
        if line[:10] != b'{"time": "' or line[-2:] != b"}\n":
            return None
        # In a string each quote has a backslash before it, so that what begins a member is nothing else.
        roles = line.find(b', "roles": ', 10)
        things = line.find(b'", "things": ', roles)
        # Things have names of their own: what comes behind them is looked for from the end.
        outcome = line.rfind(b', "outcome": "')
        seconds = line.find(b', "seconds": ', outcome)
        if not 0 < roles < things < outcome < seconds:
            return None
        if line[roles + 11 : roles + 15] == b"null" and b', "caller": null, ' not in line[:roles]:
            return None  # an id without roles is not a signed-out caller
        return (line[roles:things], line[outcome:seconds]), line[10 : line.find(b'"', 10)]

    @staticmethod
    def caller(line: bytes) -> bytes:
        """The caller of a line that has a key."""
        if line[:1] != b"{":
            match = access_line(line)
            assert match is not None
            return b"" if match[1] == b"-" else bytes(match[1]).strip(b'"')
        start = line.find(b', "caller": ', 10) + 12
        return line[start : line.find(b', "actor": ', start)]

    @staticmethod
    def is_beside(line: bytes) -> bool:
        """Whether a line belongs to a log and records no request: the beginning of a run of tests, or a search."""
        is_search = b', "asker": ' in line and b', "resource": "search ' in line
        return not line.strip() or is_search or line.startswith(b'{"run": ')

    def read(self, line: bytes) -> Recorded | None:
        """What a line says; None for one that says nothing of a request."""
        if len(line) > LONGEST:
            return None
        if line.startswith(b"{"):
            return self._of_json(line)
        match = access_line(line)
        if match is None:
            return None
        user, time, method, target, status = match.groups()
        if status == _SWITCHED:
            method = _WEBSOCKET
        user = b"" if user == b"-" else user.strip(b'"')
        return Recorded(None, user, method, path_of(target), status, _in_order(time))

    def _of_json(self, line: bytes) -> Recorded | None:
        try:
            values = json.loads(line)
        except (ValueError, RecursionError):
            return None
        if not isinstance(values, dict):
            return None
        if "outcome" in values and ("path" in values or "resource" in values):
            return _of_audit(values, self._actions)
        return _of_access({name: _first(values, names) for name, names in self._ways.items()})


def _of_access(found: dict[str, Any]) -> Recorded | None:
    if found["method"] is None and isinstance(found["request"], str):
        match = _REQUEST(found["request"])
        found["method"], found["path"] = match.groups() if match is not None else (None, None)
    path, status = found["path"], str(found["status"])
    method = WEBSOCKET if status == "101" else found["method"]
    if not isinstance(method, str) or not isinstance(path, str) or not re.fullmatch(r"\d{3}", status):
        return None
    user = found["user"] if found["user"] not in (None, "", "-") else None
    time = str(found["time"] if found["time"] is not None else "").encode()
    sent = method.encode(), path_of(path.encode()), status.encode(), time
    if isinstance(found["roles"], list):
        return Recorded(
            _inner({"roles": found["roles"] if user is not None else None}), json.dumps(user).encode(), *sent
        )
    return Recorded(None, str(user).encode() if user is not None else b"", *sent)


def _of_audit(values: Mapping[str, Any], actions: Mapping[str, str]) -> Recorded | None:
    method, path, resource = values.get("method"), values.get("path"), values.get("resource")
    if isinstance(resource, str) and not isinstance(path, str) and isinstance(method, str):
        method, path = "permission", f"{resource.partition(' ')[0]}:{actions.get(method, method)}"
    if not isinstance(method, str) or not isinstance(path, str):
        return None
    who = _inner({name: values.get(name) for name in _WHO})
    was = _inner({name: values.get(name) for name in ("outcome", "reason", "enforced")})
    caller = json.dumps(values.get("caller")).encode()
    return Recorded(who, caller, method.encode(), path.encode(), was, str(values.get("time") or "").encode())


def _inner(values: Mapping[str, Any]) -> bytes:
    return json.dumps(values, default=str)[1:-1].encode()


def _first(values: Mapping[str, Any], names: Iterable[str]) -> Any:
    """The first of some members that is there; names with dots lead to members of members."""
    for name in names:
        if name in values:
            return values[name]
        found: Any = values
        for step in name.split("."):
            found = found.get(step) if isinstance(found, dict) else None
        if found is not None:
            return found
    return None


def time_of(written: bytes) -> str:
    """A time as it is written in a log, as RFC 3339 in UTC; an empty string for one that cannot be read."""
    text = written.decode("ascii", "replace")
    for read in (datetime.datetime.fromisoformat, _as_seconds):
        try:
            found = read(text)
        except (ValueError, OverflowError, OSError):
            continue
        found = found if found.tzinfo is not None else found.replace(tzinfo=datetime.UTC)
        return found.astimezone(datetime.UTC).isoformat(timespec="seconds")
    return ""


_MONTHS = {
    name.encode(): f"-{number:02}-".encode()
    for number, name in enumerate(
        ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1
    )
}


def _in_order(time: bytes) -> bytes:
    """``04/Oct/2026:12:00:00 +0000`` as ``2026-10-04T12:00:00+0000``; any other text as it is."""
    month = _MONTHS.get(time[3:6])
    if month is None or len(time) != 26:
        return time
    return time[7:11] + month + time[:2] + b"T" + time[12:20] + time[21:]


def _as_seconds(text: str) -> datetime.datetime:
    number = float(text)
    return datetime.datetime.fromtimestamp(number / 1000 if number > 1e11 else number, datetime.UTC)
