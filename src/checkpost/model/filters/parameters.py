"""Conditions with a query parameter for each comparison, told from the parameters' names and what is said of them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from functools import cache

from checkpost.contract.contract import Operation, Parameter
from checkpost.contract.node import Node
from checkpost.model.field import Field, Reason
from checkpost.model.filters.templates import COLUMNS, NEGATED, OTHERWISE, Templates, is_scalar, operand
from checkpost.model.paths import normal
from checkpost.model.query import Operator
from checkpost.model.said import COMMAS, said_of
from checkpost.model.shape import alternatives, shape_of
from checkpost.model.spelling import ANY, Filtering
from checkpost.model.vocabulary import operator_of

#: What a parameter's name says beside another's, or beside words for a condition, where it takes an operator.
_OPERATOR_NAMES = r"(?:operator|op|comparator|comparison|lookup|matchmode|condition)"
_CONDITIONS = frozenset({"filter", "where", "criteria", "condition", "match", "query"})
#: Words that let a parameter take several values, of which a row has one.
_COMMAS = re.compile(rf"{COMMAS}|\bcommas? (?:means?|for|is an?) or\b", re.I)
#: A form in which words stand for an operator and a value.
_PLACED = re.compile(r"\b(?:operat(?:or|ion)|op|comparator)[}>]?([:.|~])[{<]?value\b", re.I)
_LISTED = re.compile(r"<li>\s*([$\w]+)\s*</li>|`([$\w]+)`|(?<![\w$])(\$\w+)")
#: A form of query parameters that words give: ``{field}__{operator}={value}``, ``FIELD[OP]=VALUE``.
_FORM = re.compile(
    r"[{<]?\b(?:field|column|attribute|property)(?:_?name)?[}>]?(?P<before>__|[.\[_:-])"
    r"[{<]?(?:operator|operation|op|lookup|comparator)[}>]?(?P<behind>\]?)=",
    re.I,
)


def by_parameters(operation: Operation, queries: Sequence[Parameter], fields: Sequence[Field]) -> Filtering | None:
    templates: Templates = {}
    places = {}
    schemas: dict[tuple[str, Operator], Node] = {}
    split: set[tuple[str, Operator]] = set()
    negation = wildcard = ""
    ordered = sorted((each for each in fields if each.shown), key=lambda each: -len(each.name))
    for parameter in queries:
        deep = list(_deep(parameter, fields)) if parameter.style == "deepObject" else []
        found = {key: template for key, template, _ in deep}
        schemas.update({key: node for key, template, node in deep if template.endswith("={value}")})
        if not found:
            hint = said_of(parameter, operation)
            found = _named(parameter, ordered, hint)
            negation = negation or (_negation(hint) if found else "")
        hint = said_of(parameter)
        wildcard = wildcard or ("*" if re.search(r"\*\w|\w\*", hint) else "%" if "%" in hint else "")
        templates.update(found)
        lists = {template for template in found.values() if "{values}" in template}
        # a parameter that takes several values takes one with a comma for two
        alone = (
            {f"{parameter.name}={{value}}"}
            if _COMMAS.search(hint)
            else {each.replace("{values}", "{value}") for each in lists}
        )
        split.update(key for key, template in found.items() if template in alone)
        if parameter.style != "deepObject" and parameter.schema is not None:
            plain = [key for key, template in found.items() if re.search(r"=\{(?:value|each)\}$", template)]
            item = shape_of(parameter.schema).item
            schemas.update(dict.fromkeys(plain, item if item is not None else parameter.schema))
        places.update({field: parameter.place for field, _ in found})
    if not templates:
        said = "\n".join([operation.description, *(said_of(each) for each in queries)])
        templates.update(_prefixed_in_words(said, ordered))
        negation = _negation(said) if templates else ""
    templates.update(_operators_beside(queries, templates))
    if not templates:
        templates.update(_field_and_value(queries))
    if not wildcard:
        templates = {key: each for key, each in templates.items() if key[1] not in {"like", "ilike"}}
    if not templates:
        return None
    group = next((each for each in queries if each.name == "or" and "(" in said_of(each)), None)
    members = _members(templates) if group is not None else {}
    either, both = _groups(queries, [each.name for each in ordered])
    shapes = sorted({shape_text(name, template) for (name, _), template in templates.items()})
    return Filtering(
        "parameters",
        templates,
        Reason(f"the list takes {', '.join(shapes[:4])}" + (" and more" if len(shapes) > 4 else ""), "stated"),
        conjunction=both,
        disjunction="or=({items})" if members else either,
        members=members,
        negation=negation if any(re.search(r"=\w+[.:]\{", each) for each in templates.values()) else "",
        quote='"',
        wildcard=wildcard or "%",
        place=queries[0].place,
        places=places,
        schemas=schemas,
        split=frozenset(split),
    )


def _groups(queries: Sequence[Parameter], names: Sequence[str]) -> tuple[str, str]:
    """How conditions of which one, and of which all, hold are written in brackets: arrays of objects with the fields'
    names, beside the fields or in the parameter that holds them."""
    found = {"or": "", "and": ""}
    for parameter in queries:
        word = parameter.name.lstrip("$_").lower()
        inside = shape_of(parameter.schema)
        if word in found and set(shape_of(inside.item).properties) & set(names):
            found[word] = parameter.name + "[{index}]"
        for name, node in inside.properties.items() if parameter.style == "deepObject" else ():
            word = name.lstrip("$_").lower()
            if word in found and set(shape_of(shape_of(node).item).properties) & set(names):
                found[word] = f"{parameter.name}[{name}][{{index}}]"
    return found["or"], found["and"]


def shape_text(name: str, template: str) -> str:
    """A template as a person reads it: ``field[gte]=…``."""
    words = {"{value}": "…", "{values}": "…,…", "{each}": "…", "{low}": "…", "{high}": "…"}
    for word, sign in words.items():
        template = template.replace(word, sign)
    head, _, value = template.partition("=")
    return re.sub(rf"(?<![^\W_]){re.escape(name)}(?![^\W_])", "FIELD", head) + "=" + value


def _members(templates: Templates) -> dict[Operator, str]:
    """Comparisons inside a group: the field, then what stands behind its equals sign outside."""
    return {
        operator: "{field}." + template.partition("=")[2].replace("{values}", "({values})").replace("(({", "({")
        if "({values})" not in template
        else "{field}." + template.partition("=")[2]
        for (_, operator), template in templates.items()
        if "." in template.partition("=")[2]
    }


def _deep(parameter: Parameter, fields: Sequence[Field]) -> Iterator[tuple[tuple[str, Operator], str, Node]]:
    """The members of a ``deepObject`` parameter (OpenAPI 3.1, 4.8.12.2): ``a[b]=…`` and ``a[b][c]=…``, each with the
    schema of its value."""
    shown = {each.name: each for each in fields if each.shown}
    values = [each for each in alternatives(parameter.schema) if is_scalar(each)] if parameter.name in shown else []
    # a value, or an object of operators: then an array in it is written as programs that read such brackets take it
    item = "[]" if values else ""
    yield from (((parameter.name, "eq"), f"{parameter.name}={{value}}", each) for each in values)
    for name, node in shape_of(parameter.schema).properties.items():
        inner = shape_of(node)
        if name in shown and inner.properties:
            found = [
                (each, _operator(name, word, f"{parameter.name}[{name}][{word}]", shape_of(each).is_array))
                for word, each in inner.properties.items()
            ]
        elif name in shown:
            word = "in" if inner.is_array else "eq"
            found = [(node, _operator(name, word, f"{parameter.name}[{name}]", inner.is_array))]
        elif parameter.name in shown:
            written = f"{parameter.name}[{name}]" + (item if inner.is_array else "")
            found = [(node, _operator(parameter.name, name, written, inner.is_array))]
        else:
            found = []
        yield from ((key, template, each) for each, templates in found for key, template in templates)


def _operator(field: str, word: str, written: str, several: bool = False) -> Iterator[tuple[tuple[str, Operator], str]]:
    operator = operator_of(word)
    if operator in NEGATED:
        yield (field, operator), f"{written}=true"
        yield (field, NEGATED[operator]), f"{written}=false"
    elif operator in {"in", "not_in"}:
        yield (field, operator), f"{written}=" + ("{each}" if several else "{values}")
    elif operator == "between":
        yield (field, operator), f"{written}={{low}},{{high}}"
    elif operator is not None:
        yield (field, operator), f"{written}={{value}}"


def _named(parameter: Parameter, fields: Sequence[Field], hint: str) -> Templates:
    """What a parameter's name says: a field, alone or with an operator before or behind it."""
    name = parameter.name
    for field in fields:
        if name == field.name or normal(name) == normal(field.name):
            return _of_field(parameter, field, hint)
        if normal(name) == normal(field.name) + "s" and shape_of(parameter.schema).is_array:
            return dict(_operator(field.name, "in", name, _repeats(parameter)))
    for field in fields:
        rest = _rest(name, field.name)
        words = re.findall(r"[A-Za-z]+|[<>=!]+", rest or "")
        words = words[1:] if words[:1] in (["filter"], ["filters"], ["where"], ["f"], ["q"]) else words
        if rest is not None and not words:
            return _of_field(parameter, field, hint)
        if rest is not None and operator_of("".join(words)):
            several = shape_of(parameter.schema).is_array and _repeats(parameter)
            return dict(_operator(field.name, "".join(words), name, several))
    return {}


