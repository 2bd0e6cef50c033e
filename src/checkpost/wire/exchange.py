"""One request and its answer, as values."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any, Literal

from checkpost.model.media import LINES
from checkpost.profile.credentials import Presented

#: Safe methods (RFC 9110, 9.2.1).
SAFE = {"GET", "HEAD", "OPTIONS"}
#: What kept a whole answer from coming. ``dropped`` is a connection that ended under a request just behind a failure
#: of the server's: many servers close those behind which they failed, and this one may have been kept from then.
Failure = Literal["", "unreachable", "timeout", "closed", "dropped", "truncated", "too-large", "not-http"]


@dataclass(frozen=True)
class Request:
    """What is sent; credentials are added by the session from the role's name."""

    method: str
    url: str
    role: str
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes | None = None
    credentials: Presented = "right"
    #: The name of a token to send in place of the one that the role's log-in gave.
    token: str = ""
    #: Whether it only asks, although its method is not safe: the contract has a list or a row read by it.
    asks: bool = False

    @property
    def media_type(self) -> str:
        """The media type of its body; "" for none."""
        kind = next((value for name, value in self.headers.items() if name.lower() == "content-type"), "")
        return kind.partition(";")[0].strip().lower()

    @property
    def safe(self) -> bool:
        """Whether it asks for no change (RFC 9110, 9.2.1)."""
        return self.asks or self.method in SAFE

    @property
    def json(self) -> Any:
        """The body as JSON; None where it is none."""
        try:
            return json.loads(self.body or b"null")
        except ValueError:
            return None


@dataclass(frozen=True)
class Answer:
    """What came back; ``failure`` says why there is no whole answer."""

    status: int = 0
    headers: tuple[tuple[str, str], ...] = ()
    body: bytes = b""
    failure: Failure = ""
    detail: str = ""
    #: The status that it came with, where its body says another one.
    on_the_wire: int | None = None

    def as_sent(self) -> Answer:
        """The answer with the status that it came with."""
        return self if self.on_the_wire is None else replace(self, status=self.on_the_wire, on_the_wire=None)

    def header(self, name: str) -> str | None:
        """The first header of this name, whatever its case."""
        return next((value for key, value in self.headers if key.lower() == name.lower()), None)

    @property
    def media_type(self) -> str:
        return (self.header("content-type") or "").partition(";")[0].strip().lower()

    @property
    def text(self) -> str:
        return self.body.decode("utf-8", "replace")

    @cached_property
    def parsed(self) -> tuple[bool, Any]:
        """Whether the body is JSON (RFC 8259), and its value; of a sequence of JSON values, the list of them."""
        try:
            if self.media_type in LINES:
                lines = self.body.decode("utf-8").replace("\x1e", "").splitlines()
                return True, [json.loads(line) for line in lines if line.strip()]
            return True, json.loads(self.body.decode("utf-8"))
        except (ValueError, RecursionError):
            return False, None

    @property
    def json(self) -> Any:
        return self.parsed[1]

    @cached_property
    def no_numbers(self) -> tuple[str, ...]:
        """The words in a body that many programs write and read for numbers, and JSON has not: NaN, Infinity (RFC 8259,
        6)."""
        found: dict[str, None] = {}
        if (b"NaN" in self.body or b"Infinity" in self.body) and self.media_type not in LINES and self.parsed[0]:
            json.loads(self.body.decode("utf-8"), parse_constant=found.setdefault)
        return tuple(found)

    @property
    def ok(self) -> bool:
        return 200 <= self.status < 300

    @property
    def refused(self) -> bool:
        return 400 <= self.status < 500


@dataclass(frozen=True)
class Exchange:
    """A request, its answer, and for which check it was sent; ``number`` counts within the run, ``started`` is the
    moment when it left, in seconds since 1970."""

    number: int
    check: str
    request: Request
    answer: Answer
    seconds: float
    attempts: int = 1
    started: float = 0.0


def texts_in(value: Any) -> Iterator[str]:
    """Every text inside a JSON value, as it is and not as it is escaped."""
    if isinstance(value, str):
        yield value
    elif isinstance(value, list):
        for each in value:
            yield from texts_in(each)
    elif isinstance(value, dict):
        for each in value.values():
            yield from texts_in(each)
