"""What a check is, and the list of all of them in the order in which they run."""

from __future__ import annotations

from collections.abc import AsyncIterator, Awaitable, Callable
from dataclasses import dataclass
from functools import wraps
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from checkpost.checks.case import Case
    from checkpost.findings import Finding
    from checkpost.model.purpose import Purpose
    from checkpost.model.resource import Resource

Function = Callable[["Case"], AsyncIterator["Finding"]]

FAMILIES = (
    "access",
    "read",
    "create",
    "update",
    "replace",
    "delete",
    "page",
    "filter",
    "sort",
    "select",
    "aggregate",
    "bulk",
    "concurrency",
    "relate",
    "database",
    "errors",
    "shape",
)


#: The family of rows that outlive a run: only where it is asked for.
HOLD = "hold"
#: The family that only looks what roles can do.
OBSERVE = "observe"
#: The family that looks into the database: only where the profile names one.
DATABASE = "database"


class Skipped(Exception):
    """The question does not arise here, or may not be asked; the message says why."""


class Blocked(Exception):
    """The question could not be asked, since something it stands on failed; the message says what."""


@dataclass(frozen=True)
class Check:
    """One question asked of one resource. ``needs`` names the operations without which it does not arise;
    ``creates`` says that it makes rows, so that they have to be removable; ``cost`` estimates its requests."""

    name: str
    family: str
    needs: tuple[Purpose, ...]
    creates: bool
    gate: bool
    cost: Callable[[Resource], int]
    function: Function
    #: Whether it is asked of each other role whose rights are stated, and not of the run's own.
    per_role: bool = False
    #: Whether nobody else may be at work on its table meanwhile: it compares the whole of it, or fills it.
    alone: bool = False

    @property
    def question(self) -> str:
        return (self.function.__doc__ or "").strip().splitlines()[0]


CHECKS: dict[str, Check] = {}


def looking(function: Callable[[Case], Awaitable[None]]) -> Function:
    """A check that does its work and has nothing to report by itself, as one of those that have."""

    @wraps(function)
    async def look(case: Case) -> AsyncIterator[Finding]:
        await function(case)
        nothing: tuple[Finding, ...] = ()
        for finding in nothing:
            yield finding

    return look


def check(
    name: str,
    *,
    needs: tuple[Purpose, ...] = (),
    creates: bool = False,
    gate: bool = False,
    cost: Callable[[Resource], int] = lambda resource: 1,
    per_role: bool = False,
    alone: bool = False,
) -> Callable[[Function], Function]:
    """Register a check. Its family is the first part of its name."""

    def register(function: Function) -> Function:
        CHECKS[name] = Check(name, name.partition(".")[0], needs, creates, gate, cost, function, per_role, alone)
        return function

    return register
