"""SARIF 2.1.0 (OASIS): a result for each finding, at its line of the contract."""

from __future__ import annotations

import json

from checkpost.checks.conformance.observation import CONFORMANCE
from checkpost.checks.order import all_checks
from checkpost.report.files import Exchanges, Json
from checkpost.report.words import finding_text

ENDING = ".sarif"
_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"


def write(document: Json, exchanges: Exchanges) -> str:
    run = document["run"]
    used = {finding["check"] for finding in document["findings"]}
    questions = {each.name: each.question for each in all_checks()} | CONFORMANCE
    rules = [
        {
            "id": name,
            "shortDescription": {"text": questions.get(name, name)},
            "properties": {"family": name.split(".")[0]},
        }
        for name in sorted(used)
    ]
    places = {rule["id"]: index for index, rule in enumerate(rules)}
    driver = {"name": "Check Post", "version": run["checkpost"], "rules": rules}
    sarif = {
        "$schema": _SCHEMA,
        "version": "2.1.0",
        "runs": [
            {
                "tool": {"driver": driver},
                "invocations": [{"executionSuccessful": not run["interrupted"], "startTimeUtc": _utc(run["started"])}],
                "results": [_result(finding, places, run) for finding in document["findings"]],
            }
        ],
    }
    return json.dumps(sarif, ensure_ascii=False, indent=2) + "\n"


def _utc(started: str) -> str:
    return started.replace("+00:00", "Z")


def _result(finding: Json, places: dict[str, int], run: Json) -> Json:
    region = {"region": {"startLine": finding["line"]}} if finding["line"] else {}
    artifact = {"artifactLocation": {"uri": finding["document"] or run["contract"]["location"]}}
    names = [f"{each['method']} {each['path']}".strip() for each in finding["operations"]]
    location: Json = {"physicalLocation": {**artifact, **region}}
    if names:
        location["logicalLocations"] = [{"fullyQualifiedName": name, "kind": "function"} for name in names]
    waiver = finding.get("waived")
    suppressed = [{"kind": "external", "status": "accepted", "justification": waiver["why"]}] if waiver else []
    return {
        **({"suppressions": suppressed} if suppressed else {}),
        "ruleId": finding["check"],
        "ruleIndex": places[finding["check"]],
        "level": finding["severity"],
        "message": {"text": finding_text(finding)},
        "locations": [location],
        "partialFingerprints": {"finding/v1": finding["id"]},
        "occurrenceCount": finding["count"],
        "properties": {"basis": finding["basis"], "role": finding["role"], "resources": finding["resources"]},
    }
