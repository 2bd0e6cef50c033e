"""Masking of secrets in whatever is printed or stored."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterable, Mapping
from typing import Any
from urllib.parse import quote, quote_plus

_SENSITIVE_HEADERS = {"authorization", "proxy-authorization", "cookie", "set-cookie"}
MASK = "***"
#: A shorter secret may well be a part of other words, and is masked where it stands by itself.
_LONG = 8


class Redactor:
    """Replaces every known secret by the name of its variable, in plain, URL, JSON and base64 writing."""

    def __init__(self, secrets: Mapping[str, str], encoded: Iterable[str] = ()) -> None:
        """``secrets`` maps names of variables to their values; ``encoded`` are texts that hold a secret beside other
        things, such as the user and password of HTTP Basic (RFC 7617), whose base64 is masked as a whole."""
        writings: dict[str, str] = {}
        for name, secret in secrets.items():
            if not secret:
                continue
            forms = {
                secret,
                quote(secret, safe=""),
                quote_plus(secret),
                json.dumps(secret)[1:-1],
                base64.b64encode(secret.encode()).decode(),
                base64.urlsafe_b64encode(secret.encode()).decode(),
            }
            writings |= dict.fromkeys(forms, "${" + name + "}")
        for text in encoded:
            for form in (base64.b64encode, base64.urlsafe_b64encode):
                both = form(text.encode()).decode()
                writings |= {both: MASK, quote(both, safe=""): MASK, both.rstrip("="): MASK}
        self._writings = writings
        ordered = sorted(writings, key=len, reverse=True)
        self._pattern = re.compile("|".join(map(_alone, ordered))) if ordered else None

    def text(self, text: str) -> str:
        if self._pattern is None:
            return text
        return self._pattern.sub(lambda match: self._writings[match.group()], text)

    def header(self, name: str, value: str) -> str:
        if name.lower() in _SENSITIVE_HEADERS:
            scheme, _, rest = value.partition(" ")
            return f"{scheme} {MASK}" if rest and name.lower().endswith("authorization") else MASK
        return self.text(value)

    def value(self, value: Any) -> Any:
        """A JSON value with every text in it masked."""
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, list | tuple):
            return [self.value(each) for each in value]
        if isinstance(value, dict):
            return {self.text(str(name)): self.value(each) for name, each in value.items()}
        return value


def _alone(secret: str) -> str:
    """A pattern for a secret: one that is short has no letter or digit beside it."""
    pattern = re.escape(secret)
    if len(secret) >= _LONG:
        return pattern
    before = r"(?<![0-9A-Za-z])" if secret[0].isalnum() else ""
    return before + pattern + (r"(?![0-9A-Za-z])" if secret[-1].isalnum() else "")
