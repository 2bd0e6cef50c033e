"""Findings that somebody has decided to live with: which, why, until when, and who says so."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import date

from checkpost.findings import Finding


@dataclass(frozen=True)
class Waiver:
    """A finding by its id, or all of a ``check`` (of one ``resource``, if that is named). ``until`` is its last day."""

    why: str
    by: str = ""
    until: date | None = None
    finding: str = ""
    check: str = ""
    resource: str = ""

    def __str__(self) -> str:
        return self.finding or self.check + (f" of {self.resource}" if self.resource else "")

    def waives(self, finding: Finding) -> bool:
        if self.finding:
            return finding.id == self.finding
        return self.check in {finding.check, finding.family} and self.resource in {"", *finding.resources}


def waived(findings: Sequence[Finding], waivers: Sequence[Waiver], today: date) -> dict[str, Waiver]:
    """The waiver of each finding that has one in force, by the finding's id."""
    return {
        each.id: waiver
        for each in findings
        for waiver in reversed(waivers)
        if waiver.waives(each) and (waiver.until is None or waiver.until >= today)
    }


def idle(findings: Sequence[Finding], waivers: Sequence[Waiver], today: date) -> list[tuple[Waiver, str]]:
    """Waivers that do nothing, each with why."""
    found = []
    for waiver in waivers:
        if waiver.until is not None and waiver.until < today:
            found.append((waiver, f"it ended on {waiver.until.isoformat()}"))
        elif not any(map(waiver.waives, findings)):
            found.append((waiver, "no finding is like it"))
    return found
