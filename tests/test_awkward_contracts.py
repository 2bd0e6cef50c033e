"""Small contracts as generators really make them, each with the model that is to come of it (``x-expected``)."""

from __future__ import annotations

import unittest
from pathlib import Path
from typing import Any

from checkpost.contract.contract import Contract
from checkpost.contract.reader import read_contract
from checkpost.engine.target import addresses, understood
from checkpost.model.flaws import flaws
from checkpost.model.media import request_media_type
from checkpost.model.resource import Model, Resource
from checkpost.model.spelling import ANY
from checkpost.profile.profile import Profile

FOLDER = Path(__file__).parent / "contracts"
Json = dict[str, Any]


def of_contract(contract: Contract, model: Model) -> Json:
    return {
        "servers": addresses(contract, {}),
        "others": [str(operation) for operation, _ in model.others],
        "why": {str(operation): why for operation, why in model.others},
        "doubts": [each.settle for each in model.doubts],
        "flaws": sorted({each.kind for each in flaws(contract, model)}),
        "every_flaw": sorted({each.kind for each in flaws(contract, model)}),
    }


def of_resource(resource: Resource) -> Json:
    """What is understood of a resource, by the words that the contracts expect it in."""
    fields, envelope = resource.fields, resource.envelope
    create = resource.operations.get("create")
    only, names = resource.queries.filterings[:1], [each.name for each in fields]
    return {
        "operations": sorted(resource.operations),
        "paths": {purpose: str(operation) for purpose, operation in resource.operations.items()},
        "collection": resource.collection,
        "item": resource.item,
        "key": list(resource.key.fields) if resource.key else None,
        "assigned": resource.key.assigned_by if resource.key else None,
        "rows": envelope.rows,
        "row": envelope.row,
        "body": envelope.body,
        "total": envelope.total,
        "total_header": envelope.total_header,
        "keyed": envelope.keyed,
        "paging": resource.paging.style,
        "filter": resource.queries.filterings[0].form if len(resource.queries.filterings) == 1 else None,
        "limit": resource.paging.limit,
        "position": resource.paging.position,
        "largest": resource.paging.largest,
        "cursor": resource.paging.cursor,
        "cursor_at": resource.paging.cursor_at,
        "rows_too": list(envelope.rows_too),
        "descending": resource.queries.sortings[0].descending if len(resource.queries.sortings) == 1 else None,
        "selection": resource.queries.selecting.parameter if resource.queries.selecting else None,
        "selected": resource.queries.selecting.pairs(["place"])[0][1] if resource.queries.selecting else None,
        "tried_filters": sorted({each.form for each in resource.queries.filterings}),
        "first_condition": only[0].templates[ANY, "gt"] if only and (ANY, "gt") in only[0].templates else None,
        "counting": resource.queries.counting.parameter if resource.queries.counting else None,
        "aggregates": sorted(resource.queries.aggregating.functions) if resource.queries.aggregating else [],
        "measures": dict(resource.queries.aggregating.functions) if resource.queries.aggregating else {},
        "negation": only[0].negation if only else "",
        "embedded": [each.name for each in resource.embedded],
        "expands": sorted(resource.expansion.choices) if resource.expansion else [],
        "bulk": sorted(resource.bulk),
        "linked": [each.path for each in resource.subcollections if each.link is not None],
        "through": {each.child: each.through for each in resource.subcollections},
        "sort": resource.queries.sortings[0].parameter if len(resource.queries.sortings) == 1 else None,
        "operators": {name: sorted(filtering.operators(name)) for filtering in only for name in names},
        "templates": {
            f"{name} {operator}": text for filtering in only for (name, operator), text in filtering.templates.items()
        },
        "split": sorted(f"{name} {operator}" for filtering in only for name, operator in filtering.split),
        "certain": resource.key.reason.certainty if resource.key else None,
        "linkages": {each.name: each.many for each in resource.linkages},
        "direction": [each.direction for each in resource.queries.sortings if each.direction],
        "shown_under": [each.path for each in resource.subcollections],
        "inside": resource.layout.fields_at,
        "listed": sorted(resource.listed),
        "in_body": sorted(resource.in_body),
        "under": resource.under,
        "addresses": {purpose: list(each.query) for purpose, each in resource.addresses.items() if each.query},
        "bodies": {purpose: list(each.body) for purpose, each in resource.addresses.items() if each.body},
        "by_filter": sorted(resource.addresses),
        "headers": {purpose: dict(each.headers) for purpose, each in resource.constants.items() if each.headers},
        "media": request_media_type(create) if create else None,
        "partial_replace": resource.partial_replace,
        "relations": {each.field: each.resource for each in resource.relations},
        "fields": [each.name for each in fields],
        "created": [each.name for each in fields if each.created],
        "updated": [each.name for each in fields if each.updated],
        "required": [each.name for each in fields if each.required],
        "nullable": [each.name for each in fields if each.nullable],
        "unique": [each.name for each in fields if each.unique],
        "types": {each.name: each.type for each in fields},
        "kinds": {each.name: each.kind for each in fields},
    }


class Awkward(unittest.TestCase):
    maxDiff = None

    def test_there_are_enough_of_them(self) -> None:
        self.assertGreaterEqual(len(list(FOLDER.glob("*.yaml"))), 60)

    def test_each_is_understood(self) -> None:
        for file in sorted(FOLDER.glob("*.yaml")):
            with self.subTest(contract=file.name):
                contract = read_contract(str(file))
                expected = contract.library.documents[str(file)]["x-expected"]
                contract, model = understood(contract, Profile(FOLDER))
                self.holds(of_contract(contract, model), {k: v for k, v in expected.items() if k != "resources"})
                self.assertEqual({each.name for each in model.resources}, set(expected["resources"]))
                for resource in model.resources:
                    self.holds(of_resource(resource), expected["resources"][resource.name])

    def holds(self, found: Json, expected: Json) -> None:
        """Each thing that is expected is found; of flaws and types others may be there too."""
        for word, wanted in expected.items():
            got = found[word]
            if isinstance(wanted, dict):
                got = {name: got.get(name) for name in wanted}
            elif word == "flaws":
                got, wanted = sorted(set(got) & set(wanted)), sorted(wanted)
            self.assertEqual(got, wanted, word)


if __name__ == "__main__":
    unittest.main()
