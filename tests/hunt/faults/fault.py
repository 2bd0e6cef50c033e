"""One way in which a sound API goes wrong, and what installs it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

from tests.hunt.api import BASE, Refused, SoundApi
from tests.hunt.habits import Column, Habits, Json, Table
from tests.hunt.query import Wanted

Install = Callable[[SoundApi], None]
Pairs = list[tuple[str, str]]


@dataclass(frozen=True)
class Fault:
    """``fits`` says of which habits it makes an API that breaks its word."""

    name: str
    fits: Callable[[Habits], bool]
    install: Install


FAULTS: dict[str, Fault] = {}


def fault(name: str, fits: Callable[[Habits], bool] = lambda habits: True) -> Callable[[Install], Install]:
    def keep(install: Install) -> Install:
        FAULTS[name] = Fault(name, fits, install)
        return install

    return keep


def around(api: SoundApi, name: str, other: Callable[..., Any]) -> None:
    """Put ``other`` in place of a method; it is given the method, and what that would be given."""
    method = getattr(api, name)
    setattr(api, name, lambda *given, **named: other(method, *given, **named))


def instead_of(api: SoundApi, name: str, status: int, other: Callable[[], Refused]) -> None:
    """Have a method refuse otherwise where it refuses with a status."""

    def tried(method: Any, *given: Any, **named: Any) -> Any:
        try:
            return method(*given, **named)
        except Refused as refused:
            raise other() if refused.status == status else refused from None

    around(api, name, tried)


def misread(name: str, fits: Callable[[Habits], bool], change: Callable[[SoundApi, Table, Wanted], Json]) -> None:
    """A fault of what a list is asked for: ``change`` gives the members of it that are taken for others."""

    @fault(name, fits)
    def install(api: SoundApi) -> None:
        def wanted(method: Any, table: Table, pairs: Pairs) -> Wanted:
            asked = method(table, pairs)
            return replace(asked, **change(api, table, asked))

        around(api, "_wanted", wanted)


def path_of(url: str) -> list[str]:
    """The parts of a URL's path below the API's base."""
    return url.partition("?")[0].removeprefix(BASE).strip("/").split("/")


def columns(habits: Habits, *kinds: str) -> list[Column]:
    return [each for table in habits.tables for each in table.columns if not kinds or each.kind in kinds]


def filters(habits: Habits) -> bool:
    return habits.spelling != "none"


def compares(habits: Habits) -> bool:
    return habits.spelling in {"brackets", "suffix", "odata"}


def pages(habits: Habits) -> bool:
    return habits.paging != "none" and max(each.rows for each in habits.tables) > habits.usual


def refers(habits: Habits) -> bool:
    return bool(columns(habits, "reference"))


def places(habits: Habits) -> bool:
    return habits.location or habits.created == "place"
