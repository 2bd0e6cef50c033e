"""What is not sure in the reading of a contract, and the line of the profile that settles it."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Mapping

from checkpost.contract.contract import Contract
from checkpost.model.paths import nameless, parameters, plain
from checkpost.model.resource import Doubt, Resource
from checkpost.model.unfolding import fold_of


def folded_doubts(contract: Contract) -> list[Doubt]:
    """That one path is for all tables, where it is not told which they are."""
    fold = fold_of(contract)
    if fold is None:
        return []
    message = f"which tables {fold.own} stands for is not stated; a run asks the API, if something lists them"
    return [Doubt(fold.path, message, f"tables: [{fold.form}, …]")]


#: How many paths have to stand under a row that nothing lists, to be worth a line of the profile.
_WORTH = 2


def unlisted_doubts(contract: Contract, resources: Mapping[str, Resource]) -> list[Doubt]:
    """That paths stand under rows of which no list gives the keys."""
    listed = {nameless(plain(each.item)) for each in resources.values() if each.item and "list" in each.operations}
    under: dict[str, list[str]] = defaultdict(list)
    for operation in contract.operations:
        whole = nameless(plain(operation.path))
        ways = {whole[: each.end()] for each in re.finditer(r"\{\}", whole)}
        head, brace, _ = operation.path.partition("}/")
        if brace and not ways & listed:
            under[head + "}"].append(operation.path)
    fold, found = fold_of(contract), []
    for head, paths in under.items():
        name = parameters(head)[-1]
        message = f"which {name} to look under is not known, since nothing lists them ({len(paths)} operations)"
        folded = fold is not None and fold.path.startswith(head)
        if len(paths) >= _WORTH and len(parameters(head)) == 1 and not folded:
            found.append(Doubt(f"{head}/…", message, f"parameters: {{{name}: VALUE}}"))
    return found


def doubts_of(resources: Mapping[str, Resource]) -> list[Doubt]:
    found = []
    for name, resource in resources.items():
        if resource.key is None:
            message = "its key could not be recognised; what needs the key is skipped"
            found.append(Doubt(name, message, f"resources: {{{name}: {{key: FIELD}}}}"))
        elif resource.key.reason.certainty == "guess":
            message = f"{', '.join(resource.key.fields)} is only guessed to be its key"
            settle = f"resources: {{{name}: {{key: {', '.join(resource.key.fields)}}}}}"
            found.append(Doubt(name, message, settle))
        if "list" in resource.operations and resource.envelope.rows is None:
            found.append(
                Doubt(name, "where its list holds the rows is not described", f"resources: {{{name}: {{rows: /KEY}}}}")
            )
        queries = resource.queries
        for what, ways in (("filter", queries.filterings), ("sort", queries.sortings)):
            if len(ways) > 1:
                parameter = next((each.parameter for each in ways if each.parameter), "")
                message = f"how {parameter} is written is not described; a run tries the usual ways"
                found.append(Doubt(name, message, f"queries: {{{what}: {{parameter: {parameter}, …}}}}"))
        for field in resource.fields:
            called = field.name.lower()
            own = called.endswith(("uuid", "guid", "ulid")) and "_" not in called
            lost = called.endswith("id") and len(called) > 2 and field.created and not own
            is_key = resource.key is not None and field.name in resource.key.fields
            if lost and not is_key and resource.relation(field.name) is None and field.types & {"integer", "string"}:
                found.append(
                    Doubt(
                        name,
                        f"{field.name} looks like a reference, but to what is not known",
                        f"resources: {{{name}: {{references: {{{field.name}: RESOURCE}}}}}}",
                    )
                )
    return found
