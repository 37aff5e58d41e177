"""Which service asks: by a secret that it shows, or by its certificate, which a proxy has checked."""

from __future__ import annotations

import hashlib
import hmac
import re
from typing import TYPE_CHECKING

from ..core.caller import Unidentified
from ..request import PlainRequest
from ..settings import Asker, ClaimNames, Settings, SettingsError

if TYPE_CHECKING:
    from starlette.requests import Request

_SHORTEST = 32  # characters of a secret
_MOST = 1000  # spellings of headers that are remembered
_BEARER = re.compile(r"(?i)bearer +(\S+)\Z").match


class Askers:
    """The services that may ask.

    Args:
        settings: say them.

    Raises:
        SettingsError: no one may ask, a secret is missing or short, or two askers show the same.
    """

    def __init__(self, settings: Settings) -> None:
        serve = settings.serve
        self._secrets = [
            (_digest(_secret(settings, asker)), asker) for asker in serve.askers.values() if asker.token is not None
        ]
        self._certified = {
            _as_written(asker.certificate): asker for asker in serve.askers.values() if asker.certificate is not None
        }
        if len({digest for digest, _ in self._secrets}) + len(self._certified) < len(serve.askers):
            raise SettingsError("serve.askers: two askers have the same secret or certificate; each needs its own")
        if not serve.askers and not settings.identity:
            raise SettingsError(
                f"{settings.file.name}: no one may ask; write [serve.askers.NAME] with "
                'token = "{env.NAME}", or [identity] for a proxy that asks about its requests'
            )
        self._right: dict[str, Asker] = {}
        self._header = serve.certificate_header
        if self._certified:
            from ..identity.certificates import Certificate

            names = ClaimNames(("subject",), attributes={"fingerprint": ("fingerprint",)})
            self._certificate = Certificate(names, serve.senders, self._header)

    def asker(self, request: Request) -> Asker | None:
        """The service that asks; None where a request does not say which, or says two."""
        sent = request.headers.getlist("authorization")
        by_certificate = self._by_certificate(request) if self._certified else None
        if not sent:
            return by_certificate
        found = self._by_secret(sent[0]) if len(sent) == 1 else None
        return found if by_certificate in (None, found) else None

    def _by_secret(self, sent: str) -> Asker | None:
        # What was right before is found by its hash: what is wrong is never compared with it, sign by sign.
        known = self._right.get(sent)
        if known is None:
            match = _BEARER(sent)
            digest = _digest(match[1]) if match is not None else b""
            known = next((asker for secret, asker in self._secrets if hmac.compare_digest(secret, digest)), None)
            if known is not None and len(self._right) < _MOST:
                self._right[sent] = known
        return known

    def _by_certificate(self, request: Request) -> Asker | None:
        host = request.client.host if request.client is not None else None
        try:
            reading = self._certificate.read(PlainRequest("POST", "/", request.headers.items(), sender=host))
        except Unidentified:
            return None
        if reading is None:
            return None
        shown = (str(reading.caller.id), str(reading.caller.attributes.get("fingerprint")))
        return next((self._certified[each] for each in shown if each in self._certified), None)


def _digest(secret: str) -> bytes:
    return hashlib.sha256(secret.encode("utf-8", "surrogateescape")).digest()


def _secret(settings: Settings, asker: Asker) -> str:
    assert asker.token is not None
    secret = settings.fill(asker.token, None, f"serve.askers.{asker.name}.token")
    if len(secret) < _SHORTEST:
        raise SettingsError(f"serve.askers.{asker.name}.token: a secret has {_SHORTEST} characters or more")
    if not re.fullmatch(r"[!-~]+", secret):
        raise SettingsError(f"serve.askers.{asker.name}.token: a secret has no blanks, and letters of ASCII alone")
    return secret


def _as_written(certificate: str) -> str:
    """A fingerprint without colons and in small letters; a subject as it is."""
    plain = certificate.replace(":", "").lower()
    return plain if re.fullmatch("[0-9a-f]{64}", plain) else certificate
