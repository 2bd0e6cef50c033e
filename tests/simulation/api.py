"""A data API in memory: a seed bank's tables, and the temper that decides how it behaves beside its contract."""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from random import Random
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

from tests.simulation import bulk

Json = dict[str, Any]
Key = tuple[Any, ...]
BASE = "http://127.0.0.1:1/api"
ROLE = "x-role"


@dataclass(frozen=True)
class Column:
    name: str
    type: str = "string"
    required: bool = False
    refers: str = ""
    unique: bool = False
    longest: int = 0
    #: Whether people write bare numbers into it.
    numbered: bool = False
    #: Whether no answer shows it, though the description has it among what rows hold.
    hidden: bool = False
    #: Whether one row alone has it true: whatever row it is set for takes it from the other.
    alone: bool = False
    #: Whether it is a row's place among all: those at or behind the place of one that is put there move on.
    place: bool = False
    #: Whether a create changes the row that has its value, with those of all others that are natural too.
    natural: bool = False
    #: How people write it, with their number, where it is taken in no other form.
    form: str = ""

    def takes(self, value: Any) -> bool:
        """Whether a text is in its form."""
        return not self.form or re.fullmatch(re.sub(r"\{.*?\}", r"\\d+", self.form), str(value)) is not None

    def schema(self) -> Json:
        plain: Json = {"type": self.type, **({"maxLength": self.longest} if self.longest else {})}
        if self.refers:
            plain["description"] = f"Refers to {self.refers}."
        if self.unique:
            plain["description"] = "Unique."
        return plain if self.required else {**plain, "nullable": True}


@dataclass(frozen=True)
class Table:
    name: str
    key: tuple[str, ...]
    columns: tuple[Column, ...]
    by_client: bool = False
    rows: int = 4
    #: The column that refers to the row under which the table's paths stand; its bodies have none of it.
    under: str = ""

    @property
    def above(self) -> str:
        """The table under whose rows it stands."""
        return next((each.refers for each in self.columns if each.name == self.under), "")

    def record(self, number: int, others: Mapping[str, list[Key]], random: Random) -> Json | None:
        """A row as people make them; None where nothing is there to refer to."""
        row: Json = {}
        for each in self.columns:
            if each.refers:
                if not others.get(each.refers):
                    if each.required:
                        return None
                    row[each.name] = None
                    continue
                row[each.name] = random.choice(others[each.refers])[-1]
            elif each.type == "integer":
                row[each.name] = number if each.numbered or each.place or each.natural else 1900 + number
            elif each.type == "number":
                row[each.name] = number * 2.5
            elif each.type == "boolean":
                row[each.name] = number == 1
            else:
                usual = str(number) if each.numbered else f"{each.name} {number} of people"
                row[each.name] = each.form.format(number) if each.form else usual
        return row


CROPS = Table("crops", ("id",), (Column("name", required=True), Column("note"), Column("year", "integer")))
LOTS = Table(
    "lots",
    ("id",),
    (
        Column("label", required=True, unique=True),
        Column("crop_id", "integer", True, "crops"),
        Column("grams", "number"),
    ),
)
TAGS = Table("tags", ("code",), (Column("code", required=True, longest=40), Column("title")), True)
#: A table whose keys are texts, and those of people bare numbers.
PACKETS = Table("packets", ("code",), (Column("code", required=True, longest=40, numbered=True),), True, rows=30)
#: A table whose keys are numbers that the client chooses.
TINS = Table(
    "tins",
    ("number",),
    (Column("number", "integer", True, numbered=True), Column("label", required=True)),
    True,
    rows=12,
)
#: A table whose keys are so short that they can bear no mark.
BOXES = Table("boxes", ("code",), (Column("code", required=True, longest=8), Column("grams", "number")), True)
#: A table of which one row is the default.
BINS = Table("bins", ("id",), (Column("label", required=True), Column("is_default", "boolean", alone=True)))
#: A table whose rows have an order, which the API keeps.
RACKS = Table("racks", ("id",), (Column("label", required=True), Column("position", "integer", place=True)))
#: A table whose rows stand in others of it, and one whose every row has a row of another for itself.
BEDS = Table("beds", ("id",), (Column("label", required=True), Column("bed_id", "integer", refers="beds")))
SIGNS = Table(
    "signs", ("id",), (Column("words", required=True), Column("bed_id", "integer", True, "beds", unique=True)), rows=2
)
#: Rows that can bear no mark, and that others refer to.
SHELVES = Table("shelves", ("id",), (Column("grams", "number"), Column("level", "integer", True)))
TRAYS = Table("trays", ("id",), (Column("label", required=True), Column("shelf_id", "integer", True, "shelves")))
#: Rows whose only other text is shown by no answer.
USERS = Table("users", ("id",), (Column("login", required=True), Column("password", required=True, hidden=True)))
MARKS = Table(
    "lot-tags",
    ("lot_id", "tag_code"),
    (Column("lot_id", "integer", True, "lots"), Column("tag_code", "string", True, "tags")),
    True,
)
#: A table without any text: nothing in it can bear a mark.
COUNTS = Table("counts", ("id",), (Column("crop_id", "integer", True, "crops"), Column("seeds", "integer", True)))
#: A table with a column that is named as the size of a page often is.
STOCKS = Table("stocks", ("id",), (Column("label", required=True), Column("count", "integer")))
#: A table whose paths stand under the rows of another.
SOWINGS = Table(
    "sowings", ("id",), (Column("crop_id", "integer", True, "crops"), Column("label", required=True)), under="crop_id"
)
#: Tables of which a create changes the row that has the same text, number, reference, or day of a reference.
SORTS = Table("sorts", ("id",), (Column("short", required=True, natural=True, form="sort-{}"), Column("note")), rows=6)
ALIASES = Table("aliases", ("id",), (Column("short", required=True, natural=True, form="al{}"), Column("note")), rows=1)
DRAWERS = Table(
    "drawers", ("id",), (Column("label", required=True), Column("drawer", "integer", True, natural=True)), rows=30
)
SHEETS = Table(
    "sheets",
    ("id",),
    (Column("words", required=True), Column("crop_id", "integer", True, "crops", natural=True)),
    rows=3,
)
READINGS = Table(
    "readings",
    ("id",),
    (
        Column("crop_id", "integer", True, "crops", natural=True),
        Column("day", required=True, natural=True, form="2020-01-{:02}"),
        Column("seeds", "integer"),
        Column("note"),
    ),
    rows=12,
)
#: Two empty tables that refer to each other.
HEADS = Table("heads", ("id",), (Column("name", required=True), Column("team_id", "integer", False, "teams")), rows=0)
TEAMS = Table("teams", ("id",), (Column("name", required=True), Column("head_id", "integer", True, "heads")), rows=0)


