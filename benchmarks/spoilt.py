"""What share of spoilt answers a run finds: strangers (tests/strangers) behind a proxy that spoils one thing of what
passes through it, and knows nothing of the checks.

Run: ``python benchmarks/spoilt.py STRANGER [SPOIL …]``; all that is known is spoilt if nothing is named. A spoil counts
as found if the run has a finding that it has not without it; what never met anything to spoil is left out.
"""

from __future__ import annotations

import contextlib
import http.client
import json
import re
import sys
import tempfile
import threading
import unicodedata
import urllib.parse
from collections.abc import Callable
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent))

from tests.strangers.__main__ import as_before, free_port, run_on, said_of, settled, started

Row = dict[str, Any]
_PAGES = re.compile(r"page|size|limit|offset|skip|take|top|start|cursor|first|range", re.I)
_ORDERS = re.compile(r"sort|order", re.I)
_FIELDS = re.compile(r"field|select|only|column", re.I)
_RELATED = re.compile(r"expand|include|embed|populate", re.I)
_KEYS = re.compile(r"_?(id|uuid|key|code|name)|.*_id", re.I)
_ASIDE = {
    "host",
    "content-length",
    "connection",
    "transfer-encoding",
    "keep-alive",
    "content-encoding",
    "accept-encoding",
}
_SECONDS = 30


@dataclass
class Passing:
    """A request and the answer to it, as far as it has come; ``data`` is what its body holds, None if no JSON is."""

    method: str
    path: str
    query: list[tuple[str, str]]
    body: bytes | None
    data: Any = None
    status: int = 0
    answer: Any = None
    headers: list[tuple[str, str]] = field(default_factory=list)

    @property
    def asks(self) -> bool:
        """Whether it asks for some rows of a list, and not for a page alone."""
        return any(
            not any(each.search(name) for each in (_PAGES, _ORDERS, _FIELDS, _RELATED)) for name, _ in self.query
        )

    def has(self, words: re.Pattern[str]) -> bool:
        return any(words.search(name) for name, _ in self.query)

    def without(self, words: re.Pattern[str]) -> bool:
        """Leave out the parameters whose names match; whether there were any."""
        kept = [pair for pair in self.query if not words.search(pair[0])]
        self.query, found = kept, len(kept) < len(self.query)
        return found


def rows_in(body: Any, depth: int = 2) -> list[Row]:
    """The rows of a list, wherever an answer has them."""
    if isinstance(body, list):
        return body if all(isinstance(each, dict) for each in body) else []
    inner = body.values() if isinstance(body, dict) and depth else ()
    return next((found for each in inner if (found := rows_in(each, depth - 1))), [])


def record_in(body: Any) -> Row:
    """The record that a body holds: the object with most plain members."""
    if not isinstance(body, dict):
        return {}
    every = [body, *(record_in(each) for each in body.values() if isinstance(each, dict))]
    return max(every, key=lambda each: sum(not isinstance(value, dict | list) for value in each.values()))


def free(row: Row, kind: type, least: int = 0) -> str | None:
    """The first field of a kind that is no key, if there is one; a text has so many signs at the least."""
    names = (name for name, value in row.items() if type(value) is kind and not _KEYS.fullmatch(name))
    return next((name for name in names if kind is not str or len(row[name]) >= least), None)


def of_rows(change: Callable[[Row], bool]) -> Callable[[Passing], bool]:
    """A change of each row of a list."""
    return lambda passing: passing.method == "GET" and sum(map(change, rows_in(passing.answer))) > 0


def of_one(change: Callable[[Row], bool], *methods: str) -> Callable[[Passing], bool]:
    """A change of the one row in an answer: what has no key says what was done, or why not."""

    def spoil(passing: Passing) -> bool:
        there = passing.method in methods and passing.status < 400 and not rows_in(passing.answer)
        row = record_in(passing.answer) if there else {}
        return any(map(_KEYS.fullmatch, row)) and change(row)

    return spoil


def drop(row: Row) -> bool:
    name = free(row, str) or free(row, int)
    return name is not None and row.pop(name) is not None


