"""What a page of a list says of itself, under any description: how many rows and pages there are, which it is."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from typing import Any, Literal

from checkpost.model.envelopes import NEXT_LINKS, ROW_NOUNS
from checkpost.wire.exchange import Answer

#: What is said: the number of all rows and of all pages, whether there are pages behind and before this one, whether it
#: is the last or the first, its number and its offset, the most rows that it shows, and the number of the next one.
Kind = Literal["total", "pages", "more", "before", "last", "first", "number", "offset", "size", "next"]

_COUNTS: dict[str, Kind] = {
    "total": "total",
    **{f"total{noun}": "total" for noun in ROW_NOUNS},
    **dict.fromkeys(("pagecount", "totalpages", "pages", "lastpage", "numpages", "numberofpages"), "pages"),
    **dict.fromkeys(("page", "currentpage", "pagenumber", "pageno", "pageindex"), "number"),
    **dict.fromkeys(("offset", "skip"), "offset"),
    **dict.fromkeys(("limit", "pagesize", "perpage", "size", "take"), "size"),
    **dict.fromkeys(("nextpage", "nextpagenumber"), "next"),
}
_TRUTHS: dict[str, Kind] = {
    **dict.fromkeys(("hasmore", "hasnext", "hasnextpage", "more", "moreresults", "moreavailable"), "more"),
    **dict.fromkeys(("overflow", "truncated", "istruncated", "incomplete"), "more"),
    **dict.fromkeys(("hasprev", "hasprevious", "hasprevpage", "haspreviouspage"), "before"),
    **dict.fromkeys(("last", "islast", "islastpage"), "last"),
    **dict.fromkeys(("first", "isfirst", "isfirstpage"), "first"),
}
_DEEP = 4


def said(answer: Answer) -> dict[tuple[Kind, str], Any]:
    """What an answer's body and headers say, by what it is and where: a member's names, or a header's."""
    found = {(kind, place): value for kind, place, value in _in_body(answer.json, (), _DEEP)}
    for name, value in answer.headers:
        low = name.lower()
        if not low.startswith(("x-", "pagination", "paging")):
            continue
        word = re.sub(r"[^a-z]", "", low.removeprefix("x-").removeprefix("pagination-"))
        if word in _COUNTS:
            kind = _COUNTS[word]
            if value.strip().isdecimal() or (kind == "next" and not value.strip()):
                found[kind, name] = int(value) if value.strip() else None
        elif value.startswith("{"):
            found |= {(kind, place): each for kind, place, each in _in_body(_object(value), (name,), 1)}
    return found


def _object(text: str) -> Any:
    """What a header's JSON holds; None where it is none."""
    try:
        return json.loads(text)
    except ValueError:
        return None


def next_in(answer: Answer) -> str | None:
    """The link to the next page that stands beside the rows, or in a header, under a name that nothing describes; None
    for none."""
    headers = (value for name, value in answer.headers if _is_next(name.lower().removeprefix("x-")) and "/" in value)
    return next(_links_in(answer.json, _DEEP), None) or next(headers, None)


def _is_next(name: str) -> bool:
    return re.sub(r"[^a-z]", "", name.lower()) in NEXT_LINKS


def _links_in(body: Any, depth: int) -> Iterator[str]:
    for name, value in body.items() if isinstance(body, dict) else ():
        if isinstance(value, str) and _is_next(name):
            if re.match(r"https?://|/|\?", value):
                yield value
        elif isinstance(value, dict) and depth > 1:
            yield from _links_in(value, depth - 1)


def _in_body(body: Any, names: tuple[str, ...], depth: int) -> Iterator[tuple[Kind, str, Any]]:
    for name, value in body.items() if isinstance(body, dict) else ():
        word, place = re.sub(r"[^a-z]", "", name.lower()), ".".join((*names, name))
        if isinstance(value, bool):
            if word in _TRUTHS:
                yield _TRUTHS[word], place, value
        elif isinstance(value, int) and word in _COUNTS:
            yield _COUNTS[word], place, value
        elif value is None and _COUNTS.get(word) == "next":
            yield _COUNTS[word], place, None
        elif isinstance(value, dict) and depth > 1:
            yield from _in_body(value, (*names, name), depth - 1)
