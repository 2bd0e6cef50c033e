"""An answer to a documented operation, and findings about it."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from checkpost.contract.contract import Operation
from checkpost.contract.errors import Place
from checkpost.findings import Basis, Finding, Severity
from checkpost.wire.exchange import Answer, Exchange

#: The checks that every answer goes through, with what each asks.
CONFORMANCE = {
    "shape.answer": "Does the API answer at all, in time and whole?",
    "shape.status": "Is the status one that the contract documents?",
    "shape.media-type": "Is the media type one that the contract documents?",
    "shape.headers": "Are the documented headers there, and valid?",
    "shape.body": "Is the body what its schema says?",
    "shape.fields": "Do rows hold documented fields only?",
    "errors.server-error": "Does the API never fail with a 5xx?",
    "errors.status": "Do refusals have a status of their own?",
    "errors.documented": "Are refusals documented?",
    "errors.body": "Are bodies and headers of refusals what the contract says?",
    "errors.load": "Does the API answer several requests at once as it does one at a time?",
    "errors.leak": "Do errors keep stack traces and statements to themselves?",
}


#: What tells of failures that come of many requests alone.
LOAD = "errors.load"


@dataclass(frozen=True)
class Observation:
    """An answer to a documented operation, and the situation in which it was asked for, in words."""

    resource: str
    operation: Operation
    exchange: Exchange
    situation: str
    #: Whether its rows need not hold every field.
    reshaped: bool = False
    #: Whether the run has sent a value for a field that breaks its rules: that it is shown as it was taken is no fault
    #: of the answer.
    broken: Callable[[str, Any], bool] = lambda name, value: False
    #: Whether rows were asked for inside its rows.
    expanded: bool = False

    def finding(
        self,
        check: str,
        severity: Severity,
        basis: Basis,
        title: str,
        expected: str,
        observed: str,
        cause: str,
        place: Place | None = None,
    ) -> Finding:
        whole_run = cause.startswith("all:")
        return Finding(
            check=check,
            family=check.partition(".")[0],
            resource=None if whole_run else self.resource,
            role=self.exchange.request.role,
            severity=severity,
            basis=basis,
            title=title,
            expected=expected,
            observed=observed,
            cause=cause,
            operations=((self.operation.method, self.operation.path),),
            place=place,
            subjects=(self.situation,) if self.situation else (),
            exchanges=(self.exchange.number,),
            source=self.exchange.check,
        )


def excerpt(answer: Answer) -> str:
    text = " ".join(answer.text.split())
    if text[:100].lower().startswith(("<!doctype html", "<html")):
        text = " ".join(re.sub(r"<(script|style|title)\b.*?</\1>|<[^>]*>", " ", text, flags=re.S | re.I).split())
    return text if len(text) <= 160 else text[:159] + "…"


def check_of(answer: Answer, check: str) -> str:
    return check if answer.status < 400 else "errors.body"


def cause_of(answer: Answer, kind: str, operation: Operation) -> str:
    """Refusals come from one place in an API, so what is wrong with them is one cause for a resource."""
    return kind if answer.status >= 400 else f"{kind} at {operation}"