def upper(row: Row) -> bool:
    name = free(row, str)
    before = row.get(name or "")
    row.update({name: before.upper()} if name and isinstance(before, str) else {})
    return name is not None and row[name] != before


def one_more(row: Row) -> bool:
    name = free(row, int)
    row.update({name: row[name] + 1} if name else {})
    return name is not None


def extra(row: Row) -> bool:
    row["zz_extra"] = 1
    return True


def cut(most: int) -> Callable[[Row], bool]:
    """A change that cuts texts at so many signs."""

    def change(row: Row) -> bool:
        long = {name: value[:most] for name, value in row.items() if isinstance(value, str) and len(value) > most}
        row.update(long)
        return bool(long)

    return change


def lost(*values: Any) -> Callable[[Row], bool]:
    """A change that leaves out fields with such values."""

    def change(row: Row) -> bool:
        gone = [name for name, value in row.items() if any(value is each for each in values)]
        for name in gone:
            del row[name]
        return bool(gone)

    return change


def sent(change: Callable[[Row], bool], *methods: str) -> Callable[[Passing], bool]:
    """A change of the record that a request carries."""
    return lambda passing: (
        passing.method in methods and isinstance(passing.data, dict) and change(record_in(passing.data))
    )


def first_alone(row: Row) -> bool:
    rest = list(row)[1:]
    for name in rest:
        del row[name]
    return bool(rest)


def of_values(change: Callable[[Any], Any]) -> Callable[[Row], bool]:
    """A change of every value of a record that is not like a key."""

    def changed(row: Row) -> bool:
        new = {name: change(value) for name, value in row.items() if not _KEYS.fullmatch(name)}
        differ = any(repr(row[name]) != repr(value) for name, value in new.items())
        row.update(new)
        return differ

    return changed


def in_query(
    change: Callable[[str, str], tuple[str, str]], when: Callable[[Passing], bool]
) -> Callable[[Passing], bool]:
    """A change of what a list is asked for, pair by pair."""

    def spoil(passing: Passing) -> bool:
        if passing.method != "GET" or not when(passing):
            return False
        before, passing.query = passing.query, [change(name, value) for name, value in passing.query]
        return before != passing.query

    return spoil


def one_more_of(words: re.Pattern[str], by: int) -> Callable[[str, str], tuple[str, str]]:
    """A number that is asked for under such a name, changed by so much."""
    return lambda name, value: (
        (name, str(int(value) + by))
        if words.search(name) and value.isdecimal() and int(value) + by > 0
        else (name, value)
    )


def swapped(*pairs: tuple[str, str]) -> Callable[[str, str], tuple[str, str]]:
    """Words in what is asked for, each taken for another, wherever they stand alone."""

    def change(name: str, value: str) -> tuple[str, str]:
        for word, other in pairs:
            alone = rf"(?<![A-Za-z]){word}(?![A-Za-z])"
            name, value = re.sub(alone, other, name), re.sub(alone, other, value)
        return name, value

    return change


def header(name: str, value: str | None, *methods: str) -> Callable[[Passing], bool]:
    """A header of answers that says something else, or is left out."""

    def spoil(passing: Passing) -> bool:
        there = [each for each in passing.headers if each[0].lower() == name]
        if not there or passing.method not in methods:
            return False
        passing.headers = [each for each in passing.headers if each not in there]
        passing.headers += [(name, value)] if value is not None else []
        return True

    return spoil


class Stale:
    """Lists that are remembered, and shown again for so many requests."""

    def __init__(self, times: int) -> None:
        self.times = times
        self.known: dict[str, list[Any]] = {}

    def __call__(self, passing: Passing) -> bool:
        if passing.method != "GET" or not rows_in(passing.answer):
            return False
        at = f"{passing.path}?{passing.query}"
        held = self.known.setdefault(at, [self.times, passing.answer])
        held[0] -= 1
        if held[0] < 0:
            del self.known[at]
            return False
        changed = held[1] != passing.answer
        passing.answer = held[1]
        return changed


