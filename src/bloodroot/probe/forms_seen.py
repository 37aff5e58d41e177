"""Forms that a run has met in pages: what each sends by itself, and on which page a persona finds it."""

from __future__ import annotations

from typing import TYPE_CHECKING

from .forms import forms_in, looks_like_token

if TYPE_CHECKING:
    import httpx

    from .plan import Case


class FormsSeen:
    """The forms of the pages that were read so far."""

    def __init__(self) -> None:
        self._pages: dict[tuple[str, str], str] = {}  # by persona and address of the form
        self._with: dict[tuple[str, str], str] = {}  # by persona and name of a hidden field
        self._fields: dict[str, dict[str, str]] = {}  # by address, as it was seen first

    def note(self, case: Case, path: str, response: httpx.Response) -> None:
        """Take note of the forms of a page."""
        if case.method != "GET" or not response.is_success or "html" not in response.headers.get("content-type", ""):
            return
        page = f"{path}?{case.query}" if case.query else path
        for form in forms_in(response.text, path):
            if form.method == "POST":
                self._pages.setdefault((case.persona.name, form.action), page)
                self._fields.setdefault(form.action, form.fields)
                for name in form.fields:
                    self._with.setdefault((case.persona.name, name), page)

    def page(self, case: Case) -> str | None:
        """The page on which a persona finds the form of a request."""
        return self._pages.get((case.persona.name, case.path))

    def page_with(self, case: Case, name: str) -> str | None:
        """A page on which a persona finds some form with a hidden field of this name."""
        return self._with.get((case.persona.name, name))

    def wanted(self, case: Case) -> tuple[dict[str, str], list[str]]:
        """What the form of a request sends by itself, as others see it; and the names of tokens, which are theirs."""
        fields = self._fields.get(case.path, {})
        tokens = [name for name, value in fields.items() if looks_like_token(value)]
        return {name: value for name, value in fields.items() if name not in tokens}, tokens
