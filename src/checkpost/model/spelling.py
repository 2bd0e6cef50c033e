"""How an API spells its queries, as data: templates that a contract suggests or the profile states.

In templates ``{field}`` stands for a field's name, ``{value}`` for one value, ``{values}`` for several,
joined, ``{each}`` for several with a parameter each, ``{low}`` and ``{high}`` for bounds, ``{inner}``,
``{left}`` and ``{right}`` for conditions, ``{items}`` for conditions joined.
"""

from __future__ import annotations

import json
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from checkpost.contract.errors import Place
from checkpost.contract.node import Node
from checkpost.model.field import Field, Reason
from checkpost.model.query import Compare, Condition, Either, Every, Function, Measure, Not, Operator, Order

Pairs = list[tuple[str, str]]
ANY = "*"
#: In the place of what joins several names, where they are a list in JSON.
AS_JSON = "[]"
#: What joins names where they are the members of an object in JSON, each with the value 1.
AS_MEMBERS = "{}"


class Inexpressible(Exception):
    """A query that a spelling has no words for."""


@dataclass(frozen=True)
class Filtering:
    """How conditions are written.

    ``parameters``: each comparison is a query parameter, templates are ``NAME=VALUE``, several hold
    together; ``expression``: one parameter holds a text; ``json``: one parameter holds a JSON value.
    ``templates`` go by field (or ``*``) and operator. ``bare`` names the kinds of values without quotes.
    """

    form: Literal["parameters", "expression", "json"]
    templates: Mapping[tuple[str, Operator], str]
    reason: Reason
    parameter: str = ""
    fields: tuple[str, ...] | None = None
    conjunction: str = ""
    disjunction: str = ""
    negation: str = ""
    members: Mapping[Operator, str] = field(default_factory=dict)
    quote: str = "'"
    escape: Literal["double", "backslash", ""] = "double"
    #: Whether the contract says how a quote inside a text is written.
    escape_told: bool = True
    bare: frozenset[str] = frozenset({"number", "boolean"})
    separator: str = ","
    wildcard: str = "%"
    #: Whether every operator among the templates is named by the contract; what is not may be refused.
    documented: bool = True
    place: Place | None = field(default=None, compare=False)
    places: Mapping[str, Place] = field(default_factory=dict, compare=False, repr=False)
    #: What the contract allows for a value, where a parameter holds nothing else.
    schemas: Mapping[tuple[str, Operator], Node] = field(default_factory=dict, compare=False, repr=False)
    #: The fields and operators whose parameter takes one value with the separator in it for several.
    split: frozenset[tuple[str, Operator]] = frozenset()
    #: Whether several conditions of an expression can be put in brackets.
    grouped: bool = True

    def only(self, operator: Operator) -> Filtering:
        """The same spelling of one operator alone."""
        return replace(self, templates={each: text for each, text in self.templates.items() if each[1] == operator})

    def operators(self, name: str) -> tuple[Operator, ...]:
        """The operators for a field."""
        if self.fields is not None and name not in self.fields:
            return ()
        return tuple(operator for field, operator in self.templates if field in {name, ANY})

    def place_of(self, name: str) -> Place | None:
        return self.places.get(name, self.place)

    @property
    def binds(self) -> bool:
        """Whether ``and`` and ``or`` are words between conditions, of which one binds closer than the other."""
        words = [each.removeprefix("{left}").removesuffix("{right}") for each in (self.conjunction, self.disjunction)]
        return self.form == "expression" and [each.strip().lower() for each in words] == ["and", "or"]

    def _template(self, name: str, operator: Operator) -> str:
        known = self.templates.get((name, operator)) or self.templates.get((ANY, operator))
        if known is None or (self.fields is not None and name not in self.fields):
            raise Inexpressible(f"{operator} of {name}")
        return known

    def pairs(self, condition: Condition, fields: Mapping[str, Field]) -> Pairs:
        """The query parameters for a condition. Raises Inexpressible."""
        if self.form == "json":
            return [(self.parameter, json.dumps(self._value(condition), ensure_ascii=False))]
        if self.form == "expression":
            return [(self.parameter, self._text(condition, fields))]
        return self._parameters(condition, fields)

    # -- one parameter for each comparison ---------------------------------------------------------

    def _parameters(self, condition: Condition, fields: Mapping[str, Field]) -> Pairs:
        if isinstance(condition, Every):
            found = [self._parameters(part, fields) for part in condition.parts]
            names = [{name for name, _ in each} for each in found]
            if sum(map(len, names)) <= len(set().union(*names)):
                return [pair for each in found for pair in each]
            if not self.conjunction:
                raise Inexpressible("one parameter twice")
            return _numbered(self.conjunction, found)
        if isinstance(condition, Either) and "{index}" in self.disjunction:
            return _numbered(self.disjunction, [self._parameters(part, fields) for part in condition.parts])
        if isinstance(condition, Either) and self.disjunction:
            items = self.separator.join(self._member(part, fields) for part in condition.parts)
            name, _, value = self.disjunction.partition("=")
            return [(name, value.replace("{items}", items))]
        if isinstance(condition, Not) and self.negation and isinstance(condition.inner, Compare):
            [(name, value), *further] = self._parameters(condition.inner, fields)
            if further:
                raise Inexpressible("not")
            named, sign, written = self.negation.rpartition("=")
            return [(named.replace("{field}", name) if sign else name, written.replace("{inner}", value))]
        if not isinstance(condition, Compare):
            raise Inexpressible(type(condition).__name__)
        return self._compare(condition, self._template(condition.field, condition.operator))

    def _compare(self, condition: Compare, template: str) -> Pairs:
        if "&" in template:  # its operator is a parameter of its own
            return [pair for part in template.split("&") for pair in self._compare(condition, part)]
        name, _, value = template.partition("=")
        name = name.replace("{field}", condition.field)
        several = condition.value if isinstance(condition.value, tuple) else (condition.value,)
        if "{each}" in value:
            return [(name, value.replace("{each}", plain(each))) for each in several]
        return [(name, self._filled(value, condition, [self._listed(each) for each in several]))]

    def _listed(self, value: Any) -> str:
        """A value as it stands in a list: quoted if it holds what the list is written with."""
        text = plain(value)
        if isinstance(value, str) and any(sign in text for sign in f'{self.separator}()"') and self.quote:
            return self._quoted(text)
        return text

    def _filled(self, template: str, condition: Compare, listed: Sequence[str]) -> str:
        value = condition.value
        template = template.replace("{field}", condition.field)
        if "{values}" in template:
            return template.replace("{values}", self.separator.join(listed))
        if isinstance(value, tuple):
            return template.replace("{low}", listed[0]).replace("{high}", listed[1])
        return template.replace("{value}", plain(value))

    def _member(self, condition: Condition, fields: Mapping[str, Field]) -> str:
        if not isinstance(condition, Compare) or condition.operator not in self.members:
            raise Inexpressible("a group of groups")
        several = condition.value if isinstance(condition.value, tuple) else (condition.value,)
        listed = [self._listed(each) for each in several]
        template = self.members[condition.operator].replace("{field}", condition.field)
        if "{value}" in template:
            return template.replace("{value}", listed[0])
        return self._filled(template, condition, listed)

    # -- one expression ----------------------------------------------------------------------------

    def _text(self, condition: Condition, fields: Mapping[str, Field]) -> str:
        if isinstance(condition, Compare):
            several = condition.value if isinstance(condition.value, tuple) else (condition.value,)
            words = [self.literal(each, fields.get(condition.field)) for each in several]
            template = self._template(condition.field, condition.operator).replace("{field}", condition.field)
            if "{values}" in template:
                return template.replace("{values}", self.separator.join(words))
            if len(words) == 2 and "{low}" in template:
                return template.replace("{low}", words[0]).replace("{high}", words[1])
            return template.replace("{value}", words[0])
        if isinstance(condition, Not):
            if not self.negation:
                raise Inexpressible("not")
            return self.negation.replace("{inner}", self._text(condition.inner, fields))
        template = self.conjunction if isinstance(condition, Every) else self.disjunction
        if not template:
            raise Inexpressible(type(condition).__name__)
        alone = [isinstance(part, Compare | Not) or (isinstance(part, Every) and part.bare) for part in condition.parts]
        if not (all(alone) or self.grouped):
            raise Inexpressible("brackets")
        texts = [self._text(part, fields) for part in condition.parts]
        parts = [text if bare else f"({text})" for text, bare in zip(texts, alone, strict=True)]
        text = parts[0]
        for part in parts[1:]:
            text = template.replace("{left}", text, 1).replace("{right}", part, 1)
        return text

    def literal(self, value: Any, field: Field | None) -> str:
        """A value inside an expression."""
        kind = field.kind if field is not None else ""
        if value is None or isinstance(value, bool) or (kind in self.bare and kind != "text"):
            return plain(value)
        return self._quoted(plain(value)) if self.quote else plain(value)

    def _quoted(self, text: str) -> str:
        if self.escape == "backslash":
            text = text.replace("\\", "\\\\").replace(self.quote, "\\" + self.quote)
        elif self.quote in text:
            if not self.escape:
                raise Inexpressible("a quote in a text")
            text = text.replace(self.quote, self.quote * 2)
        return f"{self.quote}{text}{self.quote}"

    # -- one JSON value ----------------------------------------------------------------------------

    def _value(self, condition: Condition) -> Any:
        if isinstance(condition, Compare):
            template = json.loads(self._template(condition.field, condition.operator))
            value = list(condition.value) if isinstance(condition.value, tuple) else condition.value
            low, high = value if isinstance(value, list) and len(value) == 2 else (None, None)
            return _replaced(
                template, {"{value}": value, "{values}": value, "{low}": low, "{high}": high}, condition.field
            )
        if isinstance(condition, Not):
            if not self.negation:
                raise Inexpressible("not")
            return _replaced(json.loads(self.negation), {"{inner}": self._value(condition.inner)}, "")
        parts = [self._value(part) for part in condition.parts]
        template = self.conjunction if isinstance(condition, Every) else self.disjunction
        if template:
            return _replaced(json.loads(template), {"{items}": parts}, "")
        if isinstance(condition, Every) and all(isinstance(part, list) for part in parts):
            return [each for part in parts for each in part]
        names = [name for part in parts for name in part]
        if isinstance(condition, Every) and len(set(names)) == len(names):
            return {name: value for part in parts for name, value in part.items()}
        raise Inexpressible(type(condition).__name__)