def _operators_beside(queries: Sequence[Parameter], templates: Templates) -> Templates:
    """Conditions whose operator is a parameter of its own: ``weight=5`` with ``weight_op=gt``, or
    ``filterField=weight`` with ``filterOp=gt`` and ``filterValue=5``."""
    by_name = {normal(each.name): each for each in queries}
    found: Templates = {}
    for parameter in queries:
        matched = re.fullmatch(rf"(.*?){_OPERATOR_NAMES}", normal(parameter.name))
        words = [str(each) for each in shape_of(parameter.schema).keywords.get("enum") or ()]
        known = {word: operator for word in words if (operator := operator_of(word)) is not None}
        if matched is None or len(known) < 2:
            continue
        stem = matched[1]
        value = by_name.get(stem + "value")
        column = next((by_name[stem + each] for each in COLUMNS if stem + each in by_name), None)
        fields = {name for (name, _), each in templates.items() if stem and normal(each.partition("=")[0]) == stem}
        for word, operator in known.items():
            if operator in {"null", "not_null", "between"}:
                continue
            written = operand(operator)
            for name in fields:
                found[name, operator] = f"{by_name[stem].name}={written}&{parameter.name}={word}"
            if column is not None and value is not None:
                found[ANY, operator] = f"{column.name}={{field}}&{parameter.name}={word}&{value.name}={written}"
        # what is asked for without an operator is left to what the API takes for the usual one
        for name in fields if "eq" in known.values() else ():
            templates.pop((name, "match"), None)
    return found