@dataclass(frozen=True)
class Temper:
    """How an API behaves. ``tables`` are what it has; each other member is a habit that real ones were met with."""

    name: str
    tables: tuple[Table, ...] = (CROPS, LOTS)
    #: What a create answers: "row", "key", "nothing", "list of one", "beside", "wrong key".
    answers: str = "row"
    keys_reused: str = ""  # "largest" or "lowest": the keys of deleted rows are given out again
    refused_but_done: float = 0.0
    busy_but_done: float = 0.0
    failing_but_done: float = 0.0
    late: float = 0.0
    #: Writes are answered 202; so many of them are carried out later.
    accepts: bool = False
    queued: float = 0.0
    lost: float = 0.0
    doubled: float = 0.0
    #: Whether keys are numbers that are written as texts.
    text_keys: bool = False
    maker_may_not_delete: bool = False
    #: Each role sees the rows that it has made, and the first one those of people.
    apart: bool = False
    soft_delete: bool = False
    #: Whether a path removes for good what was deleted and is kept; or "live", what was not.
    purges: bool | str = False
    #: A path brings back rows that were deleted and are kept; of a key that is another row's by now, it changes that.
    restores: bool = False
    cascades: bool = False
    #: How many rows at once are written, if they are (see ``tests.simulation.bulk``): "whole" or in "parts", "keyless",
    #: "lying", or "making" those that a change names and that there are not.
    bulk: str = ""
    upserts: bool = False
    replace_forks: bool = False
    #: A change of a row that is not there makes one of what was sent, and it shows no key.
    change_makes_bare: bool = False
    filter_ignored: bool = False
    by_filter: bool = False
    reading_removes: bool = False
    #: Reading a row by its key counts it, in a field that no client may set.
    reading_counts: bool = False
    #: What writes a row changes those that it refers to, in a field that no client may set.
    touches: bool = False
    accepts_all: bool = False
    #: Rows hold what was sent for them, and no more.
    sparse: bool = False
    #: Blanks around texts are cut off; a change of the key makes another row; a removal that is refused fails with 500.
    trims: bool = False
    #: Texts are cut at so many signs.
    cuts: int = 0
    #: What stands behind a NUL is cut off, halves of characters become question marks, numbers no double holds nothing;
    #: or the connection ends behind such a body, which is stored all the same.
    cleans: bool = False
    breaks: bool = False
    key_forks: bool = False
    #: A create that names the key of a row changes that row.
    key_overwrites: bool = False
    refusals_fail: bool = False
    #: Texts and numbers that are no references are stored as others than were sent, without the run's mark.
    garbles: bool = False
    #: Every removal fails with 500, or is answered with success, and removes nothing; creates fail with 500.
    removes_nothing: str = ""
    creates_fail: float = 0.0
    #: What is refused is stored, so that creates, and lists and reads of it from then on, fail with 500.
    poisoned: bool = False
    #: A key that is none of its type is read as one: 1.7 and true as 1, "12 a" as 12.
    coerces: bool = False
    #: Half of a character is stored by creates and changes, which fail, as lists and reads of it do from then on.
    halves_break: bool = False
    #: A change that is refused is stored, and what reads, lists or removes that row is refused from then on.
    changes_break: bool = False
    #: A record without a required column is taken, and neither it nor its list is shown from then on.
    lacks_break: bool = False
    #: The same of a record that leaves out what it may leave out.
    bare_break: bool = False
    #: The table of which no row can be shown: what would show one fails with 500, when it is done.
    fails_to_show: str = ""
    #: Rows are kept in a file, which is empty once half of a character was to be written to it.
    halves_lose_all: bool = False
    others: float = 0.0
    #: Rows are found by a field of their own in place of the documented key.
    found_by_uid: bool = False
    #: Rows that are made are stored, and shown nowhere.
    unseen: bool = False
    #: The one parameter of lists, which leaves the rows with that value in the column of its name.
    lone_filter: str = ""
    #: A change makes a row of what was sent, and leaves the row that was meant; or it is answered with the newest of
    #: the others.
    change_makes_another: bool = False
    change_shows_another: bool = False
    #: Pages lack their last row, the newest as a rule, where they have several; the total counts it.
    pages_lack: bool = False
    #: What is no record is stored as one of nothing, and fails with 500 but for null.
    stores_no_record: bool = False
    #: Signs that divide the keys of several rows in a path: all of them are read, changed and removed.
    divides: str = ""
    #: What is left out gets a value of the server's own.
    defaults: bool = False
    #: After how many requests none is answered any more but with a failure or, ``dies_silent``, with nothing; or
    #: ``dies_doing`` what it was asked.
    dies: int = 0
    dies_silent: bool = False
    dies_doing: bool = False


