"""How much a run may ask: once it is used up no check is begun, and those under way come to their end."""

from __future__ import annotations

from dataclasses import dataclass

#: With what the reason of every check begins that was left out for the budget.
LEFT_OUT = "left out: "


@dataclass(frozen=True)
class Budget:
    """The most ``requests`` and ``seconds``; None for no limit. Rows are removed whatever that takes."""

    requests: int | None = None
    seconds: float | None = None

    def used_up(self, requests: int, seconds: float) -> str:
        """Why no more is to be asked after so many requests and seconds; "" if it may be."""
        if self.requests is not None and requests >= self.requests:
            return f"{LEFT_OUT}--max-requests {self.requests} was reached"
        if self.seconds is not None and seconds >= self.seconds:
            return f"{LEFT_OUT}--max-time {self.seconds:g} was reached"
        return ""


UNLIMITED = Budget()