def _plainer(value: Any) -> Any:
    return unicodedata.normalize("NFD", value) if isinstance(value, str) else value


def _later(value: Any) -> Any:
    """A moment an hour later than it is written."""
    if not isinstance(value, str) or not re.match(r"\d{4}-\d\d-\d\d[T ]\d\d", value):
        return value
    return f"{value[:11]}{(int(value[11:13]) + 1) % 24:02}{value[13:]}"


def pops(when: Callable[[Passing], bool]) -> Callable[[Passing], bool]:
    """The last row of a list of several is left out."""

    def spoil(passing: Passing) -> bool:
        rows = rows_in(passing.answer) if passing.method == "GET" and when(passing) else []
        return len(rows) > 1 and rows.pop() is not None

    return spoil


def swaps(passing: Passing) -> bool:
    rows = rows_in(passing.answer) if passing.method == "GET" and passing.has(_ORDERS) else []
    if len(rows) > 2:
        rows[0], rows[-1] = rows[-1], rows[0]
    return len(rows) > 2


def repeats(passing: Passing) -> bool:
    rows = rows_in(passing.answer) if passing.method == "GET" else []
    rows[-1:] = rows[:1] if len(rows) > 1 else rows[-1:]
    return len(rows) > 1


def counts_more(passing: Passing) -> bool:
    holders = [passing.answer, *passing.answer.values()] if isinstance(passing.answer, dict) else []
    found = [
        (each, name)
        for each in holders
        if isinstance(each, dict)
        for name in each
        if "total" in name or name == "count"
    ]
    for holder, name in found:
        holder[name] = holder[name] + 1 if type(holder[name]) is int else holder[name]
    return any(type(holder[name]) is int for holder, name in found)


def answers(status: int, other: int, *methods: str) -> Callable[[Passing], bool]:
    """One status is answered in place of another."""

    def spoil(passing: Passing) -> bool:
        hit = passing.status == status and passing.method in methods
        passing.status = other if hit else passing.status
        return hit

    return spoil


