"""From a contract to a model of the data API behind it."""

from __future__ import annotations

import re
from collections.abc import Container, Mapping, Sequence
from dataclasses import replace
from typing import Any

from checkpost.contract.contract import Contract, Operation
from checkpost.contract.node import Node
from checkpost.model.actions import action_families, with_lists_beside
from checkpost.model.bins import purge_of, removals, restore_of
from checkpost.model.bulk import bulk_of
from checkpost.model.choices import choices_of
from checkpost.model.constants import constants_of
from checkpost.model.correction import Correction
from checkpost.model.doing import DOES, TELLS_WHO, without_doing
from checkpost.model.doubts import doubts_of, folded_doubts, unlisted_doubts
from checkpost.model.drafting import drafted
from checkpost.model.expansions import with_expansions
from checkpost.model.field import Reason
from checkpost.model.keys import KEY_NAMES
from checkpost.model.linkages import linkages_of
from checkpost.model.nearby import Nearby
from checkpost.model.paths import Family, families, nameless, nested_families, normal, singular
from checkpost.model.paths import parameters as path_parameters
from checkpost.model.paths import plain as plain_path
from checkpost.model.relations import directory_of, relations_of, with_hyperlinks, with_numbers
from checkpost.model.resource import Key, Model, Resource, Subcollection
from checkpost.model.subcollections import subcollections_of

#: Parts of a path behind which functions stand.
_CALLS = frozenset(
    {"rpc", "function", "functions", "procedure", "procedures", "call", "calls", "exec", "execute", "invoke", "fn"}
)
_LOGS = re.compile(r"/(log|sign)[-_]?(in|out|off|on)\b|/(token|auth|session|logout|login)s?(/|$)", re.I)
#: Parameters that stand for a field and for no row.
_FIELDS = frozenset({"field", "fieldname", "column", "columnname", "attribute", "attributename"})
_NONE = Correction()


def infer(
    contract: Contract,
    corrections: Mapping[str, Correction] | None = None,
    parameters: Mapping[str, Any] | None = None,
    queries: Mapping[str, Any] | None = None,
    rows: Mapping[str, Node] | None = None,
) -> Model:
    """What the contract exposes, with the profile's corrections; every inference has its reason.
    ``parameters`` gives required parameters their values, ``queries`` says how every list is queried, ``rows`` has
    the schemas of rows that the contract itself does not describe."""
    corrections = corrections or {}
    stated = {
        name: Family(name, each.collection, each.item)
        for name, each in corrections.items()
        if each.collection or each.item
    }
    taken = {path for family in stated.values() for path in (family.collection, family.item) if path}
    acted = action_families(each for each in contract.operations if each.path not in taken)
    own_paths = {path for family in acted for _, path in family.acts.values()} | taken
    reads = without_doing(contract.operations)
    safe = {each.place for each in reads}
    by_path = _by_path([each for each in contract.operations if each.place in safe or each.path in own_paths])
    merged = {_alike(path): path for path in by_path}

    def at(path: str | None) -> str | None:
        return merged.get(_alike(path), path) if path is not None else None

    stated = {
        name: replace(family, collection=at(family.collection), item=at(family.item)) for name, family in stated.items()
    }
    nearby = Nearby(reads)
    resources: dict[str, Resource] = {}
    for family in _families(acted, own_paths, by_path, stated):
        correction = corrections.get(family.name, _NONE)
        correction = replace(correction, queries={**(queries or {}), **correction.queries})
        known = (rows or {}).get(family.name)
        resource = None if correction.skip else drafted(family, by_path, nearby, correction, parameters or {}, known)
        placed = _placed(resource, family, resources) if resource is not None else None
        if placed is not None:
            resources[family.name] = placed
    aggregated: dict[str, set[str]] = {}
    for name, resource in resources.items():
        if resource.queries.aggregating:
            aggregated.setdefault(resource.queries.aggregating.path, set()).add(name)
    items = {nameless(plain_path(each.item)) for each in resources.values() if each.item}
    lists = {plain_path(each.collection) for each in resources.values() if each.collection}
    resources = {
        name: each
        for name, each in resources.items()
        if not (set(each.operations) == {"list"} and (_beside(each, aggregated) or _among_rows(each, items)))
        and not (set(each.operations) == {"read"} and (_by_another_field(each, lists) or _names_a_field(each)))
    }
    directory = directory_of(resources)
    for name, resource in resources.items():
        said = corrections.get(name, _NONE)
        relations = relations_of(resource, resources, said.references, directory, said.addressed, said.numbered)
        related = with_numbers(replace(resource, relations=tuple(relations)), resources, said.numbered)
        resources[name] = with_hyperlinks(related, resources, said.addressed)

    def view(name: str, path: str) -> Resource | None:
        said = Correction(queries=queries or {})
        for family in (Family(name, path, None), Family(name, None, path)):
            seen = drafted(family, by_path, nearby, said, parameters or {})
            if seen is not None:
                return seen
        return None

    # of what stands under rows of another, no more than a part is ever seen at once
    whole = {name: each for name, each in resources.items() if not each.under}
    binned = removals(contract.operations)
    resources = {name: with_expansions(each, whole) for name, each in resources.items()}
    for name, resource in resources.items():
        under = subcollections_of(resource, whole, nearby, view)
        found = tuple(replace(each, view=_without(each.view, resources[each.child])) for each in under)
        found = tuple(
            replace(each, view=replace(each.view, purge=purge_of(each.view, nearby, binned))) for each in found
        )
        linkages = tuple(linkages_of(resource, whole, nearby))
        taken_apart = {operation.place for each in linkages for operation in each.writes.values()}
        resources[name] = replace(
            resource,
            subcollections=tuple(_without_links(each, taken_apart) for each in found),
            linkages=linkages,
            bulk=bulk_of(resource, nearby),
            purge=purge_of(resource, nearby, binned),
            restore=restore_of(resource, nearby),
        )
    used = {operation.place for each in resources.values() for operation in each.every_operation}
    used |= {each.place for each in contract.operations if each.method == "GET" and each.path in aggregated}
    lacking = {operation.place: constants_of(operation, parameters or {}).lacking for operation in contract.operations}
    others = tuple(
        (
            operation,
            _why_other(operation, corrections, lacking.get(operation.place, ())) if operation.place in safe else DOES,
        )
        for operation in contract.operations
        if operation.place not in used
    )
    doubts = (*folded_doubts(contract), *unlisted_doubts(contract, resources), *doubts_of(resources))
    return Model(tuple(resources.values()), others, doubts)


