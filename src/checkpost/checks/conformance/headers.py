"""The headers of an answer against those that are documented."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from checkpost.checks.conformance.observation import Observation, cause_of, check_of
from checkpost.checks.shown import shown
from checkpost.contract.contract import Header, Response
from checkpost.contract.validators import Validators
from checkpost.findings import Finding
from checkpost.model.shape import shape_of


def headers(observation: Observation, documented: Response, validators: Validators) -> Iterator[Finding]:
    answer, operation = observation.exchange.answer, observation.operation
    for header in documented.headers:
        value = answer.header(header.name)
        if value is None and header.required:
            yield observation.finding(
                check_of(answer, "shape.headers"),
                "error",
                "contract",
                f"The documented header {header.name} is missing",
                f"{header.name} with {answer.status}",
                "no such header",
                cause_of(answer, f"no header {header.name}", operation),
                header.place,
            )
        elif value is not None and header.schema is not None and not _header_valid(header, value, validators):
            yield observation.finding(
                check_of(answer, "shape.headers"),
                "error",
                "contract",
                f"The header {header.name} is not as documented",
                f"a value that fits {shown(header.schema.value)}",
                shown(value),
                cause_of(answer, f"header {header.name}", operation),
                header.place,
            )


def _header_valid(header: Header, value: str, validators: Validators) -> bool:
    assert header.schema is not None
    types = shape_of(header.schema).types
    readings: list[Any] = [value]
    try:
        if types & {"integer", "number"}:
            readings.append(float(value) if "." in value else int(value))
    except ValueError:
        return False
    if "boolean" in types and value in {"true", "false"}:
        readings.append(value == "true")
    if types & {"array", "object"}:
        return True
    return any(validators.is_valid(header.schema, reading, "response") for reading in readings)