WRITES = ("POST", "PUT", "PATCH")
#: What is spoilt on the way to the API, and on the way back.
BEFORE: dict[str, Callable[[Passing], bool]] = {
    "order ignored": lambda passing: passing.method == "GET" and passing.without(_ORDERS),
    "selection ignored": lambda passing: passing.method == "GET" and passing.without(_FIELDS),
    "expansion ignored": lambda passing: passing.method == "GET" and passing.without(_RELATED),
    "page ignored": lambda passing: passing.method == "GET" and passing.without(_PAGES),
    "filter ignored": lambda passing: passing.method == "GET" and passing.asks and passing.without(re.compile(".")),
    "long text cut": sent(cut(60), "POST", "PUT", "PATCH"),
    "null lost": sent(lost(None), "PUT", "PATCH"),
    "false lost": sent(lost(False), "POST", "PUT", "PATCH"),
    "first of several changed": sent(first_alone, "PATCH"),
    "texts stripped": sent(of_values(lambda value: value.strip() if isinstance(value, str) else value), *WRITES),
    "texts taken apart": sent(of_values(_plainer), *WRITES),
    "empty text lost": sent(of_values(lambda value: None if value == "" else value), *WRITES),
    "numbers rounded": sent(of_values(lambda value: round(value, 0) if isinstance(value, float) else value), *WRITES),
    "times shifted": sent(of_values(_later), *WRITES),
    "capitals lost": sent(of_values(lambda value: value.lower() if isinstance(value, str) else value), *WRITES),
    "more than is or equal": in_query(swapped(("gt", "gte"), ("lt", "lte")), lambda passing: passing.asks),
    "or equal is more than": in_query(
        swapped(("gte", "gt"), ("lte", "lt"), ("ge", "gt")), lambda passing: passing.asks
    ),
    "not is equal": in_query(swapped(("ne", "eq"), ("neq", "eq")), lambda passing: passing.asks),
    "contains is starts": in_query(
        swapped(("contains", "startswith"), ("icontains", "istartswith")), lambda passing: passing.asks
    ),
    "first of several values": in_query(
        lambda name, value: (name, value.split(",")[0]), lambda passing: passing.asks and not passing.has(_ORDERS)
    ),
    "first of several orders": in_query(
        lambda name, value: (name, value.split(",")[0] if _ORDERS.search(name) else value), lambda passing: True
    ),
    "never downwards": in_query(
        lambda name, value: (
            name,
            re.sub(r"desc", "asc", value.lstrip("-"), flags=re.I) if _ORDERS.search(name) else value,
        ),
        lambda passing: True,
    ),
    "position one too far": in_query(
        one_more_of(re.compile(r"offset|skip|page(?![_-]?size)(?!\[size)", re.I), 1), lambda _: True
    ),
    "size one too many": in_query(
        one_more_of(re.compile(r"size|limit|take|top|perpage|per_page", re.I), 1), lambda _: True
    ),
    "second filter ignored": lambda passing: (
        passing.method == "GET" and passing.asks and len(passing.query) > 1 and passing.query.pop() is not None
    ),
}
BEHIND: dict[str, Callable[[Passing], bool]] = {
    "field missing in lists": of_rows(drop),
    "text in capitals in lists": of_rows(upper),
    "field too many in lists": of_rows(extra),
    "field missing in reads": of_one(drop, "GET"),
    "other number in reads": of_one(one_more, "GET"),
    "field too many in reads": of_one(extra, "GET"),
    "other number in changes": of_one(one_more, "PATCH", "PUT"),
    "field missing in creates": of_one(drop, "POST"),
    "filter drops a row": pops(lambda passing: passing.asks),
    "page drops a row": pops(lambda passing: passing.has(_PAGES)),
    "list drops a row": pops(lambda passing: not passing.query),
    "order swapped": swaps,
    "row twice": repeats,
    "total too high": counts_more,
    "missing is null": lambda passing: answers(404, 200, "GET")(passing) and setattr(passing, "answer", None) is None,
    "missing fails": answers(404, 500, "GET", "PATCH", "PUT", "DELETE"),
    "missing is deleted": answers(404, 204, "DELETE"),
    "created is 200": answers(201, 200, "POST"),
    "deleted is 404": answers(204, 404, "DELETE"),
    "changed is 201": answers(200, 201, "PATCH", "PUT"),
    "stale lists": Stale(2),
    "no location": header("location", None, "POST"),
    "wrong location": header("location", "/nowhere/1", "POST"),
    "same tag always": header("etag", '"same"', "GET", "PATCH", "PUT", "POST"),
    "tells a text": lambda passing: (
        passing.status in {400, 404, 422}
        and header("content-type", "text/plain", "GET", "POST", "PATCH", "DELETE")(passing)
    ),
    "null is absent": of_rows(lost(None)),
    "null is empty": of_rows(of_values(lambda value: "" if value is None else value)),
    "numbers are texts": of_rows(of_values(lambda value: str(value) if type(value) in {int, float} else value)),
    "truth is a number": of_rows(of_values(lambda value: int(value) if isinstance(value, bool) else value)),
    "conflict fails": answers(409, 500, "POST", "PUT", "PATCH"),
    "refusal is 200": lambda passing: any(answers(each, 200, "POST", "PUT", "PATCH")(passing) for each in (400, 422)),
}


class Proxy(ThreadingHTTPServer):
    """Passes requests on to an API, and spoils one thing; ``hits`` counts how often."""

    daemon_threads, request_queue_size = True, 128

    def __init__(self, port: int, api: str, spoil: str) -> None:
        super().__init__(("127.0.0.1", port), _Handler)
        self.api, self.spoil, self.hits = urllib.parse.urlsplit(api).netloc, spoil, 0
        self.local = threading.local()

    def passed(self, passing: Passing, headers: dict[str, str]) -> bytes:
        """Send a request on; the body of its answer."""
        query = urllib.parse.urlencode(passing.query)
        for attempt in (1, 2):
            if getattr(self.local, "connection", None) is None:
                self.local.connection = http.client.HTTPConnection(self.api, timeout=_SECONDS)
            try:
                path = passing.path + (f"?{query}" if query else "")
                self.local.connection.request(passing.method, path, passing.body, headers)
                answer = self.local.connection.getresponse()
                passing.status, passing.headers = answer.status, answer.getheaders()
                return bytes(answer.read())
            except (http.client.HTTPException, OSError):
                self.local.connection.close()
                self.local.connection = None
                if attempt == 2:
                    raise
        raise AssertionError


