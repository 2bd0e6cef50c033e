"""What belongs to a row: shown inside it on request, listed under it, linked and unlinked, made along with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import jsonschema_rs
from starlette.requests import Request
from starlette.responses import Response

from checkpost.demo.answers import Refusal, json_answer
from checkpost.demo.core import Caller, Core, Key
from checkpost.demo.database import Row
from checkpost.demo.question import Sql, Wanted
from checkpost.demo.relations import Related, depths, expandable, to_many, to_one
from checkpost.demo.schemas import child_schema
from checkpost.demo.tables import Table


class RelatedRows(Core):
    """One table among others. ``tables`` and ``others`` are set when all of them are there."""

    tables: Sequence[Table] = ()
    others: Mapping[str, RelatedRows] = {}

    @cached_property
    def references(self) -> list[Related]:
        """What its own columns refer to."""
        return to_one(self.table, self.tables)

    # -- expansion -----------------------------------------------------------------------------

    def wanted_expansions(self, request: Request) -> list[str]:
        """The names to expand. Raises Refusal for one that is missing."""
        text = ",".join(request.query_params.getlist(self.spelling.expansion))
        names = [name for name in text.split(",") if name]
        for name in names:
            if name not in depths(self.table, self.tables):
                raise Refusal(400, "Not readable", f"{name} cannot be expanded.")
        return names

    def expanded(self, caller: Caller, row: Row, shown: Row, names: Sequence[str]) -> Row:
        """A row as it is shown, with what belongs to it."""
        relations = expandable(self.table, self.tables) if names else {}
        for name in dict.fromkeys(each.partition(".")[0] for each in names):
            deeper = [each.partition(".")[2] for each in names if each.startswith(name + ".")]
            related = relations[name]
            other = self.others[related.table.name]
            other.permit(caller, "read")
            rows = self.related_rows(caller, related, row)
            inside = [other.expanded(caller, each, other.inside(caller, each), deeper) for each in rows]
            shown = {**shown, name: inside if related.many else (inside[0] if inside else None)}
        return shown

    def inside(self, caller: Caller, row: Row) -> Row:
        """A row as it is shown inside another one."""
        return self.veiled(caller, self.present(row))

    def related_rows(self, caller: Caller, related: Related, row: Row) -> list[Row]:
        """The rows that belong to a row and that the caller sees."""
        other = self.others[related.table.name]
        if related.many:
            condition, values = self.belonging(related, row)
            rows = self.database.select(related.table, f"WHERE {condition} ORDER BY {_key(related.table)}", values)
        else:
            found = other.fetch((row[related.column],)) if row[related.column] is not None else None
            rows = [found] if found is not None else []
        return [each for each in rows if other.sees(caller, each)]

    def belonging(self, related: Related, row: Row) -> Sql:
        """The condition on the other table's rows that belong to a row."""
        own = row[self.table.key[0]]
        if related.junction is None:
            return f'"{related.column}" = ?', [own]
        inner = f'SELECT "{related.far}" FROM "{related.junction.name}" WHERE "{related.column}" = ?'
        return f'"{related.table.key[0]}" IN ({inner})', [own]

    def shown(self, request: Request, caller: Caller, rows: list[Row], wanted: Wanted) -> list[Row]:
        names = self.wanted_expansions(request)
        shown = super().shown(request, caller, rows, wanted)
        return [self.expanded(caller, row, each, names) for row, each in zip(rows, shown, strict=True)]

    def one(self, request: Request, caller: Caller, row: Row) -> Response:
        names = self.wanted_expansions(request)
        if not names:
            return super().one(request, caller, row)
        return json_answer(self.expanded(caller, row, self.veiled(caller, self.present(row)), names))

    # -- links in rows -------------------------------------------------------------------------

    def present(self, row: Row) -> Row:
        shown = super().present(row)
        return {**shown, "_links": self.links(row)} if self.spelling.links else shown

    def links(self, row: Row) -> Row:
        """Where a row is, and what it refers to."""
        found: Row = {"self": {"href": self.location(tuple(row[name] for name in self.table.key))}}
        for related in self.references:
            value = row[related.column]
            other = self.others[related.table.name]
            found[related.name] = {"href": other.location((value,))} if value is not None else None
        return found

    # -- lists under a row ---------------------------------------------------------------------

    def related(self, name: str) -> Related:
        return next(each for each in to_many(self.table, self.tables) if each.name == name)

    async def on_children(self, request: Request, related: Related) -> Response:
        caller = self.caller(request)
        self.permit(caller, "read")
        other = self.others[related.table.name]
        other.permit(caller, "read")
        row = self.existing(caller, self.key_of(request))
        wanted = self.spelling.wanted(request, related.table)
        other.refuse_hidden(caller, wanted)
        condition, values = self.children_matching(caller, other, wanted)
        within, own = self.belonging(related, row)
        both = f"{condition} AND {within}" if condition else f"WHERE {within}"
        return self.children_answer(request, caller, related, wanted, (both, [*values, *own]))

    def children_matching(self, caller: Caller, other: RelatedRows, wanted: Wanted) -> Sql:
        """The rows of another table that a question is about, and that the caller sees."""
        return other.matching(caller, wanted)

    def children_answer(
        self, request: Request, caller: Caller, related: Related, wanted: Wanted, matching: Sql
    ) -> Response:
        return self.others[related.table.name].list_answer(request, caller, wanted, matching)

    async def on_create_child(self, request: Request, related: Related) -> Response:
        caller = self.caller(request)
        other = self.others[related.table.name]
        other.permit(caller, "create")
        row = self.existing(caller, self.key_of(request))
        body = await self.body(request)
        errors = violations(child_schema(related.table, related.column), body)
        if errors:
            raise Refusal(422, "Not valid", "The body breaks rules of its fields.", errors)
        return other.create(request, caller, self.child_body(related, row, body))

    def child_body(self, related: Related, row: Row, body: Row) -> Row:
        return {**body, related.column: row[self.table.key[0]]}

    # -- both sides have many --------------------------------------------------------------------

    def _link_key(self, request: Request, caller: Caller, related: Related) -> Key:
        """The key of the junction's row. Raises Refusal where one of the two rows is not there."""
        assert related.junction is not None
        other = self.others[related.table.name]
        own = self.existing(caller, self.key_of(request))[self.table.key[0]]
        column = related.table.column(related.table.key[0])
        far = other.key_part(column, request.path_params[related.far])
        other.existing(caller, (far,))
        values = {related.column: own, related.far: far}
        return tuple(values[name] for name in related.junction.key)

    async def on_link(self, request: Request, related: Related) -> Response:
        assert related.junction is not None
        caller = self.caller(request)
        between = self.others[related.junction.name]
        between.permit(caller, "create")
        key = self._link_key(request, caller, related)
        self.link(between, key)
        return Response(status_code=204)

    def link(self, between: RelatedRows, key: Key) -> None:
        if between.fetch(key) is None:
            between.insert(dict(zip(between.table.key, key, strict=True)))

    async def on_unlink(self, request: Request, related: Related) -> Response:
        assert related.junction is not None
        caller = self.caller(request)
        between = self.others[related.junction.name]
        between.permit(caller, "delete")
        key = self._link_key(request, caller, related)
        between.existing(caller, key)
        self.unlink(between, key)
        return Response(status_code=204)

    def unlink(self, between: RelatedRows, key: Key) -> None:
        between.remove(key)

    # -- rows made along with a row ----------------------------------------------------------------

    def store(self, caller: Caller, body: Any) -> Key:
        nested = [each for each in to_many(self.table, self.tables) if each.name in self.table.nested]
        given = [each for each in nested if isinstance(body, dict) and each.name in body]
        if not given:
            return super().store(caller, body)
        errors = [
            {**error, "field": f"{each.name}.{error['field']}"}
            for each in given
            for error in violations({"type": "array", "items": child_schema(each.table, each.column)}, body[each.name])
        ]
        plain = {name: value for name, value in body.items() if name not in self.table.nested}
        self.refuse_violations(plain, partial=False)
        if errors:
            raise Refusal(422, "Not valid", "The rows inside break rules of their fields.", errors)
        return self.store_with(caller, plain, [(each, body[each.name]) for each in given])

    def store_with(self, caller: Caller, plain: Row, nested: Sequence[tuple[Related, Sequence[Row]]]) -> Key:
        """Store a row and those that come with it, all or none."""
        with self.database.together():
            key = super().store(caller, plain)
            for each, rows in nested:
                for row in rows:
                    self.others[each.table.name].store(caller, {**row, each.column: key[0]})
        return key


def violations(schema: Mapping[str, Any], body: Any) -> list[dict[str, str]]:
    """The rules that a body breaks, as ``Core.violations`` tells them."""
    rules = jsonschema_rs.Draft202012Validator(dict(schema), validate_formats=True)
    return [
        {
            "field": ".".join(map(str, error.instance_path)),
            "rule": str(error.schema_path[-1] if error.schema_path else "type"),
            "detail": error.message[:300],
        }
        for error in rules.iter_errors(body)
    ]


def _key(table: Table) -> str:
    return ", ".join(f'"{name}"' for name in table.key)
