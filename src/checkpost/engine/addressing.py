"""Going on with other keys, where rows turned out to be found by other fields than the contract says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from checkpost.checks.state import State
from checkpost.checks.world import World
from checkpost.engine.plan import Planned
from checkpost.engine.preflight import look_above
from checkpost.engine.target import Target, inferred
from checkpost.model.correction import Correction
from checkpost.model.relation import Relation
from checkpost.model.resource import Model, Resource


def with_keys(target: Target, keys: Mapping[str, str]) -> Target:
    """A target whose rows are found by these fields, by resource."""
    if not keys:
        return target
    stated = {**target.settled, **target.profile.resources}
    for name, key in keys.items():
        stated[name] = replace(stated.get(name, Correction()), key=(key,), shown_key=None)
    model = inferred(target.contract, target.profile, stated, target.rows)
    by_name = {each.name: each for each in model.resources}

    def fits(own: Resource, relation: Relation) -> bool:
        """Whether a reference can hold the other key: it may still be by the documented one."""
        other = by_name.get(relation.resource)
        if relation.resource not in keys or other is None or other.key is None:
            return True
        fields = own.field(relation.field), other.field(other.key.fields[0])
        return all(fields) and bool(fields[0].types & fields[1].types)  # type: ignore[union-attr]

    fitting = tuple(
        replace(each, relations=tuple(relation for relation in each.relations if fits(each, relation)))
        for each in model.resources
    )
    return replace(target, model=replace(model, resources=fitting))


async def readdress(target: Target, planned: Sequence[Planned], world: World) -> list[Planned]:
    """What is to be asked of the resources whose rows have other keys, with these, and of those that stand under their
    rows. What was found of them is forgotten, but for how their rows are found; the run's own rows go on under their
    other keys."""
    keys = world.readdressed
    model = with_keys(target, keys).model
    if [each.name for each in model.resources] != [each.name for each in world.model.resources]:
        return []
    for name in keys:
        await _rekey(world, model, name)
    under = {each.name for each in model.resources if each.under in keys}
    world.model = model
    for name in under:
        world.states.pop(name, None)
        world.above.pop(name, None)
    await look_above(world, [each for each in model.resources if each.name in under and "list" in each.operations])
    for name in under & world.above.keys():
        resource = model.resource(name)
        assert resource is not None
        world.state(name).before = await world.client(resource).whole_list(world.most_rows, "read.list")
    concerned = {*keys, *under}
    if world.behind is not None:
        world.behind.pair_with(model)
    kept = world.findings.by_key
    world.findings.by_key = {
        key: each for key, each in kept.items() if each.resource not in concerned or ":addressed by" in each.cause
    }
    by_name = {each.name: each for each in model.resources}
    return [replace(each, resource=by_name[each.resource.name]) for each in planned if each.resource.name in concerned]


async def _rekey(world: World, model: Model, name: str) -> None:
    resource, old = model.resource(name), world.model.resource(name)
    assert resource is not None and old is not None
    client, before_client = world.plain_client(resource), world.plain_client(old)
    before = world.state(name).before
    now = await before_client.whole_list(world.most_rows, "read.list")
    if before is not None:
        before = replace(
            before, by_key={key: row for row in before.rows if (key := client.key_of(row)) is not None}, repeated=()
        )
    pairs = ((before_client.key_of(row), client.key_of(row)) for row in now.rows)
    keys = {one: other for one, other in pairs if one is not None and other is not None}
    if world.ledger is not None:
        world.ledger.rekey(name, world.readdressed[name], keys, before)
    world.states[name] = State(before=before)
