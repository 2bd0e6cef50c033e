"""The commands that show a departure again, a day later as well: then a key of today may be somebody else's, so that
every row that they change or remove is made by themselves."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from typing import Any
from urllib.parse import quote, urlsplit

from checkpost.model.media import LINES
from checkpost.profile.credentials import Role
from checkpost.wire.client import Client
from checkpost.wire.curl import curl
from checkpost.wire.door import Act
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import Key

Named = tuple[str, Key]
#: Names of members that are keys of rows.
_REFERS = re.compile(r"(?i)(id|key|code|ref)$")
#: Stands for a variable of the shell while a text is put together.
_MARK = re.compile("\x00(KEY\\d*)\x00")


@dataclass
class Deeds:
    """What the exchanges of a run did to rows: the act of each that may have written, by its number; the rows that it
    made, and those that it removed."""

    exchanges: Mapping[int, Exchange] = field(default_factory=dict)
    acts: dict[int, Act] = field(default_factory=dict)
    made: dict[int, list[Named]] = field(default_factory=dict)
    removed: dict[int, list[Named]] = field(default_factory=dict)

    def maker(self, row: Named, before: int) -> Exchange | None:
        """The exchange that made a row, and it alone."""
        numbers = [number for number, rows in self.made.items() if number < before and rows == [row]]
        return self.exchanges.get(max(numbers)) if numbers else None

    def remover(self, row: Named, since: int, before: int) -> Exchange | None:
        """The exchange that removed a row again, before another was sent."""
        numbers = [number for number, rows in self.removed.items() if since < number < before and row in rows]
        return self.exchanges.get(max(numbers)) if numbers else None


def script(
    evidence: Sequence[Exchange], roles: Mapping[str, Role], deeds: Deeds, reach: Callable[[str], Client | None]
) -> str:
    """The commands for exchanges, in their order, joined by ``&&``; empty where they cannot be given."""
    writer = _Writer(roles, deeds, reach)
    later = [set(_touched(deeds, each)) for each in evidence]
    for place, exchange in enumerate(evidence):
        wanted = set().union(*later[place + 1 :]) if place + 1 < len(evidence) else set()
        if not writer.add(exchange, wanted, place + 1 < len(evidence)):
            return ""
    return " && ".join(writer.commands)


def _touched(deeds: Deeds, exchange: Exchange) -> tuple[Named, ...]:
    act = deeds.acts.get(exchange.number)
    return act.touched if act is not None else ()


class _Writer:
    def __init__(self, roles: Mapping[str, Role], deeds: Deeds, reach: Callable[[str], Client | None]) -> None:
        self.roles, self.deeds, self.reach = roles, deeds, reach
        self.commands: list[str] = []
        self.variables: dict[Named, str] = {}
        self.literal: set[Named] = set()
        self.done: set[int] = set()

    def add(self, exchange: Exchange, wanted: set[Named], more: bool) -> bool:
        """Add the commands for an exchange; whether that can be done. ``wanted`` are rows that what follows writes to,
        ``more`` says whether anything follows."""
        if exchange.number in self.done:
            return True
        self.done.add(exchange.number)
        act = self.deeds.acts.get(exchange.number)
        if act is not None and act.by_filter:
            return False  # only the API decides which rows it reaches
        reads = self._read(exchange.request, wanted) if act is None else ()  # of a row that is written to further on
        for row in act.touched if act is not None else reads:
            if row not in self.variables and row not in self.literal and not self._make(row, exchange.number):
                return False
        rows = self.deeds.made.get(exchange.number, [])
        if act is not None and act.kind == "create" and len(rows) == 1 and (rows[0] in wanted or (more and not wanted)):
            return self._create(exchange, rows[0]) or rows[0] not in wanted
        return self._plain(exchange, act)

    def _make(self, row: Named, before: int) -> bool:
        """Add the create of a row, and its removal where it was gone again when it was written to."""
        maker = self.deeds.maker(row, before)
        if maker is None or not self._create(maker, row):
            return False
        self.done.add(maker.number)
        remover = self.deeds.remover(row, maker.number, before)
        if remover is None or remover.number in self.done:
            return True
        self.done.add(remover.number)
        return self._plain(remover, self.deeds.acts.get(remover.number))

    def _create(self, exchange: Exchange, row: Named) -> bool:
        """Add a create whose row is written to later: a key that the API chooses goes into a variable, and with a key
        of the client's own it has to succeed."""
        client = self.reach(row[0])
        key = client.resource.key if client is not None else None
        if client is None or key is None:
            return False
        request, role = exchange.request, self.roles.get(exchange.request.role)
        act = self.deeds.acts[exchange.number]
        text = _word(self._in_body(request, self._refer(exchange, act))[0], only_marked=True)
        if [made.key for made in act.made] == [row[1]]:
            self.literal.add(row)
            self.commands.append(curl(request, role, body=text, stop=True))
            return True
        code = _code(exchange.answer, key.fields[0], row[1][0]) if len(row[1]) == 1 else ""
        if not code:
            self.commands.append(curl(request, role, body=text))
            return False
        name = f"KEY{len(self.variables) + 1}" if self.variables else "KEY"
        self.variables[row] = name
        command = curl(request, role, body=text, show_headers="location" in code, stop=True)
        self.commands.append(f"{name}=$({command} | python3 -c {shlex.quote(code)})")
        return True

    def _plain(self, exchange: Exchange, act: Act | None) -> bool:
        request = exchange.request
        rows = [
            row
            for row in (act.touched if act is not None else self._read(request, self.variables))
            if row in self.variables
        ]
        url, put = request.url, set()
        for row in rows:
            url, there = _in_url(url, row[1][0], self.variables[row])
            put |= {row} if there else set()
        body, inside = self._in_body(request, {**self._refer(exchange, act), **dict.fromkeys(rows, frozenset())})
        if act is not None and not set(rows) <= put | inside:
            return False
        text = _word(body, only_marked=True)
        self.commands.append(curl(request, self.roles.get(request.role), _word(url), body=text))
        return True

    def _refer(self, exchange: Exchange, act: Act | None) -> Mapping[Named, frozenset[str]]:
        """The rows that the run made for the body of a request to refer to, those with a variable, and the members that
        do so: their creates are added where they are not there yet."""
        body, found = exchange.request.json, dict[Named, frozenset[str]]()
        tables = {made.table for made in act.made} | {name for name, _ in act.touched} if act is not None else set()
        for client in map(self.reach, sorted(tables)):
            for relation in client.resource.relations if client is not None else ():
                for value in _values_of(relation.field, body):
                    row = relation.resource, (value,)
                    known = row in self.variables or row in self.literal
                    if (known or self._make(row, exchange.number)) and row in self.variables:
                        found[row] = found.get(row, frozenset()) | {relation.field}
        return found

    def _read(self, request: Request, rows: Iterable[Named]) -> list[Named]:
        """Those of some rows that a read names."""
        found: list[Named] = []
        for row in rows:
            client = self.reach(row[0])
            for purpose, operation in client.resource.operations.items() if client is not None else ():
                named = client is not None and ("{" in operation.path or purpose in client.resource.addresses)
                url = client.url(operation, row[1], purpose=purpose) if client is not None and named else "\0"
                found += [row] if request.url.startswith(url) else []
        return list(dict.fromkeys(found))

    def _in_body(self, request: Request, rows: Mapping[Named, frozenset[str]]) -> tuple[str, set[Named]]:
        """A JSON body with variables in the places of rows' keys: under the members that come with one, else under the
        name of the key or of a reference, or in a list of plain values; and the rows whose keys it holds."""
        text = (request.body or b"").decode("utf-8", "replace")
        inside: set[Named] = set()
        written = []
        for line in text.splitlines() if request.media_type in LINES else [text]:
            try:
                value = json.loads(line)
            except ValueError:
                written.append(line)
                continue
            found: dict[str, bool] = {}
            for row, members in rows.items():
                client, mark = self.reach(row[0]), f"\x00{self.variables[row]}\x00"
                own = client.resource.key.fields if client is not None and client.resource.key else ()
                fits = members.__contains__ if members else partial(_may_be_key, own)
                value, there = _replaced(value, fits, row[1][0], mark)
                if there:
                    found[mark] = isinstance(row[1][0], str)
                    inside.add(row)
            plain = json.dumps(value, ensure_ascii=False) if found else line
            for mark, is_text in found.items():
                quoted = json.dumps(mark)
                plain = plain.replace(quoted, f'"{mark}"' if is_text else mark)
            written.append(plain)
        return "\n".join(written), inside


