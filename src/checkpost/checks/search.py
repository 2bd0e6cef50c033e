"""Searches: a text is looked for in all fields of a list's rows."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Collection

from checkpost.checks.asking import Reply, ask, snapshot_of
from checkpost.checks.case import Case
from checkpost.checks.registry import Skipped, check
from checkpost.checks.together import all_of
from checkpost.findings import Finding
from checkpost.model.resource import Resource
from checkpost.oracle.columns import Snapshot
from checkpost.wire.listing import Asked

#: How many fields a text is taken from.
_MOST_FIELDS = 8
#: What every program that searches takes for one word, at the beginning of a text.
_WORD = re.compile(r"[A-Za-z]{4,}\b")


def _cost(resource: Resource) -> int:
    return 2 + _MOST_FIELDS if resource.queries.searching is not None else 0


@check("filter.search", needs=("list",), cost=_cost)
async def search_narrows(case: Case) -> AsyncIterator[Finding]:
    """Does a search leave out what does not hold its text, and find a row by a text that it holds?

    In which fields is looked, and how, is the API's to choose: so only a search that leaves every row for a text that
    none holds is wrong, and one that finds no row by any of its texts.
    """
    searching = case.resource.queries.searching
    if searching is None:
        raise Skipped("the contract has no search")
    snapshot = await snapshot_of(case)
    name, nowhere = searching.parameter, f"{case.world.mark}absent"
    nothing = await ask(case, Asked(((name, nowhere),)), "a search for what no row holds")
    if nothing.rows is None:
        raise Skipped(f"a search is answered {nothing.exchange.answer.status or nothing.exchange.answer.detail}")
    if nothing.rows and _all_there(case, nothing, snapshot):
        yield case.finding(
            "error",
            "contract",
            "A search is ignored",
            f"no rows for {name}={nowhere}, which no row holds",
            f"{len(nothing.rows)} rows, as without it",
            cause="search ignored",
            purpose="list",
            subjects=[name],
            evidence=[nothing.exchange],
        )
        return
    words = _words(snapshot, case.resource.key_fields[: len(case.world.within(case.resource))])
    if not words:
        raise Skipped("its rows have no texts")
    chosen = list(words.items())[:_MOST_FIELDS]
    replies = await all_of(ask(case, Asked(((name, word),)), "a search for a text of a row") for _, word in chosen)
    found = any(each.rows for each in replies)
    if found or any(each.rows is None for each in replies) or len(chosen) < len(words):
        return
    field, word = chosen[0]
    yield case.finding(
        "warning",
        "contract",
        "A search finds no row by any of its texts",
        f"a row for {name}={word}, which one holds in {field}",
        "no rows",
        cause="search finds nothing",
        purpose="list",
        subjects=[name],
        evidence=[replies[0].exchange],
    )


def _all_there(case: Case, reply: Reply, snapshot: Snapshot) -> bool:
    """Whether a reply has all rows, as far as can be told."""
    if reply.total is not None and snapshot.total is not None:
        return reply.total == snapshot.total
    keys = {case.client.key_of(row) for row in reply.rows or ()}
    return reply.complete and snapshot.whole and keys >= set(snapshot.keys)


def _words(snapshot: Snapshot, above: Collection[str]) -> dict[str, str]:
    """For each field that holds texts the first word of one of them, or else the text; but for those of the row
    ``above``, which its own rows need not show."""
    words: dict[str, str] = {}
    for row in snapshot.rows:
        for name in row.keys() - words.keys() - set(above):
            text, kind = row[name], snapshot.fields[name].kind if name in snapshot.fields else ""
            if isinstance(text, str) and text.strip() and kind not in {"date", "date-time"}:
                found = _WORD.match(text)
                words[name] = found[0] if found is not None else text
    return words
