"""Which paths belong together: a collection, and the items in it."""

from __future__ import annotations

import re
from bisect import bisect_left
from collections import Counter
from collections.abc import Collection, Container, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache

import inflection

from checkpost.model.address import Address
from checkpost.model.members import MEMBER

_STYLE = re.compile(r"[^a-z0-9]+")
#: An object that holds what pages are asked by, each member as a parameter: ``pagination[page]``.
_PAGER = re.compile(r"^(?:pagination|paginate|paging|pager)\[(\w+)\]$", re.I)
PARAMETER = re.compile(r"\{([^}/]+)\}")
#: The part of an item path behind its collection: ``/{a}/{b}``, ``/id/{id}``, ``({id})``.
_SUFFIX = re.compile(r"(?:/(?:[^/{}]+/)?\{[^}/]+\})+|\([^(){}]*\{[^}]+\}[^()]*\)")


#: A verb of its own behind a path (``/lots:batchGet``, ``/lots/{id}:archive``): no list and no row.
_VERB = re.compile(r":[a-z]+(?:[A-Z][a-z]+)*/?$")


#: What the last word of a list's path may say of its rows, where the one before names them.
ROWS = frozenset({"rows", "records", "items", "entries", "documents", "data"})


@dataclass(frozen=True)
class Family:
    """A collection's path and the path of one item in it; either may be missing. ``acts`` are operations at paths of
    their own, by purpose, and ``addresses`` how they name a row; ``under`` is the item path that all of it stands
    under, where it stands nowhere else."""

    name: str
    collection: str | None
    item: str | None
    acts: Mapping[str, tuple[str, str]] = field(default_factory=dict, hash=False)
    addresses: Mapping[str, Address] = field(default_factory=dict, hash=False)
    under: str = ""


def parameters(path: str | None) -> tuple[str, ...]:
    """The names of a path template's parameters, in order."""
    return tuple(PARAMETER.findall(path or ""))


def nameless(path: str) -> str:
    """A path without the names of its parameters: paths that have the same are one (OpenAPI 3.1, 4.8.8.2)."""
    return PARAMETER.sub("{}", path)


def plain(path: str) -> str:
    return path.rstrip("/") or "/"


@cache
def normal(name: str) -> str:
    """A name without case style: ``SpeciesId``, ``species-id`` and ``species_id`` are one; of the member of an object
    its own name."""
    return _STYLE.sub("", _PAGER.sub(r"\1", name.rpartition(MEMBER)[2]).lower())


@cache
def singular(name: str) -> str:
    """The singular of a name's last word, in snake case."""
    return str(inflection.singularize(inflection.underscore(name.replace("-", "_"))))


def beginning_with(ranked: Sequence[str], head: str) -> Sequence[str]:
    """Those of sorted texts that begin with ``head``, without looking at the others."""
    first = bisect_left(ranked, head)
    return ranked[first : bisect_left(ranked, head + "\U0010ffff", lo=first)]


def _item_of(collection: str, path: str) -> bool:
    rest = path[len(collection) :]
    if not path.startswith(collection) or not _SUFFIX.fullmatch(rest):
        return False
    literals = [part for part in rest.split("/")[1:] if part and "{" not in part]
    # ``/vaults/{code}/accessions/{id}`` is nested, ``/books/id/{id}`` names the key's field
    return not literals or (rest.count("/") == 2 * len(literals) and _names_keys(rest))


def _pairs(rest: str) -> list[tuple[str, str]]:
    """Of a path ``/a/{x}/b/{y}`` the literal and the parameter of each pair, as normal names."""
    parts = rest.split("/")[1:]
    return [(normal(name), normal(value.strip("{}"))) for name, value in zip(parts[::2], parts[1::2], strict=False)]


def _names_keys(rest: str) -> bool:
    return all(name == value for name, value in _pairs(rest))


def _composite(collection: str, path: str, every: Container[str]) -> bool:
    """Whether a path names an item by several keys, each behind a word for it:
    ``/sightings/bird/{birdId}/place/{placeId}``. The first word is no list of its own then."""
    rest = path[len(collection) :]
    if not path.startswith(collection) or not re.fullmatch(r"(?:/[^/{}]+/\{[^}/]+\}){2,}", rest):
        return False
    first = rest.split("/")[1]
    alone = f"{collection}/{first}" not in every and f"{collection}/{first}/" not in every
    return alone and all(value.startswith(singular(name).replace("_", "")) for name, value in _pairs(rest))


