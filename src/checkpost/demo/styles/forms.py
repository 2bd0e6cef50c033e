"""Forms, numbers as texts, one row in a list; described in OpenAPI 2.0."""

from __future__ import annotations

import email
import email.policy
import json
from dataclasses import replace
from typing import Any
from urllib.parse import parse_qsl, urlsplit
from xml.etree.ElementTree import Element, SubElement, tostring

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
    problem,
)
from checkpost.demo.tables import Column, Table

_FORMS = ["application/x-www-form-urlencoded", "multipart/form-data"]
_XML = "application/xml"
_LEFT_OUT = {"links", "$comment"}


class Forms(Style):
    name = "forms"
    says = "creates by form, decimals as texts, one row in a list, lists also as XML; described in OpenAPI 2.0"
    spelling = "suffix"

    def described(self, document: Json) -> Json:
        document = dropped(only_lists_and_rows(document, self.tables), ["include"])
        schemas = dict(document["components"]["schemas"])
        for table in self.tables:
            row = schemas[table.title]
            known = {column.name for column in table.visible}
            properties = {name: each for name, each in row["properties"].items() if name in known}
            decimals = {column.name for column in table.visible if column.type == "decimal"}
            texts = {name: _text(each) if name in decimals else each for name, each in properties.items()}
            schemas[table.title] = {**row, "properties": texts}
        paths: Json = {}
        lists = {table.path for table in self.tables}
        for path, item in document["paths"].items():
            paths[path] = {
                method: self._operation(path, method, operation, item.get("parameters", []), schemas)
                for method, operation in item.items()
                if method != "parameters" and not (path in lists and method in {"patch", "delete"})
            }
        url = urlsplit(document["servers"][0]["url"])
        return {
            "swagger": "2.0",
            "info": document["info"],
            "host": url.netloc,
            "basePath": url.path,
            "schemes": [url.scheme],
            "consumes": ["application/json"],
            "produces": ["application/json"],
            "securityDefinitions": {"bearer": {"type": "apiKey", "in": "header", "name": "Authorization"}},
            "paths": paths,
            "definitions": {name: _older(each) for name, each in schemas.items()},
        }

    def _operation(self, path: str, method: str, operation: Json, shared: list[Json], schemas: Json) -> Json:
        table = TABLE_AT.get(path.split("/")[1])
        one = table is not None and path == own_paths(table)[1]
        parameters = [_parameter(each) for each in (*shared, *operation.get("parameters", []))]
        found: Json = {
            key: operation[key] for key in ("operationId", "tags", "summary", "security") if key in operation
        }
        if "requestBody" in operation:
            content = operation["requestBody"]["content"]
            schema = next(iter(content.values()))["schema"]
            if table is not None and method == "post":
                found["consumes"] = _FORMS
                parameters += [_field(table, column) for column in table.columns]
            else:
                found["consumes"] = list(content)
                parameters.append({"name": "body", "in": "body", "required": True, "schema": _older(schema)})
        answers = {}
        for status, answer in operation["responses"].items():
            body = next(iter(answer.get("content", {}).items()), None)
            answers[status] = {"description": answer["description"]}
            if body is not None:
                schema = _older(body[1]["schema"])
                if table is not None and method == "post" and status == "201":
                    schema = {"$ref": f"#/definitions/{table.title}"}
                alone = one and method == "get" and status == "200"
                answers[status]["schema"] = {"type": "array", "items": schema} if alone else schema
            headers = {name: _older(each["schema"]) for name, each in answer.get("headers", {}).items()}
            if headers:
                answers[status]["headers"] = headers
        kinds = {kind for answer in operation["responses"].values() for kind in answer.get("content", {})}
        kinds |= {_XML} if method == "get" and not one and table is not None else set()
        return {
            **found,
            "produces": sorted(kinds) or ["application/json"],
            "parameters": parameters,
            "responses": answers,
        }

    async def answer(self, call: Call, inner: Inner) -> Reply:
        table = call.table
        if table is None or len(call.path) > 1 + len(table.key):
            return await inner(call) if table is None else problem(404, "Not found", "There is nothing here.")
        if len(call.path) == 1 and call.method in {"PATCH", "DELETE"}:
            return problem(405, "Method not allowed", f"{call.method} is not offered here.")
        if call.method == "POST" and len(call.path) == 1:
            fields = _fields(call)
            if fields is None:
                call = replace(call, headers={**call.headers, "content-type": "text/plain"})
            else:
                call = call.with_json({name: _value(table, name, text) for name, text in fields})
        reply = await inner(call)
        body = reply.json
        if not reply.ok or not isinstance(body, dict | list):
            return reply
        if isinstance(body, list):
            rows = [_spelled(table, row) for row in body]
            return _as_xml(table, reply, rows) if call.headers.get("accept") == _XML else reply.with_json(rows)
        row = _spelled(table, body)
        return reply.with_json([row] if call.method == "GET" else row)


