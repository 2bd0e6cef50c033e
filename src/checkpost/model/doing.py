"""GETs that do something, as they are named or described: they are never taken for reads (RFC 9110, 9.2.1, asks of GET
that it is safe; not every API keeps to it)."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable

import inflection

from checkpost.contract.contract import Operation
from checkpost.model.paths import plain

#: Why such a GET is not asked.
DOES = "it is a GET that changes something, as its name says"
#: Words that say that something is made, changed or removed.
_WRITES = re.compile(
    r"create|add|insert|new|save|register|update|edit|modify|patch|change|replace|put|overwrite|upsert|set|delete|remove"
    r"|destroy|del|erase|unset|assign|unassign|append",
    re.I,
)
#: The end of a path that tells who asks, as ``/auth/me`` does.
TELLS_WHO = re.compile(r"/(?:me|who[-_]?am[-_]?i|user[-_]?info|current[-_]?user)/?$", re.I)
#: Words that say that something else is done to a row.
_DOES = re.compile(
    r"restore|(un)?publish|approve|reject|cancel|reset|toggle|(de)?activate|enable|disable|clear|purge|flush|truncate"
    r"|revoke|clone|copy|duplicate|move|merge|sync|send|execute|exec|run|trigger|start|stop|restart|increment|decrement"
    r"|(un)?link|attach|detach|(dis)?connect|import|refresh|rebuild|reindex",
    re.I,
)
#: Verbs with which a sentence begins that says so.
_SAID = re.compile(
    r"\W*(?:creat|add|insert|sav|updat|edit|modif|patch|chang|replac|overwrit|upsert|delet|remov|destroy|eras|restor|"
    r"purg|truncat|reset|revok)(?:e|es|s|ing)?\b(?!\s+(?:of|in|for|since|log|history|feed|list)\b)",
    re.I,
)


def without_doing(operations: Iterable[Operation]) -> list[Operation]:
    """The operations, but for GETs that do something."""
    every = list(operations)
    paths = {plain(each.path) for each in every}
    methods: dict[str, set[str]] = {}
    for each in every:
        methods.setdefault(plain(each.path), set()).add(each.method)
    return [each for each in every if not does(each, paths, methods[plain(each.path)])]


def does(operation: Operation, paths: Collection[str], methods: Collection[str]) -> bool:
    """Whether a GET does something: one of its path's words behind a row, or behind another path of the contract, is a
    verb of that kind, or what is said of it begins with one. ``methods`` are all of its path."""
    if operation.method != "GET":
        return False
    if _SAID.match(operation.summary) or _SAID.match(_words(operation.operation_id)):
        return True
    if len(set(methods) - {"HEAD", "OPTIONS"}) > 1:
        return False
    parts = plain(operation.path).split("/")
    for place, part in enumerate(parts):
        if _WRITES.fullmatch(part) or _DOES.fullmatch(part):
            above = "/".join(parts[:place])
            if above in paths or "{" in above:
                return True
    return False


def _words(name: str) -> str:
    """An operation's name as words; of ``Lot.create`` what stands behind the point first."""
    parts = re.split(r"\W+", name or "")
    return inflection.underscore("_".join(parts[::-1])).replace("_", " ")
