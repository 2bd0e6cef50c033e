"""Lines and columns in a document's text, found only when something there is reported."""

from __future__ import annotations

import json
import re
from bisect import bisect_left
from collections.abc import Collection, Iterable, Iterator
from typing import Any

from checkpost.contract.pointer import tokens

Path = tuple[str | int, ...]

_TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\],:]|[^\s{}\[\],:"]+', re.S)


def _json_nodes(text: str) -> Iterator[tuple[Path, int]]:
    """Each node of a JSON text with the offset of its key, or of the value where it has none."""
    path: list[str | int] = []
    kinds: list[str] = []
    awaiting_key = False
    for match in _TOKEN.finditer(text):
        token = match.group()
        if token in ",:":
            if token == ",":
                awaiting_key = kinds[-1] == "{" if kinds else False
            continue
        if token in "}]":
            if kinds:
                kinds.pop()
                path.pop()
            awaiting_key = False
            continue
        if awaiting_key and token[0] == '"':
            path[-1] = json.loads(token)
            awaiting_key = False
            yield tuple(path), match.start()
            continue
        if kinds and kinds[-1] == "[":
            path[-1] = int(path[-1]) + 1
            yield tuple(path), match.start()
        elif not kinds:
            yield (), match.start()
        if token in "{[":
            kinds.append(token)
            path.append(-1 if token == "[" else "")
            awaiting_key = token == "{"


def _yaml_nodes(text: str) -> Iterator[tuple[Path, int, int]]:
    """Each node of a YAML text with the line and column (from 1) of its key, or of the value."""
    import yaml

    path: list[str | int] = []
    is_map: list[bool] = []
    awaiting_key: list[bool] = []
    for event in yaml.parse(text, Loader=getattr(yaml, "CSafeLoader", yaml.SafeLoader)):
        if isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
            is_map.pop()
            path.pop()
            awaiting_key.pop()
            if awaiting_key and is_map[-1]:
                awaiting_key[-1] = True
            continue
        if not isinstance(event, yaml.NodeEvent):
            continue
        start = event.start_mark
        mark = (start.line + 1, start.column + 1) if start is not None else (1, 1)
        if is_map and is_map[-1] and awaiting_key[-1]:
            path[-1] = event.value if isinstance(event, yaml.ScalarEvent) else ""
            awaiting_key[-1] = False
            yield tuple(path), *mark
            continue
        if is_map and not is_map[-1]:
            path[-1] = int(path[-1]) + 1
            yield tuple(path), *mark
        elif not is_map:
            yield (), *mark
        if isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
            mapping = isinstance(event, yaml.MappingStartEvent)
            is_map.append(mapping)
            path.append("" if mapping else -1)
            awaiting_key.append(mapping)
        elif is_map and is_map[-1]:
            awaiting_key[-1] = True


def _line_column(text: str, offset: int) -> tuple[int, int]:
    return text.count("\n", 0, offset) + 1, offset - text.rfind("\n", 0, offset)


def locate(text: str, json_syntax: bool, pointers: Iterable[str]) -> dict[str, tuple[int, int]]:
    """Line and column (from 1) of each pointer, or of its nearest ancestor that exists. One pass."""
    wanted = {pointer: tuple(tokens(pointer)) for pointer in pointers}
    ancestors = {path[:length] for path in wanted.values() for length in range(len(path) + 1)}
    found = _json_places(text, ancestors) if json_syntax else _yaml_places(text, ancestors)
    places = {}
    for pointer, path in wanted.items():
        known = next((path[:n] for n in range(len(path), -1, -1) if path[:n] in found), None)
        places[pointer] = found[known] if known is not None else (1, 1)
    return places


Names = tuple[str, ...]


def _yaml_places(text: str, wanted: Collection[Names]) -> dict[Names, tuple[int, int]]:
    found: dict[Names, tuple[int, int]] = {}
    for path, line, column in _yaml_nodes(text):
        plain = tuple(map(str, path))
        if plain in wanted and plain not in found:
            found[plain] = line, column
            if len(found) == len(wanted):
                break
    return found


def _json_places(text: str, wanted: Iterable[Names]) -> dict[Names, tuple[int, int]]:
    """Line and column of what is wanted, as far as it is there; what holds nothing of it is passed over."""
    tree: dict[str, Any] = {}
    for path in wanted:
        node = tree
        for name in path:
            node = node.setdefault(name, {})
    ends = [match.start() for match in re.finditer("\n", text)]
    found: dict[Names, tuple[int, int]] = {}

    def note(path: Names, offset: int) -> None:
        line = bisect_left(ends, offset)
        found.setdefault(path, (line + 1, offset - (ends[line - 1] if line else -1)))

    def look(value: re.Match[str], node: dict[str, Any], path: Names) -> int:
        """The end of a value, whose members that are wanted are noted."""
        if value.group() not in "{[" or not node:
            return _end(text, value)
        position, place = value.end(), 0
        while token := _TOKEN.search(text, position):
            name, inner = str(place), token
            if token.group() in "}]":
                return token.end()
            position = token.end()
            if token.group() == ",":
                continue
            if value.group() == "{":
                name = token.group()[1:-1] if "\\" not in token.group() else json.loads(token.group())
                colon = _TOKEN.search(text, position)
                after = _TOKEN.search(text, colon.end()) if colon is not None else None
                if after is None:
                    break
                inner = after
            if name in node:
                note((*path, name), token.start())
            place += 1
            position = look(inner, node.get(name, {}), (*path, name))
        return len(text)

    first = _TOKEN.search(text)
    if first is not None:
        note((), first.start())
        look(first, tree, ())
    return found


_STRUCTURE = re.compile(r'"(?:[^"\\]|\\.)*"|[{}\[\]]', re.S)


def _end(text: str, value: re.Match[str]) -> int:
    """Where the value ends that begins with a token."""
    if value.group() not in "{[":
        return value.end()
    depth = 0
    for match in _STRUCTURE.finditer(text, value.start()):
        sign = match.group()
        depth += (sign in "{[") - (sign in "}]")
        if not depth:
            return match.end()
    return len(text)


def duplicate_key(text: str) -> tuple[str, int, int]:
    """The first key that appears twice in one object of a JSON text, with line and column."""
    seen: set[Path] = set()
    for path, offset in _json_nodes(text):
        if path in seen and path and isinstance(path[-1], str):
            return path[-1], *_line_column(text, offset)
        seen.add(path)
    return "", 1, 1


def too_deep(text: str, limit: int) -> tuple[int, int] | None:
    """Where a JSON text is nested deeper than ``limit``, if anywhere."""
    if text.count("{") + text.count("[") <= limit:
        return None
    depth = 0
    for match in _STRUCTURE.finditer(text):
        token = match.group()
        if token in "{[":
            depth += 1
            if depth > limit:
                return _line_column(text, match.start())
        elif token in "}]":
            depth -= 1
    return None
