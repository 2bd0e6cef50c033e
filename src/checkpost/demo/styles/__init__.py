"""Styles: the stand-in's API spoken in other ways, each with a description of its own."""

from __future__ import annotations

from checkpost.demo.styles.acting import NamedForActions
from checkpost.demo.styles.base import Style, styled
from checkpost.demo.styles.brackets import KeysInBrackets
from checkpost.demo.styles.documents import Documents
from checkpost.demo.styles.filtered import ByFilter
from checkpost.demo.styles.forms import Forms
from checkpost.demo.styles.keyed import RowsByKey
from checkpost.demo.styles.nested import OnlyNested
from checkpost.demo.styles.onepath import OnePath

_EVERY = (
    *(Style(), KeysInBrackets(), ByFilter(), NamedForActions(), Documents(), RowsByKey(), OnlyNested()),
    *(OnePath(), Forms()),
)
STYLES: dict[str, Style] = {each.name: each for each in _EVERY}

__all__ = ["STYLES", "Style", "styled"]
