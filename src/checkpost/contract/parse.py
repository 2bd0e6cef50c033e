"""From the text of a document to plain values: JSON (RFC 8259) or YAML (1.2 core schema).

JSON never passes through the YAML parser, which rejects escaped surrogate pairs. YAML is built from
PyYAML's event stream, since its loaders follow YAML 1.1 (``no`` is false there, ``012`` is ten) and let
duplicate keys pass.
"""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, field
from typing import Any

from checkpost.contract.errors import ContractError
from checkpost.contract.positions import duplicate_key, too_deep

LARGEST_DOCUMENT = 25 * 1024 * 1024
DEEPEST = 200
MOST_NODES = 3_000_000

_INTEGER = re.compile(r"[-+]?[0-9]+")
_OCTAL = re.compile(r"0o[0-7]+")
_HEXADECIMAL = re.compile(r"0x[0-9a-fA-F]+")
_FLOAT = re.compile(r"[-+]?(\.[0-9]+|[0-9]+(\.[0-9]*)?)([eE][-+]?[0-9]+)?")
_NULLS = {"", "~", "null", "Null", "NULL"}
_BOOLEANS = {"true": True, "True": True, "TRUE": True, "false": False, "False": False, "FALSE": False}


def is_json(location: str, text: str) -> bool:
    """Whether a document is read as JSON: by how it begins, then by its name."""
    start = text.lstrip("\ufeff \t\r\n")[:1]
    name = location.partition("?")[0].lower()
    return start == "[" or (start == "{" and not name.endswith((".yaml", ".yml")))


def parse(location: str, raw: bytes) -> tuple[Any, str]:
    """The plain value of a document and its text. Raises ContractError."""
    if len(raw) > LARGEST_DOCUMENT:
        size, limit = len(raw) / 2**20, LARGEST_DOCUMENT // 2**20
        raise ContractError(location, f"is {size:.1f} MB; contracts are read up to {limit} MB, so split it.")
    try:
        text = raw.decode("utf-8-sig")
    except UnicodeDecodeError as error:
        line = raw.count(b"\n", 0, error.start) + 1
        raise ContractError(location, "is not UTF-8 text, as JSON and YAML have to be.", line) from None
    if not text.strip():
        raise ContractError(location, "is empty; give an OpenAPI description in JSON or YAML.")
    if text.lstrip()[:1] == "<":
        raise ContractError(
            location, "is HTML or XML; give the JSON or YAML description itself, not a page that shows it.", 1
        )
    return (_parse_json(location, text) if is_json(location, text) else _parse_yaml(location, text)), text


class _DuplicateKey(Exception):
    pass


