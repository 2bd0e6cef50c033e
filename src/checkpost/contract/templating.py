"""Paths whose parameters do not stand in braces, or not alone in them, as programs write them that describe APIs."""

from __future__ import annotations

import re
from collections.abc import Container

_NAME = r"[A-Za-z_]\w*"
#: ``<id>`` and ``<int:id>``; ``:id`` and ``[id]`` where they are a whole segment.
_ANGLED = re.compile(rf"<(?:{_NAME}(?:\([^()<>]*\))?:)?({_NAME})>")
#: ``{id:int}`` and ``{id: \d+}``: what a parameter may be stands in the braces too.
_TYPED = re.compile(rf"\{{({_NAME})\s*:(?:[^{{}}]|\{{[^{{}}]*\}})*\}}")
_SEGMENT = re.compile(rf"(?<=/)(?::({_NAME})|\[({_NAME})\])(?=/|$)")


def in_braces(path: str, declared: Container[str]) -> str:
    """A path template with its parameters in braces (OpenAPI 3.1, 4.8.8.2). ``declared`` holds the names of its path
    parameters: signs that may as well be part of a path are read so for these alone."""
    path = _ANGLED.sub(r"{\1}", path)
    path = _TYPED.sub(lambda found: found[0] if found[0][1:-1] in declared else f"{{{found[1]}}}", path)

    def braced(found: re.Match[str]) -> str:
        name = found[1] or found[2]
        return f"{{{name}}}" if name in declared else found[0]

    return path if "{" in path else _SEGMENT.sub(braced, path)