def _by_path(operations: Sequence[Operation]) -> dict[str, dict[str, Operation]]:
    """Operations by path and method. Paths that differ in the names of their parameters alone are one (OpenAPI 3.1,
    4.8.8.2), and so are those that differ in a slash at their end: what the one with the most methods does not have is
    taken from the others. Each operation keeps its own path."""
    by_path: dict[str, dict[str, Operation]] = {}
    for operation in operations:
        by_path.setdefault(operation.path, {})[operation.method] = operation
    alike: dict[str, list[str]] = {}
    for path in by_path:
        alike.setdefault(_alike(path), []).append(path)
    for paths in alike.values():
        named = [path for path in paths if not _DEED.search(path)] or paths

        def order(path: str) -> tuple[int, bool, bool]:
            """The path of the most methods goes first, and of such one that ends with what keys are called."""
            return -len(by_path[path]), "GET" not in by_path[path], not _ENDS_WITH_KEY.search(path)

        first, *others = sorted(named, key=order)
        for path in others:
            by_path[first] = {**by_path.pop(path), **by_path[first]}
        for path in set(paths) - set(named):
            del by_path[path]
    return by_path


#: A parameter at the end of a path that is called as keys are.
_ENDS_WITH_KEY = re.compile(rf"\{{(?:{'|'.join(KEY_NAMES)}|\w+(?:_id|Id|_pk|_key))\}}/?$")
#: A parameter at the end of a path that stands for something to do, and not for a row.
_DEED = re.compile(r"\{\w*(?:action|method|verb|command)\w*\}/?$", re.I)


def _alike(path: str) -> str:
    """A path as all that stand for the same thing are written."""
    return nameless(plain_path(path))


def _without(view: Resource, child: Resource) -> Resource:
    """A resource as another path shows it, with the child's own understanding of what rows hold."""
    names = {each.name for each in child.fields}
    fields = tuple(each for each in view.fields if each.name in names) or child.fields
    return replace(view, fields=fields, embedded=child.embedded, nested=child.nested)


def _without_links(sub: Subcollection, taken: Container[object]) -> Subcollection:
    """A list under a row without what brings rows together there and makes none."""
    own = {purpose: each for purpose, each in sub.view.operations.items() if each.place not in taken}
    return replace(sub, view=replace(sub.view, operations=own)) if len(own) < len(sub.view.operations) else sub


