"""Certificates of clients, which a proxy has checked and passes on in a header (RFC 9440)."""

from __future__ import annotations

import base64
import binascii
import datetime
from collections.abc import Sequence
from functools import lru_cache
from typing import Any, NamedTuple
from urllib.parse import unquote

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes
from cryptography.x509.oid import ExtensionOID, NameOID

from ..core.caller import Unidentified
from ..request import Request
from ..settings import ClaimNames, SettingsError
from .claims import Reading, read_claims
from .sources import Senders, may_be_joined

_LONGEST = 16_384
_NAMES = {"cn": NameOID.COMMON_NAME, "ou": NameOID.ORGANIZATIONAL_UNIT_NAME, "o": NameOID.ORGANIZATION_NAME}


class Certificate:
    """The certificate in a header that a proxy sets: Base64 between colons, or PEM, perhaps encoded with ``%``.

    That it was signed by whom the proxy trusts is the proxy's to check. Here it is read, and held against the time.

    Args:
        names: where each part of a caller is among what a certificate says, as `claims_of_certificate` has it.
        senders: addresses and networks of the proxy.
        header: the name of the header.
    """

    def __init__(self, names: ClaimNames, senders: Sequence[str], header: str) -> None:
        self.names = names
        self.headers: tuple[str, ...] = (header,)
        self._senders = Senders(senders)

    def waits(self, request: Request) -> bool:  # noqa: ARG002
        return False

    def read(self, request: Request) -> Reading | None:
        """The caller that the certificate of a request identifies."""
        name = self.headers[0]
        sent = request.headers.getlist(name)
        if not sent or (len(sent) == 1 and not sent[0].strip()):
            return None
        self._senders.check(request.sender, name)
        if len(sent) > 1 or (request.joins_headers and may_be_joined(name, sent[0])):
            raise Unidentified(f"the header {name} may have been sent more than once, or under another name")
        if len(sent[0]) > _LONGEST:
            raise Unidentified(f"the header {name} is too long")
        claims, begins, ends = _read(sent[0].strip())
        if not begins <= datetime.datetime.now(datetime.UTC) < ends:
            raise Unidentified("the certificate does not hold at this time")
        return read_claims(claims, self.names, "the certificate")

    def check_for_wsgi(self) -> None:
        """See that no other header can be taken for this one where the server is a WSGI server.

        Raises:
            SettingsError: its name has ``-`` or ``_`` in it.
        """
        name = self.headers[0]
        if "-" in name or "_" in name:
            raise SettingsError(
                f'identity: under WSGI the header "{name}" cannot be distinguished from the same name with - and _ '
                f'exchanged, which a client may send; let the proxy send the certificate as header = "ClientCert"'
            )


class _Certificate(NamedTuple):
    """What a certificate says.

    Attributes:
        claims: who it is for.
        begins: from when it is valid.
        ends: until when.
    """

    claims: dict[str, Any]
    begins: datetime.datetime
    ends: datetime.datetime


@lru_cache(maxsize=256)
def _read(text: str) -> _Certificate:
    try:
        certificate = _certificate(text)
        claims = claims_of_certificate(certificate)
    except (ValueError, TypeError, binascii.Error, UnsupportedAlgorithm) as error:
        raise Unidentified("the certificate that was sent cannot be read") from error
    return _Certificate(claims, certificate.not_valid_before_utc, certificate.not_valid_after_utc)


def _certificate(text: str) -> x509.Certificate:
    if text.startswith(":") and text.endswith(":") and len(text) > 2:
        # RFC 8941, section 3.3.5: a byte sequence.
        return x509.load_der_x509_certificate(base64.b64decode(text[1:-1], validate=True))
    pem = unquote(text) if "%" in text else text
    before, _, rest = pem.partition("-----BEGIN CERTIFICATE-----")
    inner, _, after = rest.partition("-----END CERTIFICATE-----")
    if not inner or before.strip() or after.strip():
        raise ValueError("not one certificate")
    # Some proxies put blanks in the place of line ends.
    return x509.load_der_x509_certificate(base64.b64decode("".join(inner.split()), validate=True))


def claims_of_certificate(certificate: x509.Certificate) -> dict[str, Any]:
    """What a certificate says of its owner.

    Returns:
        ``subject`` and ``issuer`` as RFC 4514 writes names, ``serial`` and ``fingerprint`` (SHA-256) in hexadecimal
        digits; ``cn``, ``ou``, ``o`` of the subject and ``dns``, ``uri``, ``email`` of the alternative names, each a
        string, or a list where there are several.
    """
    claims: dict[str, Any] = {
        "subject": certificate.subject.rfc4514_string(),
        "issuer": certificate.issuer.rfc4514_string(),
        "serial": f"{certificate.serial_number:x}",
        "fingerprint": certificate.fingerprint(hashes.SHA256()).hex(),
    }
    found: dict[str, list[str]] = {
        name: [str(each.value) for each in certificate.subject.get_attributes_for_oid(oid)]
        for name, oid in _NAMES.items()
    }
    try:
        others = certificate.extensions.get_extension_for_oid(ExtensionOID.SUBJECT_ALTERNATIVE_NAME).value
    except x509.ExtensionNotFound:
        others = None
    if isinstance(others, x509.SubjectAlternativeName):
        found["dns"] = others.get_values_for_type(x509.DNSName)
        found["uri"] = others.get_values_for_type(x509.UniformResourceIdentifier)
        found["email"] = others.get_values_for_type(x509.RFC822Name)
    for name, values in found.items():
        if values:
            claims[name] = values[0] if len(values) == 1 else values
    return claims