def _may_be_key(own: Collection[str], name: str) -> bool:
    """Whether a member with a name may hold a row's key: the fields of that, whatever ends in "id" or alike, and the
    plain values of a list, which have no name."""
    return not name or name in own or _REFERS.search(name) is not None


def _replaced(value: Any, fits: Callable[[str], bool], key: Any, mark: str) -> tuple[Any, bool]:
    """A JSON value with a mark in place of a key, wherever it is the value of a member whose name ``fits``."""

    def put(name: str, each: Any) -> tuple[Any, bool]:
        here = each == key and type(each) is type(key) and fits(name)
        return (mark, True) if here else _replaced(each, fits, key, mark)

    if isinstance(value, list):
        pairs = [put("", each) for each in value]
        return [each for each, _ in pairs], any(there for _, there in pairs)
    if isinstance(value, dict):
        named = {name: put(name, each) for name, each in value.items()}
        return {name: each for name, (each, _) in named.items()}, any(there for _, there in named.values())
    return value, False


def _values_of(name: str, value: Any) -> Iterator[str | int]:
    """The texts and numbers that members with a name have, anywhere in a JSON value."""
    if isinstance(value, list):
        for each in value:
            yield from _values_of(name, each)
    elif isinstance(value, dict):
        for member, each in value.items():
            if member == name and isinstance(each, str | int) and not isinstance(each, bool):
                yield each
            else:
                yield from _values_of(name, each)


