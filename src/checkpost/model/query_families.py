"""Query parameters of JSON:API that stand for a family of names (JSON:API 1.1, 8.1)."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import replace

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of

#: The usual members of ``page``, of which a contract may tell in words (JSON:API 1.1, 8.3).
_STRATEGIES = (("number", "size"), ("limit", "offset"))


def with_families(operation: Operation, type_name: str, names: Collection[str]) -> Operation:
    """A list of documents of JSON:API without the parameters that name no more than a family of them (JSON:API 1.1,
    8.2 and 8.3): ``fields`` stands for ``fields[TYPE]``, with the type that an example has for fields of these
    ``names``, and ``page`` for ``page[…]``, whose members are each API's own."""
    found: list[Parameter] = []
    for parameter in operation.parameters:
        shape = shape_of(parameter.schema)
        text = shape.types <= {"string", "array"} and parameter.style != "deepObject"
        family = parameter.location == "query" and (text or (parameter.style == "deepObject" and not shape.properties))
        if family and parameter.name == "page":
            words = set(re.findall(r"[a-z]+", f"{said_of(parameter)} {shape.keywords} {shape_of(shape.item).keywords}"))
            named = next((each for each in _STRATEGIES if words.issuperset(each)), ())
            found += [replace(parameter, name=f"page[{each}]", style="", schema=None, examples=()) for each in named]
            continue
        if family and parameter.name == "fields":
            shown = [each for each in parameter.examples if isinstance(each, dict)]
            own = [
                str(kind)
                for each in shown
                for kind, listed in each.items()
                if set(names) & set(str(listed).split(",")) and kind not in names
            ]
            kind = own[0] if own and type_name not in own else type_name
            parameter = replace(parameter, name=f"fields[{kind}]", style="", schema=None, examples=())
        found.append(parameter)
    return replace(operation, parameters=tuple(found)) if tuple(found) != operation.parameters else operation
