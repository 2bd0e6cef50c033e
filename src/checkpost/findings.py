"""Findings and the outcomes of checks, as values."""

from __future__ import annotations

import hashlib
import itertools
import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from checkpost.contract.contract import Operation
from checkpost.contract.errors import Place

Severity = Literal["error", "warning", "note"]
Basis = Literal["contract", "profile", "standard", "expectation"]
Outcome = Literal["passed", "failed", "skipped", "blocked"]
SEVERITIES: tuple[Severity, ...] = ("note", "warning", "error")
#: Families by what a departure costs: rights, rows that are stored, rows that are shown; then the rest.
_COSTS = (
    ("access",),
    ("create", "update", "replace", "delete", "bulk", "concurrency", "hold"),
    ("read", "relate", "page", "filter", "sort", "select", "aggregate"),
)


@dataclass(frozen=True)
class Differing:
    """A row that is not as it should be in an answer: ``how`` (missing, surplus, out of order, …), its key as
    text, and the fields that matter."""

    how: str
    key: str
    values: Mapping[str, Any]


@dataclass(frozen=True)
class Finding:
    """One departure. Findings with the same check, resource, role and cause are one; ``subjects`` (fields,
    values, situations) and ``operations`` say where all it was met, ``exchanges`` number the evidence."""

    check: str
    family: str
    resource: str | None
    role: str
    severity: Severity
    basis: Basis
    title: str
    expected: str
    observed: str
    cause: str
    operations: tuple[tuple[str, str], ...] = ()
    place: Place | None = None
    subjects: tuple[str, ...] = ()
    exchanges: tuple[int, ...] = ()
    reproduce: str = ""
    count: int = 1
    source: str = ""
    rows: tuple[Differing, ...] = ()
    #: Further resources that show the same departure with the same explanation.
    elsewhere: tuple[str, ...] = ()

    @property
    def resources(self) -> tuple[str, ...]:
        """Every resource that shows it; empty where it is about the API as a whole, or about what belongs to none."""
        return tuple(each for each in (self.resource, *self.elsewhere) if each)

    @property
    def key(self) -> tuple[str, str | None, str, str]:
        """What findings of one cause have in common. A cause that begins with ``any:`` may be met by
        several checks, one that begins with ``all:`` on several resources, with ``everywhere:`` both."""
        everywhere = self.cause.startswith("everywhere:")
        check = "" if everywhere or self.cause.startswith("any:") else self.check
        return check, None if everywhere else self.resource, self.role, self.cause

    @property
    def id(self) -> str:
        """An identifier that is the same in every run that meets the same departure."""
        check, resource, role, cause = self.key
        text = "\n".join(part or "" for part in (check, None if self.elsewhere else resource, role, cause))
        return hashlib.sha256(text.encode()).hexdigest()[:10]

    def merged(self, other: Finding) -> Finding:
        """This finding, with what another one of the same cause adds."""
        # of several checks that may meet a cause the same one names it, whichever came first
        named = min(self, other, key=lambda each: each.check) if self.cause.startswith("any:") else self
        return replace(
            self,
            check=named.check,
            family=named.family,
            count=self.count + other.count,
            subjects=tuple(dict.fromkeys(self.subjects + other.subjects)),
            operations=tuple(dict.fromkeys(self.operations + other.operations)),
            elsewhere=tuple(
                each for each in dict.fromkeys([*self.resources, *other.resources]) if each != self.resource
            ),
            severity=max(self.severity, other.severity, key=SEVERITIES.index),
        )


@dataclass(frozen=True)
class CheckResult:
    """How one check went for one resource and role. ``reason`` says why it was skipped or blocked, or what
    part of it could not be looked at."""

    check: str
    family: str
    resource: str | None
    role: str
    outcome: Outcome
    reason: str = ""
    requests: int = 0
    seconds: float = 0.0


