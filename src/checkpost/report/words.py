"""A finding in words, as every report that is text has it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from checkpost.findings import NOT_CHOSEN

Json = dict[str, Any]
#: How many places and subjects are named.
_MOST = 6


def some(words: Sequence[str], most: int = _MOST) -> str:
    """Words in a row, the first ones named."""
    more = f" and {len(words) - most} more" if len(words) > most else ""
    return ", ".join(words[:most]) + more


def places(finding: Json) -> str:
    return some([f"{each['method']} {each['path']}".strip() for each in finding["operations"]])


def source(finding: Json) -> str:
    """The basis of a finding, with the line of the contract where there is one."""
    line = f", line {finding['line']}" if finding["line"] else ""
    return f"{finding['basis']}{line}"


def times(finding: Json) -> str:
    return f" ({finding['count']} times)" if finding["count"] > 1 else ""


def finding_text(finding: Json) -> str:
    """A finding as lines of text."""
    lines = [
        f"{finding['severity']}: {finding['title']}",
        f"where: {places(finding)}" if finding["operations"] else "",
        f"expected: {finding['expected']} ({source(finding)})",
        f"seen: {finding['observed']}{times(finding)}",
        f"with: {some(finding['subjects'])}" if finding["subjects"] else "",
        f"again: {finding['reproduce']}" if finding["reproduce"] else "",
        waiver_text(finding),
    ]
    return "\n".join(filter(None, lines))


def asked_of(document: Json) -> tuple[int, int]:
    """How many operations were asked, and of how many that were to be."""
    summary = document["summary"]
    chosen = summary["operations"] - sum(each["reason"] == NOT_CHOSEN for each in summary["not_exercised"])
    return summary["operations"] - len(summary["not_exercised"]), chosen


def is_judged(document: Json) -> bool:
    """Whether a run says something of the API: not if it was to read and write, and most operations were never
    asked."""
    asked, chosen = asked_of(document)
    whole = {"read", "create", "filter"} <= {each["family"] for each in document["checks"]}
    return 2 * asked >= chosen or bool(document["run"]["no_writes"]) or not whole


def verdict(document: Json) -> str:
    """How a run came out, in a line."""
    findings = document["summary"]["findings"]
    if not sum(findings.values()) and not is_judged(document):
        return "not judged: most operations were never asked"
    counts = [f"{number} {name}{'s' if number != 1 else ''}" for name, number in findings.items() if number]
    total = sum(findings.values())
    waived = document["summary"].get("waived", 0)
    beside = f", {waived} waived" if waived else ""
    told = f"{total} finding{'s' if total != 1 else ''}: {', '.join(counts)}" if total else "no findings"
    return told + beside


def waiver_text(finding: Json) -> str:
    """Why a finding is waived, in words; "" where it is not."""
    waiver = finding.get("waived")
    if not waiver:
        return ""
    until = f" until {waiver['until']}" if waiver["until"] else ""
    by = f" ({waiver['by']})" if waiver["by"] else ""
    return f"waived{until}: {waiver['why']}{by}"


def state_of_rows(document: Json) -> str:
    """Whether the data are as they were, in words."""
    summary = document["summary"]
    unsure = [*summary["left"], *summary.get("harmed", ())]
    if any(each["certain"] for each in unsure):
        return "rows NOT as they were"
    if unsure:
        return "rows perhaps not as they were"
    database = summary.get("database")
    if database and database["differ"]:
        return "rows NOT as they were in the database"
    kept = summary.get("kept") or (database and database["kept"])
    proved = f", as {database['tables']} tables show" if database and not kept and not database["problem"] else ""
    return "rows as they were, and deleted ones kept" if kept else f"rows as they were{proved}"


def database_lines(document: Json) -> list[str]:
    """What the database shows of the run, in words: how its tables differ from before."""
    database = document["summary"].get("database")
    if not database:
        return []
    lines = [f"In the database {_differs(each)}." for each in database["differ"]]
    lines += [
        f"{_rows(each['rows'])} of the run {'was' if each['rows'] == 1 else 'were'} deleted or never shown, and "
        f"{'is' if each['rows'] == 1 else 'are'} in the table {each['table']}."
        for each in database["kept"]
        if each["rows"] not in [other["rows"] for other in document["summary"].get("kept", ())]
    ]
    lines += [f"Beside, in a table that no resource shows, {_differs(each)}." for each in database["beside"]]
    if database["problem"]:
        lines.append(f"The database was not compared: {database['problem']}")
    if database["skipped"]:
        lines.append(f"Too long to be compared: {', '.join(database['skipped'])}.")
    return lines


def _rows(number: int) -> str:
    return "1 row" if number == 1 else f"{number} rows"


def _differs(each: Json) -> str:
    """How a table differs, in words."""
    columns = f" ({some(each['columns'])})" if each["columns"] else ""
    parts = []
    for how, words, of in (("gone", "gone", ""), ("new", "more", ""), ("changed", "changed", columns)):
        keys = each[how]
        if keys:
            rows = "1 row is" if len(keys) == 1 else f"{len(keys)} rows are"
            named = some(keys, 3) if how != "new" else ""
            parts.append(f"{rows} {words}{of}" + (f": {named}" if named else ""))
    return f"{each['table']} is not as it was: {'; '.join(parts)}"
