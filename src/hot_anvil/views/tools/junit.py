"""Verdicts and expectations as JUnit's XML: a suite for each snippet, a case for each candidate.

The form is the one that build servers read (windyroad's JUnit schema): failures are code that is
wrong or a fact that does not hold, errors are what could not be told, skipped is what was not run.
"""

from collections.abc import Collection, Sequence
from xml.etree import ElementTree as Xml

from hot_anvil.core.facts.expectations import HELD, Expected
from hot_anvil.core.names import visible
from hot_anvil.core.verify.results import Checked
from hot_anvil.core.verify.verdicts import Verdict

_NOT_HELD = "does not hold"


def check_junit(checks: Sequence[Checked], accept: Collection[str] = ()) -> str:
    """Return the verdicts of a check; ``accept`` has failing ones that are no failure."""
    suites = []
    for checked in checks:
        suite = _suite(f"check {checked.snippet.name}")
        for verdict in checked.verdicts:
            _verdict(suite, verdict, accept)
        if checked.fault:
            case = _case(suite, checked.snippet.name, "check")
            _said(case, "error", "not checked", str(checked.fault))
        suites.append(suite)
    return _file(suites)


def expect_junit(found: Sequence[Expected]) -> str:
    """Return the outcomes of expectations."""
    suites = []
    for one in found:
        suite = _suite(f"expect {one.snippet}")
        for outcome in one.outcomes:
            where = f" in the loop at {outcome.loop}" if outcome.loop else ""
            name = f"{outcome.expectation.entry}: {outcome.fact}{where}"
            case = _case(suite, name, f"{one.snippet}.{outcome.build}")
            if outcome.state == HELD:
                continue
            kind = "failure" if outcome.told else "error"
            why = outcome.expectation.why
            _said(case, kind, outcome.state, f"{outcome.found}{f' ({why})' if why else ''}")
        suites.append(suite)
    return _file(suites)


def _verdict(suite: Xml.Element, verdict: Verdict, accept: Collection[str]) -> None:
    case = _case(suite, verdict.candidate, f"{verdict.snippet}.{verdict.build}")
    place = f"{verdict.place.text}: " if verdict.place.text else ""
    text = f"{place}{verdict.why}" + (f" (inputs: {verdict.inputs})" if verdict.inputs else "")
    if verdict.failing and verdict.verdict not in accept:
        _said(case, "failure", verdict.verdict, text)
    elif not verdict.usable:
        reason = f"{verdict.verdict}, accepted: {verdict.accepted or 'by the request'}"
        _said(case, "skipped", reason if verdict.failing or verdict.accepted else verdict.verdict,
              text)  # fmt: skip


def _suite(name: str) -> Xml.Element:
    return Xml.Element("testsuite", {"name": visible(name)})


def _case(suite: Xml.Element, name: str, group: str) -> Xml.Element:
    return Xml.SubElement(suite, "testcase", {"name": visible(name), "classname": visible(group)})


def _said(case: Xml.Element, kind: str, message: str, text: str) -> None:
    said = Xml.SubElement(case, kind, {"message": visible(message)})
    said.text = "\n".join(map(visible, text.split("\n")))


def _file(suites: Sequence[Xml.Element]) -> str:
    root = Xml.Element("testsuites")
    for suite in suites:
        cases = suite.findall("testcase")
        counts = {"tests": len(cases)}
        for kind, name in (("failure", "failures"), ("error", "errors"), ("skipped", "skipped")):
            counts[name] = sum(case.find(kind) is not None for case in cases)
        suite.attrib |= {name: str(count) for name, count in counts.items()}
        root.append(suite)
    Xml.indent(root)
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + Xml.tostring(root, "unicode") + "\n"