@dataclass
class Findings:
    """Collects findings, one for each cause."""

    by_key: dict[tuple[str, str | None, str, str], Finding] = field(default_factory=dict)

    def add(self, found: Iterable[Finding]) -> None:
        for finding in found:
            known = self.by_key.get(finding.key)
            self.by_key[finding.key] = known.merged(finding) if known else finding

    def forget(self, resource: str, check: str, operations: tuple[tuple[str, str], ...]) -> None:
        """Leave out what a check has found of one operation of a resource, since another one tells more of it."""
        gone = [
            key
            for key, each in self.by_key.items()
            if (each.check, each.resource, each.operations) == (check, resource, operations)
        ]
        for key in gone:
            del self.by_key[key]

    def unite(self, asked: Callable[[str], int] = lambda check: 0) -> None:
        """Make one of findings that differ in the operation alone: the same check of the same resource, and
        a situation that they share. A broken body that crashes POST and PUT alike has one cause. So have failures that
        say the same, and what at least half of the resources show that a check was ``asked`` of."""
        united: list[Finding] = []
        for finding in self.by_key.values():
            kind, _, operation = finding.cause.partition(" at ")
            for place, other in enumerate(united):
                same = (other.check, other.resource, other.role) == (finding.check, finding.resource, finding.role)
                shared = set(other.subjects) & set(finding.subjects)
                if operation and same and shared and other.cause.startswith(f"{kind} at "):
                    united[place] = other.merged(finding)
                    break
            else:
                united.append(finding)
        systematic = _by_credentials(_by_resources(_by_failure(_by_roles(_by_server(united))), asked))
        self.by_key = {finding.key: finding for finding in systematic}

    def all(self) -> list[Finding]:
        """The findings, the gravest first: by severity, then by what they cost (rights, rows, answers), then by
        resource and check."""
        return sorted(
            self.by_key.values(),
            key=lambda each: (
                -SEVERITIES.index(each.severity),
                next((place for place, families in enumerate(_COSTS) if each.family in families), len(_COSTS)),
                each.resource or "",
                each.family,
                each.check,
                each.cause,
            ),
        )


def _by_roles(findings: Iterable[Finding]) -> list[Finding]:
    """Findings that differ in the role alone as one: what lets one role in lets others in too."""
    united: dict[tuple[str, str | None, str], Finding] = {}
    for finding in findings:
        check, resource, _, cause = finding.key
        known = united.get((check, resource, cause))
        roles = {*(known.role.split(", ") if known else ()), finding.role}
        merged = known.merged(finding) if known is not None else finding
        united[check, resource, cause] = replace(merged, role=", ".join(sorted(roles)))
    return list(united.values())


#: The causes of findings on a value that a change or a replace leaves as it was; on one that comes back as another
#: begins a cause with this; and on one that changes though it was not sent.
UPDATE_LOST, REPLACE_LOST, CHANGED, RESETS = "update lost", "replace lost", "any:changed: ", "resets others"


def _by_server(findings: Sequence[Finding]) -> list[Finding]:
    """What is found of fields of which neither creates nor changes store what was sent, as one: the server sets
    them."""

    def names(finding: Finding) -> set[str]:
        return {each.partition(" (")[0] for each in finding.subjects}

    left = list(findings)
    for lost in [each for each in findings if each.cause in {UPDATE_LOST, REPLACE_LOST} and each in left]:
        near = [each for each in left if (each.resource, each.role) == (lost.resource, lost.role) and each != lost]
        near = [each for each in near if names(each) and names(each) <= names(lost)]
        if not any(each.cause.startswith(CHANGED) for each in near):
            continue
        first = replace(lost, title="A field is set by the server, whatever is sent")
        for other in near:
            if other.cause.startswith(CHANGED) or other.cause in {UPDATE_LOST, REPLACE_LOST, RESETS}:
                first = first.merged(other)
                left.remove(other)
        left[left.index(lost)] = first
    return left


#: Why an operation was not asked that was not to be.
NOT_CHOSEN = "its resource was not chosen"
#: Cause of what an API fails at: behind a colon what it says, if it says anything.
FAILED = "server-error"
#: How the titles of failures begin; behind a colon stands what the API says, or else what it was asked.
FAILS = "A request fails with"
#: A field, parameter or value in the words for a situation.
_NAMED = re.compile(
    r"(?<=\bfor )\S+|(?:^|(?<=\())\S+(?= (?:breaking|that|alone|below|above)\b| =)|(?<=^without )\S+|(?<=^changing )\S+"
    r"|(?<=\bthe same )\S+|(?<== )\S+"
)


def _by_failure(findings: Sequence[Finding]) -> list[Finding]:
    """Failures that say the same, or that come in the same situation, as one, wherever they are met: what the API does
    not catch has one cause."""
    groups: list[tuple[set[tuple[str, ...]], list[Finding]]] = []
    others = []
    for finding in findings:
        if not finding.cause.startswith(FAILED):
            others.append(finding)
            continue
        head, _, said = finding.title.partition(": ")
        status = head.rpartition(" ")[2]
        kinds = {(status, finding.role, "in", _NAMED.sub("#", each)) for each in finding.subjects}
        kinds |= {(status, finding.role, "says", finding.cause.partition(" at ")[0])} if said else set()
        near = [group for group in groups if group[0] & kinds]
        met = [each for _, known in near for each in known]
        groups = [group for group in groups if group not in near]
        groups.append((kinds.union(*(known for known, _ in near)), [*met, finding]))
    for _, group in groups:
        first, *more = sorted(group, key=lambda each: not each.title.startswith(FAILS))
        for other in more:
            first = replace(first.merged(other), title=_shared(first.title, other.title))
        if first.title.startswith(FAILS) and ": " not in first.title and first.subjects:
            first = replace(first, title=f"{first.title}: {first.subjects[0][:60]}")
        others.append(first)
    return others


