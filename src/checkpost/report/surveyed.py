"""A contract's survey as a person reads it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from rich.console import Console
from rich.table import Table
from rich.text import Text

from checkpost.contract.contract import Contract, Flaw, Operation, SecurityScheme
from checkpost.model.resource import MISSING, Field, Model, Resource

_PURPOSES = ("list", "create", "read", "replace", "update", "delete")
_SURE = {"stated": "", "likely": "", "guess": " ?"}
_STYLES = {"error": "bold red", "warning": "yellow", "note": "cyan"}


def _table(*columns: str) -> Table:
    table = Table(box=None, padding=(0, 2, 0, 0), header_style="dim")
    for column in columns:
        table.add_column(column, overflow="fold")
    return table


def show_survey(
    contract: Contract,
    model: Model,
    flaws: Sequence[Flaw],
    console: Console,
    reasons: bool,
    roles: Mapping[str, Sequence[str]] | None = None,
) -> None:
    """Print resources, security, doubts and flaws. ``roles`` maps the profile's roles to those of their
    environment variables that are not set."""
    console.print(
        Text.assemble((contract.title or "API", "bold"), f"  OpenAPI {contract.version}  {contract.location}")
    )
    for server in contract.servers:
        console.print(Text(f"server {server.url}  {server.description}", style="dim"))
    console.print()
    console.print(_resources(model))
    console.print()
    _lists(model, console)
    _security(contract, model, console)
    if roles:
        ready = [name for name, missing in roles.items() if not missing]
        console.print(f"Roles of the profile: {', '.join(ready)} ready" if ready else "Roles of the profile:")
        for name, missing in roles.items():
            if missing:
                console.print(Text(f"  {name}: {', '.join(missing)} is not set", style="yellow"))
        console.print()
    if reasons:
        _reasons(model, console)
    if model.others:
        console.print(f"{len(model.others)} operations belong to no resource:")
        for operation, why in model.others:
            console.print(Text(f"  {operation}: {why}", style="dim"))
        console.print()
    if model.doubts:
        console.print("Doubts, and the line of the profile that settles each:", style="bold")
        for doubt in model.doubts:
            console.print(Text.assemble(f"  {doubt.resource}: {doubt.message}\n", ("      " + doubt.settle, "dim")))
        console.print()
    _flaws(contract, flaws, console)


def _resources(model: Model) -> Table:
    table = _table("resource", "list", "create", "read", "replace", "update", "delete", "key", "fields", "refers to")
    for resource in model.resources:
        key = resource.key
        table.add_row(
            Text(resource.name, style="bold"),
            *(Text("●" if purpose in resource.operations else "·", justify="center") for purpose in _PURPOSES),
            f"{', '.join(key.fields)} ({key.assigned_by}){_SURE[key.reason.certainty]}" if key else "not known",
            str(len(resource.fields)),
            ", ".join(f"{each.resource} by {each.field}" for each in resource.relations),
        )
    return table


def _lists(model: Model, console: Console) -> None:
    """How lists answer, resources that do it alike together."""
    alike: dict[str, list[str]] = {}
    for resource in model.resources:
        alike.setdefault(_list_text(resource), []).append(resource.name)
    for text, names in alike.items():
        if text:
            console.print(f"Lists: {text}: {'every resource' if len(alike) == 1 else ', '.join(names)}")


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
        "none": "",
    }[paging.style]
    return where + (f", paged by {by}" if by else "")


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
        rows += [(f"reference {each.field}", each.resource, each.reason) for each in resource.relations]
        rows += [(f"unique {each.name}", "yes", each.unique_reason) for each in resource.fields if each.unique_reason]
        for what, value, reason in rows:
            table.add_row(resource.name, what, value, reason.certainty, reason.text)
    console.print(table)
    console.print()


def _flaws(contract: Contract, flaws: Sequence[Flaw], console: Console) -> None:
    if not flaws:
        console.print("The contract has no flaws that can be told without the API.", style="green")
        return
    console.print(f"Flaws of the contract: {len(flaws)}", style="bold")
    lines = contract.library.lines([flaw.place for flaw in flaws])
    for flaw in flaws:
        line, _ = lines[flaw.place]
        where = "" if flaw.place.location == contract.location else f"{flaw.place.location} "
        console.print(
            Text.assemble((f"  {flaw.severity:<8}", _STYLES[flaw.severity]), f"{where}line {line}: {flaw.message}")
        )


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