def _numbered(group: str, found: Sequence[Pairs]) -> Pairs:
    """Conditions as numbered members of a group: ``a[b]=1`` in ``or[{index}]`` is ``or[0][a][b]=1``, and
    ``where[a]=1`` in ``where[or][{index}]`` is ``where[or][0][a]=1``."""
    pairs: Pairs = []
    for index, each in enumerate(found):
        for name, value in each:
            head, bracket, rest = name.partition("[")
            inside = bracket + rest if group.startswith(f"{head}[") and bracket else f"[{head}]{bracket}{rest}"
            pairs.append((group.replace("{index}", str(index)) + inside, value))
    return pairs


def _replaced(template: Any, words: Mapping[str, Any], name: str) -> Any:
    if isinstance(template, str):
        return words[template] if template in words else template.replace("{field}", name)
    if isinstance(template, list):
        return [_replaced(each, words, name) for each in template]
    if isinstance(template, dict):
        return {key.replace("{field}", name): _replaced(each, words, name) for key, each in template.items()}
    return template


def plain(value: Any) -> str:
    """A value as the text of a query parameter."""
    if value is None:
        return "null"
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float):
        # without the point that whole numbers of this type have, and with every digit that tells it from the next
        short = format(value, ".15g")
        return short if float(short) == value else repr(value)
    return str(value)


