"""Every answer against the contract: is it documented, and is it what the contract says it is?"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

from checkpost.checks.conformance.body import media_and_body
from checkpost.checks.conformance.headers import headers
from checkpost.checks.conformance.leaks import leaks
from checkpost.checks.conformance.observation import Observation, excerpt
from checkpost.checks.conformance.said import in_words, said
from checkpost.contract.validators import Validators
from checkpost.findings import FAILED, FAILS, Finding

#: What an API does that does not answer.
_FAILED = {
    "unreachable": "The API takes no connections any more",
    "closed": "The connection is closed without an answer",
    "dropped": "The connection is closed without an answer",
    "timeout": "No whole answer comes in time",
    "truncated": "The answer ends before its body does",
    "not-http": "The answer is not HTTP",
}


#: What an API says that does not support what was asked (RFC 9110, 15.6.2).
_NOT_IMPLEMENTED = 501
#: The answer of each status that has none of its own (OpenAPI 3.1, 4.8.16).
_DEFAULT = "default"
#: The check that sends bodies that are no records.
BROKEN_BODY = "errors.broken-body"
BROKEN_FAILS = "A body that is no record fails with"


def conform(observation: Observation, validators: Validators) -> Iterator[Finding]:
    """The departures of one answer from the contract."""
    operation, answer = observation.operation, observation.exchange.answer
    if answer.failure:
        yield observation.finding(
            "shape.answer",
            "error",
            "standard",
            _FAILED.get(answer.failure, "No whole answer"),
            "an HTTP answer (RFC 9112)",
            answer.detail,
            f"failure {answer.failure} at {operation}",
        )
        return
    if answer.status >= 400:
        yield from leaks(observation)
    documented = operation.response(answer.status)
    if answer.status == _NOT_IMPLEMENTED:
        yield observation.finding(
            "errors.status",
            "warning",
            "contract" if documented is None else "expectation",
            "An operation that is documented is not implemented",
            "the operation, or a contract without it",
            f"{answer.status} {said(answer) or excerpt(answer)}",
            "everywhere:not implemented",
            operation.place,
        )
        return
    if answer.status >= 500:
        # parsers have words of their own for each body that is none
        broken = observation.exchange.check == BROKEN_BODY
        words = "" if broken else in_words(answer)
        yield observation.finding(
            "errors.server-error",
            "error",
            "contract" if documented is None else "expectation",
            f"{BROKEN_FAILS if broken else FAILS} {answer.status}" + (f": {said(answer)[:70]}" if words else ""),
            "an answer that is no server error",
            f"{answer.status} {said(answer) or excerpt(answer)}",
            f"{FAILED}{words} at {operation}",
            operation.place,
        )
        return
    if answer.on_the_wire is not None:
        if answer.refused:
            yield observation.finding(
                "errors.status",
                "warning",
                "standard",
                f"Refusals are answered {answer.on_the_wire}, and only their bodies say so",
                "a status of the class 4xx (RFC 9110, 15.5)",
                f"{answer.on_the_wire} with {excerpt(answer)}",
                "everywhere:coded",
                operation.place,
            )
        # the contract speaks of what is on the wire
        observation = replace(observation, exchange=replace(observation.exchange, answer=answer.as_sent()))
        documented = operation.response(answer.on_the_wire)
    if documented is None:
        yield _undocumented(observation)
        return
    departures = list(media_and_body(observation, documented, validators))
    if departures and documented.status.lower() == _DEFAULT and answer.ok and operation.success():
        yield _undocumented(observation)  # what 'default' describes is a refusal, say, and this is none
        return
    yield from departures
    yield from headers(observation, documented, validators)


def _undocumented(observation: Observation) -> Finding:
    operation, status = observation.operation, observation.exchange.answer.status
    known = ", ".join(each.status for each in operation.responses if each.status.lower() != _DEFAULT) or "none"
    other = f", or what '{_DEFAULT}' describes" if operation.response(status) is not None else ""
    if 400 <= status < 500:
        return observation.finding(
            "errors.documented",
            "warning",
            "contract",
            f"The refusal {status} is not documented",
            f"a status of those documented ({known})",
            f"{status}",
            f"all:undocumented {status}",
            operation.place,
        )
    return observation.finding(
        "shape.status",
        "error",
        "contract",
        f"The status {status} is not documented",
        f"a status of those documented ({known}){other}",
        f"{status}",
        f"everywhere:undocumented {status}",
        operation.place,
    )
