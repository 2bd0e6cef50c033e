"""The spellings in which the stand-in serves the same tables, by name."""

from checkpost.demo.spellings.base import Spelling
from checkpost.demo.spellings.brackets import Brackets
from checkpost.demo.spellings.infix import Infix
from checkpost.demo.spellings.jsonfilter import JsonFilter
from checkpost.demo.spellings.nested import Nested
from checkpost.demo.spellings.odata import OData
from checkpost.demo.spellings.prefix import Prefix
from checkpost.demo.spellings.suffix import Suffix

USUAL = "brackets"
SPELLINGS: dict[str, Spelling] = {
    each.name: each for each in (Brackets(), Suffix(), Prefix(), Infix(), JsonFilter(), OData(), Nested())
}

__all__ = ["SPELLINGS", "USUAL", "Spelling"]