def _shared(one: str, other: str) -> str:
    """The words with which two titles begin; what is said behind the colon only where at least three words are."""
    status, _, said = one.partition(": ")
    pairs = zip(said.split(), other.partition(": ")[2].split(), strict=False)
    words = [word for word, _ in itertools.takewhile(lambda pair: pair[0] == pair[1], pairs)]
    return f"{status}: {' '.join(words)}" if len(words) > 2 else status


def _by_resources(findings: Sequence[Finding], asked: Callable[[str], int]) -> list[Finding]:
    """Findings of one kind as one, where so many resources show it that it is how the API as a whole is made."""
    alike: dict[tuple[str, ...], list[Finding]] = {}
    # what the contract rules out in one place may be against a standard alone in another: the graver one tells of both
    for finding in sorted(findings, key=lambda each: (-SEVERITIES.index(each.severity), each.resource or "")):
        if finding.resource is not None and not finding.cause.startswith(FAILED):  # see _by_failure
            alike.setdefault(_kind(finding), []).append(finding)
    one: dict[tuple[str, str | None, str, str], Finding] = {finding.key: finding for finding in findings}
    for group in alike.values():
        # what is wrong with answers in the same words has one cause; what checks find may be a table's own
        first = group[0]
        alike_anywhere = first.family == "shape" or first.check == "errors.body" or first.severity == "note"
        least = 2 if alike_anywhere else max(2, (asked(first.check) + 1) // 2)
        parts = [group]
        if len({each.resource for each in group}) < least:
            # the same sentence is said by one piece of program
            same: dict[str, list[Finding]] = {}
            for each in group:
                same.setdefault(_without_names(each, each.observed), []).append(each)
            parts = [part for part in same.values() if len(part) > 1]
        for first, *others in parts:
            for other in others:
                first = first.merged(other)
                one.pop(other.key)
            one[first.key] = first
    return list(one.values())


#: The causes of findings on operations that answer with damaged credentials, and without any.
DAMAGED, WITHOUT = "any:damaged credentials", "any:no credentials"


def _by_credentials(findings: Sequence[Finding]) -> list[Finding]:
    """What is found of damaged credentials, with what is found of the same operations without any: what needs none does
    not look at them."""
    left = list(findings)
    for each in [each for each in findings if each.cause == DAMAGED]:
        open_too = [other for other in left if other.cause == WITHOUT and other.role == each.role]
        other = next((other for other in open_too if set(each.operations) <= set(other.operations)), None)
        if other is not None:
            title = f"{other.title}, and with damaged ones"
            left[left.index(other)] = replace(other.merged(each), title=title, check=other.check)
            left.remove(each)
    return left


def _without_names(finding: Finding, said: str) -> str:
    """A sentence of a finding without the fields and values that it is about."""
    # a subject is a field, or a situation that may end with one: "changing weight", "weight (a fraction)"
    ends = (each.partition(" (")[0].rpartition(" ")[2] for each in finding.subjects)
    names = {word for each in ends for word in re.findall(r"\w+", each)}
    return re.sub(r"\w+", lambda word: "#" if word[0] in names else word[0], _without_values(said))


def _without_values(said: str) -> str:
    return re.sub(r'[0-9]+(?:\.[0-9]+)?|"[^"]*"', "#", said)


def _kind(finding: Finding) -> tuple[str, ...]:
    """What two findings of different resources have in common if one explanation serves for both: the departure, how
    it is asked for, and, where an answer is at fault, the sentence that says how."""
    cause = finding.cause.partition(" at ")[0]
    method, path = finding.operations[0] if finding.operations else ("", "")
    check, asked = finding.check, f"{method} {'{}' if path.rstrip('/').endswith('}') else ''}"
    told = ""
    if cause.startswith("any:"):
        # what several checks and operations may show is no matter of the ones that show it first
        check = asked = ""
    elif finding.family in {"shape", "errors"}:
        seen = re.sub(r"^.*(?= is not of types? )", "", finding.observed, flags=re.S)
        told = "" if cause == "further fields" else _without_names(finding, seen)[:80]
        cause = cause if finding.family == "errors" else ""
        if check == "errors.body":  # what each operation says alike of its refusals is said once, or copied
            asked = "/".join(finding.place.pointer.split("/")[-3:]) if finding.place is not None else asked
    return check, finding.role, finding.title, cause, asked, told


def operation_name(operation: Operation | None) -> tuple[tuple[str, str], ...]:
    return ((operation.method, operation.path),) if operation else ()
