"""What a contract says in words of a parameter outside of it: in those sections of its introduction and of what it
says of operations (CommonMark) that name it."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import replace
from functools import cache

from checkpost.contract.contract import Operation, Parameter

#: A heading, or a line in bold that stands for one.
_HEADING = re.compile(r"^(?:(#{1,6})\s+\S.*|\*\*[^*\n]+\*\*:?[ \t]*)$", re.M)
#: The level of a line in bold, below all headings.
_BOLD = 7
#: How many operations are looked at for what they say of a parameter that others have too.
_MOST = 40


def with_prose(introduction: str, operations: Sequence[Operation]) -> tuple[Operation, ...]:
    """The operations, each query parameter with what is said of it elsewhere: by the operation itself, else by the
    introduction and other operations."""
    texts = list(dict.fromkeys(each.description for each in operations if "`" in each.description))[:_MOST]

    @cache
    def anywhere(name: str) -> str:
        return "\n".join(filter(None, (about(text, name) for text in (introduction, *texts))))

    def told(operation: Operation, parameter: Parameter) -> Parameter:
        if parameter.location != "query":
            return parameter
        said = "\n".join(filter(None, (about(operation.description, parameter.name), anywhere(parameter.name))))
        return replace(parameter, elsewhere=said) if said else parameter

    if not introduction and not texts:
        return tuple(operations)
    return tuple(
        replace(each, parameters=tuple(told(each, parameter) for parameter in each.parameters)) for each in operations
    )


def about(prose: str, name: str) -> str:
    """The sections of a text in Markdown, each with those below it, that name a parameter as code or with a value; the
    whole text where it has no headings. "" where none does."""
    if name not in prose:
        return ""
    named = re.compile(rf"`\??{re.escape(name)}(?:=[^`]*)?`|[?&]{re.escape(name)}=|\*\*{re.escape(name)}\*\*")
    if not named.search(prose):
        return ""
    headings = list(_HEADING.finditer(prose))
    levels = [0, *(len(each[1] or "") or _BOLD for each in headings)]
    starts = [0, *(each.start() for each in headings), len(prose)]
    told, until = [], 0
    for place, level in enumerate(levels):
        if place < until or not named.search(prose[starts[place] : starts[place + 1]]):
            continue
        until = next((after for after in range(place + 1, len(levels)) if levels[after] <= level), len(levels))
        until = until if level or len(levels) == 1 else place + 1  # what stands before all headings is no part above
        told.append(prose[starts[place] : starts[until]])
    return "\n".join(told)
