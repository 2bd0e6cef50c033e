"""Refusals that are not as they are described."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

from checkpost.wire.exchange import Answer
from tests.hunt.api import SoundApi
from tests.hunt.faults.fault import around, fault


def answered(name: str, change: Callable[[Answer], Answer]) -> None:
    """A fault of refusals as they are sent."""

    @fault(name)
    def install(api: SoundApi) -> None:
        async def answer(method: Any, *given: Any) -> Answer:
            found: Answer = await method(*given)
            return change(found) if found.status >= 400 and found.body else found

        around(api, "answer", answer)


answered("refusals are HTML", lambda answer: Answer(answer.status, (("Content-Type", "text/html"),), b"<h1>No</h1>"))
answered("refusals lack their title", lambda answer: replace(answer, body=b'{"message": "no"}'))
answered(
    "refusals show a statement",
    lambda answer: replace(
        answer, body=b'{"title": "SELECT * FROM plots WHERE id = 7: syntax error at or near \\"7\\""}'
    ),
)
