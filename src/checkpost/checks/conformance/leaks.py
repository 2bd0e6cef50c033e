"""What errors let out of the inside of an API."""

from __future__ import annotations

import re
from collections.abc import Iterator

from checkpost.checks.conformance.observation import Observation
from checkpost.checks.shown import shown
from checkpost.findings import Finding
from checkpost.wire.exchange import texts_in

_LEAKS = (
    (
        "a stack trace",
        re.compile(
            r"Traceback \(most recent call last\)|^\s+at [\w$.<>]+\(.*\)\s*$|\bat [\w$.]+\([\w$]+\.java:\d+\)"
            r"|goroutine \d+ \[|\.(?:py|js|ts|php|rb|cs|go)\"?,? ?(?:line |:)\d+|\bSystem\.\w+Exception\b",
            re.M,
        ),
    ),
    (
        "an SQL statement",
        re.compile(
            r"\bSELECT\b.{1,300}\bFROM\b|\bINSERT\s+INTO\b|\bUPDATE\b.{1,100}\bSET\b.{1,100}="
            r"|\bDELETE\s+FROM\b",
            re.S,
        ),
    ),
    (
        "a database's own message",
        re.compile(
            r"SQLSTATE\[|\bORA-\d{5}\b|constraint failed: \w+\.\w+"
            r"|violates (?:unique|foreign key|not-null|check) constraint"
            r"|syntax error at or near",
            re.I,
        ),
    ),
)


def leaks(observation: Observation) -> Iterator[Finding]:
    answer = observation.exchange.answer
    # an answer may quote what was sent; only what the API adds itself is a leak
    sent = set(texts_in(observation.exchange.request.json))
    is_json, body = answer.parsed
    said = "\n".join(text for text in texts_in(body) if text not in sent) if is_json else answer.text
    for what, pattern in _LEAKS:
        match = pattern.search(said)
        if match:
            yield observation.finding(
                "errors.leak",
                "error",
                "expectation",
                f"An error shows {what}",
                "an error that keeps the API's inside to itself",
                shown(match.group()[:160], 180),
                f"everywhere:leak {what}",
                observation.operation.place,
            )
            return
