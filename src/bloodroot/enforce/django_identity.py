"""Who sends a request, by Django's own users and groups, and by the authenticators of an API's view."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from asgiref.sync import iscoroutinefunction
from django.contrib.auth import get_user

from ..core.caller import Caller, Unidentified
from .django_views import handler_of, is_rest_view, path_view_of


class Identify:
    """Says who sends a request: a user of Django's, with the groups that the policy's section ``groups`` names.

    A view of an API says itself what it takes: its authenticators are asked before it runs. Others have sessions. One
    that has ended by a change of password is none.

    Args:
        roles: the roles of a user; by default those of the groups alone.
        attributes: what conditions may ask of a user, as ``caller.is_staff``.
    """

    vary = ("Authorization", "Cookie")

    def __init__(
        self,
        *,
        roles: Callable[[Any], Iterable[str]] | None = None,
        attributes: Sequence[str] = ("username", "is_staff", "is_superuser"),
    ) -> None:
        self._roles = roles
        self._attributes = tuple(attributes)

    def __call__(self, request: Any) -> Caller | None:
        """The caller of a request; None for a signed-out one.

        Raises:
            Unidentified: an authenticator does not accept the credentials, or the user is not active.
        """
        user = _user_of(request)
        if user is None or not getattr(user, "is_authenticated", False):
            return None
        if not getattr(user, "is_active", True):
            raise Unidentified("the account is not active")
        groups = getattr(user, "groups", None)
        return Caller(
            user.pk,
            roles=frozenset(self._roles(user)) if self._roles is not None else frozenset(),
            groups=frozenset(groups.values_list("name", flat=True)) if groups is not None else frozenset(),
            attributes={name: getattr(user, name) for name in self._attributes if hasattr(user, name)},
        )

    def __repr__(self) -> str:
        return "Identify()"

    def challenge(self, request: Any) -> str | None:
        """What an authenticator of a view asks for (RFC 9110, section 11.6.1); None for a token, as usual."""
        challenges = (each.authenticate_header(request) for each in _authenticators_of(request))
        return next((str(challenge) for challenge in challenges if challenge), None)


def _user_of(request: Any) -> Any:
    callback = request.resolver_match.func if request.resolver_match is not None else None
    if is_rest_view(handler_of(callback)):
        return _user_of_rest_view(request)
    operation = _operation_of(request, callback)
    if operation is not None and operation.auth_callbacks:
        return _user_of_operation(request, operation)
    return _user_of_session(request)


def _user_of_session(request: Any) -> Any:
    known = getattr(request, "user", None)
    if known is not None:
        return known
    return get_user(request) if hasattr(request, "session") else None


def _authenticators_of(request: Any) -> list[Any]:
    """The authenticators of a view of the REST framework, as it makes them for a request."""
    callback = request.resolver_match.func if request.resolver_match is not None else None
    kind = handler_of(callback)
    if not is_rest_view(kind):
        return []
    view = kind(**(getattr(callback, "initkwargs", None) or getattr(callback, "view_initkwargs", None) or {}))
    view.request, view.args, view.kwargs = request, (), {}
    return list(view.get_authenticators())


def _user_of_rest_view(request: Any) -> Any:
    from rest_framework.authentication import SessionAuthentication
    from rest_framework.exceptions import APIException
    from rest_framework.request import Request

    authenticators = _authenticators_of(request)
    asked = Request(request, authenticators=authenticators)
    for authenticator in authenticators:
        if isinstance(authenticator, SessionAuthentication):
            # Whether the request is forged, the view sees itself.
            user = _user_of_session(request)
            found = (user, None) if getattr(user, "is_authenticated", False) else None
        else:
            try:
                found = authenticator.authenticate(asked)
            except APIException as error:
                raise Unidentified(_plain(error), token=True) from error
        if found is not None:
            return found[0]
    return None


def _plain(error: Any) -> str:
    """What an exception of the REST framework says, as one sentence."""
    detail = getattr(error, "detail", error)
    if isinstance(detail, dict):
        detail = detail.get("detail", "the credentials are not accepted")
    return str(detail).rstrip(".")


def _operation_of(request: Any, callback: Any) -> Any:
    operations = getattr(path_view_of(callback), "operations", ())
    method = "GET" if request.method == "HEAD" else request.method
    return next((operation for operation in operations if method in operation.methods), None)


def _user_of_operation(request: Any, operation: Any) -> Any:
    """The user that one of an operation's own checks gives; None where these give something else."""
    for check in operation.auth_callbacks:
        if type(check).__name__.startswith("Session"):
            user = _user_of_session(request)
            found = user if getattr(user, "is_authenticated", False) else None
        elif iscoroutinefunction(check) or iscoroutinefunction(getattr(check, "authenticate", None)):
            continue
        else:
            try:
                found = check(request)
            except Exception as error:
                if getattr(error, "status_code", None) != 401 and type(error).__name__ != "AuthenticationError":
                    raise
                raise Unidentified("the credentials are not accepted", token=True) from error
        if found:
            return found if hasattr(found, "is_authenticated") else None
    return None


identify = Identify()
