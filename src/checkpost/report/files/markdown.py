"""Markdown for a merge request: the verdict, a table of the findings, and each in full to unfold."""

from __future__ import annotations

import re

from checkpost.report.files import Exchanges, Json
from checkpost.report.words import places, some, source, state_of_rows, times, verdict

ENDING = ".md"
_SIGNS = {"error": "❌", "warning": "⚠️", "note": "ℹ️"}


def write(document: Json, exchanges: Exchanges) -> str:
    run, summary = document["run"], document["summary"]
    title = run["contract"]["title"] or run["base_url"]
    lines = [
        f"## {_plain(title)}: {verdict(document)}",
        "",
        f"`{run['base_url']}` as `{run['role']}`, {summary['requests']} requests in {run['seconds']:.1f} s, "
        f"{state_of_rows(document)}. Run `{run['id']}`.",
        "",
    ]
    findings = document["findings"]
    if findings:
        lines += ["| | | finding | where |", "|-:|-|-|-|"]
        lines += [
            f"| {number} | {_SIGNS[each['severity']]} | {_plain(each['title'])} | {_plain(places(each))} |"
            for number, each in enumerate(findings, 1)
        ]
        lines.append("")
    for number, each in enumerate(findings, 1):
        lines += _unfolded(number, each)
    return "\n".join(lines).rstrip("\n") + "\n"


def _unfolded(number: int, finding: Json) -> list[str]:
    lines = [
        "<details>",
        f"<summary>{number}. {_plain(finding['title'])}</summary>",
        "",
        f"- **expected**: {_plain(finding['expected'])} ({_plain(source(finding))})",
        f"- **seen**: {_plain(finding['observed'])}{times(finding)}",
    ]
    if finding["subjects"]:
        lines.append(f"- **with**: {_plain(some(finding['subjects']))}")
    if finding["reproduce"]:
        longest = max((len(each) for each in re.findall("`+", finding["reproduce"])), default=0)
        fence = "`" * max(3, longest + 1)
        lines += ["", f"{fence}sh", finding["reproduce"], fence]
    return [*lines, "", "</details>", ""]


def _plain(text: str) -> str:
    """Text that Markdown takes as it is (CommonMark 0.31, 2.4), on one line."""
    return re.sub(r"([\\`*_\[\]<>|#~])", r"\\\1", " ".join(text.split()))
