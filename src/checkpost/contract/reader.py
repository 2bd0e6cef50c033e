"""From a location to a Contract: the version decides which module reads the document."""

from __future__ import annotations

import posixpath
from collections.abc import Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from types import ModuleType
from typing import Any, Literal
from urllib.parse import urljoin, urlsplit

from checkpost.contract import openapi20, openapi30, openapi31, openapi32
from checkpost.contract.catalogue import linked_descriptions
from checkpost.contract.contract import Contract, Flaw, Server
from checkpost.contract.errors import ContractError, Place
from checkpost.contract.mending import VALUES, Mended, mend
from checkpost.contract.node import Library, Load, Node, Unresolved, resolve_location
from checkpost.contract.positions import locate

#: The module for each version prefix: ``normalise(document)`` and ``read(root)``.
VERSIONS: dict[str, ModuleType] = {"2.0": openapi20, "3.0": openapi30, "3.1": openapi31, "3.2": openapi32}


def load_file(location: str) -> bytes:
    """The bytes of a file. Raises OSError."""
    return Path(location).read_bytes()


def read_contract(location: str, load: Load = load_file) -> Contract:
    """Read the OpenAPI description at a path or URL, or all of those that a catalogue there links.

    Raises ContractError, with the line where there is one, if it cannot be read at all. What can be read
    past (a reference that leads nowhere, for instance) is a flaw of the contract instead.
    """
    library = Library(load)
    try:
        document = library.document(location)
        linked = linked_descriptions(document) if not _is_description(document) else []
        if linked:
            return _joined(location, library, linked)
        contract = _read(location, library)
        flaws = (*contract.flaws, *_flaws_on_the_way(library, set(contract.flaws)))
        return replace(contract, flaws=tuple(_by_document(flaws, library)))
    except OSError as error:
        raise ContractError(location, f"cannot be read: {error.strerror or error}.") from None
    except RecursionError:
        raise ContractError(location, "is nested too deeply, or refers to itself without end.") from None


def _is_description(document: Any) -> bool:
    return isinstance(document, dict) and _version(document) is not None


def _read(location: str, library: Library) -> Contract:
    document = library.document(location)
    module = _module(location, document, library.texts[location])
    library.normalise = lambda other: _normalised(other, module)
    library.documents[location], library.mended[location] = library.normalise(document)
    contract: Contract = module.read(library.root(location))
    return contract


def _flaws_on_the_way(library: Library, known: set[Flaw]) -> Iterator[Flaw]:
    yield from _dangling(library, known)
    for at, found in library.mended.items():
        for each in found:
            severity: Literal["note", "warning"] = "note" if each.kind.startswith("no-") else "warning"
            yield Flaw(severity, each.kind, each.message, Place(at, each.pointer))


def _by_document(flaws: Sequence[Flaw], library: Library) -> Iterator[Flaw]:
    """Flaws with one for each document that cannot be read, in the place of one for each reference into it."""
    told: set[str] = set()
    for flaw in flaws:
        document = next((each for each in library.unreadable if f"'{each}" in flaw.message), "")
        if document and document not in told:
            message = f"The document {document}, which is referred to, cannot be read: {library.unreadable[document]}."
            yield replace(flaw, kind="unreadable-document", message=message)
        elif not document:
            yield flaw
        told.add(document)


def _joined(location: str, library: Library, linked: Sequence[str]) -> Contract:
    """The contracts that a catalogue links as one. Where they name servers on one host, their paths begin with what
    differs in the servers' own."""
    contracts = []
    for reference in linked:
        found = resolve_location(location, reference)
        try:
            contracts.append(_read(found, library))
        except OSError as error:
            why = f"links {reference!r}, which cannot be read: {error.strerror or error}."
            raise ContractError(location, why) from None
    roots = [_root(each) for each in contracts]
    hosts = list(dict.fromkeys(host for host, _ in roots if host))
    paths = [path for _, path in roots]
    base = posixpath.commonpath(paths) if len(set(paths)) > 1 else paths[0]
    operations, seen = [], set()
    for contract, path in zip(contracts, paths, strict=True):
        prefix = path[len(base.rstrip("/")) :] if base != path else ""
        for each in contract.operations:
            moved = replace(each, path=prefix.rstrip("/") + each.path)
            if (moved.method, moved.path) not in seen:
                seen.add((moved.method, moved.path))
                operations.append(moved)
    first = contracts[0]
    named = {scheme.name: scheme for each in contracts for scheme in each.schemes}
    flaws = dict.fromkeys(flaw for each in contracts for flaw in each.flaws)
    return Contract(
        location=location,
        version=first.version,
        title=first.title if len(contracts) == 1 else f"{len(contracts)} descriptions of a catalogue",
        operations=tuple(operations),
        servers=tuple(Server(f"{host}{base}".rstrip("/"), "") for host in hosts),
        schemes=tuple(named.values()),
        flaws=tuple(_by_document((*flaws, *_flaws_on_the_way(library, set(flaws))), library)),
        library=library,
    )


