"""What a Django project says in its settings."""

from __future__ import annotations

import contextlib
from typing import Any

from django.conf import settings
from django.core.exceptions import ImproperlyConfigured
from django.template import TemplateDoesNotExist, loader
from django.urls import get_resolver
from django.utils.module_loading import import_string
from django.views import defaults

from ..core.policy import Policy
from ..file_changes import Watched
from ..files import load
from .django_loaders import as_loader
from .loaders import words

_KEYS = ("policy", "identify", "records", "page", "audit", "report_only")
_SESSIONS = "django.contrib.sessions.middleware.SessionMiddleware"


def read_settings() -> dict[str, Any]:
    """The project's ``BLOODROOT``, with names imported.

    Raises:
        ImproperlyConfigured: it is missing, has a key that is not known, or names what cannot be imported.
    """
    given = dict(getattr(settings, "BLOODROOT", {}))
    for key in given:
        if key not in _KEYS:
            raise ImproperlyConfigured(f"BLOODROOT has the unknown key {key!r}; known are {', '.join(_KEYS)}")
    if "policy" not in given or "identify" not in given:
        raise ImproperlyConfigured('BLOODROOT needs "policy", such as "access.bloodroot", and "identify"')
    policy = given["policy"]
    if not isinstance(policy, Policy | Watched):
        policy = load(policy)
    records = {key: as_loader(_imported(each, words(key)), key) for key, each in (given.get("records") or {}).items()}
    rest = {key: _imported(given.get(key), key) for key in ("identify", "page", "audit")}
    rest["report_only"] = given.get("report_only", False)
    return {"policy": policy, "records": records, **rest}


def _imported(value: Any, key: str) -> Any:
    if not isinstance(value, str):
        return value
    try:
        return import_string(value)
    except ImportError as error:
        # An attribute of a class, as the manager of a model.
        owner, _, attribute = value.rpartition(".")
        with contextlib.suppress(ImportError, AttributeError):
            return getattr(import_string(owner), attribute)
        raise ImproperlyConfigured(f"BLOODROOT[{key!r}]: {value} cannot be imported: {error}") from error


def has_forbidden_page() -> bool:
    """Whether the project has a page of its own for what is forbidden."""
    if get_resolver().resolve_error_handler(403) is not defaults.permission_denied:
        return True
    try:
        loader.get_template("403.html")
    except (TemplateDoesNotExist, ImproperlyConfigured):
        return False
    return True


def check_sessions() -> None:
    """See that sessions are there when callers are identified.

    Raises:
        ImproperlyConfigured: the session middleware comes after this one.
    """
    order = list(settings.MIDDLEWARE)
    ours = next((number for number, name in enumerate(order) if name.endswith("django.AccessMiddleware")), None)
    if ours is not None and _SESSIONS in order[ours:]:
        raise ImproperlyConfigured(
            f"MIDDLEWARE has {order[ours]} before {_SESSIONS}, so no caller would have a session; put it behind"
        )