def families(paths: Collection[str], stated: Mapping[str, Family]) -> list[Family]:
    """The collections and items among the paths of a contract.

    ``stated`` holds what the profile says; its paths are not looked at again. Paths nested under a
    parameter (sub-collections) and paths that are neither are left out.
    """
    taken = {path for family in stated.values() for path in (family.collection, family.item) if path}
    every = set(paths)
    free = [path for path in paths if path not in taken and not _VERB.search(path)]
    collections = [path for path in free if not parameters(path)]
    found: list[Family] = list(stated.values())
    ranked = sorted(free)
    for collection in collections:
        base = plain(collection)
        items = [
            path
            for path in beginning_with(ranked, base)
            if parameters(path)
            and (_item_of(base, plain(path)) or (base != "/" and _composite(base, plain(path), every)))
        ]
        # a composite key's longer path is an item too; the shortest is taken where both are there
        item = min(items, key=lambda path: (len(parameters(path)), len(path)), default=None)
        found.append(Family(_last_word(collection), collection, item))
    found = [family for family in found if family in stated.values() or not _tells_of_tables(family, ranked)]
    owned = {family.item for family in found}
    for path in free:
        if path in owned or not parameters(path) or not path.rstrip(")").endswith("}"):
            continue
        head = PARAMETER.split(path)[0].rstrip("/(")
        if head not in map(plain, collections) and _SUFFIX.fullmatch(path[len(head) :]) and head:
            found = _with_item(found, head, path)
    return _distinct(found)


def _tells_of_tables(family: Family, ranked: Sequence[str]) -> bool:
    """Whether what a list holds are tables, whose rows stand under their names: ``/tables`` beside
    ``/tables/species/rows``."""
    base = plain(family.collection or "") + "/"
    lists = [path for path in beginning_with(ranked, base) if not parameters(path)]
    under = [plain(path).removeprefix(base).split("/") for path in lists]
    return any(len(parts) == 2 and parts[1].lower() in ROWS for parts in under)


def _with_item(found: list[Family], head: str, path: str) -> list[Family]:
    """The families with an item path whose collection is not spelled like it: that of ``/accessions`` may be
    ``/accession/{id}``. Else it is one by itself."""
    before, word = head.rpartition("/")[0], normal(singular(_last_word(head)))
    for place, each in enumerate(found):
        own = plain(each.collection or "")
        alike = own.rpartition("/")[0] == before and normal(singular(each.name)) == word
        if alike and each.item is None and each.collection and not each.acts:
            return [*found[:place], replace(each, item=path), *found[place + 1 :]]
    return [*found, Family(_last_word(head), None, path)]


def nested_families(
    paths: Iterable[str], known: Iterable[Family], posted: Container[str] = frozenset()
) -> list[Family]:
    """Collections that stand under the items of others and nowhere else, as ``/vaults/{code}/accessions`` does where
    there is no ``/accessions``; with their items. So do those that are only read elsewhere, and made there: at paths
    that are ``posted`` to."""
    every, families_ = list(paths), list(known)
    names = {normal(singular(each.name)) for each in families_}
    read = {normal(singular(each.name)) for each in families_ if each.collection and each.collection not in posted}
    found: list[Family] = []
    ranked = sorted(every)
    for above in [each for each in families_ if each.item]:
        base = plain(above.item or "")
        for path in beginning_with(ranked, PARAMETER.split(base)[0]):
            rest = nameless(plain(path)).removeprefix(nameless(base))
            if nameless(plain(path)) == rest or not re.fullmatch(r"/[^/{}]+", rest):
                continue
            behind = beginning_with(ranked, plain(path))
            items = [each for each in behind if _item_of(plain(path), plain(each)) and parameters(each)]
            word = _last_word(path)
            if items and normal(singular(word)) not in names:
                names.add(normal(singular(word)))
                found.append(Family(word, path, min(items, key=len), under=above.name))
            elif items and normal(singular(word)) in read and path in posted:
                read.discard(normal(singular(word)))
                found.append(Family(f"{above.name}/{word}", path, min(items, key=len), under=above.name))
    return found


def _last_word(path: str) -> str:
    words = [part for part in path.split("/") if part and "{" not in part]
    return words[-1] if words else path


def _word_before(family: Family) -> str:
    """The word of a path before one that says no more than that there are rows; empty where it says more."""
    words = [part for part in (family.collection or "").split("/") if part]
    return words[-2] if len(words) > 1 and words[-1].lower() in ROWS and "{" not in words[-2] else ""


def _distinct(found: list[Family]) -> list[Family]:
    """Names told apart by more of their path where two collections end alike; ``/tables/species/rows`` are those of
    the species."""
    counts = Counter(family.name for family in found)
    shorter = {family: _word_before(family) for family in found if counts[family.name] > 1}
    taken = Counter([*shorter.values(), *(name for name, number in counts.items() if number == 1)])
    found = [
        replace(family, name=shorter[family]) if shorter.get(family) and taken[shorter[family]] == 1 else family
        for family in found
    ]
    counts = Counter(family.name for family in found)
    ends = Counter(end for family in found if counts[family.name] > 1 for end in _ends(family))
    return [
        family
        if counts[family.name] == 1
        else replace(family, name=next((end for end in _ends(family) if ends[end] == 1), _ends(family)[-1]))
        for family in found
    ]


def _ends(family: Family) -> list[str]:
    """The last parts of a family's path, from two on to the whole."""
    parts = [part for part in (family.collection or family.item or "").split("/") if part]
    return ["/".join(parts[-count:]) for count in range(min(2, len(parts)), len(parts) + 1)]
