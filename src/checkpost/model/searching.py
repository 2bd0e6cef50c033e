"""The parameter of a list that searches the texts of its rows, whichever field they stand in."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping

from checkpost.contract.contract import Parameter
from checkpost.model.field import Reason
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import Searching

#: Names of such parameters, as ``normal`` has them: those that say so, and those of which it has to be said.
_SURELY = ("search", "searchterm", "searchtext", "searchquery", "searchstring", "fulltext", "freetext", "quicksearch")
_PERHAPS = ("q", "query", "term", "text", "keyword", "keywords")
_SAYS = re.compile(r"\bsearch|\bfull[- ]?text\b|\bfree[- ]?text\b", re.I)
#: What is said of one that takes more than a text, or looks at one field alone.
_MORE = re.compile(
    r"json|expressions?\b|syntax|operators?\b|lucene|regex|regular|embedding|semantic|vector|fuzzy|similar"
    r"|\b(?:by|in|on) (?:the )?(?!all|any|every|full|text)[`'\"]?\w+[`'\"]?(?: field| column)?\.?$",
    re.I,
)


def searching_of(known: Mapping[str, Parameter], taken: Collection[str | None]) -> Searching | None:
    """The one parameter of a list's ``known`` ones, by their names as ``normal`` has them, that searches for a text;
    ``taken`` are those that are for something else."""
    for word in (*_SURELY, *_PERHAPS):
        parameter = known.get(word)
        if parameter is None or parameter.name in taken:
            continue
        shape, said = shape_of(parameter.schema), said_of(parameter)
        plain = shape.types <= {"string", "null"} and not {"enum", "const", "format"} & shape.keywords.keys()
        if plain and (word in _SURELY or _SAYS.search(said)) and not _MORE.search(said.strip()):
            return Searching(parameter.name, Reason(f"the list takes {parameter.name}", "likely"))
    return None
