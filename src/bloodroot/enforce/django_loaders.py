"""Loaders of records that are models of Django: a manager or a queryset, and the field that says which record."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from django.core.exceptions import FieldDoesNotExist, ImproperlyConfigured, ValidationError
from django.db.models import Manager, Model, QuerySet

from .loaders import LoaderKey, words


def as_loader(value: Any, key: LoaderKey) -> Any:
    """A loader of a model, a manager or a queryset; anything else as it is.

    Args:
        value: what was given as a loader.
        key: what it is for. The field of the parameter's name says which record it is, if there is one; else the key.

    Raises:
        ImproperlyConfigured: that field may be the same in several records.
    """
    if isinstance(value, type) and issubclass(value, Model):
        value = value._default_manager  # type: ignore[attr-defined]
    if not isinstance(value, Manager | QuerySet):
        return value
    return _loader(value, _field_of(value.model, key))


def _field_of(model: Any, key: LoaderKey) -> str:
    name = key if isinstance(key, str) else key[1]
    if name in ("pk", "id"):
        return "pk"
    try:
        field = model._meta.get_field(name)
    except FieldDoesNotExist:
        return "pk"
    if not getattr(field, "concrete", False) or field.is_relation:
        return "pk"
    if not field.unique:
        raise ImproperlyConfigured(
            f"BLOODROOT['records'][{words(key)}]: {model.__name__}.{name} is not unique and does not say which record"
        )
    return name


def _loader(source: Any, field: str) -> Callable[[str], Any]:
    def load(text: str) -> Any:
        try:
            return source.get(**{field: text})
        except (source.model.DoesNotExist, ValueError, TypeError, OverflowError, ValidationError):
            return None

    load.__qualname__ = load.__name__ = f"{source.model.__name__}.{field}"
    return load
