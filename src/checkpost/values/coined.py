"""Texts too short for the run's mark and something of their own: coined so that the mark still tells whose they are."""

from __future__ import annotations

import re
from hashlib import sha256

#: The shortest and the longest of them.
SHORTEST, LONGEST = 10, 12
#: How many of the mark's first signs tell a run from others.
_LETTERS = 6
_FREE, _DIGITS = 5, "0123456789abcdefghijklmnopqrstuvwxyz"
#: Enough for the numbers of a run.
_WIDTH = 4
_FORM = re.compile(rf"[0-9a-z]{{{SHORTEST},{LONGEST}}}")


def coin(mark: str, number: int, length: int) -> str:
    """A text of a length from ``SHORTEST`` to ``LONGEST``, another one for each number below 36 to the power of 5."""
    start = int.from_bytes(sha256(mark.encode()).digest()[:4]) + number * 7_919
    free = short(start % 36**_FREE, _FREE)
    return free + _seal(mark, free, length - _FREE)


def has_mark(text: str, mark: str) -> bool:
    """Whether a text has the run's mark in it, in whatever case, or ends in most of it, or was coined for it. Of texts
    that were not coined, one in sixty million of such a length and such signs would seem so."""
    lower, whole, least = text.lower(), mark.lower(), _LETTERS + 1
    if whole[:least] in lower:
        # at the end of a text that an API has cut, what is left of it has to have the letters that no other run has
        left = tuple(whole[:length] for length in range(least, len(whole)))
        if whole in lower or lower.endswith(left):
            return True
    return _FORM.fullmatch(lower) is not None and lower[_FREE:] == _seal(mark, lower[:_FREE], len(lower) - _FREE)


def _seal(mark: str, free: str, length: int) -> str:
    return short(int.from_bytes(sha256(f"{mark} {free}".encode()).digest()[:8]) % 36**length, length)


def short(number: int, width: int = _WIDTH) -> str:
    """A number in letters and digits: always as many, so that what is taken once is never too long."""
    digits = ""
    while number or len(digits) < width:
        number, digit = divmod(number, 36)
        digits = _DIGITS[digit] + digits
    return digits
