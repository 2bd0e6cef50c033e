"""Which rows are the run's own: what a row shows, held against what was sent."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from checkpost.model.field import MISSING, Field
from checkpost.model.resource import Resource
from checkpost.oracle.same import instant, kept_by_server, same
from checkpost.rows.journal import Entry
from checkpost.values.coined import has_mark
from checkpost.wire.listing import Key, Row

#: A moment with its seconds, or a UUID.
_STAMP = re.compile(r"\d\d:\d\d:\d\d|^[0-9a-fA-F]{8}(-[0-9a-fA-F]{4}){3}-[0-9a-fA-F]{12}$")
_ZERO = re.compile(r"0+(?:\.0+)?")
#: Signs that not every store takes, and how long what stands before them has to be to tell a text.
_UNSTORABLE, _TELLING = re.compile("[\0\ud800-\udfff]"), 12
#: How long what an API leaves of a text has to be to tell it, with the letters of the run's mark that no other run has;
#: and how long to name a row that may be the run's.
_CUT, HEAD = 18, 6


@dataclass(frozen=True)
class Bears:
    """Whether a row bears the run's ``mark``, or, where none of the records that were sent for it does, refers to a row
    that is the run's. Without records it has to bear the mark itself: others refer to the run's rows too."""

    mark: str
    told: Callable[[Mapping[str, Any], Sequence[Mapping[str, Any]] | None], bool]

    def __call__(self, row: Mapping[str, Any], records: Sequence[Mapping[str, Any]] | None) -> bool:
        return self.told(row, records)


def marked(row: Mapping[str, Any], mark: str) -> bool:
    """Whether a text of the row bears the run's mark, in whatever case it is stored."""
    return any(has_mark(value, mark) for value in row.values() if isinstance(value, str))


def shows(
    resource: Resource,
    records: Sequence[Mapping[str, Any]],
    row: Row,
    bears: Bears,
    new: bool = False,
    shown: Mapping[str, Any] | None = None,
    usual: Mapping[str, Sequence[Any]] | None = None,
) -> bool:
    """Whether a row whose key the API gave to a create is the row that was sent.

    It is if it bears the mark. Without it, it is if every field shows a value that was sent to it, by the create or
    by a change since (one in four may differ, since APIs change values); and if it is blank, where nothing was sent.
    Of a row that is known to be ``new``, since the list was read whole and did not hold it, less is wanted: it may be
    blank, as an API makes a row of a body that it does not read, or the very row that the create's answer has
    ``shown``. ``usual`` has what fields hold of which nothing was sent.
    """
    if bears(row, None) or any(_within(record, row, bears.mark) for record in records):
        return True
    if new and (_blank(resource, row, usual or {}) or _as_answered(resource, records, row, shown)):
        return True
    sent = sorted({name for record in records for name in record if name in row})
    telling = [name for name in sent if any(record.get(name) is not None for record in records)]
    if not telling or (not all(records) and _blank(resource, row)):
        return _blank(resource, row)  # nothing was sent, or a body of which nothing can be told
    unlike = [name for name in telling if not _sent(resource, records, name, row[name])]
    return len(unlike) <= len(telling) // 4


def _within(sent: Any, got: Any, mark: str, deep: bool = False) -> bool:
    """Whether a text with the run's mark that was sent inside a value stands in the same place of a row."""
    if isinstance(sent, Mapping) and isinstance(got, Mapping):
        return any(name in got and _within(value, got[name], mark, True) for name, value in sent.items())
    if isinstance(sent, list) and isinstance(got, list):
        return any(_within(one, other, mark, True) for one, other in zip(sent, got, strict=False))
    return deep and isinstance(sent, str) and sent == got and has_mark(sent, mark)


def _as_answered(
    resource: Resource, records: Sequence[Mapping[str, Any]], row: Row, shown: Mapping[str, Any] | None
) -> bool:
    """Whether a row is in all values the one that the create's answer showed, or that changes have sent since, and that
    one shows at least half of what was sent."""
    if not shown or not records:
        return False
    for name, value in shown.items():
        if name not in row or not (row[name] == value or _sent(resource, records[1:], name, row[name])):
            return False
    told = [name for name, value in records[0].items() if value is not None and name in shown]
    alike = [name for name in told if _alike(resource.field(name), records[0][name], shown[name])]
    return bool(alike) and 2 * len(alike) >= len(told)


def stamps(resource: Resource, record: Mapping[str, Any], row: Row) -> dict[str, str]:
    """What a server has set on a row that no other row has: moments and UUIDs, beside the key and what was sent."""
    key = resource.key_fields
    own = {name: value for name, value in row.items() if name not in record and name not in key}
    return {name: value for name, value in own.items() if isinstance(value, str) and _STAMP.search(value)}


def _sent(resource: Resource, records: Sequence[Mapping[str, Any]], name: str, value: Any) -> bool:
    field = resource.field(name)
    return any(_alike(field, record[name], value) for record in records if name in record)


