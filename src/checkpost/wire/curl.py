"""A request as a curl command that another person can run; secrets appear as environment variables."""

from __future__ import annotations

import shlex
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from checkpost.contract.pointer import tokens
from checkpost.profile.credentials import Credential, Role
from checkpost.wire.exchange import Exchange, Request

if TYPE_CHECKING:
    from checkpost.wire.client import Client


#: No system takes a longer argument than this; longer bodies are written behind the command.
_LONGEST = 100_000


def _double_quoted(text: str, credential: Credential) -> str:
    """A template with ``${NAME}`` in double quotes, everything else in it taken literally."""
    plain = text.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`")
    if credential.encoded:
        scheme, _, both = plain.partition(" ")
        encoded = f'$(printf %s "{both}" | base64 | tr -d "[:space:]")'
        return f'"{credential.name}: {scheme} {encoded}"'
    return f'"{credential.name}: {plain}"'


def curl(request: Request, role: Role | None, url: str | None = None, show_headers: bool = True) -> str:
    """The command for one request. ``url``, already quoted for a shell, takes the place of the request's."""
    words = ["curl", "-sS", *(["-i"] if show_headers else []), "-X", request.method]
    words.append(url or shlex.quote(request.url))
    for name, value in request.headers.items():
        words += ["-H", shlex.quote(f"{name}: {value}")]
    if role is not None and request.credentials != "wrong":
        for credential in role.presented(request.credentials, request.token):
            if credential.where == "header":
                words += ["-H", _double_quoted(credential.template, credential)]
            elif credential.where == "cookie":
                words += ["-b", f'"{credential.name}={credential.template}"']
            else:
                words += ["--url-query", f'"{credential.name}={credential.template}"']
    elif role is not None and request.credentials == "wrong":
        for credential in role.credentials:
            if credential.where == "header":
                scheme = credential.template.partition(" ")[0] if " " in credential.template else ""
                words += ["-H", shlex.quote(f"{credential.name}: {scheme} damaged".replace(":  ", ": "))]
    if request.body is None:
        return " ".join(words)
    text = request.body.decode("utf-8", "replace")
    if len(text) > _LONGEST:
        return " ".join([*words, "--data-binary", "@-"]) + f" <<'BODY'\n{text}\nBODY"
    return " ".join([*words, "--data-binary", shlex.quote(text)])


#: What stands for a key in an address, a text or a number, since a text may be quoted there.
_PLACE, _NUMBER = "CHECKPOST-KEY", 7_070_707_070_707


def script(evidence: Sequence[Exchange], roles: Mapping[str, Role], client: Client) -> str:
    """The commands that reproduce exchanges, in their order, joined by ``&&``.

    Where a row is created first and the server chooses its key, the key is taken from the answer into a
    variable, since it will be another one the next time.
    """
    commands: list[str] = []
    own: dict[str, str] = {}
    for exchange in evidence:
        request, role = exchange.request, roles.get(exchange.request.role)
        path = _key_path(exchange, client)
        if path and not own and len(evidence) > 1:
            own = _own_addresses(client, exchange)
            command = curl(request, role, show_headers=False)
            commands.append(f"KEY=$({command} | python3 -c 'import json,sys; print(json.load(sys.stdin){path})')")
        else:
            commands.append(curl(request, role, own.get(request.url)))
    return " && ".join(commands)


def _own_addresses(client: Client, created: Exchange) -> dict[str, str]:
    """The addresses of a created row, each with the shell word that has ``$KEY`` in the key's place."""
    row = client.row_in(created.answer)
    key = client.key_of(row) if row else None
    words: dict[str, str] = {}
    for purpose, operation in client.resource.operations.items():
        if key is None or len(key) != 1 or not ("{" in operation.path or purpose in client.resource.addresses):
            continue
        place: Any = _NUMBER if isinstance(key[0], int) else _PLACE
        before, _, after = client.url(operation, (place,), purpose=purpose).partition(str(place))
        words[client.url(operation, key, purpose=purpose)] = (
            shlex.quote(before) + '"$KEY"' + (shlex.quote(after) if after else "")
        )
    return words


def _key_path(exchange: Exchange, client: Client) -> str:
    """How Python finds the key of a created row in the answer; empty where the client chose it."""
    resource = client.resource
    create = resource.operations.get("create")
    key = resource.key
    if create is None or key is None or key.assigned_by == "client" or len(key.fields) != 1:
        return ""
    made = exchange.request.method == create.method and exchange.request.url == client.url(create)
    if not made or not exchange.answer.ok or resource.envelope.row is None:
        return ""
    row = client.row_in(exchange.answer)
    if row is None or client.key_of(row) is None:
        return ""
    return "".join(f'["{name}"]' for name in (*tokens(resource.envelope.row), key.fields[0]))
