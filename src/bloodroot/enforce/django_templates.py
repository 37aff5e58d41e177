"""What templates of Django ask of the policy: a filter, and the caller.

In the settings of the project::

    TEMPLATES = [{..., "OPTIONS": {
        "builtins": ["bloodroot.enforce.django_templates"],
        "context_processors": [..., "bloodroot.enforce.django_templates.access"],
    }}]

and in a template::

    {% if "GET /pieces/{pk}/edit"|may:piece %}<a href="{% url 'piece-edit' piece.pk %}">Edit</a>{% endif %}
"""

from __future__ import annotations

from typing import Any

from django import template

from .access import _current, current

__all__ = ["access", "may"]

register = template.Library()


def may(name: str, record: Any = None) -> bool:
    """Whether the caller may do something: a permission or an endpoint, with the record at hand behind a colon.

    Raises:
        EnforcementError: no caller acts here.
        UnknownNameError: the policy has no such permission, or no line for such an endpoint.
    """
    return current().flags([name], record)[name]


register.filter("may", may)


def access(request: Any) -> dict[str, Any]:  # noqa: ARG001
    """A context processor: ``access`` is what `bloodroot.enforce.current` gives, or None where nothing is decided."""
    return {"access": current() if _current.get() is not None else None}
