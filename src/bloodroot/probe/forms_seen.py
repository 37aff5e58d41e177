"""Forms that a run has met in pages: what each sends by itself, and on which page a persona finds it."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from typing import TYPE_CHECKING, NamedTuple

from .forms import Form, forms_in, looks_like_token

if TYPE_CHECKING:
    import httpx

    from .credentials import Credentials
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

    def fields(self, case: Case) -> dict[str, str]:
        """What the form of a request sends by itself, as it was seen first; tokens in it are another persona's."""
        return self._fields.get(case.path, {})


Fetch = Callable[[str], Awaitable["httpx.Response | None"]]


class HiddenFields(NamedTuple):
    """What the form of a request sends by itself.

    Attributes:
        fields: the fields, with their values.
        lacking: the token among them that cannot be had, or an empty string.
    """

    fields: dict[str, str]
    lacking: str = ""


async def hidden_fields(forms: FormsSeen, case: Case, credentials: Credentials, fetch: Fetch) -> HiddenFields:
    """What the form of a request sends by itself, read afresh.

    Args:
        forms: the forms that were seen.
        case: the request.
        credentials: what its persona sends.
        fetch: reads a page as the persona; gives None where that fails.
    """
    if case.safe or credentials.by_token or (case.body is not None and case.body.kind != "form"):
        return HiddenFields({})
    seen = forms.fields(case)
    missing = [name for name, value in seen.items() if looks_like_token(value)]
    hidden = {name: value for name, value in seen.items() if name not in missing}
    own = forms.page(case)
    if own is not None:
        form = _form_in(await fetch(own), own, case.path)
        if form is not None:
            return HiddenFields(form.fields)
    for name in missing:
        page = forms.page_with(case, name)
        found = _form_in(await fetch(page), page, None, name) if page is not None else None
        if found is None:
            return HiddenFields(hidden, name)
        hidden[name] = found.fields[name]
    return HiddenFields(hidden)


def _form_in(response: httpx.Response | None, page: str, action: str | None, name: str | None = None) -> Form | None:
    """A form of a page: the one that is sent to an address, or one with a field."""
    forms = forms_in(response.text, page) if response is not None else []
    sent = (form for form in forms if form.method == "POST")
    return next((form for form in sent if form.action == action or (name is not None and name in form.fields)), None)
