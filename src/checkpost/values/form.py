"""The form that all texts of a field are written in, such as ``SB-1004`` and ``SB-0177``: the same kinds of signs in
the same order."""

from __future__ import annotations

import re
from collections.abc import Iterable
from itertools import zip_longest

#: How many different texts show a form, and how many others there have to be for each of them that it is for.
_TELLING, _OTHERS = 3, 10
#: One of as few as that part of the texts is one of a few choices.
_FEW = 4
_DIGITS, _LETTERS = r"\d", "[a-z]"
#: The kinds of signs that stand in a row: each with how it is written in a regular expression, and how many such there
#: are. Any other sign stands for itself.
_KINDS = (
    (re.compile("[0-9]+"), _DIGITS, 10),
    (re.compile("[A-Z]+"), "[A-Z]", 26),
    (re.compile("[a-z]+"), _LETTERS, 26),
)
_PARTS = re.compile("[0-9]+|[A-Z]+|[a-z]+|.", re.S)


def form_of(texts: Iterable[object]) -> str:
    """A regular expression (ECMA-262) of the form that all texts have in common: what is the same in all as it is, and
    for the rest one of a few choices, or as many digits, capital or small letters as they have. "" where they have no
    such form, where they are words and no codes (letters differ and no digits), or where it leaves few others."""
    known = sorted({text for text in texts if isinstance(text, str) and text})
    if len(known) < _TELLING:
        return ""
    written, others, differing = "", 1, set[str]()
    for parts in zip_longest(*map(_PARTS.findall, known)):
        choices = sorted({part or "" for part in parts})
        if "" not in choices and len(choices) <= max(1, len(known) // _FEW):
            several = "|".join(map(re.escape, choices))
            written += f"(?:{several})" if len(choices) > 1 else several
            others *= len(choices)
            continue
        kind = next((each for each in _KINDS if all(part and each[0].fullmatch(part) for part in parts)), None)
        if kind is None:
            return ""
        shortest, longest = min(map(len, parts)), max(map(len, parts))
        written += _some(kind[1], shortest, longest, any(part[0] == "0" for part in parts))
        others *= kind[2] ** longest
        differing.add(kind[1])
    words = _LETTERS in differing and _DIGITS not in differing
    return f"^{written}$" if not words and others >= _OTHERS * len(known) else ""


def _some(sign: str, shortest: int, longest: int, zeros: bool) -> str:
    """As many signs of a kind; digits begin with no zero where none of the texts does."""
    first = "[1-9]" if sign == _DIGITS and not zeros else ""
    left = 1 if first else 0
    many = f"{{{shortest - left},{longest - left}}}" if shortest < longest else f"{{{longest - left}}}"
    return first + (sign + many if longest > left else "")
