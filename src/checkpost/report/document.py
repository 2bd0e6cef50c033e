"""A run as a JSON document (docs/report.schema.json); every secret in it is masked."""

from __future__ import annotations

from collections import Counter
from datetime import UTC, datetime
from typing import Any

from checkpost import __version__
from checkpost.database.contents import Changed
from checkpost.engine.run import Result
from checkpost.findings import SEVERITIES, Finding
from checkpost.model.access import rights_of
from checkpost.model.flaws import flaws
from checkpost.profile.credentials import VARIABLE
from checkpost.profile.waivers import Waiver, idle, waived
from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import key_text
from checkpost.wire.redaction import Redactor

Json = dict[str, Any]
FORMAT = 1
_LONGEST_BODY = 8192
#: Members whose values are the API's as a whole, and those whose values are words of Check Post's own.
_ROWS = frozenset({"row", "values"})
_WORDS = frozenset({"check", "family", "outcome", "severity", "basis", "method", "how", "certain"})


def redactor_of(result: Result) -> Redactor:
    """Masks every secret that any role of the run uses."""
    target = result.target
    roles = [*target.profile.roles.values(), target.role]
    names = {name for role in roles for name in role.variables}
    known = {name: target.environment[name] for name in names if name in target.environment}
    encoded = [
        VARIABLE.sub(lambda found: target.environment.get(found[1], ""), credential.template.partition(" ")[2])
        for role in roles
        for credential in role.credentials
        if credential.encoded
    ]
    return Redactor({**known, **result.tokens}, encoded)


def exchange_document(exchange: Exchange, redactor: Redactor) -> Json:
    """One exchange as it is stored: bodies as text, cut where they are very long."""
    request, answer = exchange.request, exchange.answer.as_sent()
    return {
        "number": exchange.number,
        "check": exchange.check,
        "role": request.role,
        "credentials": request.credentials,
        "request": {
            "method": request.method,
            "url": redactor.text(request.url),
            "headers": [[name, redactor.header(name, value)] for name, value in request.headers.items()],
            "body": _text(request.body, redactor),
        },
        "answer": {
            "status": answer.status,
            "headers": [[name, redactor.header(name, value)] for name, value in answer.headers],
            "body": _text(answer.body, redactor),
            "failure": answer.failure,
            "detail": redactor.text(answer.detail),
        },
        "started": datetime.fromtimestamp(exchange.started, UTC).isoformat(timespec="milliseconds"),
        "seconds": round(exchange.seconds, 4),
        "attempts": exchange.attempts,
    }


def _text(body: bytes | None, redactor: Redactor) -> str | None:
    if body is None:
        return None
    text = redactor.text(body.decode("utf-8", "replace"))
    return text if len(text) <= _LONGEST_BODY else f"{text[:_LONGEST_BODY]}… ({len(body)} bytes in all)"


def document(result: Result) -> Json:
    """The whole run."""
    redactor = redactor_of(result)
    target = result.target
    outcomes = Counter(check.outcome for check in result.checks)
    today = result.started.date()
    accepted = waived(result.findings, target.profile.waivers, today)
    findings = sorted(result.findings, key=lambda finding: finding.id in accepted)
    severities = Counter(finding.severity for finding in findings if finding.id not in accepted)
    by_number = {exchange.number: exchange for exchange in result.exchanges}
    plain: Json = {
        "format": FORMAT,
        "run": {
            "id": result.run,
            "checkpost": __version__,
            "started": result.started.isoformat(timespec="seconds"),
            "seconds": round(result.seconds, 2),
            "seed": result.seed,
            "contract": {
                "location": target.contract.location,
                "title": target.contract.title,
                "openapi": target.contract.version,
                "flaws": len(flaws(target.contract, target.model)),
            },
            "base_url": target.base_url,
            "role": target.role.name,
            "no_writes": target.no_writes,
            "interrupted": result.interrupted,
        },
        "summary": {
            "checks": {name: outcomes[name] for name in ("passed", "failed", "skipped", "blocked")},
            "findings": {name: severities[name] for name in reversed(SEVERITIES)},
            "waived": len(accepted),
            "idle_waivers": [
                {"waiver": str(each), "why": why} for each, why in idle(result.findings, target.profile.waivers, today)
            ],
            "requests": len(result.exchanges),
            "operations": len(target.contract.operations),
            "not_exercised": [
                {"method": method, "path": path, "reason": why} for method, path, why in result.not_exercised
            ],
            "left": [
                {"table": each.table, "key": key_text(each.key), "why": each.why, "certain": each.certain}
                for each in result.left
            ],
            "harmed": [
                {
                    "table": each.table,
                    "key": key_text(each.key),
                    "how": each.how,
                    "row": redactor.value(dict(each.row)),
                    "restored": each.restored,
                    "certain": each.certain,
                }
                for each in result.harmed
            ],
            "held": result.held,
            "database": _database(result),
            "kept": [{"table": name, "parameter": each, "rows": rows} for name, (each, rows) in result.kept.items()],
        },
        "access": _access(result),
        "findings": [
            _finding(finding, result, by_number, redactor) | {"waived": _waiver(accepted.get(finding.id))}
            for finding in findings
        ],
        "checks": [
            {
                "check": each.check,
                "family": each.family,
                "resource": each.resource,
                "role": each.role,
                "outcome": each.outcome,
                "reason": each.reason,
                "requests": each.requests,
                "seconds": round(each.seconds, 3),
            }
            for each in result.checks
        ],
    }
    masked: Json = _masked(plain, redactor)
    return masked


