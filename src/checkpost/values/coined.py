"""Texts too short for the run's mark and something of their own: coined so that the mark still tells whose they are."""

from __future__ import annotations

import re
from hashlib import sha256

#: The shortest and the longest of them.
SHORTEST, LONGEST = 10, 12
_FREE, _SIGNS = 5, "0123456789abcdefghijklmnopqrstuvwxyz"
_FORM = re.compile(rf"[0-9a-z]{{{SHORTEST},{LONGEST}}}")


def coin(mark: str, number: int, length: int) -> str:
    """A text of a length from ``SHORTEST`` to ``LONGEST``, another one for each number below 36 to the power of 5."""
    start = int.from_bytes(sha256(mark.encode()).digest()[:4]) + number * 7_919
    free = _written(start, _FREE)
    return free + _seal(mark, free, length - _FREE)


def has_mark(text: str, mark: str) -> bool:
    """Whether a text has the run's mark in it, in whatever case, or was coined for it. Of texts that were not, one in
    sixty million of such a length and such signs would seem so."""
    lower = text.lower()
    if mark.lower() in lower:
        return True
    return _FORM.fullmatch(lower) is not None and lower[_FREE:] == _seal(mark, lower[:_FREE], len(lower) - _FREE)


def _seal(mark: str, free: str, length: int) -> str:
    return _written(int.from_bytes(sha256(f"{mark} {free}".encode()).digest()[:8]), length)


def _written(number: int, length: int) -> str:
    """The last digits of a number to the base of 36."""
    digits = ""
    for _ in range(length):
        number, digit = divmod(number, 36)
        digits = _SIGNS[digit] + digits
    return digits
