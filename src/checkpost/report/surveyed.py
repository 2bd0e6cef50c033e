"""A contract's survey as a person reads it."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, TypeVar, get_args

from rich.console import Console, Group, RenderableType
from rich.table import Table
from rich.text import Text

from checkpost.contract.contract import Contract, Flaw, Operation, SecurityScheme
from checkpost.model.field import MISSING, Field, Reason
from checkpost.model.filters.parameters import shape_text
from checkpost.model.media import is_form, request_media_type
from checkpost.model.query import Function, Operator
from checkpost.model.resource import Model, Resource
from checkpost.model.spelling import AS_JSON, AS_MEMBERS, Filtering

if TYPE_CHECKING:
    from checkpost.engine.learn import Learnt

_PURPOSES = ("list", "create", "read", "replace", "update", "delete")
_SURE = {"stated": "", "likely": "", "guess": " ?"}
_STYLES = {"error": "bold red", "warning": "magenta", "note": "cyan"}


def _table(*columns: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for column in columns:
        # where there is no room, the longest are folded first: names of paths, and of what is referred to
        least = {"key": 11, "refers to": 14}.get(column)
        table.add_column(column, overflow="fold", min_width=least, no_wrap=column in {"may", "fields"})
    return table


def show_survey(
    contract: Contract,
    model: Model,
    flaws: Sequence[Flaw],
    console: Console,
    reasons: bool,
    roles: Mapping[str, Sequence[str]] | None = None,
    claims: Mapping[str, str] | None = None,
) -> None:
    """Print resources, security, doubts and flaws. ``roles`` maps the profile's roles to those of their
    environment variables that are not set, ``claims`` to what their tokens say of themselves."""
    console.print(
        Text.assemble((contract.title or "API", "bold"), f"  OpenAPI {contract.version}  {contract.location}")
    )
    for server in contract.servers:
        said = "  ".join(filter(None, (server.filled({}), server.name, server.description)))
        chosen = {name: value for name, value in server.variables.items() if value}
        filled = f"  ({', '.join(f'{name} = {value}' for name, value in chosen.items())})" if chosen else ""
        console.print(Text(f"server {said}{filled}", style="dim"))
    console.print()
    console.print(_resources(model, console.width))
    console.print()
    _lists(model, console)
    _rows(model, console)
    _queries(model, console)
    _together(model, console)
    console.print()
    _security(contract, model, console)
    if roles:
        ready = [name for name, missing in roles.items() if not missing]
        console.print(f"Roles of the profile: {', '.join(ready)} ready" if ready else "Roles of the profile:")
        for name, missing in roles.items():
            if missing:
                console.print(Text(f"  {name}: {', '.join(missing)} is not set", style="magenta"))
        for name, said in (claims or {}).items():
            console.print(Text(f"  {name}: the token says {said}", style="dim"))
        console.print()
    if reasons:
        _reasons(model, console)
    if model.others:
        console.print(f"{len(model.others)} operations belong to no resource:")
        for why, operations in _alike((why, str(operation)) for operation, why in model.others):
            names = operations if len(model.others) <= MANY else [_few(operations)]
            for name in names:
                console.print(Text(f"  {name}: {why}", style="dim"))
        console.print()
    if model.doubts:
        console.print("Doubts, and the line of the profile that settles each:", style="bold")
        settled = {doubt.message: doubt.settle for doubt in reversed(model.doubts)}
        for message, names in _alike((doubt.message, doubt.resource) for doubt in model.doubts):
            console.print(Text.assemble(f"  {_few(names)}: {message}\n", ("      " + settled[message], "dim")))
        console.print()
    _flaws(contract, flaws, console)


K = TypeVar("K")
V = TypeVar("V")
#: More resources, or operations, than this are told by what they have in common.
MANY = 30
#: Where a terminal is narrower, operations are letters in one column.
_NARROW = 100
_LETTERS = {"list": "L", "create": "C", "read": "R", "replace": "P", "update": "U", "delete": "D"}


def _resources(model: Model, width: int) -> RenderableType:
    if len(model.resources) > MANY:
        return Group(_kinds(model), Text(_told(), style="dim"))
    narrow = width < _NARROW
    heads = ("may",) if narrow else _PURPOSES
    table = _table("resource", *heads, "key", "fields", "refers to")
    if narrow:
        table.columns[0].no_wrap = table.columns[1].no_wrap = True
        table.columns[0].overflow = "ellipsis"
    for resource in model.resources:
        has = [purpose in resource.operations for purpose in _PURPOSES]
        refers = [f"{each.resource} by {each.field}" for each in resource.relations]
        table.add_row(
            Text(resource.name, style="bold"),
            *(
                [Text(_letters(resource))]
                if narrow
                else [Text("●" if there else "·", justify="center") for there in has]
            ),
            _key_text(resource),
            str(len(resource.fields)),
            ", ".join(dict.fromkeys(each.resource for each in resource.relations)) if narrow else ", ".join(refers),
        )
    return Group(table, Text(_told(), style="dim")) if narrow else table


def _letters(resource: Resource) -> str:
    return "".join(_LETTERS[each] if each in resource.operations else "·" for each in _PURPOSES)


def _key_text(resource: Resource) -> str:
    key = resource.key
    return f"{', '.join(key.fields)} ({key.assigned_by}){_SURE[key.reason.certainty]}" if key else "not known"


def _told() -> str:
    return ", ".join(f"{letter} {purpose}" for purpose, letter in _LETTERS.items())


def _kinds(model: Model) -> RenderableType:
    """Of many resources what those have in common that are alike, the most first."""
    table = _table("resources", "may", "key", "fields", "of them")
    alike = _alike(((_letters(each), _key_text(each)), each) for each in model.resources)
    for (letters, key), resources in sorted(alike, key=lambda each: -len(each[1]))[:MANY]:
        numbers = sorted({len(each.fields) for each in resources})
        fields = str(numbers[0]) if len(numbers) == 1 else f"{numbers[0]} to {numbers[-1]}"
        table.add_row(Text(str(len(resources)), style="bold"), letters, key, fields, _few([r.name for r in resources]))
    return table


def _alike(pairs: Iterable[tuple[K, V]]) -> list[tuple[K, list[V]]]:
    """What stands with the same key together, in the order of first appearance."""
    found: dict[K, list[V]] = {}
    for key, value in pairs:
        found.setdefault(key, []).append(value)
    return list(found.items())


def _lists(model: Model, console: Console) -> None:
    """How lists answer, resources that do it alike together."""
    alike: dict[str, list[str]] = {}
    for resource in model.resources:
        alike.setdefault(_list_text(resource), []).append(resource.name)
    for text, names in alike.items():
        if text:
            where = "every resource" if len(alike) == 1 else _some(names, model)
            console.print(Text.assemble((f"{'List:':<11}", "bold"), text, (f": {where}", "dim")))


def _rows(model: Model, console: Console) -> None:
    """How rows are named and stand in bodies, where that is not by their own path and as plain objects."""
    alike: dict[str, list[str]] = {}
    for resource in model.resources:
        for text in _row_texts(resource):
            alike.setdefault(text, []).append(resource.name)
    for text, names in alike.items():
        where = "every resource" if len(names) == len(model.resources) else _some(names, model)
        console.print(Text.assemble((f"{'Row:':<11}", "bold"), text, (f": {where}", "dim")))


def _row_texts(resource: Resource) -> Iterator[str]:
    if resource.by_filter:
        yield "what the list's filter for its key leaves"
    places: dict[str, list[str]] = {}
    for purpose, each in resource.addresses.items():
        if each.query or each.body:
            places.setdefault("query" if each.query else "body", []).append(purpose)
    if places:
        yield "its key " + ", ".join(f"in the {place} ({', '.join(named)})" for place, named in places.items())
    if resource.under:
        yield f"under one of {resource.under}"
    if resource.layout.fields_at:
        yield f"its fields inside {resource.layout.fields_at}"
    if resource.envelope.keyed:
        yield "a member of the list's object, by its key"
    if resource.patched:
        yield "changed by a patch of operations (RFC 6902)"
    if resource.listed:
        yield f"sent in a list ({', '.join(sorted(resource.listed))})"
    create = resource.operations.get("create")
    if create is not None and is_form(request_media_type(create)):
        yield f"sent as a form ({request_media_type(create)})"
    if resource.bodies_untold:
        yield f"taken to be sent as it is shown, since no body is described ({', '.join(resource.bodies_untold)})"
    elif resource.guessed:
        yield "its fields taken from the first rows"


def _list_text(resource: Resource) -> str:
    """Where the rows of the list stand, and how it is paged."""
    rows, paging = resource.envelope.rows, resource.paging
    if "list" not in resource.operations:
        return ""
    where = "rows not described" if rows is None else (f"rows at {rows}" if rows else "an array")
    by = {
        "offset": f"{paging.limit}, {paging.position}",
        "page": ", ".join(filter(None, (paging.limit, paging.position))),
        "next": "a link to the next page",
        "cursor": f"a cursor, {paging.cursor}",
        "link": "a Link header",
        "range": "a Range header",
        "none": "",
    }[paging.style]
    return where + (f", paged by {by}" if by else "")


def _queries(model: Model, console: Console) -> None:
    """What lists can be asked, resources that are asked alike together: what some lack is not told apart."""
    alike: dict[tuple[str, str], tuple[list[str], list[str]]] = {}
    for resource in model.resources:
        for asked in query_texts(resource):
            details, names = alike.setdefault((asked.what, asked.form), ([], []))
            details += [each for each in asked.details if each not in details]
            names.append(resource.name)
    lists = len([each for each in model.resources if "list" in each.operations])
    for (what, form), (details, names) in alike.items():
        where = "every resource" if len(names) == lists else _some(names, model)
        said = f" ({_in_order(details)})" if details else ""
        console.print(Text.assemble((f"{what + ':':<11}", "bold"), form + said, (f": {where}", "dim")))


def _together(model: Model, console: Console) -> None:
    """What belongs to rows, how many rows are written at once, and what keeps changes apart."""
    under = [sub.path for each in model.resources for sub in each.subcollections]
    under += [
        f"{link.path.rpartition('/')[0]}/{link.name}" if link.name else link.path
        for each in model.resources
        for link in each.linkages
    ]
    if under:
        shown = ", ".join(under[:4]) + (f" and {len(under) - 4} more" if len(under) > 4 else "")
        console.print(Text.assemble((f"{'Under:':<11}", "bold"), shown))
    for what, describe in (("Expand", _expansion_text), ("At once", _bulk_text), ("Guards", _guards_text)):
        alike: dict[str, list[str]] = {}
        for resource in model.resources:
            alike.setdefault(describe(resource), []).append(resource.name)
        for text, names in alike.items():
            if text:
                where = "every resource" if len(names) == len(model.resources) else _some(names, model)
                console.print(Text.assemble((f"{what + ':':<11}", "bold"), text, (f": {where}", "dim")))


def _expansion_text(resource: Resource) -> str:
    expansion = resource.expansion
    if expansion is None:
        return "always there" if resource.embedded else ""
    return f"{expansion.parameter}=NAME" + ("" if expansion.separator is None else f"{expansion.separator}NAME")


def _bulk_text(resource: Resource) -> str:
    """The operations on many rows, in a few words each."""
    forms = {"array": "an array", "lines": "a row a line", "filter": "by filter"}
    said = []
    for bulk in resource.bulk.values():
        path = bulk.operation.path.removeprefix(resource.collection or "") or "the list's path"
        form = forms.get(bulk.form, f"{bulk.name}=KEYS" if bulk.form == "query" else f"an array under {bulk.name}")
        form += f" with {' = '.join(bulk.action)}" if bulk.inner else ""
        form += f" of keys, and one change under {bulk.beside}" if bulk.beside else ""
        said.append(f"{bulk.operation.method} {path} ({form})")
    return ", ".join(said)


def _guards_text(resource: Resource) -> str:
    guards = resource.guards
    named = ["ETag" if guards.tagged else "", "If-Match" if guards.matching else ""]
    named += ["If-None-Match" if guards.rereads else "", guards.version, guards.once]
    return ", ".join(each for each in named if each)


def _in_order(words: Sequence[str]) -> str:
    known = [each.replace("_", " ") for each in (*get_args(Operator), *get_args(Function))]
    return ", ".join(sorted(words, key=lambda word: known.index(word) if word in known else len(known)))


@dataclass(frozen=True)
class Asked:
    """One thing that a list can be asked: how it is written, its operators or functions, and why it is so."""

    what: str
    form: str
    details: tuple[str, ...]
    reason: Reason


def query_texts(resource: Resource) -> Iterator[Asked]:
    """What a list can be asked and how it is written, in words."""
    queries = resource.queries
    posted = ", in the body of a POST" if resource.search is not None and resource.in_body else ""
    beside = ", at a path of its own" if resource.search is not None and not resource.in_body else ""
    if queries.filterings:
        asked = _filter_text(queries.filterings)
        yield replace(asked, form=asked.form + posted)
    if queries.sortings:
        sorting = queries.sortings[0]
        keys = f"{sorting.ascending} or {sorting.descending}".replace("{field}", "FIELD")
        if sorting.choices:
            keys = " or ".join(next(iter(sorting.choices.values())))
        if sorting.direction:
            keys = f"FIELD, with {sorting.direction}={'|'.join(sorting.words)}"
        tried = "; other ways are tried" if len(queries.sortings) > 1 else ""
        name = sorting.parameter.replace("{field}", "FIELD")
        yield Asked("Sort", f"{name}={keys}{posted}{tried}", (), sorting.reason)
    if queries.selecting:
        selecting = queries.selecting
        joined = "A, repeated"
        if selecting.separator is not None:
            joined = {AS_JSON: '["A","B"]', AS_MEMBERS: '{"A":1,"B":1}'}.get(
                selecting.separator, f"A{selecting.separator}B"
            )
        yield Asked("Select", f"{selecting.parameter}={joined}", (), selecting.reason)
    if queries.searching:
        yield Asked("Search", f"{queries.searching.parameter}=TEXT{beside}", (), queries.searching.reason)
    if queries.counting:
        counting = queries.counting
        sign = ": " if counting.header else "="
        yield Asked("Count", f"{counting.parameter}{sign}{counting.value}", (), counting.reason)
    if queries.aggregating:
        aggregating = queries.aggregating
        beside = aggregating.path.removeprefix(resource.collection or "") or aggregating.parameter
        grouped = ", also of groups" if aggregating.group else ""
        yield Asked("Aggregate", beside + grouped, tuple(aggregating.functions), aggregating.reason)


def _filter_text(filterings: Sequence[Filtering]) -> Asked:
    filtering = filterings[0]
    if len(filterings) > 1 and not filtering.parameter:
        named = next((each.parameter for each in filterings if each.parameter), "")
        return Asked("Filter", f"FIELD=… or {named}=…; {len(filterings)} ways are tried", (), filtering.reason)
    if len(filterings) > 1:
        text = f"{filtering.parameter}=…, which the contract does not describe; {len(filterings)} ways are tried"
        return Asked("Filter", text, (), filtering.reason)
    words = [operator.replace("_", " ") for _, operator in filtering.templates]
    words += [word for word, template in (("or", filtering.disjunction), ("not", filtering.negation)) if template]
    form = f"{filtering.parameter}=a JSON value" if filtering.form == "json" else f"{filtering.parameter}=an expression"
    if filtering.form == "parameters":
        preferred = ("ge", "gt", "from", "contains", "in", "eq")
        ranked = sorted(filtering.templates, key=lambda key: (*preferred, key[1]).index(key[1]))
        form = shape_text(ranked[0][0], filtering.templates[ranked[0]])
    return Asked("Filter", form, tuple(dict.fromkeys(words)), filtering.reason)


def scheme_text(scheme: SecurityScheme) -> str:
    """A security scheme in words."""
    if scheme.type == "http":
        return f"HTTP {scheme.scheme}"
    if scheme.type == "apiKey":
        return f"key in the {scheme.where} {scheme.parameter}"
    return scheme.type


def _security(contract: Contract, model: Model, console: Console) -> None:
    if contract.schemes:
        schemes = ", ".join(f"{scheme.name} ({scheme_text(scheme)})" for scheme in contract.schemes)
        console.print(f"Credentials: {schemes}")
    groups: dict[str, list[str]] = {"open to the public": [], "with credentials": [], "security not stated": []}
    for resource in model.resources:
        for purpose, operation in resource.operations.items():
            groups[_openness(operation)].append(f"{resource.name} {purpose}")
    for name, members in groups.items():
        if members:
            shortened = ", ".join(members[:6]) + (f" and {len(members) - 6} more" if len(members) > 6 else "")
            console.print(Text(f"  {name}: {shortened}", style="dim"))
    console.print()


def _openness(operation: Operation) -> str:
    if operation.security is None:
        return "security not stated"
    return "open to the public" if operation.open else "with credentials"


def _reasons(model: Model, console: Console) -> None:
    table = _table("resource", "what", "understood as", "sure", "since")
    for resource in model.resources:
        rows = []
        if resource.key:
            rows.append(("key", ", ".join(resource.key.fields), resource.key.reason))
        envelope = resource.envelope
        where = "nowhere described" if envelope.rows is None else (envelope.rows or "the body itself")
        rows.append(("rows of the list", where, envelope.reason))
        rows.append(("paging", resource.paging.style, resource.paging.reason))
        rows += [
            (asked.what.lower(), f"{asked.form} {_in_order(asked.details)}".strip(), asked.reason)
            for asked in query_texts(resource)
        ]
        rows += [(f"reference {each.field}", each.resource, each.reason) for each in resource.relations]
        for sub in resource.subcollections:
            rows.append((f"under a row, {sub.path.rpartition('/')[2]}", sub.child, sub.reason))
        rows += [
            (f"relationship {each.name or 'of any name'}", each.child or "as rows show", each.reason)
            for each in resource.linkages
        ]
        rows += [(f"inside a row, {each.name}", each.resource, each.reason) for each in resource.embedded]
        rows += [(f"made along, {each.name}", each.resource, each.reason) for each in resource.nested]
        rows += [(f"many at once, {name}", bulk.form, bulk.reason) for name, bulk in resource.bulk.items()]
        if _guards_text(resource):
            rows.append(("guards", _guards_text(resource), resource.guards.reason))
        rows += [(f"unique {each.name}", "yes", each.unique_reason) for each in resource.fields if each.unique_reason]
        for what, value, reason in rows:
            table.add_row(resource.name, what, value, reason.certainty, reason.text)
    console.print(table)
    console.print()


#: The operation with which a sentence about it begins, and names in quotes; how many sentences that differ in these
#: alone are shown.
_NAMED, _MOST_ALIKE = re.compile(r"^(?:GET|PUT|POST|PATCH|DELETE|HEAD|OPTIONS|QUERY) /\S* |'[^']*'"), 6


def _flaws(contract: Contract, flaws: Sequence[Flaw], console: Console) -> None:
    if not flaws:
        console.print("The contract has no flaws that can be seen without the API.", style="green")
        return
    console.print(f"Flaws of the contract: {len(flaws)}", style="bold")
    kinds: dict[tuple[str, str], dict[str, list[Flaw]]] = {}
    for flaw in flaws:
        kinds.setdefault((flaw.severity, _NAMED.sub("", flaw.message)), {}).setdefault(flaw.message, []).append(flaw)
    alike: list[list[Flaw]] = []
    for messages in kinds.values():
        # what is wrong with many operations or names is said once, of the first
        each_alone = len(messages) <= _MOST_ALIKE
        alike += messages.values() if each_alone else [[each for group in messages.values() for each in group]]
    lines = contract.library.lines([first.place for first, *_ in alike])
    for first, *others in alike:
        line, _ = lines[first.place]
        where = "" if first.place.location == contract.location else f"{first.place.location} "
        more = f" So in {len(others)} places more." if others else ""
        text = f"{where}line {line}: {first.message}{more}"
        console.print(Text.assemble((f"  {first.severity:<8}", _STYLES[first.severity]), text))


def show_resource(resource: Resource, console: Console) -> None:
    """Print one resource with its fields and their rules."""
    console.print(Text.assemble((resource.name, "bold"), f"  {resource.collection or ''}  {resource.item or ''}"))
    table = _table("field", "type", "rules", "")
    for field in resource.fields:
        table.add_row(Text(field.name, style="bold"), _type(field), _rules(field), _part(field, resource))
    console.print(table)
    console.print()


def _type(field: Field) -> str:
    name = " or ".join(sorted(field.types)) or "any"
    return name + (f" {field.format}" if field.format else "") + (", null" if field.nullable else "")


def _rules(field: Field) -> str:
    names = (
        "minimum",
        "maximum",
        "exclusiveMinimum",
        "exclusiveMaximum",
        "multipleOf",
        "minLength",
        "maxLength",
        "pattern",
    )
    said = [f"{name} {field.keywords[name]}" for name in names if name in field.keywords]
    if "enum" in field.keywords:
        said.append("one of " + ", ".join(map(str, field.keywords["enum"])))
    if field.default is not MISSING:
        said.append(f"default {field.default}")
    return ", ".join(said)


def _part(field: Field, resource: Resource) -> str:
    relation = resource.relation(field.name)
    said = [
        "key" if resource.key and field.name in resource.key.fields else "",
        "required" if field.required else "",
        "unique" if field.unique_reason else "",
        "read-only" if field.read_only else "",
        "write-only" if field.write_only else "",
        f"refers to {relation.resource}" if relation else "",
    ]
    return ", ".join(word for word in said if word)


def show_learnt(learnt: Sequence[Learnt], console: Console) -> None:
    """Print what reads of the API have settled."""
    console.print()
    console.print("Settled by reads:" if learnt else "No doubt could be settled by reads.", style="bold")
    for each in learnt:
        console.print(Text.assemble(("  " + each.about, "bold"), f": {each.text}"))


def show_told(told: Mapping[str, tuple[Sequence[str], Sequence[str]]], console: Console) -> None:
    """Print for which roles the contract's URL gives another description."""
    for name, (more, less) in told.items():
        parts = [f"also {_few(more)}" if more else "", f"without {_few(less)}" if less else ""]
        console.print(Text(f"  described to {name}: {'; '.join(filter(None, parts))}", style="magenta"))


def _some(names: Sequence[str], model: Model) -> str:
    """Names of resources: all of them, or where there are many the first and how many more."""
    return _few(names) if len(model.resources) > MANY else ", ".join(names)


def _few(names: Sequence[str]) -> str:
    return ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
