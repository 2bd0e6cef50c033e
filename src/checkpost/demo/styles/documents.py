"""Rows as resource objects of JSON:API 1.1: type, id, attributes and relationships."""

from __future__ import annotations

import json
from dataclasses import replace
from typing import Any

from checkpost.demo.relations import is_junction
from checkpost.demo.schemas import reference_to
from checkpost.demo.styles.base import (
    TABLE_AT,
    Call,
    Inner,
    Json,
    Reply,
    Style,
    dropped,
    only_lists_and_rows,
    own_paths,
)
from checkpost.demo.tables import Column, Table

MEDIA = "application/vnd.api+json"


def _kind(table: Table) -> str:
    return table.path.strip("/")


def _shown(table: Table, column: Column) -> str:
    """What a column is called: the key is ``id``, a reference has the name of what it refers to."""
    if (column.name,) == table.key:
        return "id"
    return column.name.removesuffix("_id").removesuffix("_code") if column.references else column.name


class Documents(Style):
    name = "documents"
    says = "JSON:API: data with type, id, attributes and relationships; errors as a list"
    tables = tuple(table for table in TABLE_AT.values() if not is_junction(table))

    def described(self, document: Json) -> Json:
        document = dropped(only_lists_and_rows(document, self.tables), ["expand"])
        paths: Json = {path: each for path, each in document["paths"].items() if path in {"/login", "/logout"}}
        schemas = {"Errors": _errors_schema()}
        for table in self.tables:
            schemas |= _schemas(table, document["components"]["schemas"])
            path, item = own_paths(table)
            listed, own = document["paths"][path], document["paths"][item]
            names = {column.name: _shown(table, column) for column in table.columns}
            paths[path] = _with_bodies(table, _renamed(listed, names))
            key = {**own["parameters"][0], "name": "id"}
            paths[path + "/{id}"] = {
                "parameters": [key],
                **{
                    each: _with_bodies(table, {each: own[each]})[each]
                    for each in ("get", "patch", "delete")
                    if each in own
                },
            }
        kept = {name: document["components"]["schemas"][name] for name in ("Problem", "Violations")}
        components = {**document["components"], "schemas": {**kept, **schemas}}
        return {**document, "paths": paths, "components": components}

    async def answer(self, call: Call, inner: Inner) -> Reply:
        table = call.table
        if table is None or table not in self.tables or len(call.path) > 2 or call.method == "PUT":
            return _errors(await inner(call))
        columns = {_shown(table, column): column for column in table.columns}
        call = replace(call, query=tuple(_asked(columns, *pair) for pair in call.query))
        if call.method in {"POST", "PATCH"}:
            if call.headers.get("content-type", "").partition(";")[0] != MEDIA:
                return _errors(await inner(replace(call, headers={**call.headers, "content-type": "text/plain"})))
            body = _record(table, columns, call)
            if isinstance(body, Reply):
                # what is no document is the application's to refuse, as far as it can
                plain = {**call.headers, "content-type": "application/json"}
                tried = await inner(replace(call, body=b"" if call.json is not None else call.body, headers=plain))
                return body if tried.status in {400, 422} else _errors(tried)
            call = call.with_json(body)
        reply = await inner(call)
        if not reply.ok or not isinstance(reply.json, dict):
            return _errors(reply)
        answered = _document(table, reply)
        usual = reply.headers.get("content-type") == "application/json"
        return (
            answered
            if usual
            else replace(answered, headers={**answered.headers, "content-type": reply.headers["content-type"]})
        )


def _asked(columns: dict[str, Column], name: str, value: str) -> tuple[str, str]:
    """A query parameter with the columns' own names."""
    word, bracket, rest = name.partition("[")
    if word in columns:
        return columns[word].name + bracket + rest, value
    if name in {"sort", "fields"}:
        parts = [each.removeprefix("-") for each in value.split(",")]
        named = [columns[each].name if each in columns else each for each in parts]
        signs = ["-" if each.startswith("-") else "" for each in value.split(",")]
        return name, ",".join(sign + each for sign, each in zip(signs, named, strict=True))
    return name, value