def _cleaned(value: Any) -> Any:
    if isinstance(value, str):
        return "".join("?" if "\ud800" <= sign <= "\udfff" else sign for sign in value.partition("\0")[0])
    return None if isinstance(value, float) and abs(value) > 1e308 else value


def has_half(record: Mapping[str, Any]) -> bool:
    """Whether a text of a record holds half of a character."""
    texts = [value for value in record.values() if isinstance(value, str)]
    return any("\ud800" <= sign <= "\udfff" for text in texts for sign in text)


@dataclass
class Pending:
    """A request that has left and is not yet carried out."""

    due: float
    method: str
    url: str
    headers: Mapping[str, str]
    body: bytes | None


class Api:
    """Tables, and what HTTP requests do to them. Rows are never changed in place, so that a copy of the outer
    dictionaries keeps a moment."""

    def __init__(self, temper: Temper, seed: int) -> None:
        self.temper, self.random = temper, Random(f"{temper.name}/{seed}")
        self.tables = {each.name: each for each in temper.tables}
        self.hidden = {column.name for each in temper.tables for column in each.columns if column.hidden}
        self.rows: dict[str, dict[Key, Json]] = {name: {} for name in self.tables}
        self.next: dict[str, int] = dict.fromkeys(self.tables, 1)
        #: Rows of people, as they are to be found again whatever a run does.
        self.foreign: dict[str, dict[Key, Json]] = {name: {} for name in self.tables}
        self.version = 0
        self.people = 0
        for table in temper.tables:
            for _ in range(table.rows):
                self.somebody_adds(table)

    # -- people ----------------------------------------------------------------------------------------

    def somebody_adds(self, table: Table) -> None:
        self.people += 1
        keys = {name: list(rows) for name, rows in self.foreign.items()}
        record = table.record(self.people, keys, self.random)
        if record is None or tuple(record.get(each) for each in table.key) in self.rows[table.name]:
            return
        natural = [each.name for each in table.columns if each.natural]
        if natural and any(
            all(row[name] == record[name] for name in natural) for row in self.rows[table.name].values()
        ):
            return
        key = self._insert(table, record)
        self.foreign[table.name][key] = self.rows[table.name][key]

    def somebody_works(self) -> None:
        """People add, change and remove rows of their own."""
        table = self.random.choice(list(self.tables.values()))
        mine = self.foreign[table.name]
        act = self.random.random()
        if act < 0.6 or len(mine) <= table.rows:
            self.somebody_adds(table)
            return
        key = self.random.choice(list(mine))
        if act < 0.8:
            texts = [each.name for each in table.columns if each.type == "string" and each.name not in table.key]
            if texts and not any(each.refers for each in table.columns if each.name == texts[-1]):
                self.people += 1
                row = {**self.rows[table.name][key], texts[-1]: f"changed {self.people} by people"}
                self.rows[table.name][key] = mine[key] = row
                self.version += 1
        elif not self._referring(table.name, key):
            del self.rows[table.name][key], mine[key]
            self.version += 1

    # -- storage ---------------------------------------------------------------------------------------

    def _insert(self, table: Table, record: Json) -> Key:
        rows = self.rows[table.name]
        if table.by_client:
            key = tuple(record.get(each) for each in table.key)
        else:
            number = self.next[table.name]
            if self.temper.keys_reused == "largest":
                number = max((int(each[0]) for each in rows), default=0) + 1
            elif self.temper.keys_reused == "lowest":
                number = next(each for each in range(1, len(rows) + 2) if (each,) not in rows)
            self.next[table.name] = max(self.next[table.name], number + 1)
            key = (str(number) if self.temper.text_keys else number,)
        rows[key] = self._whole(table, record, key)
        self.version += 1
        return key

    def _whole(self, table: Table, record: Json, key: Key) -> Json:
        named = {each.name: record.get(each.name) for each in table.columns}
        if self.temper.sparse:
            named = {name: value for name, value in named.items() if name in record}
        if self.temper.defaults:
            usual = {"string": f"unnamed {self.version}", "integer": 7, "number": 0.5, "boolean": False}
            free = [each for each in table.columns if not each.refers and each.name not in table.key]
            named |= {each.name: usual[each.type] for each in free if named[each.name] is None}
        rows = self.rows[table.name]
        for column in [each.name for each in table.columns if each.alone and named[each.name]]:
            for other in [other for other, row in rows.items() if other != key and row[column]]:
                rows[other] = {**rows[other], column: False}
        for column in [each.name for each in table.columns if each.place and type(named[each.name]) is int]:
            if any(row[column] == named[column] for other, row in rows.items() if other != key):
                behind = [o for o, row in rows.items() if o != key and (row[column] or 0) >= named[column]]
                rows.update({other: {**rows[other], column: rows[other][column] + 1} for other in behind})
        if self.temper.found_by_uid:
            named["uid"] = f"u{key[-1]}of{table.name}"
        return {**dict(zip(table.key, key, strict=True)), **named, **dict(zip(table.key, key, strict=True))}

    def _referring(self, name: str, key: Key) -> list[tuple[str, Key]]:
        found = []
        for table in self.tables.values():
            for column in table.columns:
                if column.refers == name:
                    rows = self.rows[table.name].items()
                    found += [(table.name, other) for other, row in rows if row.get(column.name) == key[-1]]
        return found

    def _delete(self, name: str, key: Key) -> bool:
        for other, inner in self._referring(name, key):
            if not self.temper.cascades:
                return False
            self._delete(other, inner)
        self.rows[name].pop(key, None)
        self.version += 1
        return True

    # -- requests --------------------------------------------------------------------------------------

    def handle(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> tuple[int, Any]:
        """Carry a request out: the status and the body of its answer."""
        before = {name: dict(rows) for name, rows in self.rows.items()} if self.temper.touches else {}
        status, value = self._handle(method, url, headers, body)
        for name, rows in before.items():
            self._touch(self.tables[name], rows)
        path = urlsplit(url).path.removeprefix(urlsplit(BASE).path).strip("/")
        if self.temper.fails_to_show and path.split("/")[0] == self.temper.fails_to_show:
            shows = value.get("items", value) if isinstance(value, dict) else value
            status, value = (500, {"error": "failed"}) if status < 300 and shows else (status, value)
        return status, self._without_hidden(value) if self.hidden else value

    def _touch(self, table: Table, before: Mapping[Key, Json]) -> None:
        """Count a change of every row that one refers to which is new, changed or gone."""
        now = self.rows[table.name]
        changed = [(before.get(key), now.get(key)) for key in before.keys() | now.keys()]
        rows = [row for pair in changed if pair[0] != pair[1] for row in pair if row is not None]
        for column in [each for each in table.columns if each.refers]:
            above = self.rows[column.refers]
            for key in {(row[column.name],) for row in rows} & above.keys():
                above[key] = {**above[key], "changes": above[key].get("changes", 0) + 1}

    def _without_hidden(self, value: Any) -> Any:
        if isinstance(value, list):
            return [self._without_hidden(each) for each in value]
        if isinstance(value, dict):
            return {name: self._without_hidden(each) for name, each in value.items() if name not in self.hidden}
        return value

    def _handle(self, method: str, url: str, headers: Mapping[str, str], body: bytes | None) -> tuple[int, Any]:
        parts = urlsplit(url)
        pieces = [unquote(each) for each in parts.path.removeprefix(urlsplit(BASE).path).strip("/").split("/")]
        query = dict(parse_qsl(parts.query, keep_blank_values=True))
        inner = self.tables.get(pieces[2]) if len(pieces) > 2 else None
        if inner is not None and inner.above == pieces[0]:
            return self._under(inner, pieces, method, query, headers, body)
        table = self.tables.get(pieces[0])
        if table is not None and table.under:
            return 404, {"error": "there is no such path"}
        if self.temper.purges and table is not None and pieces[-1] == "hard-delete" and method == "DELETE":
            rows, key = self.rows[table.name], self._key(table, pieces[1:-1]) or ()
            kept = self.temper.purges == "live" and "~gone" in rows.get(key, {})
            gone = rows.pop(key, None) if not kept else None
            return (204, None) if gone is not None else (404, {"error": "not found"})
        if self.temper.restores and table is not None and pieces[-1] == "restore" and method == "POST":
            row = self.rows[table.name].get(self._key(table, pieces[1:-1]) or ())
            if row is None:
                return 404, {"error": "not found"}
            back = {name: value for name, value in row.items() if name != "~gone"}
            back |= {} if "~gone" in row else {"restored": True}
            self.rows[table.name][self._key(table, pieces[1:-1]) or ()] = back
            self.version += 1
            return 200, {name: value for name, value in back.items() if name != "restored"}
        if self.temper.purges == "live" and table is not None and pieces[1:] == ["deleted"] and method == "GET":
            return 200, [row for row in self.rows[table.name].values() if "~gone" in row]
        if self.temper.bulk and table is not None and pieces[1:] in (["bulk"], ["bulk-delete"]):
            return bulk.answer(self, table, pieces[1], method, headers, body)
        if table is None or len(pieces) not in {1, 1 + len(table.key)}:
            return 404, {"error": "there is no such path"}
        key = self._key(table, pieces[1:])
        if self.temper.found_by_uid and pieces[1:]:
            key = next((own for own, row in self.rows[table.name].items() if row["uid"] == pieces[1]), (-1,))
        if self.temper.by_filter and method in {"PATCH", "DELETE"}:
            return self._by_filter(table, method, query, body)
        if not pieces[1:]:
            return self._collection(table, method, query, headers, body)
        if key is None:
            return 400, {"error": "this is no key"}
        divides = f"[{re.escape(self.temper.divides)}]" if self.temper.divides else r"\Z"
        several = [(each,) for each in re.split(divides, str(key[0])) if each]
        if len(several) > 1:
            done = [self._item(table, each, method, headers, body) for each in several if each in self.rows[table.name]]
            return done[0] if done else (404, {"error": "not found"})
        return self._item(table, key, method, headers, body)

    def _under(
        self, table: Table, pieces: list[str], method: str, query: Json, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[int, Any]:
        """What is asked of a table under a row of another: of its rows those that refer to that one."""
        above = self._key(self.tables[pieces[0]], pieces[1:2])
        if above not in self._shown(pieces[0]) or len(pieces) > 4:
            return 404, {"error": "not found"}
        if len(pieces) == 3:
            if method == "POST":
                return self._create(table, body, headers, {table.under: above[0]})
            return self._collection(table, method, {**query, table.under: str(above[0])}, headers, body)
        key = self._key(table, pieces[3:])
        if key is None or self.rows[table.name].get(key, {}).get(table.under) != above[0]:
            return 404, {"error": "not found"}
        answer = self._item(table, key, method, headers, body)
        if key in self.rows[table.name]:  # whatever a body says of it, the path says what it is under
            self.rows[table.name][key][table.under] = above[0]
        return answer

    def _key(self, table: Table, texts: list[str]) -> Key | None:
        parts: list[Any] = []
        for name, text in zip(table.key, texts, strict=False):
            column = next((each for each in table.columns if each.name == name), None)
            number = column.type == "integer" if column is not None else not self.temper.text_keys
            if number and not text.lstrip("-").isdigit():
                return None
            parts.append(int(text) if number else text)
        return tuple(parts)

    def _shown(self, name: str, role: str | None = None) -> dict[Key, Json]:
        rows = self.foreign[name] if self.temper.unseen else self.rows[name]
        return {key: row for key, row in rows.items() if not row.get("~gone") and self._sees(role, row)}

    def _sees(self, role: str | None, row: Json) -> bool:
        return not self.temper.apart or role is None or row.get("~by", "maker") == role

    def _collection(
        self, table: Table, method: str, query: Json, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[int, Any]:
        if method == "POST":
            return self._create(table, body, headers)
        if method in {"GET", "HEAD"}:
            try:
                limit, offset = int(query.get("limit", 100)), int(query.get("offset", 0))
            except ValueError:
                return 400, {"error": "this is no number"}
            if not 0 < limit <= 1000 or offset < 0:
                return 400, {"error": "out of range"}
            if any("~bad" in row for row in self.rows[table.name].values()):
                return self._bad()
            shown = self._shown(table.name, _role(headers))
            rows = [row for _, row in sorted(shown.items(), key=lambda each: str(each[0]).zfill(20))]
            if self.temper.by_filter or self.temper.divides or self.temper.lone_filter or table.under:
                rows = [row for row in rows if all(str(row[n]) == v for n, v in query.items() if n in row)]
            if self.temper.apart:
                rows = [{name: value for name, value in row.items() if name != "~by"} for row in rows]
            page = rows[offset : offset + limit]
            page = page[:-1] if self.temper.pages_lack and len(page) > 1 else page
            return 200, {"items": page, "total": len(rows)}
        return 405, {"error": "method not allowed"}

    def _read_body(self, body: bytes | None) -> Json | None:
        try:
            value = json.loads(body or b"")
        except ValueError:
            value = None
        if isinstance(value, dict) and self.temper.cleans:
            value = {name: _cleaned(each) for name, each in value.items()}
        if isinstance(value, dict) and self.temper.trims:
            value = {name: each.strip() if isinstance(each, str) else each for name, each in value.items()}
        if isinstance(value, dict) and self.temper.cuts:
            value = {name: each[: self.temper.cuts] if isinstance(each, str) else each for name, each in value.items()}
        return value if isinstance(value, dict) else ({} if self.temper.accepts_all else None)

    def _problem(self, table: Table, record: Json, key: Key | None, part: bool = False) -> str:
        """Why a record is refused."""
        types: dict[str, Callable[[Any], bool]] = {
            "string": lambda value: isinstance(value, str),
            "integer": lambda value: type(value) is int and (abs(value) < 2**63 or not self.temper.halves_break),
            "number": lambda value: isinstance(value, int | float) and not isinstance(value, bool),
            "boolean": lambda value: isinstance(value, bool),
        }
        for column in table.columns:
            if column.name not in record:
                if column.required and not part:
                    return f"{column.name} is missing"
                continue
            value = record[column.name]
            if value is None:
                if column.required:
                    return f"{column.name} is null"
                continue
            if not types[column.type](value) or len(str(value)) > (column.longest or 10_000):
                return f"{column.name} is of the wrong kind"
            if not column.takes(value):
                return f"{column.name} is not in its form"
            if column.refers and not any(other[-1] == value for other in self._shown(column.refers)):
                return f"{column.name} refers to nothing"
            if column.unique and any(
                row[column.name] == value and other != key for other, row in self.rows[table.name].items()
            ):
                return f"{column.name} is taken"
        return ""

    def _read_as(self, table: Table, record: Json) -> Json:
        """A record with numbers in place of what begins with one, or may be cut to one."""
        found = dict(record)
        for each in table.columns:
            value = record.get(each.name)
            if each.type != "integer" or value is None or (each.refers and not isinstance(value, bool | float)):
                continue
            if isinstance(value, bool | float) and math.isfinite(value):
                found[each.name] = int(value)
            elif isinstance(value, str) and (number := re.match(r"\s*-?\d+", value)):
                found[each.name] = int(number[0])
        return found

    def _create(
        self, table: Table, body: bytes | None, headers: Mapping[str, str], above: Json | None = None
    ) -> tuple[int, Any]:
        temper, record = self.temper, self._read_body(body)
        if temper.accepts_all and headers.get("Content-Type", "").startswith("text/"):
            record = {}  # the body of another media type is passed over
        if record is None and temper.stores_no_record and body in {b"null", b'["no record"]', b'"record"'}:
            key = self._insert(table, {each.name: None for each in table.columns})
            return (201, self.rows[table.name][key]) if body == b"null" else (500, {"error": "failed"})
        if record is None:
            return 400, {"error": "this is no record"}
        record = {**record, **(above or {})}
        if self.random.random() < temper.creates_fail:
            return 500, {"error": "failed"}
        if temper.coerces:
            record = self._read_as(table, record)
        unknown = set(record) - {each.name for each in table.columns} - set(table.key)
        lacks = temper.lacks_break and any(each.required and each.name not in record for each in table.columns)
        problem = (
            ""
            if temper.accepts_all or lacks
            else (f"{unknown} is unknown" if unknown else self._problem(table, record, None))
        )
        if not problem and temper.bare_break and any(each.name not in record for each in table.columns):
            key = tuple(record.get(each) for each in table.key) if table.by_client else self._insert(table, record)
            self.rows[table.name][key] = {**self._whole(table, record, key), "~bad": True}
            self.version += 1
            return 500, {"error": "failed"}
        if problem and temper.poisoned and not table.by_client:
            key = self._insert(table, {each.name: None for each in table.columns})
            self.rows[table.name][key]["~bad"] = True
            return 500, {"error": "failed"}
        if problem and self.random.random() >= temper.refused_but_done:
            return 422, {"error": problem}
        known = {name: value for name, value in record.items() if not unknown or name not in unknown}
        if temper.halves_break and has_half(known):
            key = tuple(known.get(each) for each in table.key) if table.by_client else self._insert(table, known)
            self.rows[table.name][key] = {**self._whole(table, known, key), "~bad": True}
            self.version += 1
            return 500, {"error": "failed"}
        if temper.halves_lose_all and has_half(known):
            self.rows[table.name].clear()
            self.version += 1
            return 500, {"error": "failed"}
        if table.by_client:
            key = tuple(known.get(each) for each in table.key)
            if any(isinstance(part, dict | list) for part in key):
                return 400, {"error": "this is no key"}
            if any(part is None for part in key) or (key in self.rows[table.name] and not temper.upserts):
                return 409, {"error": "the key is taken"}
        if problem and any(each.unique or each.refers for each in table.columns):
            return 422, {"error": problem}
        named = tuple(known.get(each) for each in table.key)
        if temper.key_overwrites and not table.by_client and named in self.rows[table.name]:
            self.rows[table.name][named] = self._whole(table, known, named)
            self.version += 1
            return 201, self._told(table, named)
        natural = [each.name for each in table.columns if each.natural and known.get(each.name) is not None]
        for key, row in self.rows[table.name].items() if natural else ():
            if all(row[name] == known[name] for name in natural):
                self.rows[table.name][key] = self._whole(table, known, key)
                self.version += 1
                return 201, self._told(table, key)
        key = self._insert(table, self._garbled(table, known) if temper.garbles else known)
        if problem:
            return 422, {"error": problem}
        told = self._told(table, key)
        if temper.apart:
            self.rows[table.name][key] = {**self.rows[table.name][key], "~by": _role(headers)}
        if lacks:
            self.rows[table.name][key] = {**self.rows[table.name][key], "~bad": True}
        return 201, told

    def _garbled(self, table: Table, record: Mapping[str, Any]) -> dict[str, Any]:
        plain = {each.name for each in table.columns if not each.refers and each.name not in table.key}

        def other(value: Any) -> Any:
            if isinstance(value, str):
                return value[::-1].swapcase()[:8]
            return value + 1 if isinstance(value, int) and not isinstance(value, bool) else value

        return {name: other(value) if name in plain else value for name, value in record.items()}

    def _told(self, table: Table, key: Key) -> Any:
        row, own = self.rows[table.name][key], dict(zip(table.key, key, strict=True))
        without = {name: value for name, value in row.items() if name not in own}
        people = list(self.foreign[table.name])
        return {
            "row": row,
            "key": own,
            "nothing": {"message": "created"},
            "list of one": [row],
            "beside": {**own, "result": {"changed": 1, "record": without}},
            "wrong key": {**without, **dict(zip(table.key, people[0] if people else key, strict=True))},
        }[self.temper.answers]

    def _item(
        self, table: Table, key: Key, method: str, headers: Mapping[str, str], body: bytes | None
    ) -> tuple[int, Any]:
        rows, temper = self.rows[table.name], self.temper
        row = rows.get(key) if not temper.unseen or key in self.foreign[table.name] else None
        if row is not None and not self._sees(_role(headers), row):
            row = None
        if row is not None and "~gone" in row and (temper.purges or temper.restores):
            row = None
        if method in {"GET", "HEAD"}:
            if row is None or (row.get("~gone") and temper.soft_delete is False):
                return 404, {"error": "not found"}
            if "~bad" in row:
                return self._bad()
            if temper.reading_removes and method == "GET":
                self._delete(table.name, key)
            if temper.reading_counts and method == "GET":
                row = rows[key] = {**row, "reads": row.get("reads", 0) + 1}
                self.version += 1
            return 200, {name: value for name, value in row.items() if name not in {"~gone", "~by"}}
        if method == "DELETE":
            if temper.maker_may_not_delete and _role(headers) != "keeper":
                return 403, {"error": "you may not"}
            if row is None:
                return 404, {"error": "not found"}
            if temper.changes_break and "~bad" in row:
                return self._bad()
            if temper.removes_nothing:
                return (204, None) if temper.removes_nothing == "silently" else (500, {"error": "failed"})
            if temper.soft_delete:
                rows[key] = {**row, "~gone": True}
                self.version += 1
                return 204, None
            refused = (500, {"error": "failed"}) if temper.refusals_fail else (409, {"error": "others refer to it"})
            return (204, None) if self._delete(table.name, key) else refused
        record = self._read_body(body)
        if method not in {"PUT", "PATCH"}:
            return 405, {"error": "method not allowed"}
        if record is None:
            return 400, {"error": "this is no record"}
        if row is None and temper.change_makes_bare and method == "PATCH" and key not in self.foreign[table.name]:
            rows[key] = {each.name: record[each.name] for each in table.columns if each.name in record}
            self.version += 1
            return 204, None
        if row is None and not (temper.upserts and method == "PUT"):
            return 404, {"error": "not found"}
        known = {
            each.name: record[each.name] for each in table.columns if each.name in record and each.name not in table.key
        }
        whole = {**(row or {}), **known} if method == "PATCH" else {**dict(zip(table.key, key, strict=True)), **known}
        problem = "" if temper.accepts_all else self._problem(table, whole, key, method == "PATCH")
        if problem and temper.changes_break and row is not None:
            rows[key] = {**row, **known, "~bad": True}
            self.version += 1
        if problem or (temper.changes_break and "~bad" in (row or {})):
            return 422, {"error": problem or "a stored value breaks a rule"}
        other = tuple(record.get(name, part) for name, part in zip(table.key, key, strict=True))
        if temper.key_forks and row is not None and other != key and other not in rows:
            rows[other] = self._whole(table, {**whole, **dict(zip(table.key, other, strict=True))}, other)
            self.version += 1
            return 200, rows[other]
        if temper.key_overwrites and row is not None and other != key and other in rows and not table.by_client:
            rows[other] = self._whole(table, {**whole, **dict(zip(table.key, other, strict=True))}, other)
            self.version += 1
            return 200, rows[other]
        if temper.replace_forks and method == "PUT" and not table.by_client and row is not None:
            key = self._insert(table, whole)
            return 200, rows[key]
        if temper.change_makes_another and method == "PATCH" and not table.by_client and row is not None:
            key = self._insert(table, known)
            return 200, rows[key]
        if temper.halves_lose_all and has_half(known):
            rows.clear()
            self.version += 1
            return 500, {"error": "failed"}
        rows[key] = self._whole(table, whole, key)
        if row is not None and "~by" in row:
            rows[key]["~by"] = row["~by"]
        self.version += 1
        if temper.halves_break and has_half(known):
            rows[key]["~bad"] = True
            return 500, {"error": "failed"}
        others = [each for each in rows if each != key]
        seen = max(others, key=lambda each: str(each).zfill(20)) if temper.change_shows_another and others else key
        told = {name: value for name, value in rows[seen].items() if name != "~by"}
        return (200 if row is not None else 201), told

    def _bad(self) -> tuple[int, Any]:
        """How a row that cannot be shown is answered."""
        return (
            (422, {"error": "a stored value breaks a rule"})
            if self.temper.changes_break
            else (500, {"error": "failed"})
        )

    def _by_filter(self, table: Table, method: str, query: Json, body: bytes | None) -> tuple[int, Any]:
        rows = self.rows[table.name]
        wanted = {
            name: value for name, value in query.items() if name in {*table.key, *(c.name for c in table.columns)}
        }
        if self.temper.filter_ignored and method == "DELETE":
            wanted = {}
        hit = [key for key, row in rows.items() if all(str(row[name]) == value for name, value in wanted.items())]
        for key in hit:
            if method == "DELETE":
                self._delete(table.name, key)
            else:
                rows[key] = {**rows[key], **{n: v for n, v in (self._read_body(body) or {}).items() if n in rows[key]}}
                self.version += 1
        return 200, {"changed": len(hit)}

    # -- the contract ----------------------------------------------------------------------------------

    def contract(self) -> Json:
        """The OpenAPI description that it comes with."""
        paths: Json = {}
        schemas: Json = {}
        for table in self.tables.values():
            columns = {each.name: each.schema() for each in table.columns}
            kind = "string" if self.temper.text_keys else "integer"
            own = {name: {"type": kind, "readOnly": True} for name in table.key if name not in columns}
            own |= {"reads": {"type": "integer", "readOnly": True}} if self.temper.reading_counts else {}
            own |= {"changes": {"type": "integer", "readOnly": True}} if self.temper.touches else {}
            own |= {"uid": {"type": "string", "readOnly": True}} if self.temper.found_by_uid else {}
            required = [each.name for each in table.columns if each.required]
            title = table.name.title().replace("-", "")
            sent = {name: schema for name, schema in columns.items() if name != table.under}
            schemas[f"New{title}"] = _object(sent, [each for each in required if each in sent])
            schemas[f"Some{title}"] = _object({n: s for n, s in sent.items() if n not in table.key}, [])
            shown = [name for name in required if name not in self.hidden]
            schemas[title] = _object(
                {**own, **columns}, [*(name for name in own if name not in {"reads", "changes"}), *shown]
            )
            paths |= dict(self._paths(table, title))
        return {
            "openapi": "3.0.3",
            "info": {"title": f"Seed bank, {self.temper.name}", "version": "1"},
            "servers": [{"url": BASE}],
            "paths": paths,
            "components": {"schemas": schemas},
        }

    def _paths(self, table: Table, title: str) -> Iterator[tuple[str, Json]]:
        row = {"$ref": f"#/components/schemas/{title}"}
        page = _object({"items": {"type": "array", "items": row}, "total": {"type": "integer"}}, ["items", "total"])
        answers = {
            status: {"description": "refused"} for status in ("400", "403", "404", "405", "409", "422", "429", "503")
        }
        limits = [
            {"name": "limit", "in": "query", "schema": {"type": "integer", "minimum": 1, "maximum": 1000}},
            {"name": "offset", "in": "query", "schema": {"type": "integer", "minimum": 0}},
        ]
        filters = [
            {"name": name, "in": "query", "description": f"Only rows with this {name}.", "schema": {"type": "string"}}
            for name in (*table.key, *(each.name for each in table.columns))
        ] if self.temper.by_filter or self.temper.divides else []  # fmt: skip
        if self.temper.lone_filter:
            limits = [{"name": self.temper.lone_filter, "in": "query", "schema": {"type": "integer"}}]
        listing: Json = {"get": {"parameters": [*limits, *filters], "responses": {"200": _json(page), **answers}}}
        listing["post"] = {
            "requestBody": _body(f"New{title}"),
            "responses": {"201": {"description": "made"}, **answers},
        }
        change = {"requestBody": _body(f"Some{title}"), "responses": {"200": {"description": "done"}, **answers}}
        delete = {"responses": {"204": {"description": "gone"}, "200": {"description": "gone"}, **answers}}
        if table.under:
            above = [{"name": table.under, "in": "path", "required": True, "schema": {"type": "integer"}}]
            own = [{"name": "id", "in": "path", "required": True, "schema": {"type": "integer"}}]
            path = f"/{table.above}/{{{table.under}}}/{table.name}"
            yield path, {"parameters": above, **listing}
            read = {"responses": {"200": _json(row), **answers}}
            yield f"{path}/{{id}}", {"parameters": [*above, *own], "get": read, "patch": change, "delete": delete}
            return
        if self.temper.by_filter:
            yield (
                f"/{table.name}",
                {**listing, "patch": {**change, "parameters": filters}, "delete": {**delete, "parameters": filters}},
            )
            return
        yield f"/{table.name}", listing
        parameters = [
            {
                "name": name,
                "in": "path",
                "required": True,
                "schema": {"type": "string" if "code" in name or self.temper.text_keys else "integer"},
            }
            for name in table.key
        ]
        yield (
            f"/{table.name}/" + "/".join("{" + name + "}" for name in table.key),
            {
                "parameters": parameters,
                "get": {"responses": {"200": _json(row), **answers}},
                "put": {
                    "requestBody": _body(f"New{title}"),
                    "responses": {"200": _json(row), "201": _json(row), **answers},
                },
                "patch": change,
                "delete": delete,
            },
        )
        if self.temper.bulk:
            yield from bulk.paths(table, title, answers)
        if self.temper.restores:
            path = f"/{table.name}/" + "/".join("{" + name + "}" for name in table.key) + "/restore"
            yield path, {"parameters": parameters, "post": {"responses": delete["responses"]}}
        if self.temper.purges:
            path = f"/{table.name}/" + "/".join("{" + name + "}" for name in table.key) + "/hard-delete"
            yield path, {"parameters": parameters, "delete": delete}
        if self.temper.purges == "live":
            yield f"/{table.name}/deleted", {"get": {"responses": {"200": _json(row)}}}


def _role(headers: Mapping[str, str]) -> str:
    return next((value for name, value in headers.items() if name.lower() == ROLE), "")


def _object(properties: Json, required: list[str]) -> Json:
    plain = {"type": "object", "properties": properties}
    return {**plain, "required": required} if required else plain


def _json(schema: Json) -> Json:
    return {"description": "done", "content": {"application/json": {"schema": schema}}}


def _body(name: str) -> Json:
    schema = {"$ref": f"#/components/schemas/{name}"}
    return {"required": True, "content": {"application/json": {"schema": schema}}}
