"""Catalogues: documents that link one description for each resource or service."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

#: Link relations that lead to a machine-readable description (RFC 8631, 4), and where catalogues keep such links.
_RELATIONS = ("service-desc", "describedby", "item")
_ADDRESSES = ("url", "href", "link", "location", "openapi", "swagger", "spec", "definition")
_ENDINGS = (".json", ".yaml", ".yml")
_WORDS = ("openapi", "swagger", "api-docs", "api_docs", "apidocs", "metadata", "schema", "describe")


def linked_descriptions(document: Any) -> list[str]:
    """The references of a catalogue to the descriptions that it lists, in their order; none for another document.

    Understood are link sets (RFC 9264, as an API catalogue has them by RFC 9727), and lists or mappings whose
    entries hold an address that looks like a description's.
    """
    if isinstance(document, dict) and isinstance(document.get("linkset"), list):
        found = _linkset(document["linkset"])
    else:
        found = _addresses(document, 0)
    return list(dict.fromkeys(found))


def _linkset(contexts: list[Any]) -> Iterator[str]:
    entries = [each for each in contexts if isinstance(each, dict)]
    for relation in _RELATIONS:
        targets = [
            target["href"]
            for each in entries
            for target in each.get(relation) or ()
            if isinstance(target, dict) and isinstance(target.get("href"), str)
        ]
        if targets:
            yield from targets
            return


def _addresses(value: Any, depth: int) -> Iterator[str]:
    if depth > 4:
        return
    if isinstance(value, list):
        for each in value:
            if isinstance(each, str) and _looks(each):
                yield each
            else:
                yield from _addresses(each, depth + 1)
    elif isinstance(value, dict):
        own = [value[key] for key in _ADDRESSES if isinstance(value.get(key), str)]
        own += [value["$ref"]] if isinstance(value.get("$ref"), str) else []
        described = next((each for each in own if _looks(each)), None)
        if described is not None:
            yield described
            return
        for each in value.values():
            if isinstance(each, str) and _looks(each) and depth:
                yield each
            elif isinstance(each, dict | list):
                yield from _addresses(each, depth + 1)


def _looks(text: str) -> bool:
    """Whether a text is the address of a description, by its ending or its words."""
    if " " in text or len(text) > 2000:
        return False
    path = text.partition("?")[0].partition("#")[0].lower()
    return path.endswith(_ENDINGS) or ("/" in path and any(word in path for word in _WORDS))
