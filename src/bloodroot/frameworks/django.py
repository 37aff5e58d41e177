"""Django."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from typing import TYPE_CHECKING, Any

from ..settings import SettingsError
from .adapter import Adapter, Around, Watcher, before, made_with

if TYPE_CHECKING:
    import unittest

    from ..core.binding import Resolved, Route


class Django(Adapter):
    """Projects of Django: the routes are the project's, whatever serves it."""

    name = "django"
    title = "Django"

    @property
    def protection(self) -> str:
        """As `Adapter.protection`."""
        return "the middleware of bloodroot.enforce.django"

    def detect(self, layer: Any) -> bool:
        """As `Adapter.detect`: its handlers for WSGI and ASGI."""
        is_handler = any("handlers" in kind.__module__ for kind in type(layer).__mro__)
        return made_with(layer, "django") and is_handler and not hasattr(layer, "application")

    def routes(self, app: Any) -> list[Route]:  # noqa: ARG002
        """As `Adapter.routes`."""
        from ..enforce.django_routes import routes

        return routes()

    def resolver(self, app: Any) -> Callable[[str], Resolved | None]:  # noqa: ARG002
        """As `Adapter.resolver`: Django serves the first route that matches."""
        from ..enforce.django_routes import resolver

        return resolver()

    def watch(self, watcher: Watcher) -> None:
        """As `Adapter.watch`."""
        handlers: Any = sys.modules.get("django.core.handlers.base")
        if handlers is None:
            return
        made: Callable[..., Any] = handlers.BaseHandler.make_view_atomic

        def make_view_atomic(self: Any, view: Any) -> Any:
            from ..enforce.django_views import handler_of

            return before(made(self, view), lambda: watcher.serves(handler_of(view)))

        watcher.replace(handlers.BaseHandler, "make_view_atomic", make_view_atomic)

    @property
    def rows_of_table(self) -> Callable[[str], list[Any]] | None:
        """As `Adapter.rows_of_table`, in the default database."""

        def rows(name: str) -> list[Any]:
            from django.db import connection

            with connection.cursor() as cursor:
                cursor.execute(f"SELECT * FROM {connection.ops.quote_name(name)}")  # noqa: S608
                return sorted(map(repr, cursor.fetchall()))

        return rows

    def rollback(self) -> Around:
        """Transactions of every database of the project.

        Raises:
            SettingsError: one of the databases has no transactions.
        """
        from django.core.signals import request_finished, request_started
        from django.db import close_old_connections, connections

        names = list(connections)
        for name in names:
            if not connections[name].features.supports_transactions:
                raise SettingsError(f'probe.reset = "rollback": the database "{name}" has no transactions')

        @contextmanager
        def around() -> Iterator[None]:
            # Between requests Django closes connections that are in a transaction, which is what is wanted here.
            signals = (request_started, request_finished)
            for signal in signals:
                signal.disconnect(close_old_connections)
            try:
                with _rolled_back(names):
                    yield
            finally:
                for signal in signals:
                    signal.connect(close_old_connections)
                connections.close_all()

        return around

    def rollback_in(self, test: unittest.TestCase) -> Around | None:
        """A savepoint of the test's transaction, that is gone back on."""
        kinds = type(test).__mro__
        if not any(kind.__module__ == "django.test.testcases" and kind.__name__ == "TestCase" for kind in kinds):
            return None
        from django.db import connections

        return lambda: _rolled_back([name for name in connections if connections[name].in_atomic_block])


@contextmanager
def _rolled_back(databases: list[str]) -> Iterator[None]:
    """A transaction, or a savepoint, of each of these databases, that is gone back on."""
    from django.db import transaction

    with ExitStack() as stack:
        for name in databases:
            stack.enter_context(transaction.atomic(using=name))
        try:
            yield
        finally:
            for name in databases:
                transaction.set_rollback(True, using=name)