def _renamed(item: Json, names: dict[str, str]) -> Json:
    """A list's operations with its parameters called as its rows have it."""

    def sortable(schema: Json) -> Json:
        items = schema.get("items", {})
        if "enum" not in items:
            return schema
        choices = [("-" if each[0] == "-" else "") + names[each.removeprefix("-")] for each in items["enum"]]
        return {**schema, "items": {**items, "enum": choices}}

    listed = item["get"]
    parameters = [
        {**each, "name": names.get(each["name"], each["name"]), "schema": sortable(each["schema"])}
        for each in listed["parameters"]
    ]
    return {**item, "get": {**listed, "parameters": parameters}}


def _content(title: str) -> Json:
    return {MEDIA: {"schema": reference_to(title)}}


def _with_bodies(table: Table, item: Json) -> Json:
    found = {}
    for method, operation in item.items():
        answers = {}
        for status, answer in operation["responses"].items():
            kept = {key: each for key, each in answer.items() if key not in {"content", "links"}}
            if "content" in answer:
                title = (
                    "Errors"
                    if status[0] == "4"
                    else (
                        table.title
                        + ("List" if "operationId" in operation and operation["operationId"].startswith("list") else "")
                    )
                )
                kept["content"] = _content(title)
            answers[status] = kept
        if method in {"post", "patch"}:
            answers["409"] = {
                **answers.get("409", {"description": "A conflict."}),
                "content": {MEDIA: {"schema": reference_to("Errors")}},
            }
        body: Json = {}
        if "requestBody" in operation:
            title = table.title + ("New" if method == "post" else "Change")
            body = {"requestBody": {"required": True, "content": _content(title)}}
        found[method] = {**operation, **body, "responses": answers}
    return found


def _schemas(table: Table, known: Json) -> Json:
    """The documents of a table: one row, a page of them, a new one, a change."""
    row, new, change = known[table.title], known[table.title + "New"], known[table.title + "Change"]
    key = table.column(table.key[0])
    refers = {column.name: column for column in table.columns if column.references}

    def resource(schema: Json, identified: bool, required: bool) -> Json:
        inside = {
            name: each
            for name, each in schema["properties"].items()
            if name != key.name and name not in refers and name in {column.name for column in table.columns}
        }
        needed = [name for name in schema.get("required", ()) if name in inside]
        attributes = {"type": "object", "additionalProperties": False, "properties": inside, "required": needed}
        members: Json = {"type": {"const": _kind(table)}, "attributes": attributes}
        names = ["type", "attributes"]
        if identified:
            members["id"] = key.schema() if key.type == "text" else {"type": "string"}
            names.append("id")
        if refers:
            links = {_shown(table, column): _linkage(column) for column in refers.values()}
            must = [_shown(table, column) for column in refers.values() if column.required]
            members["relationships"] = {
                "type": "object", "additionalProperties": False, "properties": links,
                "required": (list(links) if identified and required else must) if required else [],
            }  # fmt: skip
            names += ["relationships"] if required and (must or identified) else []
        return {"type": "object", "additionalProperties": False, "required": names, "properties": members}

    def document(data: Json, **more: Json) -> Json:
        return {
            "type": "object",
            "additionalProperties": False,
            "required": ["data", *more],
            "properties": {"data": data, **more},
        }

    shown = resource(row, True, True)
    chosen = key.name in {column.name for column in table.columns if not column.read_only}
    page = {
        "meta": {"type": "object", "required": ["total"], "properties": {"total": {"type": "integer"}}},
        "links": {"type": "object", "required": ["next"], "properties": {"next": {"type": ["string", "null"]}}},
    }
    return {
        table.title: document(shown),
        table.title + "List": document({"type": "array", "items": shown}, **page),
        table.title + "New": document(resource(new, chosen, True)),
        table.title + "Change": document(resource({**change, "required": []}, True, False)),
    }


