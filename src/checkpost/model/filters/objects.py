"""Conditions as JSON in one parameter: an object with a member for each field, or a list of objects."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence

from checkpost.contract.contract import Parameter
from checkpost.model.field import Reason
from checkpost.model.filters.templates import COLUMNS, NEGATED, OTHERWISE, Templates, is_scalar, operand
from checkpost.model.paths import normal
from checkpost.model.query import PATTERNS, Operator
from checkpost.model.said import listed_operators
from checkpost.model.shape import alternatives, shape_of
from checkpost.model.spelling import ANY, Filtering
from checkpost.model.vocabulary import operator_of

_COMPARISONS = ("operator", "op", "comparator", "comparison", "operation", "lookup", "condition", "type")
_OPERANDS = ("value", "val", "values", "operand")

#: Words in italics (CommonMark, 6.2), whose asterisks stand for nothing.
_EMPHASIS = re.compile(r"(?<![\w*\"'`])\*([A-Za-z][^*\n]*[A-Za-z\]])\*(?![\w*\"'`])")


def by_json(parameter: Parameter, said: str, names: Sequence[str]) -> Filtering | None:
    """A JSON value with a member for each field, and operators as members of that."""
    said = _EMPHASIS.sub(r"\1", said.replace('\\"', '"'))
    listed = listed_conditions(parameter, said, names)
    if listed is not None:
        return listed
    templates: Templates = {}
    fields: tuple[str, ...] | None = None
    stated = False
    tokens = set(re.findall(r"\"([$_]?[A-Za-z_]+)\"\s*:", said)) | set(re.findall(r"(?<![\w$])([$_][a-z_]+)\b", said))
    tokens |= listed_operators(said)
    for name, node in shape_of(parameter.schema).properties.items():
        if name not in names:
            tokens.add(name)
            continue
        fields = (*(fields or ()), name)
        # an object under an operator is a condition on another row
        members = [word for word, each in shape_of(node).properties.items() if not shape_of(each).properties]
        for word in members:
            templates |= {(name, operator): each for operator, each in _json_members(word)}
            stated = True
        untold = not shape_of(node).types and not shape_of(node).properties
        if untold or is_scalar(node) or any(is_scalar(each) for each in alternatives(node)):
            templates.setdefault((name, "eq"), '{"{field}": "{value}"}')
            # a value of any type may be an object of operators, of which words tell
            stated = stated or not untold
    tokens = {token for token in tokens if re.fullmatch(r"[$_]?[A-Za-z_]+", token)}
    for token in sorted(tokens - set(names)) if not stated else ():
        templates |= {(name, operator): each for operator, each in _json_members(token) for name in fields or (ANY,)}
    stated = stated or bool(fields and templates)
    # an example may be of another table, where one description serves all
    plainly = re.findall(r"\"([A-Za-z]\w*)\"\s*:\s*(?:\"|-?\d|true|false|null)", said)
    if any(word in names or operator_of(word) is None for word in plainly) and not stated:
        templates[ANY, "eq"] = '{"{field}": "{value}"}'
        if re.search(r":\s*null\b", said):
            templates[ANY, "null"] = '{"{field}": null}'
    if not templates:
        return None
    if "%" not in said and "*" not in said:
        templates = {key: each for key, each in templates.items() if key[1] not in {"like", "ilike"}}

    def group(word: str) -> str:
        token = next((each for each in tokens if each.lstrip("$_") == word), "")
        return f'{{"{token}": "{{{"inner" if word == "not" else "items"}}}"}}' if token else ""

    operators = [key for key in templates if key[1] not in PATTERNS]
    return Filtering(
        "json",
        templates,
        Reason(f"{parameter.name} takes a JSON value with {len(operators)} operators", "likely"),
        parameter.name,
        fields,
        conjunction=group("and"),
        disjunction=group("or"),
        negation=group("not"),
        wildcard="*" if "*" in said and "%" not in said else "%",
        place=parameter.place,
    )


#: A field's name with an operator behind it, in words: ``<column>__<operator>``.
_SUFFIXED = re.compile(
    r"(?:<\w+>|\{\w+\}|\b(?:field(?:_?name)?|column|name))(__|[.:$])"
    r"(?:<(?:op\w*|lookup)>|\{(?:op\w*|lookup)\}|(?:operator|lookup|op)\b)",
    re.I,
)


def by_json_suffix(parameter: Parameter, said: str) -> Filtering | None:
    """An object with a member for each condition, named for the field and the operator: ``{"seeds__gt": 5}``."""
    shown = _SUFFIXED.search(said) if re.search(r"\bJSON\b", said) else None
    if shown is None:
        return None
    templates: Templates = {(ANY, "eq"): '{"{field}": "{value}"}'}
    for token in sorted(listed_operators(said)):
        operator = operator_of(token)
        if operator is not None and operator not in OTHERWISE:
            templates.setdefault((ANY, operator), f'{{"{{field}}{shown[1]}{token}": "{operand(operator)}"}}')
    why = Reason(f"{parameter.name} takes a JSON object of fields with {len(templates)} operators", "likely")
    return Filtering("json", templates, why, parameter.name, place=parameter.place)


def listed_conditions(parameter: Parameter, said: str, names: Sequence[str]) -> Filtering | None:
    """A list of objects, each with a field, an operator and a value; all of them hold."""
    item = shape_of(shape_of(parameter.schema).item)
    members = list(item.properties)
    if not members:
        example = re.search(r"\[\s*\{([^{}]*)\}", said)
        members = re.findall(r"\"(\w+)\"\s*:", example[1]) if example else []
    parts = (COLUMNS, _COMPARISONS, _OPERANDS)
    named = [next((each for each in members if normal(each) in words), "") for words in parts]
    rest = [each for each in members if each not in named]
    if not named[0] and all(named[1:]) and len(rest) == 1:
        named[0] = rest[0]  # whatever it is called: beside an operator and a value there is a field
    if not all(named):
        return None
    column, comparison, value_at = named
    choices = [str(each) for each in shape_of(item.properties.get(comparison)).keywords.get("enum") or ()]
    shown = re.findall(rf"\"{comparison}\"\s*:\s*\"([^\"]+)\"", said)
    words = dict.fromkeys([*choices, *shown, *(sorted(listed_operators(said)) if not choices else ())])
    templates: Templates = {}
    for word in words:
        operator = operator_of(word.lstrip("$_"))
        if operator is None or operator in OTHERWISE | {"like", "ilike"}:
            continue
        condition = {column: "{field}", comparison: word, value_at: operand(operator)}
        templates.setdefault((ANY, operator), json.dumps([condition]))
    among = shape_of(item.properties.get(column)).keywords.get("enum")
    if not templates:
        return None
    why = Reason(f"{parameter.name} takes a list of objects with {column}, {comparison} and {value_at}", "stated")
    fields = tuple(each for each in names if each in among) if among else None
    return Filtering("json", templates, why, parameter.name, fields, place=parameter.place)


def _json_members(word: str) -> Iterator[tuple[Operator, str]]:
    """The operators that a member under a field stands for, and how each is written."""
    operator = operator_of(word.lstrip("$_")) if word.lstrip("$_") != "not" else None
    if operator in {"null", "not_null"}:
        yield operator, f'{{"{{field}}": {{"{word}": true}}}}'
        yield NEGATED[operator], f'{{"{{field}}": {{"{word}": false}}}}'
    elif operator == "between":
        yield operator, f'{{"{{field}}": {{"{word}": ["{{low}}", "{{high}}"]}}}}'
    elif operator is not None and operator not in {"from", "to"}:
        yield operator, f'{{"{{field}}": {{"{word}": "{operand(operator)}"}}}}'