def _root(contract: Contract) -> tuple[str, str]:
    """The scheme and host of a contract's first server, and its path."""
    url = contract.servers[0].filled({}) if contract.servers else ""
    parts = urlsplit(urljoin(contract.location, url) if "://" in contract.location else url)
    host = f"{parts.scheme}://{parts.netloc}" if parts.netloc else ""
    return host, parts.path.rstrip("/") or "/"


def _normalised(document: Any, usual: ModuleType) -> tuple[Any, list[Mended]]:
    """A document by the rules of the version that it states, else of the one that referred to it."""
    stated = _version(document) if isinstance(document, dict) else None
    module = VERSIONS.get(str(stated)[:3], usual) if stated is not None else usual
    mended = mend(document, nullable=module in {openapi20, openapi30})
    return module.normalise(document), mended


def _version(document: dict[str, Any]) -> Any:
    return document.get("openapi", document.get("swagger"))


def _module(location: str, document: Any, text: str) -> ModuleType:
    if not isinstance(document, dict):
        raise ContractError(location, "is not an OpenAPI description: its top level has to be an object.", 1)
    stated = _version(document)
    if stated is None:
        raise ContractError(
            location, "is not an OpenAPI description: the key 'openapi' with the version is missing.", 1
        )
    for prefix, module in VERSIONS.items():
        stated = f"{stated:.1f}" if isinstance(stated, float) else stated  # unquoted in YAML
        if isinstance(stated, str) and (stated == prefix or stated.startswith(prefix + ".")):
            return module
    from checkpost.contract.parse import is_json

    key = "openapi" if "openapi" in document else "swagger"
    line, column = locate(text, is_json(location, text), [f"/{key}"])[f"/{key}"]
    known = " and ".join(VERSIONS)
    raise ContractError(
        location, f"has the OpenAPI version {stated!r}; the versions that can be read are {known}.", line, column
    )


def _dangling(library: Library, known: set[Flaw]) -> list[Flaw]:
    """Every other reference that leads to nothing; loads what the references name on the way. They are read past: what
    they stand for is not known, and may be anything."""
    found: list[Flaw] = []
    nowhere: list[Node] = []
    done: set[str] = set()
    while waiting := [location for location in library.documents if location not in done]:
        for location in waiting:
            done.add(location)
            _search(library.root(location), False, known, found, nowhere, set())
    for node in nowhere:
        node.value.pop("$ref", None)
    return found


def _search(node: Node, names: bool, known: set[Flaw], found: list[Flaw], nowhere: list[Node], seen: set[int]) -> None:
    if id(node.value) in seen:
        return
    if not isinstance(node.value, dict | list):
        return
    seen.add(id(node.value))
    if isinstance(node.value, dict) and isinstance(node.value.get("$ref"), str) and not names:
        try:
            node.resolved()
        except Unresolved as error:
            kind = "cyclic-reference" if "itself" in error.why else "dangling-reference"
            flaw = Flaw("error", kind, f"{error}.", error.place)
            nowhere.append(node)
            if flaw not in known and flaw not in found:
                found.append(flaw)
    members = node.value.items() if isinstance(node.value, dict) else enumerate(node.value or ())
    for key, value in members:
        if not isinstance(value, dict | list) or (not names and key in VALUES):
            continue
        _search(node.child(key), key == "properties" and not names, known, found, nowhere, seen)
