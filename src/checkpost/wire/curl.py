"""A request as a curl command that another person can run; secrets appear as environment variables."""

from __future__ import annotations

import re
import shlex

from checkpost.profile.credentials import Credential, Role
from checkpost.wire.exchange import Request

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
