"""Waiting for several requests of one check at once."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Iterable
from typing import TypeVar

T = TypeVar("T")


async def all_of(works: Iterable[Awaitable[T]]) -> list[T]:
    """What they come to, in their order, once every one of them has ended; the first error among them is raised then,
    so that no write goes on behind a check that has failed."""
    ended = await asyncio.gather(*works, return_exceptions=True)
    for each in ended:
        if isinstance(each, BaseException):
            raise each
    return [each for each in ended if not isinstance(each, BaseException)]
