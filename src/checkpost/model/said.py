"""What a contract says of a parameter in words."""

from __future__ import annotations

import re

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.shape import shape_of
from checkpost.model.vocabulary import operator_of

#: Words that have several values joined by commas.
COMMAS = r"\bcsv\b|\bcommas?[- ](?:separated|delimited)\b|\bseparated?\b[^.]*\bcommas?\b"


def said_of(parameter: Parameter, operation: Operation | None = None) -> str:
    """Everything that the contract says of a parameter in words."""
    words = shape_of(parameter.schema).keywords
    parts = [parameter.description, *parameter.examples, words.get("description"), words.get("example")]
    parts += [*(words.get("examples") or []), words.get("pattern"), words.get("default")]
    text = "\n".join(str(part) for part in parts if isinstance(part, str | int | float))
    return text or (f"{operation.summary}\n{operation.description}" if operation else "")


def code_in(text: str) -> str:
    """The parts of a text that are written as code; the whole text where none is."""
    return "\n".join(re.findall(r"`([^`]+)`", text)) or text


def listed_operators(said: str) -> set[str]:
    """Words and signs that stand as code, or in a list of at least three."""
    listed: set[str] = set()
    for segment in re.findall(r"`([^`]+)`", said):
        if len(segment.split()) == 1:
            listed.add(segment)
        listed.update(re.split(r"[,\s]+", segment) if "," in segment else ())
    for run in re.findall(r"(?:[\w<>=!]+\s*,\s*){2,}(?:and\s+|or\s+)?[\w<>=!]+", said):
        listed.update(word for word in re.split(r"[,\s]+", run) if operator_of(word))
    return listed