def listed(parameter: str, names: Collection[str], separator: str | None) -> Pairs:
    """The query parameters that list names: joined, each in a parameter of its own, or as JSON."""
    if separator is None:
        return [(parameter, name) for name in names]
    if separator in {AS_JSON, AS_MEMBERS}:
        return [(parameter, json.dumps(list(names) if separator == AS_JSON else dict.fromkeys(names, 1)))]
    return [(parameter, separator.join(names))]


@dataclass(frozen=True)
class Sorting:
    """How an order is written: a template for each direction; ``separator`` None repeats the parameter, whose name
    may hold ``{field}``. ``direction`` names a parameter of its own for the direction, with its two words. ``choices``
    has how a field is written upwards and downwards where no template tells."""

    parameter: str
    ascending: str
    descending: str
    reason: Reason
    separator: str | None = ","
    direction: str = ""
    words: tuple[str, str] = ("asc", "desc")
    fields: tuple[str, ...] | None = None
    several: bool = False
    place: Place | None = field(default=None, compare=False)
    choices: Mapping[str, tuple[str, str]] = field(default_factory=dict, hash=False)

    def pairs(self, order: Sequence[Order]) -> Pairs:
        """The query parameters for an order. Raises Inexpressible."""
        keys = [
            self.choices.get(each.field, (self.ascending, self.descending))[each.descending].replace(
                "{field}", each.field
            )
            for each in order
        ]
        if len(order) > 1 and self.direction and self.separator is not None:
            words = [self.words[each.descending] for each in order]
            return [(self.parameter, self.separator.join(keys)), (self.direction, self.separator.join(words))]
        if self.separator == AS_JSON:  # one object, whose members are in the order of the keys; or a list of objects
            parts = [json.loads(key) for key in keys]
            if isinstance(parts[0], list):
                return [(self.parameter, json.dumps([item for part in parts for item in part]))]
            return [(self.parameter, json.dumps({name: word for part in parts for name, word in part.items()}))]
        pairs = [(self.parameter.replace("{field}", each.field), key) for each, key in zip(order, keys, strict=True)]
        if self.separator is not None:
            pairs = [(self.parameter, self.separator.join(keys))]
        elif len(keys) > 1 and self.direction:
            raise Inexpressible("several keys")
        return [*pairs, (self.direction, self.words[order[0].descending])] if self.direction else pairs