def _no_duplicates(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    value = dict(pairs)
    if len(value) != len(pairs):
        raise _DuplicateKey
    return value


def _parse_json(location: str, text: str) -> Any:
    try:
        value = json.loads(text, object_pairs_hook=_no_duplicates)
    except _DuplicateKey:
        key, line, column = duplicate_key(text)
        raise ContractError(
            location, f"the key {key!r} appears twice in one object; remove one.", line, column
        ) from None
    except json.JSONDecodeError as error:
        raise ContractError(
            location, f"is not valid JSON: {error.msg[0].lower()}{error.msg[1:]}.", error.lineno, error.colno
        ) from None
    except RecursionError:
        value = None
    if value is None or _levels(value, DEEPEST) > DEEPEST:
        deep = too_deep(text, DEEPEST)
        if deep:
            raise ContractError(location, f"is nested more than {DEEPEST} levels deep.", *deep)
    return value


def _levels(value: Any, enough: int) -> int:
    """How many levels of objects and arrays a value has, counted to one more than ``enough``."""
    level, count = [value], 0
    while count <= enough:
        level = [each for each in level if isinstance(each, dict | list)]
        if not level:
            break
        count += 1
        level = [inner for each in level for inner in (each.values() if isinstance(each, dict) else each)]
    return count


@dataclass
class _Open:
    """A collection being built; ``size`` is how many nodes it has when every alias is written out."""

    value: Any
    anchor: str | None
    size: int = 1
    key: str | None = None
    awaits_value: bool = False
    merged: list[Any] = field(default_factory=list)

    def finish(self) -> None:
        """Add what merge keys name and the mapping does not have itself."""
        for source in self.merged:
            for name, inherited in source.items() if isinstance(source, dict) else ():
                self.value.setdefault(name, inherited)


def _scalar(event: Any) -> Any:
    text: str = event.value
    if event.style or not event.implicit[0]:
        return text
    if text in _NULLS:
        return None
    if text in _BOOLEANS:
        return _BOOLEANS[text]
    if _INTEGER.fullmatch(text):
        return int(text)
    if _OCTAL.fullmatch(text):
        return int(text[2:], 8)
    if _HEXADECIMAL.fullmatch(text):
        return int(text, 16)
    if _FLOAT.fullmatch(text):
        return float(text)
    return text


def _parse_yaml(location: str, text: str) -> Any:
    import yaml

    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    anchors: dict[str, tuple[Any, int]] = {}
    stack: list[_Open] = []
    root: list[Any] = []
    total = documents = 0

    def fail(event: Any, problem: str) -> ContractError:
        return ContractError(location, problem, event.start_mark.line + 1, event.start_mark.column + 1)

    def place(event: Any, value: Any, size: int) -> None:
        nonlocal total
        total += size
        if total > MOST_NODES:
            raise fail(event, "expands to millions of nodes through its aliases; write them out or split it.")
        if not stack:
            root.append(value)
            return
        parent = stack[-1]
        parent.size += size
        if isinstance(parent.value, list):
            parent.value.append(value)
        elif not parent.awaits_value:
            raise fail(event, "a key has to be plain text.")
        else:
            key, parent.awaits_value = parent.key, False
            if key == "<<":  # not of YAML 1.2, but written in many contracts: own keys win, whatever the order
                parent.merged += value if isinstance(value, list) else [value]
            else:
                parent.value[key] = value

    try:
        for event in yaml.parse(text, Loader=loader):
            if isinstance(event, yaml.DocumentStartEvent):
                documents += 1
                if documents > 1:
                    raise fail(event, "holds more than one YAML document; keep the first.")
            elif isinstance(event, yaml.ScalarEvent):
                parent = stack[-1] if stack else None
                if parent is not None and isinstance(parent.value, dict) and not parent.awaits_value:
                    if event.value in parent.value and event.value != "<<":
                        raise fail(event, f"the key {event.value!r} appears twice in one mapping; remove one.")
                    parent.key, parent.awaits_value = event.value, True
                    continue
                value = _scalar(event)
                if event.anchor:
                    anchors[event.anchor] = (value, 1)
                place(event, value, 1)
            elif isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
                if len(stack) >= DEEPEST:
                    raise fail(event, f"is nested more than {DEEPEST} levels deep.")
                if stack and isinstance(stack[-1].value, dict) and not stack[-1].awaits_value:
                    raise fail(event, "a key has to be plain text.")
                stack.append(_Open({} if isinstance(event, yaml.MappingStartEvent) else [], event.anchor))
            elif isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
                done = stack.pop()
                done.finish()
                if done.anchor:
                    anchors[done.anchor] = (done.value, done.size)
                total -= done.size - 1
                place(event, done.value, done.size)
            elif isinstance(event, yaml.AliasEvent):
                if event.anchor not in anchors:
                    raise fail(event, f"the alias *{event.anchor} names no anchor before it, or itself.")
                place(event, *anchors[event.anchor])
    except yaml.YAMLError as error:
        mark = getattr(error, "problem_mark", None)
        problem = getattr(error, "problem", None) or "cannot be read"
        line, column = (mark.line + 1, mark.column + 1) if mark else (None, None)
        raise ContractError(location, f"is not valid YAML: {problem}.", line, column) from None
    return root[0] if root else None
