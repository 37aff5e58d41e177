"""JUnit XML, for CI servers that show tests: a suite an endpoint, a case for each request as a persona."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING
from xml.etree import ElementTree as Xml

from ..probe.asked_endpoints import AskedEndpoint
from ..probe.result import ProbeResult
from ..probe.verdicts import Verdict

if TYPE_CHECKING:
    from ..probe.verdicts import Observation

# XML 1.0, section 2.2: what no document may have, not even escaped.
_UNFIT = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def probe(result: ProbeResult) -> str:
    """A failure for what is not as declared, an error for what is inconclusive; what was not tried is skipped."""
    root = Xml.Element("testsuites", name="bloodroot probe")
    suites: dict[AskedEndpoint, Xml.Element] = {}

    def suite(owner: AskedEndpoint, name: str) -> Xml.Element:
        found = suites.get(owner)
        if found is None:
            found = suites[owner] = Xml.SubElement(root, "testsuite", name=_fit(name))
        return found

    for observation in result.observations:
        _case(suite(observation.case.asked, observation.case.asked.name), observation)
    for left in result.untried:
        case = Xml.SubElement(
            suite(left.asked, left.asked.name),
            "testcase",
            classname=_fit(left.asked.name),
            name=_fit(left.persona.name),
        )
        Xml.SubElement(case, "skipped", message=_fit(left.why))
    late = [stale.words for stale in result.stale if stale.late]
    _beside(root, "sign-in", "failure", result.sign_in_faults)
    _beside(root, "not judged", "skipped", result.doubts)
    _beside(root, "roles taken away", "failure", late)
    for element in root:
        element.set("tests", str(len(element)))
        for kind, name in (("failures", "failure"), ("errors", "error"), ("skipped", "skipped")):
            element.set(kind, str(sum(case.find(name) is not None for case in element)))
    Xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(root, "unicode") + "\n"


def _beside(root: Xml.Element, name: str, kind: str, texts: Sequence[str]) -> None:
    """A suite with a case for each text, which is of one kind: a failure, or skipped."""
    if texts:
        suite = Xml.SubElement(root, "testsuite", name=name)
        for text in texts:
            case = Xml.SubElement(suite, "testcase", classname=name, name=_fit(text))
            Xml.SubElement(case, kind, message=_fit(text))


def _case(suite: Xml.Element, observation: Observation) -> None:
    case = observation.case
    words = " ".join(filter(None, (case.persona.name, case.sample and f"[{case.sample}]", case.spelled)))
    name = f"{words}: {case.method} {case.raw or case.target}"
    element = Xml.SubElement(suite, "testcase", classname=_fit(case.asked.name), name=_fit(name))
    if observation.verdict is Verdict.AGREE:
        return
    kind = "error" if observation.verdict is Verdict.INCONCLUSIVE else "failure"
    message = f"{observation.verdict.value}: declared {case.declared.value}, observed {observation.text}"
    failure = Xml.SubElement(element, kind, message=_fit(message), type=observation.verdict.value)
    place = f"{case.asked.line.place.at}  {case.asked.line.text}" if case.asked.line is not None else "no line"
    failure.text = _fit(
        "\n".join(filter(None, (f"answered {observation.seen.status}", place, observation.settle, *observation.repeat)))
    )


def _fit(text: str) -> str:
    return _UNFIT.sub("?", text)