def _masked(value: Any, redactor: Redactor) -> Any:
    """A part of the document with its secrets masked; a secret may be one of the words that the document has itself."""
    if isinstance(value, list):
        return [_masked(each, redactor) for each in value]
    if not isinstance(value, dict):
        return redactor.value(value)
    masked = {name: _masked(each, redactor) for name, each in value.items() if name not in _WORDS | _ROWS}
    return value | masked | {name: redactor.value(value[name]) for name in _ROWS & value.keys()}


def _waiver(waiver: Waiver | None) -> Json | None:
    if waiver is None:
        return None
    return {"why": waiver.why, "by": waiver.by, "until": waiver.until.isoformat() if waiver.until else None}


def _database(result: Result) -> Json | None:
    """How the database behind the API is, against how it was before the run."""
    found = result.compared
    if found is None:
        return None

    def rows(differ: Changed) -> Json:
        changed = {name for columns in (differ.changed or {}).values() for name in columns}
        keys = {"gone": differ.gone, "new": differ.new, "changed": tuple(differ.changed or ())}
        return {
            "table": differ.table,
            **{how: [key_text(key) for key in each] for how, each in keys.items()},
            "columns": sorted(changed),
        }

    return {
        "tables": found.tables,
        "rows": found.rows,
        "differ": [rows(each) for each in found.differ],
        "beside": [rows(each) for each in found.beside],
        "kept": [{"table": name, "rows": number} for name, number in found.kept.items()],
        "skipped": list(found.skipped),
        "problem": found.problem,
    }


def _access(result: Result) -> list[Json]:
    """The rights that were stated of each role, and by what the API departs from them."""
    found = []
    for resource in dict.fromkeys(check.resource for check in result.checks if check.resource):
        for role in result.target.profile.roles:
            rights = rights_of(result.target.profile.access, resource, role)
            checks = [each for each in result.checks if (each.resource, each.role) == (resource, role)]
            if rights is None or role == result.target.role.name:
                continue
            outcomes = {each.outcome for each in checks}
            wrong = [each for each in result.findings if resource in each.resources and role in each.role.split(", ")]
            found.append(
                {
                    "resource": resource,
                    "role": role,
                    "rights": rights.in_words,
                    "short": rights.short,
                    # what was blocked in part is not known to be as it should
                    "tried": bool(outcomes & {"passed", "failed"}) and "blocked" not in outcomes,
                    "differs": list(
                        dict.fromkeys(each.check.partition(".")[2] for each in wrong if each.family == "access")
                    ),
                }
            )
    return found


def _finding(finding: Finding, result: Result, by_number: dict[int, Exchange], redactor: Redactor) -> Json:
    first = finding.operations[0] if finding.operations else ("", "")
    return {
        "id": finding.id,
        "check": finding.check,
        "family": finding.family,
        "resource": finding.resource,
        "resources": list(finding.resources),
        "operation": {"method": first[0], "path": first[1]},
        "operations": [{"method": method, "path": path} for method, path in finding.operations],
        "role": finding.role,
        "severity": finding.severity,
        "basis": finding.basis,
        "title": finding.title,
        "expected": finding.expected,
        "observed": finding.observed,
        "subjects": list(finding.subjects),
        "document": finding.place.location if finding.place else None,
        "pointer": finding.place.pointer if finding.place else None,
        "line": result.lines.get(finding.id),
        "rows": [{"how": each.how, "key": each.key, "values": dict(each.values)} for each in finding.rows],
        "count": finding.count,
        "reproduce": finding.reproduce,
        "exchanges": [
            exchange_document(by_number[number], redactor) for number in finding.exchanges if number in by_number
        ],
    }
