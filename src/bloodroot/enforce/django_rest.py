"""The REST framework: serializers that show and take the fields which the policy allows, and its OpenAPI document."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

from .access import current

__all__ = ["AccessFields", "describe"]


class AccessFields:
    """Before the classes of a serializer: leaves out what the caller may not read, refuses what one may not change.

    ::

        class PieceSerializer(AccessFields, serializers.ModelSerializer):
            access_kind = "piece"
            access_names = {"owner": "owner_id"}

    A field that is computed is read by those who may read the field that `access_names` names for it, else by those
    who may read every field (``*``).

    Attributes:
        access_kind: the kind of record, as in ``fields piece``.
        access_names: what the policy calls a field of the serializer, where that is another name.
    """

    access_kind: ClassVar[str]
    access_names: ClassVar[Mapping[str, str]] = {}

    def __init_subclass__(cls, **named: Any) -> None:
        """See that it is said which kind of record it is for.

        Raises:
            TypeError: it is not.
        """
        super().__init_subclass__(**named)
        if not isinstance(getattr(cls, "access_kind", None), str):
            raise TypeError(f'{cls.__name__} needs access_kind, such as access_kind = "piece"')

    def to_representation(self, instance: Any) -> Any:
        """As a serializer, without the fields that the caller may not read."""
        shown = super().to_representation(instance)  # type: ignore[misc]
        names = {name: self.access_names.get(name, name) for name in shown}
        readable = current().readable_of(self.access_kind, instance, names.values())
        return {name: value for name, value in shown.items() if names[name] in readable}

    def run_validation(self, data: Any = ...) -> Any:
        """As a serializer; what is changed has to be allowed.

        Raises:
            FieldsRefused: naming each field that may not be changed.
        """
        values = super().run_validation(*(() if data is ... else (data,)))  # type: ignore[misc]
        if isinstance(values, Mapping):
            self._check(values)
        return values

    def _check(self, values: Mapping[str, Any]) -> None:
        fields: Mapping[str, Any] = self.fields  # type: ignore[attr-defined]
        instance = getattr(self, "instance", None)
        by_source = {field.source: name for name, field in fields.items()}
        changes = {}
        for source, value in values.items():
            name = by_source.get(source, source)
            changes[self.access_names.get(name, name)] = getattr(value, "pk", value)
        if instance is not None and not hasattr(instance, "__iter__"):
            # A client that sends back what it has read changes nothing.
            readable = current().readable_of(self.access_kind, instance, changes)
            changes = {
                name: value
                for name, value in changes.items()
                if name not in readable or getattr(instance, name, ...) != value
            }
        record = instance if instance is not None else self._new_record(changes)
        current().change(self.access_kind, record, changes)

    def _new_record(self, changes: Mapping[str, Any]) -> Any:
        """The record that is about to be made; None where others are changed, and it is not known which."""
        around = getattr(self, "parent", None)
        return None if getattr(around, "instance", None) is not None else self.new_record(changes)

    def new_record(self, values: Mapping[str, Any]) -> Any:
        """A record that is about to be made, as conditions see it: by default its values alone.

        Args:
            values: those that were sent and are valid, by the names of the policy.
        """
        return values


def describe(result: dict[str, Any], generator: Any = None, request: Any = None, public: Any = None) -> dict[str, Any]:  # noqa: ARG001
    """Write into an OpenAPI document of the project what is asked of callers: ``security`` and ``x-access``.

    It takes what a hook takes that a generator of documents calls at its end; only the document is used.

    Args:
        result: the document, which is changed.
        generator: what makes it.
        request: for whom.
        public: whether it is for all.

    Returns:
        The document.
    """
    from .django_document import describe_project

    describe_project(result)
    return result
