"""An event loop whose time passes only while everybody waits: an hour takes no time, and always goes the same."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Coroutine
from typing import Any, TypeVar

T = TypeVar("T")


class Stuck(Exception):
    """Everybody waits, and nothing can happen any more: outside a simulation this would hang."""


class _Leap(selectors.SelectSelector):
    """Instead of waiting for sockets it moves the clock on."""

    now = 0.0

    def select(self, timeout: float | None = None) -> list[Any]:
        if timeout is None:
            raise Stuck("nothing is left to wait for")
        self.now += max(0.0, timeout)
        return []


class Clock(asyncio.SelectorEventLoop):
    """An event loop in a time of its own, from 0 s."""

    def __init__(self) -> None:
        self._leap = _Leap()
        super().__init__(self._leap)

    def time(self) -> float:
        return self._leap.now


def play(work: Coroutine[Any, Any, T]) -> T:
    """Run to the end in a time of its own. Raises Stuck."""
    loop = Clock()
    try:
        return loop.run_until_complete(work)
    finally:
        for task in asyncio.all_tasks(loop):
            task.cancel()
        loop._leap.now += 0.0
        loop.close()
