"""What keeps changes at the same time apart: entity tags, versions, keys of creates that are sent again."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping
from dataclasses import dataclass, field

from checkpost.contract.contract import Operation
from checkpost.model.field import Reason
from checkpost.model.paths import normal
from checkpost.model.purpose import Purpose
from checkpost.model.shape import NOTHING, Shape, shape_of

_VERSIONS = (
    "version",
    "rowversion",
    "lockversion",
    "revision",
    "rev",
    "etag",
    "concurrencystamp",
    "xmin",
    "recordversion",
)
_SAID = re.compile(
    r"\boptimistic\b|\bconcurren|\bconflict|\bstale\b|\blost update|\block\b|\brow version\b|\bincremented\b"
    r"|\bcounts?\b.*\bchanges?\b|\bchanged? meanwhile\b|\bother version\b|\banother version\b|\bmust match\b",
    re.I,
)
_ONCE = ("idempotencykey", "xidempotencykey", "idempotencytoken", "xrequesttoken", "clienttoken")


_NOTHING = Reason("the contract has nothing of the kind", "likely")


@dataclass(frozen=True)
class Guards:
    """``tagged`` and ``matching`` name the operations whose answers have a documented ETag, and that take
    If-Match; ``needs_match`` those that refuse without it. ``rereads`` says that reads take If-None-Match,
    ``version`` names the field whose value an update sends back, ``once`` the header that tells a create
    which is sent again."""

    tagged: Collection[Purpose] = ()
    matching: Collection[Purpose] = ()
    needs_match: Collection[Purpose] = ()
    rereads: bool = False
    version: str = ""
    needs_version: bool = False
    once: str = ""
    needs_once: bool = False
    reason: Reason = field(default=_NOTHING)


def guards_of(operations: Mapping[Purpose, Operation], bodies: Mapping[str, Shape]) -> Guards:
    """What the contract documents; ``bodies`` holds the shapes of the writes' records."""
    tagged: list[Purpose] = []
    matching: list[Purpose] = []
    needed: list[Purpose] = []
    for purpose, operation in operations.items():
        headers = {each.name.lower(): each for each in operation.parameters if each.location == "header"}
        statuses = {each.status for each in operation.responses}
        if any(header.name.lower() == "etag" for each in operation.success() for header in each.headers):
            tagged.append(purpose)
        if purpose in {"update", "replace", "delete"} and ("if-match" in headers or "412" in statuses):
            matching.append(purpose)
            if "428" in statuses or ("if-match" in headers and headers["if-match"].required):
                needed.append(purpose)
    read, create = operations.get("read"), operations.get("create")
    rereads = read is not None and (
        any(each.location == "header" and each.name.lower() == "if-none-match" for each in read.parameters)
        or any(each.status == "304" for each in read.responses)
    )
    once = next(
        (
            each
            for each in (create.parameters if create else ())
            if each.location == "header" and normal(each.name) in _ONCE
        ),
        None,
    )
    version, needs_version = _version(bodies)
    found = ["ETag" if tagged else "", "If-Match" if matching else "", "If-None-Match" if rereads else "", version]
    found.append(once.name if once else "")
    named = [each for each in found if each]
    return Guards(
        tuple(tagged),
        tuple(matching),
        tuple(needed),
        rereads,
        version,
        needs_version,
        once.name if once else "",
        bool(once and once.required),
        Reason(f"the contract has {', '.join(named)}", "stated") if named else _NOTHING,
    )


def _version(bodies: Mapping[str, Shape]) -> tuple[str, bool]:
    """The member of the update's body that says which version is changed, and whether it has to be there."""
    for purpose in ("update", "replace"):
        shape = bodies.get(purpose, NOTHING)
        for name, node in shape.properties.items():
            words = shape_of(node).keywords
            said = str(words.get("description", ""))
            usual = normal(name) in _VERSIONS[1:] or (normal(name) == "version" and _SAID.search(said))
            if usual and words.get("readOnly") is not True and shape_of(node).types <= {"integer", "string"}:
                return name, name in shape.required
    return "", False
