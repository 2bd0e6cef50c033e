"""JSON Pointers (RFC 6901)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any


def escape(part: object) -> str:
    """One reference token, escaped."""
    text = str(part)
    return text.replace("~", "~0").replace("/", "~1") if "~" in text or "/" in text else text


def join(pointer: str, *parts: object) -> str:
    """The pointer with reference tokens added."""
    return pointer + "".join("/" + escape(part) for part in parts)


def tokens(pointer: str) -> list[str]:
    """The unescaped reference tokens of a pointer."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def from_tokens(parts: Iterable[object]) -> str:
    return "".join("/" + escape(part) for part in parts)


def walk(value: Any, pointer: str) -> Any:
    """What the pointer leads to. Raises LookupError where it leads to nothing."""
    for token in tokens(pointer):
        if isinstance(value, list):
            if not token.isdigit():
                raise LookupError(token)
            value = value[int(token)]
        elif isinstance(value, dict):
            value = value[token]
        else:
            raise LookupError(token)
    return value