def _field_and_value(queries: Sequence[Parameter]) -> Templates:
    """Conditions whose field and value are parameters of their own: ``equals_field=weight`` with ``equals_value=5``."""
    by_name = {normal(each.name): each for each in queries}
    found: Templates = {}
    for word, parameter in by_name.items():
        stem = next((word.removesuffix(each) for each in COLUMNS if word.endswith(each)), "")
        value = by_name.get(stem + "value") if stem else None
        operator = operator_of(stem) or ("match" if stem in _CONDITIONS else None)
        if value is not None and operator is not None and operator not in {"null", "not_null", "between"}:
            found.setdefault((ANY, operator), f"{parameter.name}={{field}}&{value.name}={operand(operator)}")
    return found


@cache
def _forms(field: str) -> tuple[re.Pattern[str], re.Pattern[str], re.Pattern[str]]:
    """How a field's name stands inside a longer one: between signs, or in camel case, where a word of the name begins
    with a capital."""
    name, capital = re.escape(field), re.escape(field[:1].upper() + field[1:])
    between = re.compile(rf"(?:^|(?<=[^A-Za-z0-9])){name}(?=$|[^A-Za-z0-9])")
    return between, re.compile(rf"^{name}(?=[A-Z])"), re.compile(rf"(?<=[a-z]){capital}$")


def _rest(name: str, field: str) -> str | None:
    """What a parameter's name has beside a field's; None where the field is not in it."""
    if field.lower() not in name.lower():
        return None
    found = next((match for form in _forms(field) if (match := form.search(name))), None)
    return f"{name[: found.start()]} {name[found.end() :]}" if found else None


def _of_field(parameter: Parameter, field: Field, hint: str) -> Templates:
    """A parameter for one field: equality, or an operator as a prefix of the value where words say so."""
    name = parameter.name
    before_value = _placeholder(name, field, hint)
    if before_value:
        return before_value
    prefixed = re.findall(r"(?<![\w.])([a-z_]+)([.:])(?=[\w<{('\"*%…]|$|`|,|\s)", hint)
    known = [(word, sign) for word, sign in prefixed if operator_of(word) and operator_of(word) not in {"from", "to"}]
    # one word before a colon may be prose; several, or one among code, are operators
    if len({word for word, _ in known}) >= 2 or (known and re.search(rf"`{known[0][0]}[.:]", hint)):
        return _prefixed(name, field, known, hint)
    shape = shape_of(parameter.schema)
    if shape.is_array:
        several = f"{name}=" + ("{each}" if _repeats(parameter) else "{values}")
        return {(field.name, "in"): several, (field.name, "eq"): f"{name}={{value}}"}
    loose = field.kind == "date-time" or (field.kind == "text" and "enum" not in field.keywords)
    exact = re.search(r"\b(?:exact\w*|equals?|is this)\b", hint, re.I)
    found: Templates = {(field.name, "match" if loose and not exact else "eq"): f"{name}={{value}}"}
    # what is said of the whole list may be said of its order
    if _COMMAS.search(said_of(parameter)):
        found[field.name, "in"] = f"{name}={{values}}"
    return found


