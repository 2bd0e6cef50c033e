"""Answers that say in their body what came of a request, under one status for all: ``{"code": 404, "data": null}``."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from checkpost.model.paths import normal
from checkpost.wire.exchange import Answer

#: What the member is called that says it, and what stands beside it.
_CODES = ("code", "statuscode", "status", "errcode", "errorcode", "retcode", "resultcode", "success", "succeeded", "ok")
_BESIDE = frozenset({"data", "result", "results", "message", "msg", "error", "errors", "payload", "content", "body"})
_BAD = frozenset({"error", "fail", "failed", "failure", "false", "ko", "nok", "no"})
#: The status of a refusal whose own code is none of HTTP's.
_REFUSED = 400


@dataclass(frozen=True)
class Coded:
    """The ``member`` of every body that says what came of a request, and what it says of ``good`` ones."""

    member: str
    good: Any

    def status(self, value: Any, status: int) -> int:
        """What a value says as a status of HTTP, where an answer came with another one."""
        if value == self.good or value is None or type(value) is not type(self.good):
            return status
        if isinstance(value, int) and not isinstance(value, bool):
            if 200 <= self.good < 300 and 200 <= value < 400:
                return status
            # codes of an API's own often begin with one of HTTP's
            first = int(str(abs(value))[:3])
            return first if _REFUSED <= first < 600 else _REFUSED
        return _REFUSED if value is False or normal(str(value)) in _BAD else status


def coded_in(body: Any) -> Coded | None:
    """How a body says that a request went well, if it does."""
    if not isinstance(body, dict) or not {normal(name) for name in body} & _BESIDE:
        return None
    by_name = {normal(name): name for name in body}
    for word in _CODES:
        value = body.get(by_name.get(word, ""))
        if isinstance(value, bool | int | str) and value is not False and value != "":
            return Coded(by_name[word], value)
    return None


def told_by(coded: Coded, answer: Answer) -> Answer:
    """An answer with the status that its body says, and that on the wire beside it."""
    body = answer.json if answer.ok and answer.body else None
    if not isinstance(body, dict) or not {normal(name) for name in body} & _BESIDE:
        return answer
    status = coded.status(body.get(coded.member), answer.status)
    return answer if status == answer.status else replace(answer, status=status, on_the_wire=answer.status)
