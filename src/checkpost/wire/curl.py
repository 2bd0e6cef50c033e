"""A request as a curl command that another person can run; secrets appear as environment variables."""

from __future__ import annotations

import json
import re
import shlex
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import quote, urlsplit

from checkpost.model.media import LINES
from checkpost.profile.credentials import Credential, Role
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.listing import Key

if TYPE_CHECKING:
    from checkpost.wire.client import Client


#: No system takes a longer argument than this; longer bodies are written behind the command.
_LONGEST = 100_000


_NAMED = re.compile(r"\$(?!\{[A-Za-z_][A-Za-z0-9_]*\})")


def _quoted(text: str) -> str:
    """What may stand in double quotes: all of it literal but ``${NAME}``."""
    plain = text.replace("\\", "\\\\").replace('"', '\\"').replace("`", "\\`")
    return _NAMED.sub(r"\\$", plain)


def _double_quoted(credential: Credential) -> str:
    """A credential as a header, with ``${NAME}`` for its secrets; a name comes from the contract, and stays literal."""
    plain, name = _quoted(credential.template), _quoted(credential.name).replace("${", "\\${")
    if credential.encoded:
        scheme, _, both = plain.partition(" ")
        encoded = f'$(printf %s "{both}" | base64 | tr -d "[:space:]")'
        return f'"{name}: {scheme} {encoded}"'
    return f'"{name}: {plain}"'


def curl(
    request: Request,
    role: Role | None,
    url: str | None = None,
    show_headers: bool = True,
    body: str = "",
    stop: bool = False,
) -> str:
    """The command for one request. ``url`` and ``body``, already quoted for a shell, take the place of the request's;
    ``stop`` lets it fail where the API refuses, so that what follows is not sent."""
    words = ["curl", "-sS", *(["-i"] if show_headers else []), *(["--fail"] if stop else []), "-X", request.method]
    words.append(url or shlex.quote(request.url))
    for name, value in request.headers.items():
        words += ["-H", shlex.quote(f"{name}: {value}")]
    if role is not None and request.credentials != "wrong":
        for credential in role.presented(request.credentials, request.token):
            if credential.where == "header":
                words += ["-H", _double_quoted(credential)]
            elif credential.where == "cookie":
                words += ["-b", f'{shlex.quote(credential.name)}"={_quoted(credential.template)}"']
            else:
                words += ["--url-query", f'{shlex.quote(credential.name)}"={_quoted(credential.template)}"']
    elif role is not None and request.credentials == "wrong":
        for credential in role.credentials:
            if credential.where == "header":
                scheme = credential.template.partition(" ")[0] if " " in credential.template else ""
                words += ["-H", shlex.quote(f"{credential.name}: {scheme} damaged".replace(":  ", ": "))]
    if request.body is None:
        return " ".join(words)
    if body:
        return " ".join([*words, "--data-binary", body])
    text = request.body.decode("utf-8", "replace")
    if len(text) > _LONGEST:
        return " ".join([*words, "--data-binary", "@-"]) + f" <<'BODY'\n{text}\nBODY"
    return " ".join([*words, "--data-binary", shlex.quote(text)])


#: What stands for a key in an address, a text or a number, since a text may be quoted there.
_PLACE, _NUMBER = "CHECKPOST-KEY", 7_070_707_070_707


def script(evidence: Sequence[Exchange], roles: Mapping[str, Role], client: Client) -> str:
    """The commands that reproduce exchanges, in their order, joined by ``&&``; empty where they cannot be given.

    They may be run a day later, when a key of today may be somebody else's. So a row that is changed or removed is made
    by the script itself: the key that the API chooses is taken from its answer into a variable, a key of the client's
    own is used only behind a create that has succeeded.
    """
    commands: list[str] = []
    own: dict[str, str] = {}
    key: Key | None = None
    for place, exchange in enumerate(evidence):
        request, role = exchange.request, roles.get(exchange.request.role)
        made = _made(exchange, client)
        more = place < len(evidence) - 1
        if made is not None and key is None and more:
            key, code = made
            if not code:
                own = dict.fromkeys(addresses(client, key), "")
                commands.append(curl(request, role, stop=True))
                continue
            own = _own_addresses(client, key)
            command = curl(request, role, show_headers="location" in code, stop=True)
            commands.append(f"KEY=$({command} | python3 -c {shlex.quote(code)})")
        elif request.safe or request.url in own:
            url = own.get(request.url) or None
            commands.append(curl(request, role, url, body=_own_body(client, request, key) if url else ""))
        elif _only_makes(client, request):
            commands.append(curl(request, role))
        else:
            return ""
    return " && ".join(commands)


