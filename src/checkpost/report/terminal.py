"""A stored run as a person reads it in a terminal: a matrix first, then the findings, the gravest first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from typing import Any

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from checkpost.checks.registry import FAMILIES, HOLD
from checkpost.report.access import access_matrix

Json = dict[str, Any]

_COLOURS = {"error": "bold red", "warning": "yellow", "note": "cyan"}
_SIGNS = {"error": "✗", "warning": "▲", "note": "•"}
_MOST_SUBJECTS = 6


#: How many rows that are not as before are named.
_MOST_ROWS_NAMED = 20


def show_run(document: Json, console: Console, commands: bool = True) -> None:
    """Print a whole run; ``commands`` adds to each finding the command that reproduces it."""
    console.print(_heading(document))
    console.print()
    for line in rows_not_as_before(document["summary"]):
        console.print(line)
    console.print(_matrix(document, console.width))
    console.print(_legend())
    console.print()
    if any(each["tried"] for each in document.get("access", ())):
        console.print(Text("Roles, and what they may do", style="bold"))
        console.print(access_matrix(document["access"]))
        console.print()
    for finding in document["findings"]:
        console.print(_finding(finding, commands, document["run"]["role"]))
        console.print()
    for line in _not_done(document):
        console.print(line)
    console.print(_verdict(document))


def rows_not_as_before(summary: Json) -> Iterator[RenderableType]:
    """What the run could not leave as it was: its own rows that stay, and rows of others that it reached."""
    harmed = summary.get("harmed", ())
    surely, perhaps = ([each for each in harmed if each["certain"] is sure] for sure in (True, False))
    there, maybe = ([each for each in summary["left"] if each["certain"] is sure] for sure in (True, False))
    for rows, words in (
        (there, "of this run are still there"),
        (maybe, "may be of this run, and are left alone"),
        (surely, "of others were changed or removed by the API while this run went on"),
        (perhaps, "of others were changed or removed while this run went on, perhaps by somebody else at work"),
    ):
        if not rows:
            continue
        what = "1 row" if len(rows) == 1 else f"{len(rows)} rows"
        one = words.replace("were", "was", 1).replace(" are ", " is ", 1)
        words = one if len(rows) == 1 else words
        yield Text(f"{what} {words}:", style="bold" if rows is perhaps else "bold red")
        for each in rows[:_MOST_ROWS_NAMED]:
            told = f": {each['why']}" if "why" in each else f" {each['how']}"
            again = ", and has its values again" if each.get("restored") else ""
            yield Text(f"  {each['table']} {each['key']}{told}{again}")
        if len(rows) > _MOST_ROWS_NAMED:
            yield Text(f"  and {len(rows) - _MOST_ROWS_NAMED} more; the JSON report has them all", style="dim")
    if summary["left"]:
        yield Text("checkpost sweep looks again, and removes what is the run's.", style="dim")
    if summary["left"] or harmed:
        yield Text()


def _heading(document: Json) -> RenderableType:
    run, summary = document["run"], document["summary"]
    first = Text.assemble((run["contract"]["title"] or "API", "bold"), "  ", run["base_url"], "  as ", run["role"])
    writes = f"nothing written: {run['no_writes']}" if run["no_writes"] else "writes allowed"
    second = Text(
        f"run {run['id']}  {summary['requests']} requests in {run['seconds']:.1f} s  seed {run['seed']}  {writes}",
        style="dim",
    )
    return Group(first, second)


def cell(checks: list[Json], findings: list[Json]) -> tuple[str, str]:
    """The sign of one resource and family, and its style: findings, else blocked, passed or skipped."""
    outcomes = Counter(check["outcome"] for check in checks)
    if findings:
        worst = min((finding["severity"] for finding in findings), key=list(_SIGNS).index)
        return f"{_SIGNS[worst]} {len(findings)}", _COLOURS[worst]
    if outcomes["blocked"]:
        return f"! {outcomes['blocked']}", "magenta"
    if outcomes["passed"]:
        return "✓", "green"
    # a check that failed by a finding told under another family, or under all resources
    return ("✓", "green") if outcomes["failed"] else ("–", "dim")


def _matrix(document: Json, width: int) -> Table:
    table = Table(box=None, padding=(0, 1, 0, 0), header_style="dim")
    table.add_column("", no_wrap=True, min_width=17)
    families = [name for name in (*FAMILIES, HOLD) if any(check["family"] == name for check in document["checks"])]
    resources = list(dict.fromkeys(check["resource"] for check in document["checks"] if check["resource"]))
    for name in headings(families, width - max((17, *map(len, resources)))):
        table.add_column(name, justify="center", no_wrap=True)
    for resource in resources:
        row = [Text(resource)]
        for family in families:
            checks = [each for each in document["checks"] if (each["resource"], each["family"]) == (resource, family)]
            findings = [
                each for each in document["findings"] if (each["resource"], each["family"]) == (resource, family)
            ]
            sign, style = cell(checks, findings)
            row.append(Text(sign, style=style))
        table.add_row(*row)
    return table


def headings(names: list[str], width: int) -> list[str]:
    """Names as headings of columns, cut as much as a width needs."""
    for longest in (11, 8, 6, 4):
        cut = [name if len(name) <= longest else name[: longest - 1] + "." for name in names]
        if sum(len(name) + 1 for name in cut) <= width:
            return cut
    return cut


def _legend() -> Text:
    return Text("✓ passed  ✗ errors  ▲ warnings  • notes  ! blocked  – skipped", style="dim")


def operations_text(finding: Json) -> str:
    """The operations that a finding names, the first ones in full."""
    names = [f"{each['method']} {each['path']}" for each in finding["operations"]]
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more


def _finding(finding: Json, commands: bool, usual: str) -> RenderableType:
    severity = finding["severity"]
    head = Text.assemble(
        (f"{_SIGNS[severity]} {severity:<8}", _COLOURS[severity]),
        (finding["title"], "bold"),
        (f"  {finding['id']}", "dim"),
    )
    facts = Table.grid(padding=(0, 2, 0, 0))
    facts.add_column(style="dim", no_wrap=True)
    facts.add_column(overflow="fold")
    for name, value in _facts(finding, commands, usual):
        facts.add_row(name, Text(value))
    parts: list[RenderableType] = [head, Padding(facts, (0, 0, 0, 10))]
    if finding["rows"]:
        parts += [Text(), Padding(_rows(finding["rows"]), (0, 0, 0, 10))]
    return Group(*parts)


def _rows(rows: list[Json]) -> Table:
    """The rows that differ, with the fields that matter."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    names = list(dict.fromkeys(name for row in rows for name in row["values"]))
    for name in ("row", "key", *names):
        table.add_column(name, overflow="fold", style="dim" if name == "row" else "")
    for row in rows:
        values = (_value(row["values"].get(name)) for name in names)
        table.add_row(row["how"], Text(row["key"]), *map(Text, values))
    return table