def _in_url(url: str, key: Any, name: str) -> tuple[str, bool]:
    """A URL with a variable in the place of a key: a whole segment of its path, what is in brackets, or a value."""
    parts = urlsplit(url)
    head = url[: len(url) - len(parts.path) - (len(parts.query) + 1 if parts.query else 0)]
    pieces = re.split(r"([/?&=,()']|%2C)", url[len(head) :])
    written = {quote(str(key), safe=""), str(key)}
    there = any(piece in written for piece in pieces)
    return head + "".join(f"\x00{name}\x00" if piece in written else piece for piece in pieces), there


def _word(text: str, only_marked: bool = False) -> str:
    """A text as one word of a shell, with its variables; ``only_marked`` gives nothing for one without any."""
    if only_marked and not _MARK.search(text):
        return ""
    pieces = enumerate(_MARK.split(text))
    return "".join(f'"${piece}"' if place % 2 else (shlex.quote(piece) if piece else "") for place, piece in pieces)


def _code(answer: Answer, name: str, key: Any) -> str:
    """What Python is told to take a new row's key from an answer; empty where its place is not known."""
    lines = answer.media_type in LINES
    body = answer.json[0] if lines and isinstance(answer.json, list) and len(answer.json) == 1 else answer.json
    path = _path_to(body, name, key, 4)
    if path:
        return f"import json,sys; print(json.load(sys.stdin){path})"
    if re.search(rf"/{re.escape(quote(str(key), safe=''))}/?$", urlsplit(answer.header("location") or "").path):
        return "import re,sys; print(re.search(r'(?im)^location:.*?/([^/?\\s]+)/?\\s*$', sys.stdin.read())[1])"
    return ""


def _path_to(value: Any, name: str, key: Any, depth: int) -> str:
    """How Python reaches a member with the key's name and value inside a JSON value."""
    if isinstance(value, list) and len(value) == 1 and depth:
        inner = _path_to(value[0], name, key, depth - 1)
        return f"[0]{inner}" if inner else ""
    if not isinstance(value, dict) or not depth:
        return ""
    if name in value and value[name] == key:
        return f"[{json.dumps(name)}]"
    for member, each in value.items():
        inner = _path_to(each, name, key, depth - 1)
        if inner:
            return f"[{json.dumps(member)}]{inner}"
    return ""