class _Handler(BaseHTTPRequestHandler):
    protocol_version, disable_nagle_algorithm, wbufsize = "HTTP/1.1", True, -1
    server: Proxy

    def log_message(self, *_: Any) -> None:
        """Nothing is said of each request."""

    def pass_on(self) -> None:
        split = urllib.parse.urlsplit(self.path)
        length = int(self.headers.get("content-length") or 0)
        passing = Passing(
            self.command, split.path, urllib.parse.parse_qsl(split.query, keep_blank_values=True),
            self.rfile.read(length) if length else None,
        )  # fmt: skip
        told = any(word in split.path for word in ("openapi", "swagger", "explorer"))
        spoil = self.server.spoil if not told else ""
        with contextlib.suppress(ValueError):
            passing.data = json.loads(passing.body or b"")
        if spoil in BEFORE and BEFORE[spoil](passing):
            self.server.hits += 1
            passing.body = json.dumps(passing.data).encode() if passing.data is not None else passing.body
        kept = {name: value for name, value in self.headers.items() if name.lower() not in _ASIDE}
        raw = self.server.passed(passing, {**kept, "Host": str(self.headers.get("host"))})
        with contextlib.suppress(ValueError):
            passing.answer = json.loads(raw)
        if spoil in BEHIND and BEHIND[spoil](passing):
            self.server.hits += 1
            raw = json.dumps(passing.answer).encode() if passing.answer is not None or raw else raw
        self.give(passing, raw)

    def give(self, passing: Passing, raw: bytes) -> None:
        bare = passing.status in {204, 304}
        with contextlib.suppress(OSError):
            self.send_response_only(passing.status)
            for name, value in passing.headers:
                if name.lower() not in _ASIDE:
                    self.send_header(name, value)
            if not bare:
                self.send_header("Content-Length", str(len(raw)))
            self.end_headers()
            if not bare and self.command != "HEAD":
                self.wfile.write(raw)

    do_GET = do_POST = do_PUT = do_PATCH = do_DELETE = do_OPTIONS = do_HEAD = pass_on


def findings(name: str, spoil: str) -> tuple[set[tuple[str, str]], int, bool]:
    """What a run finds, as checks and titles; how often something was spoilt, and whether rows are as before."""
    said = said_of(name)
    with tempfile.TemporaryDirectory() as held, started(name, said, folder := Path(held)) as (api, database):
        proxy = Proxy(free_port(), api, spoil)
        threading.Thread(target=proxy.serve_forever, daemon=True).start()
        before = settled(database)
        _, run = run_on(f"http://127.0.0.1:{proxy.server_port}", said, folder)
        proxy.shutdown()
        left = {"stays": len(run["summary"]["left"])}
        same = as_before(before, settled(database), {**said, **left})
    return {(each["check"], re.sub(r"\d+", "#", each["title"])) for each in run["findings"]}, proxy.hits, same


def main(name: str, *spoils: str) -> None:
    usual, _, _ = findings(name, "")
    met = found = 0
    for spoil in spoils or (*BEFORE, *BEHIND):
        seen, hits, same = findings(name, spoil)
        met, found = met + bool(hits), found + bool(hits and seen - usual)
        told = f"{len(seen - usual)} findings" if seen - usual else "NOT FOUND"
        rows = "" if same else ", and rows are left or changed that nothing names"
        print(f"{name}, {spoil}: {told if hits else 'never met'} ({hits} times){rows}", flush=True)
    print(f"{name}: {found} of {met} found")


if __name__ == "__main__":
    main(*sys.argv[1:])