@dataclass(frozen=True)
class Selecting:
    """How the fields to answer with are written; ``separator`` None repeats the parameter, and ``AS_JSON`` makes a list
    in JSON of them, ``AS_MEMBERS`` an object."""

    parameter: str
    reason: Reason
    separator: str | None = ","
    fields: tuple[str, ...] | None = None
    place: Place | None = field(default=None, compare=False)

    def pairs(self, names: Sequence[str]) -> Pairs:
        return listed(self.parameter, names, self.separator)


@dataclass(frozen=True)
class Counting:
    """How the number of all matching rows is asked for; by a header (RFC 7240) where ``header`` is set."""

    parameter: str
    value: str
    reason: Reason
    header: bool = False
    place: Place | None = field(default=None, compare=False)


@dataclass(frozen=True)
class Aggregating:
    """How aggregates are asked for, and the names under which a result's members stand.

    ``functions`` has a template for each: of a parameter ``NAME=VALUE``, or of one item of ``parameter``.
    ``path`` is the operation's path, ``fields`` the fields that a function takes, where that is said.
    Conditions are written as for the list.
    """

    path: str
    functions: Mapping[Function, str]
    reason: Reason
    parameter: str = ""
    group: str = ""
    separator: str | None = ","
    #: What joins several groups; None where the parameter is repeated, "" where it takes one alone.
    joint: str | None = ","
    rows: str | None = ""
    fields: Mapping[Function, tuple[str, ...]] = field(default_factory=dict)
    groups: tuple[str, ...] | None = None
    filters: bool = True
    alias: str = ""
    place: Place | None = field(default=None, compare=False)

    def pairs(self, measures: Sequence[Measure], groups: Sequence[str] = ()) -> Pairs:
        """The query parameters for aggregates of groups. Raises Inexpressible."""
        items = []
        for each in measures:
            template = self.functions.get(each.function)
            if template is None or (not each.field and "{field}" in template and ANY not in template):
                raise Inexpressible(str(each))
            items.append(template.replace("{field}", each.field or ANY).replace("{alias}", self.alias_of(each)))
        items = list(dict.fromkeys(items))
        if groups and not self.group:
            raise Inexpressible("groups")
        if self.parameter and "{measures}" in self.group:
            template = self.group if groups else "aggregate({measures})"
            text = template.replace("{measures}", ",".join(items)).replace("{fields}", ",".join(groups))
            return [(self.parameter, text)]
        pairs: Pairs = []
        if self.parameter:
            pairs = (
                [(self.parameter, self.separator.join(items))]
                if self.separator
                else [(self.parameter, i) for i in items]
            )
        else:
            by_name: dict[str, list[str]] = {}
            for item in filter(None, items):
                name, _, value = item.partition("=")
                by_name.setdefault(name, []).append(value)
            for name, values in by_name.items():
                pairs += (
                    [(name, self.separator.join(values))] if self.separator else [(name, value) for value in values]
                )
        if groups:
            if self.joint == "" and len(groups) > 1:
                raise Inexpressible("several groups")
            name, _, value = self.group.partition("=")
            parts = list(groups) if self.joint is None else [self.joint.join(groups)]
            pairs += [(name, value.replace("{fields}", part)) for part in parts]
        return pairs

    @staticmethod
    def alias_of(measure: Measure) -> str:
        return f"{measure.function}_{measure.field or 'all'}"


@dataclass(frozen=True)
class Searching:
    """How a list is searched for a text, whichever field it stands in."""

    parameter: str
    reason: Reason


@dataclass(frozen=True)
class Queries:
    """What can be asked of a list. Of several filterings or sortings, which it is has to be tried."""

    filterings: tuple[Filtering, ...] = ()
    sortings: tuple[Sorting, ...] = ()
    selecting: Selecting | None = None
    counting: Counting | None = None
    aggregating: Aggregating | None = None
    searching: Searching | None = None
