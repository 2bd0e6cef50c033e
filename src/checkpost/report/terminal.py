"""A stored run as a person reads it in a terminal: how it came out, the findings, the gravest first, and a matrix."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator
from typing import Any

from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from checkpost.checks.registry import FAMILIES, HOLD
from checkpost.engine.budget import LEFT_OUT
from checkpost.findings import NOT_CHOSEN
from checkpost.report.access import access_matrix
from checkpost.report.words import asked_of, database_lines, is_judged, state_of_rows, verdict, waiver_text

Json = dict[str, Any]

_COLOURS = {"error": "bold red", "warning": "bold magenta", "note": "cyan"}
_SIGNS = {"error": "✗", "warning": "▲", "note": "•"}
_MOST_SUBJECTS = 6
_MOST_MISSED, _MOST_REASONS = 4, 3
#: How wide the name of a family is at the most.
_FAMILY = 11
#: What stands where no check had anything to ask, and how many letters of a family are left in the narrowest heading.
_NOTHING, _LEAST = "–", 3
#: More resources than this are shown only where they have findings.
_MOST_RESOURCES = 30


#: How many rows that are not as before are named.
_MOST_ROWS_NAMED = 20


def show_run(document: Json, console: Console) -> None:
    """Print a whole run: how it came out, what is wrong, what was tried, and what to look at next."""
    console.print(_heading(document))
    console.print(_verdict(document))
    console.print()
    for line in rows_not_as_before(document["summary"]):
        console.print(line)
    for number, finding in enumerate(document["findings"], 1):
        console.print(_summary(number, finding, document["run"]["role"]))
        console.print()
    console.print(_matrix(document, console.width))
    console.print(_legend())
    console.print()
    if any(each["tried"] for each in document.get("access", ())):
        console.print(Text("Roles, and what they may do", style="bold"))
        console.print(access_matrix(document["access"]))
        console.print()
    for line in _not_done(document):
        console.print(line)
    if document["findings"]:
        console.print(Text("Next: checkpost show 1", style="bold"))
    elif not is_judged(document):
        console.print(Text("Next: checkpost survey, which says what a profile would open", style="bold"))


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
        alike = Counter(map(_row_named, rows))
        for text, count in list(alike.items())[:_MOST_ROWS_NAMED]:
            yield Text(f"  {text}" + (f" ({count} times)" if count > 1 else ""))
        if len(alike) > _MOST_ROWS_NAMED:
            more = len(rows) - sum(list(alike.values())[:_MOST_ROWS_NAMED])
            yield Text(f"  and {more} more; the JSON report has them all", style="dim")
    if summary["left"]:
        yield Text("checkpost sweep looks again, and removes what is the run's.", style="dim")
    if summary["left"] or harmed:
        yield Text()


def _row_named(each: Json) -> str:
    """A row that was left or harmed, and why, in words."""
    told = f": {each['why']}" if "why" in each else f" {each['how']}"
    again = ", and has its values again" if each.get("restored") else ""
    return f"{each['table']} {each['key']}{told}{again}"


def _heading(document: Json) -> RenderableType:
    run, summary = document["run"], document["summary"]
    title = run["contract"]["title"] or "API"
    first = Text.assemble((title, "bold"), "  ", run["base_url"], "  as ", run["role"])
    second = f"run {run['id']}  {summary['requests']} requests in {run['seconds']:.1f} s  seed {run['seed']}"
    if run["no_writes"]:
        second += f"  nothing written: {run['no_writes']}"
    return Group(first, Text(second, style="dim"))


def _verdict(document: Json) -> RenderableType:
    """How it came out, in a line; what it leaves open, in others."""
    run, summary = document["run"], document["summary"]
    findings = summary["findings"]
    unsure = findings["warning"] or not is_judged(document)
    style = "bold red" if findings["error"] else ("bold magenta" if unsure else "green")
    asked, total_of = asked_of(document)
    rows = state_of_rows(document)
    words = f"   {asked} of {total_of} operations asked   "
    lines = [Text.assemble((verdict(document), style), words, (rows, "bold red" if "NOT" in rows else ""))]
    if run["interrupted"]:
        lines.append(Text("The run was interrupted: what it had not asked yet is missing here.", style="bold"))
    left_out = [each for each in document["checks"] if each["reason"].startswith(LEFT_OUT)]
    if left_out:
        why = left_out[0]["reason"].removeprefix(LEFT_OUT)
        of = len({each["resource"] for each in left_out})
        resources = "1 resource" if of == 1 else f"{of} resources"
        words = f"{len(left_out)} of {len(document['checks'])} checks, of {resources}, were left out: {why}."
        lines.append(Text(words, style="bold"))
    if summary.get("held"):
        held = f"{summary['held']} rows are held: checkpost run --verify-held looks at them later, and removes them."
        lines.append(Text(held, style="bold"))
    for each in summary.get("kept", ()):
        shows = each["parameter"]
        how = f"{shows} shows them" if shows.startswith("/") else f"its list shows them with {shows}"
        how = f"{shows} brings them back" if " /" in shows else how
        kept = f"{each['rows']} deleted rows of {each['table']} are kept: {how}."
        lines.append(Text(kept, style="bold"))
    idle = (f"The waiver of {each['waiver']} does nothing: {each['why']}." for each in summary.get("idle_waivers", ()))
    lines += [Text(line, style="bold") for line in idle]
    lines += [Text(line, style="bold") for line in database_lines(document)]
    return Group(*lines)


def cell(checks: list[Json], findings: list[Json]) -> tuple[str, str]:
    """The sign of one resource and family, and its style: findings, else blocked, passed or skipped."""
    outcomes = Counter(check["outcome"] for check in checks)
    if findings:
        worst = min((finding["severity"] for finding in findings), key=list(_SIGNS).index)
        return _counted(_SIGNS[worst], len(findings)), _COLOURS[worst]
    if outcomes["blocked"]:
        return _counted("!", outcomes["blocked"]), "magenta"
    if outcomes["passed"]:
        return "✓", "green"
    # a check that failed by a finding told under another family, or under all resources
    return ("✓", "green") if outcomes["failed"] else (_NOTHING, "dim")


def _counted(sign: str, number: int) -> str:
    """A sign and a number in three places, as far as they hold it."""
    return f"{sign} {number}" if number < 10 else f"{sign}{number}"


def _matrix(document: Json, width: int) -> RenderableType:
    """How each family of checks went for each resource: families as rows where the resources fit beside each other,
    and of many resources those alone that have findings."""
    families = [name for name in (*FAMILIES, HOLD) if any(check["family"] == name for check in document["checks"])]
    resources = list(dict.fromkeys(check["resource"] for check in document["checks"] if check["resource"]))
    checks: dict[tuple[str, str], list[Json]] = {}
    for each in document["checks"]:
        checks.setdefault((each["resource"], each["family"]), []).append(each)
    if len(resources) > _MOST_RESOURCES:
        wrong = {name for finding in document["findings"] for name in finding["resources"]}
        resources = [name for name in resources if name in wrong]

    def sign(resource: str, family: str) -> Text:
        found = [e for e in document["findings"] if resource in e["resources"] and e["family"] == family]
        text, style = cell(checks.get((resource, family), []), found)
        return Text(text, style=style)

    table = Table(box=None, padding=(0, 1, 0, 0), pad_edge=False, header_style="dim")
    named = sum(len(name) + 2 for name in resources) + _FAMILY <= width
    across = named or len(resources) * 5 + _FAMILY <= width
    rows, columns = (families, resources) if across else (resources, families)
    heads = headings(columns, width - max((17, *map(len, rows))))
    if across:
        heads = columns if named else [str(number) for number, _ in enumerate(columns, 1)]
    beside = [", ".join(f"{number} {name}" for number, name in enumerate(columns, 1))] if across and not named else []
    idle: list[str] = []
    longest = max((_FAMILY, *map(len, rows)))
    fits = longest if across else max(_FAMILY, width - sum(max(len(name), _LEAST) + 1 for name in heads))
    table.add_column("", no_wrap=True, min_width=min(longest, fits), max_width=fits)
    for name in heads:
        table.add_column(name, justify="center", no_wrap=True, min_width=1 if named else 3)
    for row in rows:
        signs = [sign(name, row) if across else sign(row, name) for name in columns]
        if not across and all(each.plain == _NOTHING for each in signs):
            idle.append(row)
        else:
            table.add_row(Text(row), *signs)
    if idle:
        beside.append(f"Nothing was to be asked of {', '.join(idle)}.")
    return Group(table, *(Text(line, style="dim") for line in beside))


def headings(names: list[str], width: int) -> list[str]:
    """Names as headings of columns, cut as much as a width needs."""
    for longest in (11, 8, 6):
        cut = [name if len(name) <= longest else name[: longest - 1] + "." for name in names]
        if sum(len(name) + 1 for name in cut) <= width:
            return cut
    return [name[:_LEAST] for name in names]  # one letter more says more than a dot


def _legend() -> Text:
    return Text("✓ passed  ✗ errors  ▲ warnings  • notes  ! blocked  – skipped", style="dim")


def operations_text(finding: Json) -> str:
    """The operations that a finding names, the first ones in full."""
    names = [f"{each['method']} {each['path']}" for each in finding["operations"]]
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more


def _summary(number: int, finding: Json, usual: str) -> RenderableType:
    """A finding among others: what is wrong and where, what was expected, what was seen."""
    severity = finding["severity"]
    colour = "dim" if finding.get("waived") else _COLOURS[severity]
    head = Text.assemble(
        (f"{number:>2} {_SIGNS[severity]} ", colour), (finding["title"], "bold"), "   ", _where(finding)
    )
    facts = [*_facts(finding, False, usual)]
    return Group(head, Padding(_grid(facts), (0, 0, 0, 5)))


def _where(finding: Json) -> str:
    names = finding.get("resources", [])
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return ", ".join(names[:3]) + more


def _grid(facts: Iterable[tuple[str, str]]) -> Table:
    grid = Table.grid(padding=(0, 2, 0, 0))
    grid.add_column(style="dim", no_wrap=True)
    grid.add_column(overflow="fold")
    for name, value in facts:
        grid.add_row(name, Text(value))
    return grid


def _finding(finding: Json, usual: str) -> RenderableType:
    severity = finding["severity"]
    head = Text.assemble(
        (f"{_SIGNS[severity]} {severity:<8}", _COLOURS[severity]),
        (finding["title"], "bold"),
        (f"  {finding['id']}", "dim"),
    )
    parts: list[RenderableType] = [head, Padding(_grid(_facts(finding, True, usual)), (0, 0, 0, 10))]
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


def _facts(finding: Json, whole: bool, usual: str) -> Iterator[tuple[str, str]]:
    """What a finding says, by name; the ``whole`` of it with its place in the contract and the command to copy."""
    if finding["operations"]:
        yield "where", operations_text(finding)
    if whole and len(finding.get("resources", ())) > 1:
        yield "resources", ", ".join(finding["resources"])
    if finding["role"] != usual:
        yield "as", finding["role"]
    line = f", line {finding['line']}" if finding["line"] else ""
    basis = f"{finding['basis']}{line}"
    yield "expected", finding["expected"] + ("" if whole else f"  ({basis})")
    yield "seen", finding["observed"] + (f"  ({finding['count']} times)" if finding["count"] > 1 else "")
    if finding["subjects"]:
        subjects = list(dict.fromkeys(finding["subjects"]))
        more = len(subjects) - _MOST_SUBJECTS
        yield "with", ", ".join(subjects[:_MOST_SUBJECTS]) + (f" and {more} more" if more > 0 else "")
    if waiver_text(finding):
        yield "waived", waiver_text(finding).removeprefix("waived").lstrip(": ")
    if whole:
        yield "basis", basis
    if whole and finding["pointer"]:
        yield "contract", f"{finding['document']}#{finding['pointer']}"
    if whole and finding["reproduce"]:
        yield "again", finding["reproduce"]


def _not_done(document: Json) -> Iterator[RenderableType]:
    """What was not asked, in a line or two, with the command that tells all of it."""
    checks, run = document["summary"]["checks"], document["run"]
    counts = ", ".join(f"{checks[name]} {name}" for name in ("passed", "failed", "skipped", "blocked") if checks[name])
    part = sum(each["outcome"] == "passed" and bool(each["reason"]) for each in document["checks"])
    part_words = f", {part} of them in part" if part else ""
    counts = counts.replace("passed", f"passed{part_words}", 1) if checks["passed"] else counts
    yield Text(f"Checks: {counts}. checkpost show --checks lists each with its reason.", style="dim")
    reasons: dict[str, set[str]] = {}
    for each in document["checks"]:
        if each["outcome"] == "blocked" or (each["outcome"] == "skipped" and "is not set" in each["reason"]):
            reasons.setdefault(each["reason"], set()).add(str(each["resource"]))
    for reason in list(reasons)[:_MOST_REASONS]:
        yield Text(f"Could not be asked of {', '.join(sorted(reasons[reason]))}: {reason}", style="dim")
    if len(reasons) > _MOST_REASONS:
        yield Text(f"Could not be asked for {len(reasons) - _MOST_REASONS} reasons more.", style="dim")
    missed = [each for each in document["summary"]["not_exercised"] if each["reason"] != NOT_CHOSEN]
    if missed:
        names = [f"{each['method']} {each['path']}" for each in missed]
        more = f" and {len(names) - _MOST_MISSED} more" if len(names) > _MOST_MISSED else ""
        yield Text(f"Never asked: {', '.join(names[:_MOST_MISSED])}{more}.", style="dim")
    if run["contract"]["flaws"]:
        flaws = run["contract"]["flaws"]
        words = "1 flaw" if flaws == 1 else f"{flaws} flaws"
        yield Text(f"The contract itself has {words}: checkpost survey lists them.", style="dim")


def show_finding(document: Json, finding: Json, console: Console) -> None:
    """Print one finding with the exchanges that show it."""
    console.print(_finding(finding, document["run"]["role"]))
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
        table.add_column(name, overflow="fold", no_wrap=name == "run")
    for document in documents:
        run, summary = document["run"], document["summary"]
        numbers = (str(summary["findings"][name]) for name in ("error", "warning", "note"))
        table.add_row(run["id"], run["base_url"], run["role"], *numbers, str(summary["requests"]))
    console.print(table)


def show_checks(document: Json, console: Console) -> None:
    """Print every check of a run with its outcome, and each operation that none has reached, with the reason."""
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
    for each in document["summary"]["not_exercised"]:
        name = f"{each['method']} {each['path']}"
        console.print(Text.assemble(("– missed  ", "dim"), f"{name:<47}", (f"  {each['reason']}", "dim")))
