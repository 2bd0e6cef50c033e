"""Keys in brackets behind the list's name (OData 4.01, URL Conventions, 4.3)."""

from __future__ import annotations

import re
from dataclasses import replace

from checkpost.demo.core import BASE
from checkpost.demo.styles.base import TABLE_AT, Call, Inner, Json, Reply, Style, key_texts, own_paths
from checkpost.demo.tables import Table


def _template(table: Table) -> str:
    if len(table.key) == 1:
        return f"{table.path}({{{table.key[0]}}})"
    return f"{table.path}({','.join(f'{name}={{{name}}}' for name in table.key)})"


class KeysInBrackets(Style):
    name = "brackets"
    says = "keys in brackets: /species(5), /vaults('NV-01'), /species-tags(species_id=1,tag_id=2)"
    spelling = "odata"

    def described(self, document: Json) -> Json:
        paths = {}
        for path, item in document["paths"].items():
            table = TABLE_AT.get(path.split("/")[1])
            own = own_paths(table)[1] if table else ""
            if table and (path == own or path.startswith(own + "/")):
                path = _template(table) + path[len(own) :]
            paths[path] = item
        return {**document, "paths": paths}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        found = re.fullmatch(r"([^()]+)\((.*)\)", call.path[0]) if call.path else None
        if found:
            table = TABLE_AT.get(found[1])
            parts = re.findall(r"(?:\w+=)?('(?:[^']|'')*'|[^,]+)", found[2])
            texts = [part[1:-1].replace("''", "'") if part.startswith("'") else part for part in parts]
            if table is None or len(texts) != len(table.key):
                call = replace(call, path=(found[1], found[2], "no such key"))
            else:
                call = replace(call, path=(found[1], *texts, *call.path[1:]))
        elif (
            call.path and call.path[0] in TABLE_AT and len(call.path) > 1 and call.path[1] not in {"bulk", "aggregate"}
        ):
            call = replace(call, path=("nothing", *call.path))
        return (await inner(call)).with_location(_location)


def _location(location: str) -> str:
    name = location.removeprefix(BASE).strip("/").split("/")[0]
    table, texts = TABLE_AT[name], key_texts(location)
    written = [
        f"'{text}'" if table.column(column).type == "text" else text
        for column, text in zip(table.key, texts, strict=True)
    ]
    pairs = [f"{column}={text}" for column, text in zip(table.key, written, strict=True)]
    return f"{BASE}/{name}({','.join(pairs if len(pairs) > 1 else written)})"
