"""What a request may do to rows, in words that the one door for writes can check; the door itself is the ledger."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, Protocol

from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import Key, Row


class Unsafe(Exception):
    """A request that is not sent, since it may reach rows that are not the run's; the message says why."""


@dataclass(frozen=True)
class Made:
    """A row that a request may bring into being: the table, the record sent, the key where the client chose it, and
    the key of the row that it stands under."""

    table: str
    record: Mapping[str, Any]
    key: Key | None = None
    above: Key = ()


@dataclass(frozen=True)
class Act:
    """What a request may do: the rows that it may make, and those, by table and key, that it may change or remove.

    ``key_in`` takes the key of the row made from the answer. ``by_filter`` says that the rows are what a filter
    leaves, so that only the API decides which ones they are.
    """

    kind: Literal["create", "change", "remove", "link"]
    made: tuple[Made, ...] = ()
    touched: tuple[tuple[str, Key], ...] = ()
    by_filter: bool = False
    key_in: Callable[[Answer], Key | None] | None = field(default=None, compare=False)


class Door(Protocol):
    """The one way out for requests that may create, change or remove rows."""

    async def send(self, request: Request, act: Act, check: str) -> Exchange:
        """Send a request once its intent is on disk. Raises Unsafe where it may reach rows of others."""

    def saw(self, table: str, rows: Iterable[tuple[Key | None, Row]]) -> None:
        """Take note of rows that an answer has shown."""

    def owns(self, table: str, key: Key) -> bool:
        """Whether a row is the run's own."""

    def writes(self, table: str) -> tuple[int, int]:
        """How many writes to a table the run has sent, and how many of them have ended."""
