"""The stand-in as an application: every exposed table's operations at their paths, and the description."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from starlette.applications import Starlette
from starlette.requests import Request
from starlette.responses import Response
from starlette.routing import Route

from checkpost.demo.answers import Refusal, compressed, json_answer
from checkpost.demo.bulk import BulkRows
from checkpost.demo.bulkpaths import BULK_PATHS
from checkpost.demo.core import BASE, Caller, Key
from checkpost.demo.database import Database
from checkpost.demo.description import describe
from checkpost.demo.relations import Related, is_junction, to_many
from checkpost.demo.signin import sign_in_routes
from checkpost.demo.spellings import SPELLINGS, USUAL
from checkpost.demo.tables import Table

__all__ = ["BASE", "Caller", "Key", "TableApi", "build_app"]

Method = Callable[[Request], Any]


class TableApi(BulkRows):
    """What the API does with one table. A planted defect overrides one of its methods."""

    def routes(self) -> list[Route]:
        item = self.table.path + "".join(f"/{{{name}}}" for name in self.table.key)
        methods: dict[str, Method] = {"GET": self.on_read, "DELETE": self.on_delete}
        if self.table.updatable:
            methods |= {"PUT": self.on_replace, "PATCH": self.on_update}
        listed: dict[str, Method] = {"GET": self.on_list, "POST": self.on_create}
        if self.spelling.bulk == "same path":
            listed |= {"DELETE": self.on_filtered_delete}
            if self.table.updatable:
                listed |= {"PATCH": self.on_filtered_update}
        found = [self._route(self.table.path, listed)]
        if self.spelling.aggregates:
            found.append(self._route(self.table.path + self.spelling.aggregates, {"GET": self.on_aggregate}))
        if self.spelling.bulk in BULK_PATHS:
            found.append(self._route(self.table.path + BULK_PATHS[self.spelling.bulk], self._bulk()))
        found.append(self._route(item, methods))
        if not is_junction(self.table):
            for related in to_many(self.table, self.tables):
                found += self._under(item, related)
        return found

    def _bulk(self) -> dict[str, Method]:
        methods: dict[str, Method] = {"POST": self.on_bulk_create}
        if self.spelling.bulk != "lines" and len(self.table.key) == 1:
            methods |= {"DELETE": self.on_bulk_delete}
            if self.table.updatable:
                methods |= {"PATCH": self.on_bulk_update}
        return methods

    def _under(self, item: str, related: Related) -> list[Route]:
        def about(method: Callable[[Request, Related], Any]) -> Method:
            return lambda request: method(request, related)

        path = f"{item}/{related.name.replace('_', '-')}"
        if related.junction is None:
            return [self._route(path, {"GET": about(self.on_children), "POST": about(self.on_create_child)})]
        both: dict[str, Method] = {"PUT": about(self.on_link), "DELETE": about(self.on_unlink)}
        return [self._route(path, {"GET": about(self.on_children)}), self._route(f"{path}/{{{related.far}}}", both)]

    def _route(self, path: str, methods: Mapping[str, Method]) -> Route:
        async def answer(request: Request) -> Response:
            method = methods.get("GET" if request.method == "HEAD" else request.method)
            try:
                if request.method == "OPTIONS":
                    return self.options(request, list(methods))
                if method is None:
                    return await self.other_method(request, list(methods))
                return compressed(request, self.finished(request, await method(request)))
            except Refusal as refusal:
                return self.finished(request, self.problem(refusal))

        every = ["GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"]
        return Route(BASE + path, answer, methods=every)


def build_app(
    tables: Sequence[Table],
    database: Database,
    tokens: Mapping[str, tuple[str, str]],
    handlers: Mapping[str, type[TableApi]] | None = None,
    spelling: str = USUAL,
) -> Starlette:
    """The ASGI application; ``handlers`` gives tables another handler than the sound one, ``spelling`` names
    how lists are queried."""
    spelled = SPELLINGS[spelling]

    def document(request: Request) -> dict[str, Any]:
        return describe(tables, str(request.base_url).rstrip("/") + BASE, spelled)

    async def as_json(request: Request) -> Response:
        return Response(json.dumps(document(request), indent=1), media_type="application/json")

    async def as_yaml(request: Request) -> Response:
        import yaml

        written_out = json.loads(json.dumps(document(request)))  # no aliases for what is shared
        dumper = getattr(yaml, "CSafeDumper", yaml.SafeDumper)
        text = yaml.dump(written_out, Dumper=dumper, sort_keys=False, allow_unicode=True, width=110)
        return Response(text, media_type="application/yaml")

    async def not_found(request: Request, _: Exception) -> Response:
        body = {"type": "about:blank", "title": "Not found", "status": 404, "detail": "There is nothing here."}
        return json_answer(body, 404, media_type="application/problem+json")

    good = dict(tokens)
    routes = [Route("/openapi.json", as_json), Route("/openapi.yaml", as_yaml), *sign_in_routes(good)]
    served = {
        table.name: (handlers or {}).get(table.name, TableApi)(table, database, good, spelled)
        for table in tables
        if table.exposed
    }
    for each in served.values():
        each.tables, each.others = tables, served
        routes += each.routes()
    return Starlette(routes=routes, exception_handlers={404: not_found})
