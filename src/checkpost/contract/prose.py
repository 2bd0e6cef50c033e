"""What a description says in words of a parameter outside of it: in the sections of its introduction (CommonMark) that
name it."""

from __future__ import annotations

import re

_HEADING = re.compile(r"^(#{1,6})\s+\S.*$", re.M)


def about(prose: str, name: str) -> str:
    """The sections of a text in Markdown, each with those below it, that name a parameter as code or with a value; the
    whole text where it has no headings. "" where none does."""
    named = re.compile(rf"`\??{re.escape(name)}(?:=[^`]*)?`|[?&]{re.escape(name)}=|\*\*{re.escape(name)}\*\*")
    if not named.search(prose):
        return ""
    headings = list(_HEADING.finditer(prose))
    levels = [0, *(len(each[1]) for each in headings)]
    starts = [0, *(each.start() for each in headings), len(prose)]
    told, until = [], 0
    for place, level in enumerate(levels):
        if place < until or not named.search(prose[starts[place] : starts[place + 1]]):
            continue
        until = next((after for after in range(place + 1, len(levels)) if levels[after] <= level), len(levels))
        until = until if level or len(levels) == 1 else place + 1  # what stands before all headings is no part above
        told.append(prose[starts[place] : starts[until]])
    return "\n".join(told)