def _only_makes(client: Client, request: Request) -> bool:
    """Whether a request makes rows and names none that is there."""
    bulk = client.resource.bulk.get("create")
    makers = [client.resource.operations.get("create"), bulk.operation if bulk is not None else None]
    places = [(each.method, client.url(each)) for each in makers if each is not None]
    return (request.method, request.url.partition("?")[0]) in places


def _made(exchange: Exchange, client: Client) -> tuple[Key, str] | None:
    """The key of the row that an exchange made, and what tells Python to find it in the answer ("" where the client
    chose it); None where none was made, or its key's place is not known."""
    resource = client.resource
    create, key = resource.operations.get("create"), resource.key
    made = create is not None and exchange.request.method == create.method and exchange.answer.ok
    if not made or create is None or key is None or exchange.request.url != client.url(create):
        return None
    sent = _sent(exchange.request)
    if key.assigned_by == "client":
        chosen = client.key_of(sent) if isinstance(sent, dict) else None
        return (chosen, "") if chosen is not None else None
    found = client.new_key(exchange.answer, {})
    if found is None or len(found) != 1:
        return None
    code = _code(exchange.answer, key.fields[0], found[0])
    return (found, code) if code else None


def _code(answer: Answer, name: str, key: Any) -> str:
    """What Python is told to take a new row's key from an answer; empty where its place is not known."""
    lines = answer.media_type in LINES
    body = answer.json[0] if lines and isinstance(answer.json, list) and len(answer.json) == 1 else answer.json
    path = _path_to(body, name, key, 4)
    if path:
        return f"import json,sys; print(json.load(sys.stdin){path})"
    if re.search(rf"/{re.escape(quote(str(key), safe=''))}/?$", urlsplit(answer.header("location") or "").path):
        return "import re,sys; print(re.search(r'(?im)^location:.*?/([^/?\\s]+)/?\\s*$', sys.stdin.read())[1])"
    return ""


def _sent(request: Request) -> Any:
    try:
        return json.loads(request.body or b"")
    except ValueError:
        return None


def _path_to(value: Any, name: str, key: Any, depth: int) -> str:
    """How Python reaches a member with the key's name and value inside a JSON value."""
    if isinstance(value, list) and len(value) == 1 and depth:
        inner = _path_to(value[0], name, key, depth - 1)
        return f"[0]{inner}" if inner else ""
    if not isinstance(value, dict) or not depth:
        return ""
    if name in value and value[name] == key:
        return f"[{name!r}]"
    for member, each in value.items():
        inner = _path_to(each, name, key, depth - 1)
        if inner:
            return f"[{member!r}]{inner}"
    return ""


def addresses(client: Client, key: Key) -> list[str]:
    """The addresses of a row for each of its operations."""
    operations = client.resource.operations.items()
    named = [(p, o) for p, o in operations if "{" in o.path or p in client.resource.addresses]
    return [client.url(operation, key, purpose=purpose) for purpose, operation in named]


def _own_addresses(client: Client, key: Key) -> dict[str, str]:
    """The addresses of a created row, each with the shell word that has ``$KEY`` in the key's place."""
    place: Any = _NUMBER if isinstance(key[0], int) else _PLACE
    words: dict[str, str] = {}
    for known, written in zip(addresses(client, key), addresses(client, (place,)), strict=True):
        before, _, after = written.partition(str(place))
        words[known] = shlex.quote(before) + '"$KEY"' + (shlex.quote(after) if after else "")
    return words


def _own_body(client: Client, request: Request, key: Key | None) -> str:
    """A body that names the row's key, with ``$KEY`` in its place, as a shell word; empty where it names none."""
    if request.body is None or key is None or client.resource.key is None:
        return ""
    text = request.body.decode("utf-8", "replace")
    name, value = json.dumps(client.resource.key.fields[0]), json.dumps(key[0])
    found = re.search(rf"{re.escape(name)}\s*:\s*({re.escape(value)})(?=\s*[,}}\]])", text)
    if found is None:
        return ""
    before, after = text[: found.start(1)], text[found.end(1) :]
    mark = '"' if isinstance(key[0], str) else ""
    return shlex.quote(before + mark) + '"$KEY"' + shlex.quote(mark + after)
