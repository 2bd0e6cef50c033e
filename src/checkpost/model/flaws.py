"""What is wrong with a contract itself, found without sending anything."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import replace

from checkpost.contract.contract import BODILESS, Contract, Flaw, Operation
from checkpost.contract.node import Node, Unresolved
from checkpost.contract.validators import Validators
from checkpost.model.paths import nameless, parameters
from checkpost.model.purpose import Purpose
from checkpost.model.resource import Model

_REFUSALS = {"404", "410", "4XX", "DEFAULT"}
_ITEM: tuple[Purpose, ...] = ("read", "replace", "update", "delete")


def flaws(contract: Contract, model: Model) -> list[Flaw]:
    """Every flaw, those that reading has met included, in the order of their gravity."""
    # an operation for all tables has been unfolded into one for each, and is looked at once
    contract = replace(contract, operations=tuple({each.place: each for each in contract.operations}.values()))
    found = [
        *contract.flaws,
        *_responses(contract),
        *_parameters(contract),
        *_alike(contract),
        *_identifiers(contract),
        *_security(contract),
        *_examples(contract),
        *_missing_keys(model),
        *_untold(contract, model),
    ]
    order = {"error": 0, "warning": 1, "note": 2}
    return sorted(found, key=lambda flaw: order[flaw.severity])


def _responses(contract: Contract) -> Iterator[Flaw]:
    for operation in contract.operations:
        if not operation.responses:
            yield Flaw("warning", "no-responses", f"{operation} documents no answers.", operation.place)
        elif not operation.success() and not any(
            response.status.upper() in {"DEFAULT", "3XX"} or response.status.startswith("3")
            for response in operation.responses
        ):
            yield Flaw("warning", "no-success", f"{operation} documents no successful answer.", operation.place)


def _parameters(contract: Contract) -> Iterator[Flaw]:
    for operation in contract.operations:
        in_path = set(parameters(operation.path))
        declared = {each.name for each in operation.parameters if each.location == "path"}
        for name in sorted(in_path - declared):
            message = f"{operation} has {{{name}}} in its path, but does not declare the parameter."
            yield Flaw("warning", "undeclared-parameter", message, operation.place)
        for each in operation.parameters:
            if each.location == "path" and each.name not in in_path:
                message = f"{operation} declares the path parameter {each.name}, which its path does not have."
                yield Flaw("warning", "stray-parameter", message, each.place)


def _alike(contract: Contract) -> Iterator[Flaw]:
    """Paths that differ in the names of their parameters alone (OpenAPI 3.1, 4.8.8.2: they are identical)."""
    known: dict[str, Operation] = {}
    told: set[str] = set()
    for operation in contract.operations:
        first = known.setdefault(nameless(operation.path), operation)
        if first.path != operation.path and operation.path not in told:
            told.add(operation.path)
            message = f"{operation.path} and {first.path} are one path: they differ in the names of parameters alone."
            yield Flaw("warning", "paths-alike", message, operation.place)


def _identifiers(contract: Contract) -> Iterator[Flaw]:
    counts = Counter(operation.operation_id for operation in contract.operations if operation.operation_id)
    seen: set[str] = set()
    for operation in contract.operations:
        name = operation.operation_id
        if counts[name] > 1 and name in seen:
            yield Flaw("warning", "duplicate-id", f"The operationId {name!r} is given more than once.", operation.place)
        seen.add(name)


def _security(contract: Contract) -> Iterator[Flaw]:
    known = {scheme.name for scheme in contract.schemes}
    reported: set[str] = set()
    for operation in contract.operations:
        for name in sorted({name for each in operation.security or () for name in each} - known - reported):
            reported.add(name)
            message = f"{operation} asks for the security scheme {name!r}, which is not declared."
            yield Flaw("warning", "unknown-scheme", message, operation.place)


def _missing_keys(model: Model) -> Iterator[Flaw]:
    """One flaw for all operations that leave open what a missing key is answered with."""
    silent: list[Operation] = []
    for resource in model.resources:
        for purpose in _ITEM:
            operation = resource.operations.get(purpose)
            if (
                operation
                and not resource.by_filter
                and not _REFUSALS & {response.status.upper() for response in operation.responses}
            ):
                silent.append(operation)
    if silent:
        message = f"No answer is documented for a missing key: {_some(silent)}."
        yield Flaw("note", "no-not-found", message, silent[0].place)


def _untold(contract: Contract, model: Model) -> Iterator[Flaw]:
    """What the contract leaves open as a whole: one flaw each, for all operations and resources."""
    silent = [
        operation
        for operation in contract.operations
        if operation.method == "GET"
        for response in operation.success()
        if response.status != "204" and all(media.schema is None and media.item is None for media in response.content)
    ]
    if silent:
        message = f"The contract does not describe what an answer holds: {_some(silent)}."
        yield Flaw("note", "no-schema", message, silent[0].place)
    bodied = [
        operation
        for operation in contract.operations
        if any(each.status in BODILESS and each.content for each in operation.responses)
    ]
    if bodied:
        message = (
            f"A body is documented for a status that has none (204, 205 or 304; RFC 9110, 6.4.1): {_some(bodied)}."
        )
        yield Flaw("note", "body-of-none", message, bodied[0].place)
    unsecured = [operation for operation in contract.operations if operation.security is None]
    if unsecured and len(unsecured) == len(contract.operations):
        declared = (
            f", though it declares {', '.join(each.name for each in contract.schemes)}" if contract.schemes else ""
        )
        message = f"No operation says whether it needs credentials{declared}."
        yield Flaw("warning" if declared else "note", "no-security", message, unsecured[0].place)
    elif unsecured and contract.schemes:
        message = f"It is not said whether credentials are needed: {_some(unsecured)}."
        yield Flaw("note", "no-security", message, unsecured[0].place)
    open_rows = [each.name for each in model.resources if each.fields_unstated and each.row is not None]
    rows = next((each.row for each in model.resources if each.fields_unstated and each.row is not None), None)
    if rows is not None:
        named = ", ".join(open_rows[:4]) + (f" and {len(open_rows) - 4} more" if len(open_rows) > 4 else "")
        message = f"Whether rows may hold fields beyond those named is not said ('additionalProperties'): {named}."
        yield Flaw("note", "no-additional", message, rows.place)


def _some(operations: Sequence[Operation]) -> str:
    rest = f" and {len(operations) - 4} more" if len(operations) > 4 else ""
    return ", ".join(map(str, operations[:4])) + rest


def _examples(contract: Contract) -> Iterator[Flaw]:
    """Examples and defaults that break the schema beside them, and schemas that cannot be compiled."""
    validators = Validators(contract)
    for location in list(contract.library.documents):
        yield from _examples_in(contract.library.root(location), validators, False, set())
    for uri, problem in validators.uncompilable.items():
        location, _, pointer = uri.partition("#")
        place = Node(contract.library, location, pointer, None).place
        yield Flaw("warning", "unusable-schema", f"A schema cannot be used: {problem[:160]}.", place)


def _examples_in(node: Node, validators: Validators, names: bool, seen: set[int]) -> Iterator[Flaw]:
    if not isinstance(node.value, dict | list) or id(node.value) in seen:
        return
    seen.add(id(node.value))
    if isinstance(node.value, dict) and not names:
        yield from _examples_of(node, validators)
    for key, child in node.children():
        if names or key not in {"example", "examples", "default", "enum", "const"}:
            yield from _examples_in(child, validators, key in {"properties", "schemas"} and not names, seen)


def _examples_of(node: Node, validators: Validators) -> Iterator[Flaw]:
    values: list[tuple[str, object, Node]] = []
    is_schema = "type" in node.value or "properties" in node.value or "enum" in node.value
    if is_schema:
        values += [(key, node.value[key], node) for key in ("example", "default") if key in node.value]
        if isinstance(node.value.get("examples"), list):
            values += [("examples", each, node) for each in node.value["examples"]]
    elif isinstance(node.value.get("schema"), dict):
        schema = node.child("schema")
        if "example" in node.value:
            values.append(("example", node.value["example"], schema))
        if isinstance(node.value.get("examples"), dict):
            values += [
                ("examples", each["value"], schema)
                for each in node.value["examples"].values()
                if isinstance(each, dict) and "value" in each
            ]
    for key, value, schema in values:
        try:
            schema.resolved()
        except Unresolved:
            continue
        # an example may be of either direction; it is wrong if it is wrong in both
        broken = [next(iter(validators.violations(schema, value, way)), None) for way in ("request", "response")]
        if all(broken) and broken[0] is not None:
            message = f"The {key} breaks its own schema: {broken[0].message[:160]}."
            yield Flaw("warning", "broken-example", message, node.child(key).place)