def _value(value: Any) -> str:
    text = "null" if value is None else (repr(value) if isinstance(value, str) else str(value))
    return text if len(text) <= 60 else text[:59] + "…"


def _facts(finding: Json, commands: bool, usual: str) -> Iterator[tuple[str, str]]:
    yield "where", operations_text(finding)
    if finding["role"] != usual:
        yield "as", finding["role"]
    yield "expected", finding["expected"]
    yield "seen", finding["observed"] + (f"  ({finding['count']} times)" if finding["count"] > 1 else "")
    if finding["subjects"]:
        more = len(finding["subjects"]) - _MOST_SUBJECTS
        yield "with", ", ".join(finding["subjects"][:_MOST_SUBJECTS]) + (f" and {more} more" if more > 0 else "")
    yield "basis", finding["basis"] + (f", line {finding['line']}" if finding["line"] else "")
    if commands and finding["pointer"]:
        yield "contract", f"{finding['document']}#{finding['pointer']}"
    if commands and finding["reproduce"]:
        yield "again", finding["reproduce"]


def _not_done(document: Json) -> Iterator[RenderableType]:
    """What was not asked, by reason: nothing is left out silently."""
    groups: dict[tuple[str, str], dict[str, set[str]]] = {}
    for check in document["checks"]:
        if check["outcome"] in {"skipped", "blocked"} or (check["outcome"] == "passed" and check["reason"]):
            outcome = check["outcome"] if check["outcome"] != "passed" else "in part"
            if outcome == "skipped" and check["reason"] == "no such answer was met":
                continue
            members = groups.setdefault((outcome, check["reason"]), {})
            members.setdefault(check["check"], set()).add(str(check["resource"]))
    if groups:
        table = Table.grid(padding=(0, 2, 0, 0))
        table.add_column(style="dim", no_wrap=True)
        table.add_column(overflow="fold", style="dim")
        for (outcome, reason), members in sorted(groups.items()):
            resources = sorted({name for each in members.values() for name in each})
            number = sum(map(len, members.values()))
            what = next(iter(members)) if len(members) == 1 else f"{number} checks"
            table.add_row(outcome, f"{what} of {', '.join(resources)}: {reason}")
        yield table
        yield Text()
    missed = document["summary"]["not_exercised"]
    if missed:
        yield Text(
            f"{len(missed)} of {document['summary']['operations']} operations were never exercised:", style="dim"
        )
        for reason in dict.fromkeys(each["reason"] for each in missed):
            names = [f"{each['method']} {each['path']}" for each in missed if each["reason"] == reason]
            more = f" and {len(names) - 6} more" if len(names) > 6 else ""
            yield Text(f"  {', '.join(names[:6])}{more}: {reason}", style="dim")
        yield Text()