def _as_xml(table: Table, reply: Reply, rows: list[Json]) -> Reply:
    root = Element("rows")
    for row in rows:
        element = SubElement(root, "row")
        for name, value in row.items():
            child = SubElement(element, name)
            child.text = "" if value is None else json.dumps(value) if isinstance(value, bool) else str(value)
    return replace(reply, headers={**reply.headers, "content-type": _XML}, body=tostring(root))


def _text(schema: Json) -> Json:
    kind = ["string", "null"] if isinstance(schema["type"], list) else "string"
    return {"type": kind, "format": "decimal"}


def _spelled(table: Table, row: Json) -> Json:
    """A row whose numbers with decimals are texts."""
    decimals = {column.name for column in table.visible if column.type == "decimal"}
    return {name: str(each) if name in decimals and each is not None else each for name, each in row.items()}


def _fields(call: Call) -> list[tuple[str, str]] | None:
    """The fields of a form; None where the body is none."""
    kind = call.headers.get("content-type", "")
    if kind.startswith(_FORMS[0]):
        return parse_qsl(call.body.decode("utf-8", "replace"), keep_blank_values=True)
    if not kind.startswith(_FORMS[1]):
        return None
    message = email.message_from_bytes(
        b"Content-Type: " + kind.encode() + b"\r\n\r\n" + call.body, policy=email.policy.HTTP
    )
    found = []
    for part in message.walk():
        name, content = part.get_param("name", header="content-disposition"), part.get_payload(decode=True)
        if name is not None and isinstance(content, bytes):
            found.append((str(name), content.decode("utf-8", "replace")))
    return found


def _value(table: Table, name: str, text: str) -> Any:
    """The value that a text of a form stands for; an empty one is null where the column has no texts."""
    column = next((each for each in table.columns if each.name == name), None)
    if column is None:
        return text
    if text == "" and column.type not in {"text"}:
        return None
    try:
        if column.type == "integer":
            return int(text)
        if column.type == "decimal":
            return float(text)
    except ValueError:
        return text
    return {"true": True, "false": False}.get(text, text) if column.type == "boolean" else text


def _older(schema: Any) -> Any:
    """A schema in the words of OpenAPI 2.0."""
    if isinstance(schema, list):
        return [_older(each) for each in schema]
    if not isinstance(schema, dict):
        return schema
    if "$ref" in schema:
        return {"$ref": schema["$ref"].replace("#/components/schemas/", "#/definitions/")}
    if "oneOf" in schema:
        inner = next(each for each in schema["oneOf"] if each.get("type") != "null")
        return _older(inner)
    found: Json = {}
    for key, each in schema.items():
        if key in _LEFT_OUT:
            continue
        if key == "type" and isinstance(each, list):
            found["type"] = each[0]
            found["x-nullable"] = True
        elif key == "enum":
            found["enum"] = [value for value in each if value is not None]
        elif key == "writeOnly":
            continue
        else:
            found[key] = _older(each)
    return found


def _parameter(parameter: Json) -> Json:
    schema = _older(parameter["schema"])
    found: Json = {key: parameter[key] for key in ("name", "in", "required", "description") if key in parameter}
    if schema.get("type") == "array":
        found["collectionFormat"] = "csv" if parameter.get("explode") is False else "multi"
    return {**found, **{key: each for key, each in schema.items() if key not in {"description", "x-nullable"}}}


def _field(table: Table, column: Column) -> Json:
    """A column as a field of a form."""
    schema = {key: each for key, each in _older(column.schema()).items() if key != "description"}
    ahead = {"readOnly": True} if column.read_only else {}
    return {"name": column.name, "in": "formData", "required": column.required, **schema, **ahead}
