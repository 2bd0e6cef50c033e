"""What a style of the stand-in is: the same API spoken in another way, and described so."""

from __future__ import annotations

import json
import re
from collections.abc import Awaitable, Callable, Mapping, MutableMapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any
from urllib.parse import parse_qsl, quote, unquote, urlencode

from checkpost.demo.core import BASE
from checkpost.demo.seedbank import TABLES
from checkpost.demo.tables import Table

Json = dict[str, Any]
PROBLEM = "application/problem+json"


@dataclass(frozen=True)
class Call:
    """A request: the decoded segments of its path behind the base, and the rest as it came."""

    method: str
    path: tuple[str, ...]
    query: tuple[tuple[str, str], ...] = ()
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""

    @property
    def table(self) -> Table | None:
        return TABLE_AT.get(self.path[0]) if self.path else None

    @property
    def json(self) -> Any:
        """The body's value; None where it is no JSON."""
        try:
            return json.loads(self.body)
        except (ValueError, RecursionError):
            return None

    def with_json(self, value: Any, media_type: str = "application/json") -> Call:
        headers = {**self.headers, "content-type": media_type}
        return replace(self, body=json.dumps(value).encode(), headers=headers)


@dataclass(frozen=True)
class Reply:
    status: int
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes = b""

    @property
    def json(self) -> Any:
        try:
            return json.loads(self.body)
        except ValueError:
            return None

    @property
    def ok(self) -> bool:
        return 200 <= self.status < 300

    def with_json(self, value: Any, media_type: str = "") -> Reply:
        kind = media_type or self.headers.get("content-type", "application/json")
        headers = {name: each for name, each in self.headers.items() if name != "content-length"}
        return replace(
            self, headers={**headers, "content-type": kind}, body=json.dumps(value, ensure_ascii=False).encode()
        )

    def with_next(self, path: str) -> Reply:
        """With the link to the next page leading to another path."""
        body = self.json
        if not isinstance(body, dict) or not isinstance(body.get("next"), str):
            return self
        return self.with_json({**body, "next": f"{BASE}{path}?{body['next'].partition('?')[2]}"})

    def with_location(self, change: Callable[[str], str]) -> Reply:
        if "location" not in self.headers:
            return self
        return replace(self, headers={**self.headers, "location": change(self.headers["location"])})


Inner = Callable[[Call], Awaitable[Reply]]
TABLE_AT = {table.path.strip("/"): table for table in TABLES if table.exposed}


class Style:
    """How requests of the style are told in the stand-in's own terms, its answers in the style's, and all of it in
    the description. This one changes nothing."""

    name = "plain"
    says = "a path for each list and row, JSON bodies"
    #: The spelling of lists that the style is made for.
    spelling = "brackets"
    tables: Sequence[Table] = tuple(TABLE_AT.values())

    def described(self, document: Json) -> Json:
        return document

    async def answer(self, call: Call, inner: Inner) -> Reply:
        return await inner(call)


def problem(status: int, title: str, detail: str, media_type: str = PROBLEM) -> Reply:
    body = {"type": "about:blank", "title": title, "status": status, "detail": detail}
    return Reply(status, {"content-type": media_type}, json.dumps(body).encode())


def own_paths(table: Table) -> tuple[str, str]:
    """The paths of a table's list and of its rows in the stand-in's own description."""
    return table.path, table.path + "".join(f"/{{{name}}}" for name in table.key)


def only_lists_and_rows(document: Json, tables: Sequence[Table]) -> Json:
    """The description without what stands beside lists and rows: many at once, lists under rows, aggregates."""
    wanted = {path for table in tables for path in own_paths(table)}
    paths = {path: each for path, each in document["paths"].items() if path in wanted or path in {"/login", "/logout"}}
    return {**document, "paths": paths}


def mapped(value: Any, change: Callable[[Any], Any]) -> Any:
    """A copy of a description in which ``change`` has been done to every object, the inner ones first."""
    if isinstance(value, list):
        return [mapped(each, change) for each in value]
    if isinstance(value, dict):
        return change({key: mapped(each, change) for key, each in value.items()})
    return value


def dropped(document: Json, names: Sequence[str]) -> Json:
    """The description without parameters of these names."""

    def change(node: Json) -> Json:
        if isinstance(node.get("parameters"), list):
            kept = [each for each in node["parameters"] if each.get("name") not in names]
            return {**node, "parameters": kept}
        return node

    return dict(mapped(document, change))