def _verdict(document: Json) -> RenderableType:
    summary = document["summary"]
    checks, findings = summary["checks"], summary["findings"]
    lines = []
    flaws = document["run"]["contract"]["flaws"]
    if flaws:
        words = "1 flaw" if flaws == 1 else f"{flaws} flaws"
        lines.append(Text(f"The contract itself has {words}; checkpost survey tells.", style="dim"))
    if document["run"]["interrupted"]:
        lines.append(Text("The run was interrupted; what it had not asked yet is not told here.", style="bold"))
    if summary.get("held"):
        words = f"{summary['held']} rows are held: checkpost run --verify-held looks at them later, and removes them."
        lines.append(Text(words, style="bold"))
    found = (
        ", ".join(f"{number} {name}{'s' if number != 1 else ''}" for name, number in findings.items() if number)
        or "no findings"
    )
    style = "bold red" if findings["error"] else ("bold yellow" if findings["warning"] else "bold green")
    counts = ", ".join(f"{checks[name]} {name}" for name in ("passed", "failed", "skipped", "blocked") if checks[name])
    lines.append(Text.assemble((found, style), f"  checks: {counts}"))
    return Group(*lines)


def show_finding(document: Json, finding: Json, console: Console) -> None:
    """Print one finding with the exchanges that show it."""
    console.print(_finding(finding, True, document["run"]["role"]))
    for exchange in finding["exchanges"]:
        console.print()
        console.print(_exchange(exchange))


def _exchange(exchange: Json) -> RenderableType:
    request, answer = exchange["request"], exchange["answer"]
    who = {"right": f"as {exchange['role']}", "none": "without credentials", "wrong": "with damaged credentials"}
    who |= {
        "expired": "with expired credentials",
        "scheme": "with credentials under another scheme",
        "place": "with credentials in another place",
    }
    lines = [
        Text.assemble(
            (f"{exchange['number']:>5}  ", "dim"),
            (f"{request['method']} {request['url']}", "bold"),
            (f"  {who[exchange['credentials']]}", "dim"),
        )
    ]
    lines += [Text(f"       {name}: {value}", style="dim") for name, value in request["headers"]]
    if request["body"]:
        lines.append(Padding(Text(_pretty(request["body"])), (0, 0, 0, 7)))  # type: ignore[arg-type]
    status = answer["detail"] or str(answer["status"])
    lines.append(Text.assemble(("    →  ", "dim"), (status, "bold"), (f"  {exchange['seconds'] * 1000:.0f} ms", "dim")))
    wanted = {"content-type", "location", "www-authenticate", "allow", "etag", "retry-after"}
    lines += [
        Text(f"       {name}: {value}", style="dim") for name, value in answer["headers"] if name.lower() in wanted
    ]
    if answer["body"]:
        lines.append(Padding(Text(_pretty(answer["body"])), (0, 0, 0, 7)))  # type: ignore[arg-type]
    return Group(*lines)


def _pretty(body: str, most: int = 1500) -> str:
    import json

    try:
        text = json.dumps(json.loads(body), ensure_ascii=False)
    except ValueError:
        text = body
    return text if len(text) <= most else text[:most] + "…"


def show_exchange(exchange: Json, console: Console) -> None:
    """Print one stored exchange."""
    console.print(_exchange(exchange))


def show_list(documents: list[Json], console: Console) -> None:
    """Print a line for each stored run."""
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for name in ("run", "base URL", "role", "errors", "warnings", "notes", "requests"):
        table.add_column(name, overflow="fold")
    for document in documents:
        run, summary = document["run"], document["summary"]
        numbers = (str(summary["findings"][name]) for name in ("error", "warning", "note"))
        table.add_row(run["id"], run["base_url"], run["role"], *numbers, str(summary["requests"]))
    console.print(table)


def show_checks(document: Json, console: Console) -> None:
    """Print every check of a run with its outcome."""
    signs = {"passed": ("✓", "green"), "failed": ("✗", "red"), "blocked": ("!", "magenta"), "skipped": ("–", "dim")}
    for check in document["checks"]:
        sign, style = signs[check["outcome"]]
        requests = f"{check['requests']} requests" if check["requests"] else ""
        console.print(
            Text.assemble(
                (f"{sign} {check['outcome']:<8}", style),
                f"{check['resource'] or '':<20} {check['check']:<26}",
                (f"{requests}  {check['reason']}", "dim"),
            )
        )