def _linkage(column: Column) -> Json:
    target = next(table for table in TABLE_AT.values() if table.name == column.references)
    one = {
        "type": "object",
        "additionalProperties": False,
        "required": ["type", "id"],
        "properties": {"type": {"const": _kind(target)}, "id": {"type": "string"}},
    }
    data = {"oneOf": [one, {"type": "null"}]} if column.nullable else one
    return {"type": "object", "additionalProperties": False, "required": ["data"], "properties": {"data": data}}


def _errors_schema() -> Json:
    members = {"status": {"type": "string"}, "title": {"type": "string"}, "detail": {"type": "string"}}
    one = {"type": "object", "required": ["status", "title"], "properties": members}
    errors = {"type": "array", "minItems": 1, "items": one}
    return {"type": "object", "required": ["errors"], "properties": {"errors": errors}}


def _resource(table: Table, row: Json) -> Json:
    found: Json = {"type": _kind(table), "id": str(row[table.key[0]]), "attributes": {}} if table.key[0] in row else {}
    links: Json = {}
    for column in table.visible:
        if column.name not in row or column.name == table.key[0]:
            continue
        value = row[column.name]
        if column.references:
            kind = column.references.replace("_", "-")
            links[_shown(table, column)] = {"data": None if value is None else {"type": kind, "id": str(value)}}
        else:
            found["attributes"][column.name] = value
    known = {column.name for column in table.visible}
    found.setdefault("attributes", {}).update({name: each for name, each in row.items() if name not in known})
    return {**found, **({"relationships": links} if links else {})}


def _document(table: Table, reply: Reply) -> Reply:
    body = reply.json
    if isinstance(body, dict) and "items" in body:
        rows = [_resource(table, row) for row in body["items"]]
        return reply.with_json({"data": rows, "meta": {"total": body["total"]}, "links": {"next": body["next"]}}, MEDIA)
    return reply.with_json({"data": _resource(table, body)}, MEDIA)


def _errors(reply: Reply) -> Reply:
    body = reply.json
    if not isinstance(body, dict) or "title" not in body:
        return reply
    errors = [{"status": str(reply.status), "title": body["title"], "detail": body["detail"]}]
    return reply.with_json({"errors": errors}, MEDIA)


def _refused(status: int, detail: str) -> Reply:
    body = {"errors": [{"status": str(status), "title": "Not valid", "detail": detail}]}
    return Reply(status, {"content-type": MEDIA}, json.dumps(body).encode())


def _record(table: Table, columns: dict[str, Column], call: Call) -> Any:
    """The record that a document holds, or the refusal of one that is none."""
    body = call.json
    if call.body and body is None and call.body != b"null":
        return _refused(400, "The body is not JSON.")
    data = body.get("data") if isinstance(body, dict) else None
    if not isinstance(data, dict) or set(body) != {"data"} or not isinstance(data.get("attributes"), dict):
        return _refused(422, "The document has no resource object with attributes.")
    if set(data) - {"type", "id", "attributes", "relationships"}:
        return _refused(422, "The resource object has members that are none of its own.")
    if data.get("type") != _kind(table):
        return _refused(409, f"The type has to be {_kind(table)}.")
    if call.method == "PATCH" and data.get("id") != call.path[1]:
        return _refused(409, "The id is not that of the row.")
    key = table.column(table.key[0])
    taken = set(data["attributes"]) & ({key.name} | {name for name, column in columns.items() if column.references})
    if taken:
        return _refused(422, f"{sorted(taken)[0]} is no attribute.")
    record = dict(data["attributes"])
    if "id" in data and call.method == "POST" and not key.read_only:
        record[key.name] = data["id"]
    links = data.get("relationships", {})
    for name, link in links.items() if isinstance(links, dict) else ():
        column = columns.get(name)
        if column is None or not column.references or not isinstance(link, dict) or "data" not in link:
            return _refused(422, f"{name} is no relationship.")
        target = link["data"]
        if target is not None and (not isinstance(target, dict) or not isinstance(target.get("id"), str)):
            return _refused(422, f"{name} names no row.")
        text = target["id"] if target else None
        whole = column.type == "integer"
        if text is not None and whole and not text.lstrip("-").isdigit():
            return _refused(422, f"{name} names no row.")
        record[column.name] = int(text) if text is not None and whole else text
    return record
