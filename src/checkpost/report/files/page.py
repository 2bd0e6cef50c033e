"""One HTML page that needs nothing else: for people, on a screen, a phone or paper."""

from __future__ import annotations

import json
import re
from importlib.resources import files
from typing import Any

from checkpost.checks.registry import FAMILIES, HOLD
from checkpost.findings import NOT_CHOSEN
from checkpost.report.files import Exchanges, Json
from checkpost.report.words import places, some, source, state_of_rows, times, verdict

ENDING = ".html"
#: How many exchanges of a finding, and how much of a body, are shown: the stored run has all.
_MOST_EXCHANGES, _LONGEST_BODY = 4, 4000
SIGNS = {"error": "✗", "warning": "▲", "note": "•", "passed": "✓", "failed": "✗", "blocked": "!", "skipped": "–"}


def write(document: Json, exchanges: Exchanges) -> str:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True, undefined=StrictUndefined)
    environment.filters |= {"places": places, "some": some, "source": source, "times": times}
    template = environment.from_string(files(__package__).joinpath("page.html.j2").read_text("utf-8"))
    run, summary = document["run"], document["summary"]
    unasked = [each for each in summary["not_exercised"] if each["reason"] != NOT_CHOSEN]
    asked = summary["operations"] - len(summary["not_exercised"])
    return template.render(
        run=run,
        summary=summary,
        title=run["contract"]["title"] or run["base_url"],
        verdict=verdict(document),
        worst=next((name for name in SIGNS if summary["findings"].get(name)), ""),
        rows=state_of_rows(document),
        asked=asked,
        operations=asked + len(unasked),
        unasked=unasked,
        findings=[_finding(number, each) for number, each in enumerate(document["findings"], 1)],
        matrix=_matrix(document),
        access=_access(document["access"]),
        roles=list(dict.fromkeys(each["role"] for each in document["access"])),
        checks=document["checks"],
        signs=SIGNS,
    )


def _access(stated: list[Json]) -> dict[str, dict[str, Json]]:
    """The rights that are stated, by resource and role."""
    by_resource: dict[str, dict[str, Json]] = {}
    for each in stated:
        by_resource.setdefault(each["resource"], {})[each["role"]] = each
    return by_resource


def _finding(number: int, finding: Json) -> Json:
    names = {word for subject in finding["subjects"] for word in re.findall(r"[\w-]+", subject)}
    shown = [_exchange(each, names) for each in finding["exchanges"][:_MOST_EXCHANGES]]
    columns = list(dict.fromkeys(name for row in finding["rows"] for name in row["values"]))
    return {**finding, "number": number, "shown": shown, "columns": columns, "sign": SIGNS[finding["severity"]]}


def _exchange(exchange: Json, names: set[str]) -> Json:
    def part(side: Json) -> Json:
        return {**side, "lines": _lines(side["body"] or "", names)}

    return {**exchange, "request": part(exchange["request"]), "answer": part(exchange["answer"])}


def _lines(body: str, names: set[str]) -> list[tuple[bool, str]]:
    """A body as lines, JSON indented, and whether each has a member that the finding is about."""
    try:
        text = json.dumps(json.loads(body), ensure_ascii=False, indent=2)
    except ValueError:
        text = body
    cut = text if len(text) <= _LONGEST_BODY else text[:_LONGEST_BODY] + "…"
    return [
        ((found := re.match(r'\s*"([^"]+)":', line)) is not None and found[1] in names, line)
        for line in cut.split("\n")
    ]


def _matrix(document: Json) -> Json:
    """The worst of each family and resource: a sign, its class and the numbers of the findings."""
    resources = list(dict.fromkeys(check["resource"] for check in document["checks"] if check["resource"]))
    families = [each for each in (*FAMILIES, HOLD) if any(check["family"] == each for check in document["checks"])]
    cells: dict[tuple[str, str], Any] = {}
    for family in families:
        for resource in resources:
            outcomes = {c["outcome"] for c in document["checks"] if (c["family"], c["resource"]) == (family, resource)}
            own = [
                (number, each["severity"])
                for number, each in enumerate(document["findings"], 1)
                if each["family"] == family and resource in each["resources"]
            ]
            worst = next((name for name in ("error", "warning", "note") if name in {each[1] for each in own}), "")
            state = worst or next((name for name in ("blocked", "passed", "skipped") if name in outcomes), "")
            cells[family, resource] = {
                "state": state,
                "sign": SIGNS.get(state, ""),
                "numbers": [each[0] for each in own],
            }
    return {"resources": resources, "families": families, "cells": cells}
