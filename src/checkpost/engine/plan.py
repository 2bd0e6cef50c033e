"""Which checks are asked of which resources, and why some are not."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Literal

from checkpost.checks.order import all_checks
from checkpost.checks.registry import DATABASE, HOLD, OBSERVE, Check
from checkpost.model.media import record_media
from checkpost.model.operations import takes_patch
from checkpost.model.resource import Model, Resource

_NO_JSON = "the body of {operation} takes no JSON"


@dataclass(frozen=True)
class Planned:
    """A check of a resource; ``reason`` says why it will not run, if it will not."""

    check: Check
    resource: Resource
    reason: str = ""
    #: The role that it looks at, where that is another one than the run's own.
    actor: str = ""

    @property
    def requests(self) -> int:
        """About how many requests it will send."""
        return 0 if self.reason else self.check.cost(self.resource)


def plan(
    model: Model,
    families: Collection[str],
    resources: Collection[str],
    no_writes: str,
    holding: Literal["", "hold.left", "hold.kept", "observe"] = "",
    actors: Mapping[str, Mapping[str, str]] | None = None,
    witness: bool = False,
) -> list[Planned]:
    """The checks in their order, resource by resource; empty ``families`` or ``resources`` mean all.

    With ``hold.left`` rows are left behind for a later look, with ``hold.kept`` those of an earlier run are
    looked at, and nothing else is; with ``observe`` what roles can do is looked at. ``actors`` names, for each
    resource, the other roles whose rights are stated, with the reason why one cannot be asked as. The database is
    looked into where there is a ``witness``.
    """
    planned = []
    for resource in model.resources:
        if resources and resource.name not in resources:
            continue
        for check in all_checks():
            if check.family == DATABASE and not witness:
                continue
            # what later checks stand on runs whatever is asked for
            if holding == "observe":
                if not (check.gate or check.family == OBSERVE):
                    continue
            elif check.family in {HOLD, OBSERVE} or holding == "hold.kept":
                if check.name == holding:
                    planned.append(Planned(check, resource, _why_not(check, resource, no_writes)))
                continue
            if families and check.family not in families and not (check.gate and _builds_on(check, families)):
                continue
            why_not = _why_not(check, resource, no_writes)
            if not check.per_role:
                planned.append(Planned(check, resource, why_not))
                continue
            for name, missing in (actors or {}).get(resource.name, {}).items():
                planned.append(Planned(check, resource, why_not or missing, name))
    return planned


def _builds_on(gate: Check, families: Collection[str]) -> bool:
    chosen = [each for each in all_checks() if each.family in families]
    return any(each.creates for each in chosen) if gate.creates else bool(chosen)


def _why_not(check: Check, resource: Resource, no_writes: str) -> str:
    missing = [purpose for purpose in check.needs if purpose not in resource.operations]
    if missing:
        if check.creates and missing == ["delete"]:
            return "the contract has no delete for it, so rows made could not be removed"
        return f"the contract has no {missing[0]} for it"
    if check.creates and no_writes:
        return f"nothing is written: {no_writes}"
    if resource.key is None and ("read" in check.needs or check.creates):
        return "its key could not be recognised"
    for purpose in check.needs:
        operation = resource.operations[purpose]
        body = operation.body
        writes = purpose in {"create", "update", "replace"} and body is not None and bool(body.content)
        if writes and record_media(operation) is None and not takes_patch(operation):
            return _NO_JSON.format(operation=operation)
    return ""
