"""What errors say in words."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from checkpost.wire.exchange import Answer

#: Where the lines of a stack trace begin.
_FRAMES = re.compile(r"\n\s*(?:at \S|File \")|\nTraceback ")
#: Members of errors that say what went wrong.
_SAYS = re.compile(r"message|msg|detail|error|title|description|reason|cause", re.I)


#: What stands in such a sentence for a name or a value, and words that say no more than that it is an error.
_OF = re.compile(r"\"[^\"]*\"|'[^']*'|`[^`]*`|\([^()]*\)|\b\w*\d\w*\b|\$\w+|\w+(?:[./_]\w+)+")


_STATEMENT = re.compile(r"^(?:select|insert|update|delete)\b.* - (?=\w)", re.I)


#: What was to be done, before what went wrong with it: "Failed to create item: ".
_TO_BE_DONE = re.compile(
    r"^(?:(?:failed|unable|failure|error)\b(?: (?:to|while|when|in|on|during))? \w+|(?:could|can) ?not \w+)"
    r"(?: [\w'-]+){0,4}: (?=\S+ \S)",
    re.I,
)


_EMPTY = frozenset(
    re.findall(
        r"\w+",
        "a an the internal server error errors unexpected unknown unhandled exception occurred something went wrong"
        " sorry oops we are could can cannot not be been has was is complete process processed processing fulfill"
        " handle handled handling this your request please try again later in and to of while a problem an issue"
        " contact support administrator team encountered happened failed failure and our logged notified bad",
    )
)


def in_words(answer: Answer) -> str:
    """What an error says, behind a colon: without what was to be done and the names and values that it says it of, and
    nothing where it says no more than that it is one."""
    words = re.findall(r"[A-Za-z][A-Za-z-]+", _OF.sub(" ", _TO_BE_DONE.sub("", said(answer))))[:20]
    return ": " + " ".join(words) if {word.lower() for word in words} - _EMPTY else ""


def said(answer: Answer) -> str:
    """The longest sentence of an error; of one with a statement before it, what stands behind that."""
    is_json, body = answer.parsed
    texts = list(_sayings(body)) if is_json else ([] if "<" in answer.text[:200] else [answer.text])
    said = " ".join(_FRAMES.split(max(texts, key=len, default=""), maxsplit=1)[0].split())
    return _STATEMENT.sub("", said)[:300]


def _sayings(value: Any, named: bool = False) -> Iterator[str]:
    if isinstance(value, dict):
        saying = {key for key in value if _SAYS.search(key)}
        for key, each in value.items():
            yield from _sayings(each, key in saying or (named and not saying))  # errors by field are said by each
    elif isinstance(value, list):
        for each in value:
            yield from _sayings(each, named)
    elif isinstance(value, str) and named:
        yield value
