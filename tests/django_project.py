"""Django without files: one process, and a project of its own for each test that wants one."""

import contextlib
import types
from collections.abc import Iterator
from typing import Any

import django
import django.conf
import django.test.utils


def configure() -> None:
    """Let Django begin, once in a process."""
    if not django.conf.settings.configured:
        django.conf.settings.configure(SECRET_KEY="a key for tests, and nothing else but tests", ALLOWED_HOSTS=["*"])
        django.setup(set_prefix=False)


@contextlib.contextmanager
def project(urlpatterns: list[Any], names: dict[str, Any] | None = None, **settings: Any) -> Iterator[None]:
    """Django with these URL patterns and settings, and more names beside the patterns, such as ``handler404``."""
    configure()
    urls = types.ModuleType("tarn_urls")
    urls.urlpatterns = urlpatterns
    vars(urls).update(names or {})
    with django.test.utils.override_settings(**{"ROOT_URLCONF": urls, "APPEND_SLASH": False, **settings}):
        yield
