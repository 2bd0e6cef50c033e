"""The values that a parameter takes, and what joins several."""

from __future__ import annotations

import re

from checkpost.contract.contract import Parameter
from checkpost.model.said import COMMAS, said_of
from checkpost.model.shape import Shape, shape_of
from checkpost.model.spelling import AS_JSON, AS_MEMBERS

#: Parameters that choose the fields of rows.
SELECTS = (
    "select",
    "fields",
    "columns",
    "properties",
    "attributes",
    "only",
    "includefields",
    "projection",
    "projections",
)


def choices_of(parameter: Parameter) -> list[str]:
    """The values that the contract lists for a parameter, or for the items of one that is an array."""
    shape = shape_of(parameter.schema)
    listed = _listed(shape) or _listed(shape_of(shape.item))
    return [str(each) for each in listed]


def _listed(shape: Shape) -> list[object]:
    """The values that a schema lists, one alone as a constant among them."""
    words = shape.keywords
    return list(words.get("enum") or ([words["const"]] if "const" in words else []))


def joined_by(parameter: Parameter) -> str | None:
    """What joins names: as ``separator_of``, or a list or an object in JSON where words, examples or the default show
    one."""
    default = shape_of(parameter.schema).keywords.get("default")
    if default == "{}" or re.search(r"\{\s*\\?\"\w+\\?\"\s*:\s*(?:1|true)\b", said_of(parameter)):
        return AS_MEMBERS
    if default == "[]" or re.search(r"\[\s*\\?\"\w", said_of(parameter)):
        return AS_JSON
    return separator_of(parameter)


def separator_of(parameter: Parameter) -> str | None:
    """What joins several values, by words or its style; None where the parameter is repeated (OpenAPI 3.1, 4.8.12)."""
    if not shape_of(parameter.schema).is_array or re.search(COMMAS, said_of(parameter), re.I):
        return ","
    joins = {"spaceDelimited": " ", "pipeDelimited": "|"}
    return None if parameter.explode else joins.get(parameter.style, ",")
