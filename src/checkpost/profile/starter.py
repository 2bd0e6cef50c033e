"""A starter profile: what was understood, written out so that it can be corrected."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from checkpost.contract.contract import Contract, SecurityScheme
from checkpost.model.resource import Model, Resource

#: The JSON Schema of profiles, which editors complete and check them by.
SCHEMA = Path(__file__).with_name("profile.schema.json")


def starter(contract: Contract, model: Model, folder: Path) -> str:
    """The YAML text of a profile for a contract, to be put into ``folder``; ``run`` takes it as it is."""
    return "\n".join(_lines(contract, model, folder)) + "\n"


def _lines(contract: Contract, model: Model, folder: Path) -> Iterator[str]:
    location = contract.location
    if "://" not in location:
        location = os.path.relpath(location, folder)
    yield f"# yaml-language-server: $schema={SCHEMA.name}"
    yield "# Where the contract is: a path from this file, or a URL."
    yield f"contract: {_quoted(location)}"
    yield ""
    yield "# The instance to check. Make sure that it is a test instance."
    known = (server.filled({}) for server in contract.servers)
    urls = sorted((url for url in known if url.startswith("http")), key=_risk)
    usable = bool(urls) and _risk(urls[0]) < _UNTOLD
    yield f"{'' if usable else '# '}base_url: {_quoted(urls[0]) if urls else 'http://127.0.0.1:8000'}"
    for url in urls[1:]:
        yield f"# base_url: {_quoted(url)}"
    yield ""
    yield "# Hosts other than this machine on which rows may be created, changed and deleted."
    yield "# allow_writes: [test.example.org]"
    yield ""
    yield "# Who may use the API. Secrets stay in the environment or in a file .env beside this one."
    yield "roles:"
    secured = bool(contract.schemes)
    if secured:
        yield "  user:"
        for scheme in contract.schemes[:1]:
            yield from _credential(scheme)
    yield "  public: none"
    yield ""
    yield "# The role that the checks run as; without it, the first one above."
    yield f"# run_as: {'user' if secured else 'public'}"
    yield ""
    yield "# What was understood of each resource. Uncomment a line to correct it."
    yield "resources:"
    if not model.resources:
        yield "  {}"
    for resource in model.resources:
        yield from _resource(resource)
    for doubt in model.doubts:
        yield f"# doubt: {doubt.resource}: {doubt.message}"


#: The risk of a server that nothing calls a test: it is offered, and never taken by itself.
_UNTOLD = 2


def _risk(url: str) -> int:
    """How likely a server is not the one to test: this machine first, then what calls itself a test."""
    host = url.partition("://")[2].partition("/")[0].lower()
    if host.startswith(("127.", "localhost", "[::1]")):
        return 0
    return 1 if any(word in url.lower() for word in ("test", "staging", "stage", "sandbox", "dev", "demo")) else _UNTOLD


def _credential(scheme: SecurityScheme) -> Iterator[str]:
    if scheme.type == "http" and scheme.scheme == "basic":
        yield '    basic: {user: someone, password: "${API_PASSWORD}"}'
    elif scheme.type == "apiKey" and scheme.where in {"header", "query", "cookie"}:
        yield f'    {scheme.where}: {{{_quoted(scheme.parameter)}: "${{API_KEY}}"}}'
    else:
        yield "    bearer: ${API_TOKEN}"


def _resource(resource: Resource) -> Iterator[str]:
    yield f"  {_quoted(resource.name)}:"
    yield "    skip: false"
    if resource.key:
        fields = ", ".join(resource.key.fields)
        yield f"    # key: [{fields}]  # {resource.key.reason.certainty}: {resource.key.reason.text}"
    else:
        yield "    # key: [FIELD]  # not known"
    envelope = resource.envelope
    if envelope.rows:
        yield f"    # rows: {envelope.rows}  # {envelope.reason.certainty}: {envelope.reason.text}"
    if envelope.total:
        yield f"    # total: {envelope.total}"
    if envelope.row:
        yield f"    # row: {envelope.row}"
    if envelope.body:
        yield f"    # body: {envelope.body}"
    unique = [field.name for field in resource.fields if field.unique_reason]
    yield f"    # unique: [{', '.join(unique)}]"
    references = ", ".join(f"{each.field}: {each.resource}" for each in resource.relations)
    yield f"    # references: {{{references}}}"


def _quoted(text: str) -> str:
    """A YAML scalar, quoted where it might be read as something else."""
    plain = text.replace("-", "").replace("_", "").replace("/", "").replace(".", "")
    if plain.isalnum() and not plain.isdigit() and plain.lower() not in {"true", "false", "null"} and text[0] != "-":
        return text
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'
