"""The fields that rows hold against those that the contract, or the API itself, describes."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qsl, urlsplit

from checkpost.checks.conformance.body import body_finding
from checkpost.checks.conformance.observation import Observation
from checkpost.contract.contract import Response
from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.contract.validators import Validators
from checkpost.findings import Finding
from checkpost.model.field import UNDESCRIBED
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of
from checkpost.wire.listing import Row

#: Members of rows that are links or notes of the format, and no fields.
_NO_FIELD = re.compile(r"^[@$_]|^(?:links|meta|relationships|type|href|self)$")


_SECRET = re.compile(r"pass(?:word|wd|_?hash)|secret|token|salt|api_?key|ssn|pin_?hash", re.I)


def _says_nothing(documented: Response | None) -> bool:
    """Whether the contract leaves open what an answer holds."""
    schemas = [media.schema for media in documented.content] if documented is not None else []
    return bool(schemas) and all(not shape_of(each).keywords and not shape_of(each).types for each in schemas)


def _holds_text(value: Any) -> bool:
    """Whether a value holds a text or a number: a flag of that name, or nothing, gives no secret away."""
    if isinstance(value, dict | list):
        return any(_holds_text(each) for each in (value.values() if isinstance(value, dict) else value))
    return not isinstance(value, bool) and value not in (None, "")


def undocumented_fields(observation: Observation, resource: Resource, rows: Sequence[Row]) -> Iterator[Finding]:
    """Fields of rows that the contract does not name, where it says nothing of further ones. Of an answer that it does
    not describe, those alone that look like secrets."""
    if not resource.fields_unstated:
        return
    silent = _says_nothing(observation.operation.response(observation.exchange.answer.status))
    known = {each.name for each in resource.fields if UNDESCRIBED not in each.keywords}
    known |= {each.name for each in (*resource.embedded, *resource.nested)}
    # what a parameter asks for may stand under its name
    known |= {name for name, _ in parse_qsl(urlsplit(observation.exchange.request.url).query)}
    names = {
        name
        for row in rows
        for name, value in row.items()
        if name not in known and not _NO_FIELD.search(name) and not observation.broken(name, value)
    }
    for name in sorted(names):
        leaks = bool(_SECRET.search(name)) and any(_holds_text(row.get(name)) for row in rows)
        if silent and not leaks:
            continue
        yield replace(
            observation.finding(
                "shape.fields",
                "error" if leaks else "warning",
                "expectation",
                "Rows hold a field that looks like a secret" if leaks else "Rows hold fields that are not documented",
                "the fields that the contract names",
                f"also {name}",
                "secret fields" if leaks else "further fields",
                observation.operation.place,
            ),
            subjects=(name,),
        )


def rows_as_told(
    observation: Observation, told: Node, rows: Sequence[Row], validators: Validators
) -> Iterator[Finding]:
    """The departures of rows from the schema that the API itself gives for them, where the contract has none."""
    reported: set[tuple[Place, str]] = set()
    for row in rows:
        for violation in validators.violations(told, row, "response"):
            lacking = violation.keyword == "required" and observation.reshaped
            lacking = lacking or observation.broken(violation.field_name, violation.value)
            if not lacking and (violation.place, violation.field_name) not in reported:
                reported.add((violation.place, violation.field_name))
                found = body_finding(observation, violation, validators)
                yield replace(
                    found, basis="expectation", place=None, expected=f"{found.expected}, as the API describes it"
                )