def _beside(resource: Resource, aggregated: Mapping[str, set[str]]) -> bool:
    """Whether a list is another resource's aggregates."""
    return bool(aggregated.get(resource.collection or "", set()) - {resource.name})


def _by_another_field(resource: Resource, lists: Container[str]) -> bool:
    """Whether what reads one row is another way to read a row of a list, as ``/lots/by-code/{code}`` beside
    ``/lots``."""
    head, _, key = plain_path(resource.item or "").rpartition("/")
    above, _, word = head.rpartition("/")
    return above in lists and normal(word).removeprefix("by") in {normal(each) for each in path_parameters(key)}


def _names_a_field(resource: Resource) -> bool:
    """Whether what seems to read a row tells something of a field, which its path names: ``/lots/group/{field}``."""
    last = path_parameters(resource.item)[-1]
    read = resource.operations["read"]
    listed = any(each.location == "path" and each.name == last and choices_of(each) for each in read.parameters)
    return listed or normal(last) in _FIELDS


def _among_rows(resource: Resource, items: Container[str]) -> bool:
    """Whether a list without keys stands where another resource's rows do, as ``/lots/choices`` beside
    ``/lots/{id}``: it tells something of that resource."""
    head = (resource.collection or "").rstrip("/").rpartition("/")[0]
    return resource.key is None and f"{head}/{{}}" in items


def _why_other(operation: Operation, corrections: Mapping[str, Correction], lacking: tuple[str, ...]) -> str:
    if lacking:
        return f"its required parameter {lacking[0]} has no known value; the profile can give one under 'parameters'"
    if any(
        each.skip and operation.path.strip("/").split("/")[0] == name.strip("/") for name, each in corrections.items()
    ):
        return "the profile skips this resource"
    if _CALLS & {part.lower() for part in operation.path.split("/")}:
        return "it calls a function"
    if _LOGS.search(operation.path) and not (operation.method == "GET" and TELLS_WHO.search(operation.path)):
        return "it logs in or out"
    if path_parameters(operation.path) and "}/" in operation.path:
        return "it is nested under another resource"
    return "it is not list, create, read, replace, update or delete of a resource"


def _families(
    acted: Sequence[Family],
    used: Container[str],
    by_path: Mapping[str, Mapping[str, Operation]],
    stated: Mapping[str, Family],
) -> list[Family]:
    """The families of a contract: those named for what they do (``acted``, whose paths are ``used``), then lists and
    items, then what stands under those."""
    named = {path for family in stated.values() for path in (family.collection, family.item)}
    free = [path for path in by_path if path in named or path not in used]
    plain_ones = [*with_lists_beside(families(free, stated), by_path)]
    # what has lists and rows in the usual way may have paths for actions beside them
    whole = [each for each in plain_ones if each.item or len(by_path.get(each.collection or "", ())) > 1]
    usual = {normal(singular(word)) for each in whole for word in (each.name, each.name.rpartition("/")[2])}
    acted = [each for each in acted if normal(singular(each.name)) not in usual]
    above = [*plain_ones, *acted]
    posted = {path for path, methods in by_path.items() if "POST" in methods}
    return [*above, *nested_families([path for path in by_path if path not in used], above, posted)]


def _placed(resource: Resource, family: Family, others: Mapping[str, Resource]) -> Resource | None:
    """A resource whose paths stand under another's rows: the key of that row is the first part of its own. None where
    nothing tells which rows those are."""
    if not family.under:
        return resource
    above = others.get(family.under)
    if above is None or above.key is None:
        return None
    if resource.key is None:
        return replace(resource, under=above.name)
    stem = normal(singular(above.name))
    fields, first = list(resource.fields), []
    for name in above.key.fields:
        wanted = {stem + normal(name), stem, normal(name) if normal(name).startswith(stem) else stem + "id"}
        own = next((each.name for each in fields if normal(each.name) in wanted), "")
        if not own:
            own = f"{singular(above.name)}_{name}"
            model = above.field(name)
            assert model is not None
            fields.append(
                replace(model, name=own, created=False, updated=False, replaced=False, required=False, shown=False)
            )
        first.append(own)
    key = resource.key
    rest = tuple(name for name in key.fields if name not in first)[-1:]
    parameters = path_parameters(resource.item)
    fields = [
        replace(each, unique=False, updated=False, replaced=False) if each.name in first else each for each in fields
    ]
    whole = Key((*first, *rest), parameters, key.assigned_by, Reason(f"it is under {above.name}", "stated"))
    return replace(resource, key=whole, fields=tuple(fields), under=above.name)
