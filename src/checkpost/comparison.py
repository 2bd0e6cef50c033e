"""Two runs against each other: which findings are new, which are gone, and which were not asked again."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Any

Json = dict[str, Any]
_JUDGED = frozenset({"passed", "failed"})


@dataclass(frozen=True)
class Comparison:
    """Findings of the earlier and of the later run: ``new`` and ``lasting`` as the later one has them, ``fixed`` and
    ``unasked`` as the earlier. Unasked are those that are not there any more, since their check was not asked."""

    new: tuple[Json, ...]
    fixed: tuple[Json, ...]
    lasting: tuple[Json, ...]
    unasked: tuple[Json, ...]


def compared(before: Json, after: Json) -> Comparison:
    """The findings of two runs' documents, held against each other."""
    lasting: list[Json] = []
    rest, new = list(before["findings"]), []
    for finding in after["findings"]:
        same = next((each for each in rest if each["id"] == finding["id"]), None)
        same = same or next((each for each in rest if _alike(each, finding)), None)
        if same is None:
            new.append(finding)
        else:
            rest.remove(same)
            lasting.append(finding)
    planned = {each["check"] for each in after["checks"]}
    judged = {(each["check"], each["resource"]) for each in after["checks"] if each["outcome"] in _JUDGED}
    fixed = [each for each in rest if _is_judged(each, planned, judged)]
    return Comparison(tuple(new), tuple(fixed), tuple(lasting), tuple(each for each in rest if each not in fixed))


def _alike(one: Json, other: Json) -> bool:
    """Whether two findings are one departure that other resources show than before."""
    places = _places(one["operations"]) & _places(other["operations"])
    return bool(places) and all(one[name] == other[name] for name in ("check", "title", "role"))


def _places(operations: Iterable[Json]) -> set[tuple[str, str]]:
    return {(each["method"], each["path"]) for each in operations}


def _is_judged(finding: Json, planned: set[str], judged: set[tuple[str, str | None]]) -> bool:
    """Whether the check of a finding was asked again of all that had shown it. What every answer is held against may be
    no check of its own: there it is enough that its resources were asked something."""
    names = finding["resources"]
    if finding["check"] in planned:
        return all((finding["check"], name) in judged for name in names)
    asked = {resource for _, resource in judged}
    return asked >= set(names) if names else bool(asked)