def styled(app: Any, style: Style) -> Any:
    """The stand-in's application speaking in a style."""

    async def inner(call: Call) -> Reply:
        path = BASE + "".join("/" + quote(part, safe="") for part in call.path)
        return await _called(app, call, path)

    async def whole(scope: MutableMapping[str, Any], receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            await app(scope, receive, send)
            return
        call = await _read(scope, receive)
        raw = scope.get("raw_path", scope["path"].encode()).decode("latin-1").partition("?")[0]
        if raw.startswith("/openapi."):
            reply = await _description(app, scope, style, raw)
        elif not raw.startswith(BASE + "/"):
            reply = await _called(app, call, raw)
        else:
            reply = await style.answer(call, inner)
        headers = [(name.encode("latin-1"), value.encode("latin-1")) for name, value in reply.headers.items()]
        if reply.status not in {204, 304}:
            headers = [each for each in headers if each[0] != b"content-length"]
            headers.append((b"content-length", str(len(reply.body)).encode()))
        await send({"type": "http.response.start", "status": reply.status, "headers": headers})
        await send({"type": "http.response.body", "body": b"" if scope["method"] == "HEAD" else reply.body})

    return whole


async def _description(app: Any, scope: MutableMapping[str, Any], style: Style, raw: str) -> Reply:
    host = dict(scope["headers"]).get(b"host", b"127.0.0.1").decode()
    document = (await _called(app, Call("GET", (), headers={"host": host}), "/openapi.json")).json
    described = style.described(document)
    if raw.endswith(".json"):
        return Reply(200, {"content-type": "application/json"}, json.dumps(described, indent=1).encode())
    import yaml

    text = yaml.dump(json.loads(json.dumps(described)), sort_keys=False, allow_unicode=True, width=110)
    return Reply(200, {"content-type": "application/yaml"}, text.encode())


async def _read(scope: MutableMapping[str, Any], receive: Any) -> Call:
    body = b""
    more = True
    while more:
        message = await receive()
        body += message.get("body", b"")
        more = message.get("more_body", False)
    headers = {name.decode("latin-1"): value.decode("latin-1") for name, value in scope["headers"]}
    raw = scope.get("raw_path", b"").decode("latin-1").partition("?")[0]
    path = tuple(unquote(part) for part in raw.removeprefix(BASE).split("/") if part)
    query = tuple(parse_qsl(scope["query_string"].decode("latin-1"), keep_blank_values=True))
    return Call(scope["method"], path, query, headers, body)


async def _called(app: Any, call: Call, path: str) -> Reply:
    """An answer of the application inside, without a connection."""
    sent: Json = {"headers": [], "status": 500, "body": b""}
    left_out = {"content-length", "accept-encoding"}  # what is inside is read here
    headers = {name: value for name, value in call.headers.items() if name not in left_out}
    scope = {
        "type": "http",
        "asgi": {"version": "3.0"},
        "http_version": "1.1",
        "scheme": "http",
        "method": call.method,
        "path": unquote(path),
        "raw_path": path.encode("latin-1"),
        "root_path": "",
        "query_string": urlencode(call.query).encode(),
        "headers": [(name.lower().encode(), value.encode("latin-1")) for name, value in headers.items()],
        "server": ("127.0.0.1", 80),
        "client": ("127.0.0.1", 1),
    }
    waiting = [{"type": "http.request", "body": call.body, "more_body": False}]

    async def receive() -> Json:
        return waiting.pop() if waiting else {"type": "http.disconnect"}

    async def send(message: Json) -> None:
        if message["type"] == "http.response.start":
            sent.update(status=message["status"], headers=message["headers"])
        else:
            sent["body"] += message.get("body", b"")

    await app(scope, receive, send)
    given = {name.decode("latin-1").lower(): value.decode("latin-1") for name, value in sent["headers"]}
    given.pop("content-length", None)
    return Reply(sent["status"], given, sent["body"])


def key_texts(location: str) -> list[str]:
    """The parts of the key that a Location of the stand-in's own ends with."""
    return [unquote(part) for part in re.split(r"/", location.removeprefix(BASE).strip("/"))[1:]]
