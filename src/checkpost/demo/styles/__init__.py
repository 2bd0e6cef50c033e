"""Styles: the stand-in's API spoken in other ways, each with a description of its own."""

from __future__ import annotations

from checkpost.demo.styles.acting import NamedForActions
from checkpost.demo.styles.base import Style, styled
from checkpost.demo.styles.brackets import KeysInBrackets
from checkpost.demo.styles.filtered import ByFilter

STYLES: dict[str, Style] = {each.name: each for each in (Style(), KeysInBrackets(), ByFilter(), NamedForActions())}

__all__ = ["STYLES", "Style", "styled"]
