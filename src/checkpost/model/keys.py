"""The primary key of a resource."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal

from checkpost.model.field import Field, Reason
from checkpost.model.paths import normal, parameters, singular
from checkpost.model.resource import Key

#: How the key of a row is usually called, the likeliest first.
KEY_NAMES = ("id", "_id", "key", "uuid", "guid", "pk", "code")
_SAID = re.compile(r"\bprimary key\b", re.I)


def infer_key(
    resource: str,
    item: str | None,
    fields: Sequence[Field],
    stated: Sequence[str],
    beside: str = "",
    named_by: Sequence[str] = (),
) -> Key | None:
    """The fields of the key in the order of the item path's parameters; None where nothing fits. ``beside`` is the
    member that stands beside a row's fields for its key, ``named_by`` what operations name a row by."""
    names = parameters(item) or tuple(named_by)
    by_name = {field.name: field for field in fields}
    if stated:
        known = [name for name in stated if name in by_name]
        if len(known) == len(stated):
            return Key(tuple(stated), names, _assigned(known, by_name), Reason("the profile says so", "stated"))
    if beside in by_name and len(names) < 2:
        told = Reason(f"{beside} is beside the row's fields", "stated")
        return Key((beside,), names, _assigned([beside], by_name), told)
    if not names:
        marked = [field for field in fields if _SAID.search(str(field.keywords.get("description", "")))]
        usual = [field for field in fields if normal(field.name) in {"id", normal(singular(resource)) + "id"}]
        chosen = marked or usual[:1]
        if not chosen:
            return None
        why = "its description says primary key" if marked else "a field of that name is usually the key"
        key = [field.name for field in chosen]
        return Key(tuple(key), (), _assigned(key, by_name), Reason(why, "likely" if marked else "guess"))
    key = []
    reasons = []
    for parameter in names:
        field, reason = _field_for(parameter, resource, fields, len(names))
        if field is None:
            return None
        key.append(field.name)
        reasons.append(reason)
    weakest = min(reasons, key=lambda reason: ("guess", "likely", "stated").index(reason.certainty))
    return Key(tuple(key), names, _assigned(key, by_name), weakest)


def _field_for(parameter: str, resource: str, fields: Sequence[Field], count: int) -> tuple[Field | None, Reason]:
    wanted = normal(parameter)
    for field in fields:
        if normal(field.name) == wanted:
            return field, Reason(f"the item path's parameter {{{parameter}}} has the name of the field", "stated")
    marked = [field for field in fields if _SAID.search(str(field.keywords.get("description", "")))]
    if count == 1 and len(marked) == 1:
        return marked[0], Reason("its description says primary key", "stated")
    stem = normal(singular(resource))
    for name in (*KEY_NAMES, f"{stem}id", f"{stem}key", f"{stem}code"):
        for field in fields:
            if count == 1 and normal(field.name) == normal(name) and field.name.lower().strip("_") == name.strip("_"):
                # an id that is asked for may be shown without being described
                other = wanted.endswith("id") and not normal(field.name).endswith("id")
                why = f"the item path takes {{{parameter}}}, and {field.name} is usually a key"
                return field, Reason(why, "guess" if other else "likely")
    for field in fields:
        if count == 1 and wanted and (wanted.endswith(normal(field.name)) or normal(field.name).endswith(wanted)):
            return field, Reason(f"the names of {{{parameter}}} and {field.name} end alike", "guess")
    return None, Reason("", "guess")


def _assigned(key: Sequence[str], fields: dict[str, Field]) -> Literal["server", "client", "either"]:
    chosen = [fields[name] for name in key]
    if all(field.created and field.required for field in chosen):
        return "client"
    return (
        "either"
        if any(field.created for field in chosen) and len(chosen) == 1
        else ("client" if all(field.created for field in chosen) else "server")
    )
