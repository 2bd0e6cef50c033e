"""A record as the bytes of a request, JSON or a form, and as a patch of operations."""

from __future__ import annotations

import json
import secrets
from collections.abc import Mapping
from typing import Any
from urllib.parse import urlencode

from checkpost.contract.pointer import escape
from checkpost.model.media import MULTIPART, URLENCODED


def encoded(body: Any, media_type: str) -> tuple[bytes, str]:
    """The bytes of a body, and the media type to name with them (RFC 7578 for multipart forms)."""
    if media_type == URLENCODED and isinstance(body, Mapping):
        return urlencode(_parts(body), errors="surrogatepass").encode(), media_type
    if media_type == MULTIPART and isinstance(body, Mapping):
        boundary = "checkpost-" + secrets.token_hex(12)
        parts = [
            f'--{boundary}\r\nContent-Disposition: form-data; name="{name}"\r\n\r\n{value}\r\n'
            for name, value in _parts(body)
        ]
        text = "".join([*parts, f"--{boundary}--\r\n"])
        return text.encode("utf-8", "surrogatepass"), f"{media_type}; boundary={boundary}"
    return json.dumps(body, ensure_ascii=False).encode("utf-8", "surrogatepass"), media_type


def as_patch(record: Mapping[str, Any]) -> list[dict[str, Any]]:
    """The operations that give a row the values of a record (RFC 6902, 4.3)."""
    return [{"op": "replace", "path": "/" + escape(name), "value": value} for name, value in record.items()]


def _parts(body: Mapping[str, Any]) -> list[tuple[str, str]]:
    """The fields of a form; null is an empty one, and a list stands item by item."""
    found = []
    for name, value in body.items():
        for each in value if isinstance(value, list) else [value]:
            if each is None:
                found.append((name, ""))
            elif isinstance(each, bool):
                found.append((name, "true" if each else "false"))
            else:
                found.append((name, each if isinstance(each, str) else json.dumps(each)))
    return found