def _alike(field: Field | None, sent: Any, got: Any, cut: int = _CUT) -> bool:
    """Whether a value may be what became of the one that was sent: APIs cut blanks off, or what is too long, and change
    the case."""
    if isinstance(sent, str) and isinstance(got, str):
        head = _UNSTORABLE.split(sent, maxsplit=1)[0]
        if sent.strip().casefold() == got.strip().casefold() or (len(head) < len(sent) and _begins(got, head)):
            return True
        if len(got) >= cut and sent.startswith(got):
            return True
        if (moment := instant(sent)) is not None and moment == instant(got):  # written otherwise
            return True
    if isinstance(sent, float) and type(got) is int and abs(sent - got) < 1:
        return True  # rounded or cut
    if isinstance(got, str) and isinstance(sent, dict | list) and got in (*_AS_TEXT, ",".join(map(str, sent))):
        return True
    if isinstance(got, str) and not isinstance(sent, str) and sent is not None:
        try:
            return bool(json.loads(got) == sent)  # an object, say, stored as the text that it was written in
        except ValueError:
            return str(sent) == got
    return same(field, sent, got)


#: What programs make of an object or a list that they put into a text.
_AS_TEXT = ("[object Object]", "Array")


def _begins(text: str, head: str) -> bool:
    """Whether a text begins with what stands before a sign that an API may cut off, leave out or replace; of a head so
    short nothing is told."""
    return len(head) >= _TELLING and text.startswith(head)


def _blank(resource: Resource, row: Row, usual: Mapping[str, Sequence[Any]] | None = None) -> bool:
    """Whether a row holds nothing but what an API sets itself: what a record without a value becomes. Where ``usual``
    is given, be it empty, moments of the last minutes are such."""
    key = resource.key_fields
    chosen = [field for field in resource.writable("create") if field.name in row and field.name not in key]
    if not chosen:  # rows may hold what was sent and no more
        return bool(row) and row.keys() <= set(key)
    return all(
        is_nothing(row[field.name])
        or (usual is not None and kept_by_server(field, None, row[field.name], datetime.now(UTC)))
        or (field.default is not MISSING and same(field, field.default, row[field.name]))
        or row[field.name] in (usual or {}).get(field.name, ())
        for field in chosen
    )


def is_nothing(value: Any) -> bool:
    """Whether a value is what stands where none was given, be it a zero that is written as a text."""
    return value in (None, "", 0, False, [], {}) or (isinstance(value, str) and _ZERO.fullmatch(value) is not None)


def likeness(resource: Resource, record: Mapping[str, Any], row: Mapping[str, Any], bears: Bears) -> int:
    """How many fields of a marked row agree with a record; 0 if the row cannot come from it: it has to bear the run's
    mark and to agree in half of the fields, or to refer to a row of the run's and to agree in all of them, one of which
    is no reference."""
    if not bears(row, [record]):
        return 0
    shared = [name for name in record if name in row]
    agreeing = [name for name in shared if _alike(resource.field(name), record[name], row[name])]
    if bears(row, None):
        return len(agreeing) if len(agreeing) >= max(1, len(shared) // 2) else 0
    own = [each.name for each in resource.writable("create") if resource.relation(each.name) is None]
    told = [name for name in agreeing if name in own and record[name] is not None]
    return len(agreeing) if agreeing == shared and shared and (told or not own) else 0


def may_be(resource: Resource, record: Mapping[str, Any], row: Row) -> bool:
    """Whether a row without the mark looks as a record would: all that both have agrees. It proves nothing."""
    shared = [name for name in record if name in row and record[name] is not None]
    if not shared:
        return _blank(resource, row)
    return all(_alike(resource.field(name), record[name], row[name], HEAD) for name in shared)


def match(
    resource: Resource, entries: Sequence[Entry], rows: Mapping[Key, Row], taken: Collection[Key], bears: Bears
) -> list[tuple[Entry, Key]]:
    """The marked rows that journaled records explain, one for each at the most; never one whose key is ``taken``
    (it was there before the run, or is known to be another of its rows)."""
    candidates = {key: row for key, row in rows.items() if key not in taken and bears(row, ())}
    if not candidates:
        return []
    by_text: dict[tuple[str, str], list[Key]] = {}
    for key, row in candidates.items():
        for name, value in row.items():
            if isinstance(value, str):
                by_text.setdefault((name, value), []).append(key)
    found: list[tuple[Entry, Key]] = []
    rest: list[Entry] = []
    # rows with a text that no other has first: it is quicker than looking at each row for each record, and a
    # record that was refused may be a little like the row of another
    for entry in entries:
        alike = [by_text[each] for each in entry.record.items() if isinstance(each[1], str) and each in by_text]
        few = [keys[0] for keys in alike if len(keys) == 1 and keys[0] in candidates]
        best = _best(resource, entry.record, few, candidates, bears)
        if best is None:
            rest.append(entry)
        else:
            candidates.pop(best)
            found.append((entry, best))
    for entry in rest:
        best = _best(resource, entry.record, candidates, candidates, bears) if candidates else None
        if best is not None:
            candidates.pop(best)
            found.append((entry, best))
    return found


def _best(
    resource: Resource, record: Mapping[str, Any], keys: Iterable[Key], rows: Mapping[Key, Row], bears: Bears
) -> Key | None:
    """The key of the row that a record explains best; None where it explains none."""
    scored = [(score, key) for key in keys if (score := likeness(resource, record, rows[key], bears)) > 0]
    return max(scored, key=lambda each: each[0])[1] if scored else None
