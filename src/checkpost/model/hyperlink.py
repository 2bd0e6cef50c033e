"""Fields of rows that hold the addresses of rows (RFC 3986) in place of their keys: of the row itself, or of others."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any
from urllib.parse import quote, unquote, urlsplit

from checkpost.model.field import Field
from checkpost.model.paths import PARAMETER, normal

#: The names of fields that hold a row's own address.
_OWN = frozenset({"url", "uri", "href", "self", "link", "resourceuri", "resourceurl", "selfurl", "selflink"})
_FORMATS = frozenset({"uri", "url", "iri", "uri-reference", "iri-reference"})
_SAID = re.compile(r"\b(?:resource )?(?:ur[il]|hyperlink)s?\b", re.I)


@dataclass(frozen=True)
class Hyperlink:
    """``address`` is that of a row, with ``{}`` for its key, which is a number or a text. ``own`` is the name under
    which rows have their own key then; "" for that of another row."""

    address: str
    numeric: bool
    own: str = ""

    def key_in(self, value: Any) -> Any:
        """The key that an address ends with; anything else as it is."""
        if not isinstance(value, str) or not value:
            return value
        last = unquote(urlsplit(value).path.rstrip("/").rpartition("/")[2])
        return int(last) if self.numeric and last.isascii() and last.isdigit() else last

    def of(self, key: Any) -> Any:
        """The address of the row with a key; what is no key as it is."""
        is_key = isinstance(key, int if self.numeric else str) and not isinstance(key, bool)
        return self.address.replace("{}", quote(str(key), safe="")) if is_key else key

    def is_of(self, value: Any) -> bool:
        """Whether a value is an address of this form, below whatever the API's own is."""
        path = urlsplit(value).path if isinstance(value, str) and "/" in value else ""
        form = re.escape(self.address.strip("/")).replace(re.escape("{}"), "[^/]+")
        return re.search(rf"(?:^|/){form}/?$", path) is not None

    def like(self, value: Any) -> str:
        """The address, with a place for the key, as a row has it."""
        if not isinstance(value, str) or not urlsplit(value).path.strip("/"):
            return self.address
        head, slash = value.rstrip("/"), value[len(value.rstrip("/")) :]
        return f"{head.rpartition('/')[0]}/{{}}{slash}" if not urlsplit(value).query else self.address


def address_at(item: str) -> str:
    """The path of one row, its key as ``{}``."""
    return PARAMETER.sub("{}", item)


def holds_address(field: Field) -> bool:
    """Whether the contract says that a field holds addresses."""
    said = str(field.keywords.get("description", ""))
    return field.types == {"string"} and (field.format in _FORMATS or _SAID.search(said) is not None)


def own_address(fields: Sequence[Field], parameters: Sequence[str]) -> str:
    """The field with a row's own address, where rows lack what their path takes; "" where there is none."""
    names = {normal(each.name) for each in fields}
    if len(parameters) != 1 or normal(parameters[0]) in names:
        return ""
    own = [each for each in fields if normal(each.name) in _OWN and each.shown and not each.created]
    return next((each.name for each in own if holds_address(each)), "")
