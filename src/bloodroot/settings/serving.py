"""``[serve]``, as plain data and read."""

from __future__ import annotations

import ipaddress
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from .checked import ENVIRONMENT, SettingsTable

BELIEVED = ("roles", "records")


@dataclass(frozen=True, slots=True)
class Asker:
    """A service that may ask.

    Attributes:
        name: what it is called.
        token: the secret that it shows, as the settings write it, ``{env.NAME}``; None for one with a certificate.
        certificate: the subject of its certificate as RFC 4514 writes it, or its SHA-256 fingerprint; None for one with
            a secret.
        believed: what is believed of its questions: ``roles`` of subjects, ``records`` in the properties of resources.
        search: whether it may ask who may do something, and what.
    """

    name: str
    token: str | None = None
    certificate: str | None = None
    believed: tuple[str, ...] = ()
    search: bool = False


@dataclass(frozen=True, slots=True)
class ServeRules:
    """How questions are answered over HTTP.

    Attributes:
        host: the address that is listened on.
        port: the port.
        url: what askers call the service, or None for host and port.
        askers: the services that may ask, by name.
        actions: names of actions as askers have them, to those of the policy: verbs of permissions, or methods.
        records: what loads records, by thing or parameter, as ``module:function``.
        models: the mapped classes of things, as ``module:Class``: their records are loaded and listed.
        database: the database of these classes, as the settings write it; None without them.
        certificate_header: the header in which a proxy passes on the certificate of an asker.
        audit: the file that every decision is written to, or None.
        timeout: how many seconds a question may take to arrive.
        senders: the proxies whose word for the original request is believed.
    """

    host: str = "127.0.0.1"
    port: int = 8180
    url: str | None = None
    askers: Mapping[str, Asker] = field(default_factory=dict)
    actions: Mapping[str, str] = field(default_factory=dict)
    records: Mapping[str, str] = field(default_factory=dict)
    models: Mapping[str, str] = field(default_factory=dict)
    database: str | None = None
    certificate_header: str = "Client-Cert"
    audit: Path | None = None
    timeout: float = 10.0
    senders: tuple[str, ...] = ("127.0.0.1", "::1")


def read_serve(table: SettingsTable) -> ServeRules:
    """``[serve]``."""
    table.known()
    senders = table.names("senders") if "senders" in table else ServeRules().senders
    for sender in senders:
        try:
            ipaddress.ip_network(sender)
        except ValueError:
            table.problem("senders", f'"{sender}" is no address and no network, such as 127.0.0.1 or 10.1.0.0/16')
    records, models = table.table("records").each_value(), table.table("models").each_value()
    for name, text in records.items():
        if text.count(":") != 1:
            table.table("records").problem(name, 'this must be "module:function", which loads a record by its text')
    for name, text in models.items():
        if text.count(":") != 1:
            table.table("models").problem(name, 'this must be "module:Class", a class mapped by SQLAlchemy')
    if models and "database" not in table:
        table.problem("models", 'say where their records are: database = "{env.NAME}"')
    url = table.text("url")
    if url is not None and (not url.startswith(("https://", "http://")) or "?" in url or "#" in url):
        table.problem("url", 'this must be what askers call the service, such as "https://access.example"')
    return ServeRules(
        table.text("host") or "",
        int(table.number("port", least=1, most=65_535, unit="ports")),
        url.rstrip("/") if url is not None else None,
        {name: _asker(name, each) for name, each in table.table("askers").each_table("serve.askers.NAME").items()},
        table.table("actions").each_value(),
        records,
        models,
        table.text("database"),
        table.text("certificate_header") or "",
        table.file("audit"),
        table.number("timeout", least=0.1, most=600, unit="seconds"),
        senders,
    )


def _asker(name: str, table: SettingsTable) -> Asker:
    table.known()
    token, certificate = table.text("token"), table.text("certificate")
    if (token is None) == (certificate is None):
        table.problem(None, 'an asker has one of token = "{env.NAME}" and certificate = "CN=..."')
    if token is not None and not ENVIRONMENT.fullmatch(token):
        table.problem("token", 'a secret is not in this file; write token = "{env.NAME}"')
    believed = table.names("believed")
    for each in believed:
        if each not in BELIEVED:
            table.problem("believed", f'"{each}" is none of {", ".join(BELIEVED)}')
    return Asker(name, token, certificate, believed, table.flag("search"))
