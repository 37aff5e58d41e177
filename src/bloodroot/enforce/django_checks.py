"""What is looked at when a project starts, among Django's own checks: ``manage.py check`` then says it.

Write ``"bloodroot.enforce.django_checks.AccessChecks"`` into ``INSTALLED_APPS``.
"""

from __future__ import annotations

from typing import Any

from django.apps import AppConfig
from django.core.checks import CheckMessage, Error, Warning, register
from django.core.exceptions import ImproperlyConfigured

from ..core.finding import Severity
from ..language.problems import PolicyError
from .django_routes import routes
from .django_settings import check_sessions, read_settings
from .errors import StartUpError
from .following import opened
from .startup import StartUp, look_over


class AccessChecks(AppConfig):  # type: ignore[misc]
    """Registers the check."""

    name = "bloodroot.enforce.django_checks"
    label = "bloodroot"
    verbose_name = "Access"

    def ready(self) -> None:
        """As ``AppConfig.ready``."""
        register(check_access)


def check_access(app_configs: Any = None, **_: Any) -> list[CheckMessage]:  # noqa: ARG001
    """Hold the policy and the routes of the project against each other.

    Returns:
        An error for what keeps the middleware from starting, a warning for everything else; with the name of the
        finding in the id, such as ``bloodroot.line-without-endpoint``.
    """
    try:
        given = read_settings()
        check_sessions()
        found = routes()
        started = look_over(opened(given["policy"])[0].bind(found), found, given["records"])
    except PolicyError as error:
        return [Error(f"{problem.place.at}: {problem.message}", id="bloodroot.policy") for problem in error.problems]
    except StartUpError as error:
        return [Error(line, id="bloodroot.start") for line in str(error).splitlines()]
    except (ImproperlyConfigured, OSError) as error:
        return [Error(str(error), id="bloodroot.settings")]
    return _messages(started)


def _messages(started: StartUp) -> list[CheckMessage]:
    messages: list[CheckMessage] = [
        Warning(f"No line covers {endpoint}, so it is closed to all callers.", id="bloodroot.endpoint-without-line")
        for endpoint in started.closed
    ]
    for finding in started.findings:
        if finding.severity is not Severity.NOTE:
            text = f"{finding.place.at}: {finding.message}"
            messages.append(Warning(text, hint=finding.remedy, id=f"bloodroot.{finding.name}"))
    return messages