def _repeats(parameter: Parameter) -> bool:
    """Whether several values go out in a parameter each: as its style has it, unless its own words have commas."""
    return parameter.explode and not _COMMAS.search(said_of(parameter))


def _placeholder(name: str, field: Field, hint: str) -> Templates:
    """Operators before the value, where a form says where they stand (``OPERATION:VALUE``) and a list which there
    are."""
    form = _PLACED.search(hint)
    listed = [next(filter(None, each)) for each in _LISTED.findall(hint)] if form else []
    templates: Templates = {}
    for word in dict.fromkeys(listed):
        operator = operator_of(word)
        if form is None or operator is None or operator in OTHERWISE:
            continue
        templates[field.name, operator] = f"{name}={word}{form[1]}{operand(operator)}"
    return templates


def _prefixed(name: str, field: Field, known: Sequence[tuple[str, str]], hint: str) -> Templates:
    templates: Templates = {}
    for word, sign in known:
        operator = operator_of(word)
        if word in {"is", "not"}:
            continue
        if operator in {"in", "not_in"}:
            brackets = re.search(rf"\b{word}{re.escape(sign)}\(", hint)
            templates[field.name, operator] = f"{name}={word}{sign}" + ("({values})" if brackets else "{values}")
        elif operator == "between":
            templates[field.name, operator] = f"{name}={word}{sign}{{low}},{{high}}"
        elif operator in {"null", "not_null"}:
            templates[field.name, operator] = f"{name}={word}{sign}true"
        elif operator is not None:
            templates[field.name, operator] = f"{name}={word}{sign}{{value}}"
    found = re.search(r"\bis([.:])null\b", hint)
    if found:
        templates[field.name, "null"] = f"{name}=is{found[1]}null"
        if re.search(r"\bnot([.:])is\1null\b", hint):
            templates[field.name, "not_null"] = f"{name}=not{found[1]}is{found[1]}null"
    return templates


def _negation(said: str) -> str:
    """How words write that a condition does not hold: before the field's name, or before its operator; empty where they
    do not."""
    if re.search(r"\bnot\.[{<]?\w+[}>]?=", said):
        return "not.{field}={inner}"
    return "not.{inner}" if re.search(r"\bnot\.", said) else ""


#: Of conditions on fields that no parameter stands for, the form that words give: ``field=operator.value``.
_PREFIX_FORM = re.compile(
    r"[{<]?\b(?:field|column)(?:_?name)?[}>]?=[{<]?(?:operator|op)[}>]?(?P<sign>[.:])[{<]?value\b", re.I
)


def _prefixed_in_words(said: str, fields: Sequence[Field]) -> Templates:
    """An operator before the value, in a parameter for each field, of which words alone tell."""
    form = _PREFIX_FORM.search(said)
    if form is None:
        return {}
    sign = form["sign"]
    words = re.findall(rf"[\w\]](?:=|{re.escape(sign)})([a-z_]+){re.escape(sign)}(?=[\w(*%<{{])", said)
    known = [(word, sign) for word in dict.fromkeys(words) if operator_of(word) not in {None, "from", "to"}]
    templates: Templates = {}
    for field in fields:
        templates.update(_prefixed(field.name, field, known, said))
    return templates


def parameters_in_words(parameter: Parameter, said: str, names: Sequence[str]) -> Filtering | None:
    """A parameter for each comparison, of which words alone tell: their form, and a list of the operators."""
    form = _FORM.search(said)
    if form is None or not names:
        return None
    before, behind = form["before"], form["behind"]
    templates: Templates = {}
    for word in dict.fromkeys(re.findall(rf"`(?:{re.escape(before)})?([a-z]+)(?:{re.escape(behind)})?`", said)):
        listed = re.search(rf"{re.escape(before + word + behind)}=\(", said) is not None
        for name in names:
            for key, template in _operator(name, word, f"{name}{before}{word}{behind}"):
                templates.setdefault(key, template.replace("{values}", "({values})") if listed else template)
    if "%" not in said:
        templates = {key: each for key, each in templates.items() if key[1] not in {"like", "ilike"}}
    if not templates:
        return None
    why = Reason(f"the description of {parameter.name} shows FIELD{before}OPERATOR{behind}=VALUE", "likely")
    return Filtering("parameters", templates, why, parameter.name, quote='"', wildcard="%", place=parameter.place)
