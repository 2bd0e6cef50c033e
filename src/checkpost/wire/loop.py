"""The event loop that requests run on: the faster one where it is installed."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any, TypeVar

T = TypeVar("T")


def run(work: Coroutine[Any, Any, T]) -> T:
    """What a coroutine comes to; to be called where no event loop runs."""
    try:
        import uvloop
    except ImportError:  # there is none for Windows, nor for every Python
        return asyncio.run(work)
    return uvloop.run(work)
