"""Rows that were deleted and are kept: the paths that list them, bring them back, and remove them for good."""

from __future__ import annotations

import re
from collections.abc import Container, Iterable, Sequence

from checkpost.contract.contract import Operation
from checkpost.model.nearby import Nearby
from checkpost.model.operations import body_schema
from checkpost.model.paths import PARAMETER, nameless, parameters, plain
from checkpost.model.resource import Resource
from checkpost.model.shape import shape_of

#: What a path for rows that were deleted is called.
_BINS = re.compile(r"(?:soft[-_]?)?deleted|trash(?:ed|[-_]?bin)?|(?:recycle[-_]?)?bin|removed|archived?", re.I)
#: What a path under a row is called that brings back the row that was deleted.
_BACK = re.compile(r"restore|un[-_]?(?:delete|remove|trash|archive)|recover|undo[-_]?(?:delete|remove)|revive", re.I)
#: What a path under a row is called that removes the row for good, where deleting it keeps it.
_FOR_GOOD = re.compile(
    r"(?:hard|force|permanent(?:ly)?)[-_]?(?:delete|remove|destroy)|(?:delete|remove|destroy)[-_]?"
    r"(?:hard|force|permanent(?:ly)?)|permanent(?:ly)?|force|purge|erase|wipe",
    re.I,
)
#: What is said of a path under a row that removes it for good.
_OUT_OF_IT = re.compile(r"\bpermanent(?:ly)?\b|\bfor good\b|\bfrom (?:the )?(?:trash|bin|recycle bin)\b", re.I)


def lists_deleted(path: str, collection: str) -> bool:
    """Whether a path is that of a list of the deleted rows of a collection: behind its path, or ending in its name
    among words for such (``/lots/deleted``, ``/trash/lots``)."""
    parts, own = plain(path).split("/"), plain(collection)
    if plain(path) == own:
        return False
    behind = "/".join(parts[:-1]) == own and _BINS.fullmatch(parts[-1])
    return bool(behind or (parts[-1] == own.rpartition("/")[2] and any(map(_BINS.fullmatch, parts[:-1]))))


def restore_of(resource: Resource, operations: Nearby) -> Operation | None:
    """What brings back a row that was deleted."""
    return _under_row(resource, operations, {"POST", "PUT", "PATCH"}, _BACK)


def removals(operations: Iterable[Operation]) -> list[Operation]:
    """The DELETEs of a row among those that were deleted, of any table."""
    every = [each for each in operations if each.method == "DELETE" and plain(each.path).endswith("}")]
    return [each for each in every if any(map(_BINS.fullmatch, each.path.split("/")))]


def purge_of(resource: Resource, operations: Nearby, among: Sequence[Operation]) -> Operation | None:
    """What removes for good what was deleted and is kept: a path under the row that is named so, or that tells so; else
    the path of a row ``among`` those that were deleted (``/trash/lots/{id}``, ``/archive/{lot_id}``; see
    ``removals``)."""
    found = _under_row(resource, operations, {"DELETE"}, _FOR_GOOD)
    if found is not None or resource.item is None or "delete" not in resource.operations:
        return found
    found = _under_row(resource, operations, {"DELETE"}, _BINS)
    told = [found.summary, found.description, *(each.description for each in found.responses)] if found else []
    if found is not None and _OUT_OF_IT.search("\n".join(told)):
        return found
    own, word = parameters(resource.item)[-1:], plain(resource.collection or "").rpartition("/")[2]
    for operation in among if own else ():
        of_it = own[0] not in {"id", "key"} or word in operation.path.split("/")
        if parameters(operation.path) == own and of_it and not operation.path.startswith(resource.item):
            return operation
    return None


def _under_row(
    resource: Resource, operations: Nearby, methods: Container[str], words: re.Pattern[str]
) -> Operation | None:
    """What a word under a row's path does with what was deleted and is kept, where its body need hold nothing."""
    if resource.item is None or "delete" not in resource.operations:
        return None
    item = nameless(plain(resource.item))
    for operation in operations.beginning(PARAMETER.split(resource.item)[0]):
        head, _, word = nameless(plain(operation.path)).rpartition("/")
        needed = shape_of(body_schema(operation)).required
        if operation.method in methods and head == item and words.fullmatch(word) and not needed:
            return operation
    return None
