"""JUnit XML, as programs that run pipelines read it: a case for each check of each resource and role.

Only errors fail a case: what is a warning or a note stands in its output.
"""

from __future__ import annotations

import re
from collections import defaultdict
from xml.etree import ElementTree

from checkpost.report.files import Exchanges, Json
from checkpost.report.words import finding_text

ENDING = ".junit.xml"
#: Signs that XML 1.0 has no place for (section 2.2).
_FORBIDDEN = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def write(document: Json, exchanges: Exchanges) -> str:
    run, told = document["run"], _by_check(document)
    title = run["contract"]["title"] or run["base_url"]
    suites = ElementTree.Element("testsuites", name=_plain(title), time=f"{run['seconds']:.3f}")
    by_resource: dict[str, list[Json]] = defaultdict(list)
    for check in document["checks"]:
        by_resource[check["resource"] or "the API"].append(check)
    for resource, checks in by_resource.items():
        suite = ElementTree.SubElement(suites, "testsuite", name=_plain(resource), timestamp=run["started"][:19])
        counts = {"tests": 0, "failures": 0, "errors": 0, "skipped": 0}
        for check in checks:
            case = _case(suite, resource, check, told)
            counts["tests"] += 1
            for tag, name in (("failure", "failures"), ("error", "errors"), ("skipped", "skipped")):
                counts[name] += case.find(tag) is not None
        suite.attrib |= {name: str(number) for name, number in counts.items()}
        suite.set("time", f"{sum(check['seconds'] for check in checks):.3f}")
    ElementTree.indent(suites)
    return ElementTree.tostring(suites, "unicode", xml_declaration=True) + "\n"


def _by_check(document: Json) -> dict[tuple[str, str, str], list[Json]]:
    """The findings of each check, by its name, resource and role."""
    found: dict[tuple[str, str, str], list[Json]] = defaultdict(list)
    for finding in document["findings"]:
        for resource in finding["resources"] or ["the API"]:
            for role in finding["role"].split(", "):
                found[finding["check"], resource, role].append(finding)
    return found


def _case(
    suite: ElementTree.Element, resource: str, check: Json, told: dict[tuple[str, str, str], list[Json]]
) -> ElementTree.Element:
    case = ElementTree.SubElement(
        suite,
        "testcase",
        classname=_plain(f"{resource}.{check['family']}"),
        name=_plain(f"{check['check']} as {check['role']}"),
        time=f"{check['seconds']:.3f}",
    )
    findings = told.get((check["check"], resource, check["role"]), [])
    errors = [finding for finding in findings if finding["severity"] == "error" and not finding.get("waived")]
    if errors:
        failure = ElementTree.SubElement(case, "failure", type="error", message=_plain(errors[0]["title"]))
        failure.text = _plain("\n\n".join(map(finding_text, errors)))
    elif check["outcome"] == "blocked":
        ElementTree.SubElement(case, "error", type="blocked", message=_plain(check["reason"]))
    elif check["outcome"] == "skipped":
        ElementTree.SubElement(case, "skipped", message=_plain(check["reason"]))
    milder = [finding for finding in findings if finding not in errors]
    if milder:
        ElementTree.SubElement(case, "system-out").text = _plain("\n\n".join(map(finding_text, milder)))
    return case


def _plain(text: str) -> str:
    return _FORBIDDEN.sub("\N{REPLACEMENT CHARACTER}", text)
