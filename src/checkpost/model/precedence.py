"""Which tables come before which: those that a table's rows refer to get theirs first."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable

from checkpost.model.relation import Relation
from checkpost.model.resource import Model, Resource


def reached(start: str, onward: Callable[[str], Iterable[str]]) -> set[str]:
    """The tables that one leads to, straight or by others between; itself only where a way leads back."""
    found: set[str] = set()
    waiting = [start]
    while waiting:
        new = set(onward(waiting.pop())) - found
        found |= new
        waiting += new
    return found


def stands_on(model: Model) -> dict[str, frozenset[str]]:
    """For each table, those it refers to in which a row can be made before its own first one. Of tables that refer to
    each other one comes first, that whose rows need not refer to the other's if there is one."""
    straight: dict[str, set[str]] = defaultdict(set)
    edges = [(each, relation) for each in model.resources for relation in each.relations]
    for resource, relation in sorted(edges, key=lambda each: not is_required(*each)):
        target = model.resource(relation.resource)
        if target is None or not is_made(resource) or not is_made(target):
            continue
        if resource.name not in {target.name, *reached(target.name, straight.__getitem__)}:
            straight[resource.name].add(target.name)
    return {name: frozenset(tables) for name, tables in straight.items() if tables}


def is_required(resource: Resource, relation: Relation) -> bool:
    field = resource.field(relation.field)
    return field is not None and field.required and not field.nullable


def is_made(resource: Resource) -> bool:
    """Whether rows can be made there, and removed again."""
    return {"create", "delete"} <= set(resource.operations)
