"""The endpoints of the last survey of a project, kept for editors."""

from __future__ import annotations

import contextlib
import json
from pathlib import Path

from ..writing import write_text
from .coverage import SurveyResult

_FILE = Path(".bloodroot") / "endpoints.json"


def keep_endpoints(folder: Path, result: SurveyResult) -> None:
    """Write down the endpoints of a survey; where the folder cannot be written, nothing is kept.

    Args:
        folder: the folder of the project.
        result: what the survey came to.
    """
    methods: dict[str, list[str]] = {}
    for row in result.endpoints:
        methods.setdefault(row.endpoint.template, []).append(row.method)
    data = {"endpoints": [{"path": path, "methods": some} for path, some in methods.items()]}
    with contextlib.suppress(OSError):
        (folder / _FILE).parent.mkdir(exist_ok=True)
        write_text(folder / _FILE, f"{json.dumps(data)}\n")


def kept_endpoints(folder: Path) -> dict[str, list[str]]:
    """The endpoints of the last survey: methods by path; none where there was no survey."""
    try:
        found = json.loads((folder / _FILE).read_text("utf-8"))["endpoints"]
        return {str(each["path"]): [str(method) for method in each["methods"]] for each in found}
    except (OSError, ValueError, KeyError, TypeError):
        return {}
