"""How conditions are written, told from a list's query parameters and what is said of them."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cache

from checkpost.contract.contract import Operation, Parameter
from checkpost.contract.node import Node
from checkpost.model.field import Field, Reason
from checkpost.model.paths import normal
from checkpost.model.query import PATTERNS, Operator
from checkpost.model.shape import alternatives, shape_of
from checkpost.model.spelling import ANY, Filtering
from checkpost.model.vocabulary import operator_of

Templates = dict[tuple[str, Operator], str]
#: Parameters that hold an expression, by name; the second set only where what is said of them shows one.
_EXPRESSIONS = ("filter", "where", "filters", "condition", "conditions", "criteria", "predicate")
_PERHAPS = ("q", "query", "search", "s")
_VALUE = r"'(?:[^']|'')*'|\"[^\"]*\"|[\w.+-]+"
_NEGATED: dict[Operator, Operator] = {"null": "not_null", "not_null": "null"}


def filterings_of(operation: Operation, fields: Sequence[Field], taken: set[str]) -> tuple[Filtering, ...]:
    """The ways in which the list may take conditions: none, one that is described, or several to be tried.

    ``taken`` names the parameters that are known to be for something else.
    """
    queries = [each for each in operation.parameters if each.location == "query" and each.name not in taken]
    names = [each.name for each in fields if each.shown]
    by_parameter = _by_parameters(operation, queries, fields)
    found: list[Filtering] = [by_parameter] if by_parameter is not None else []
    alternatives: dict[str, tuple[Filtering, ...]] = {}
    for parameter in queries:
        word = normal(parameter.name)
        described: tuple[Filtering, ...] = ()
        if parameter.name == "$filter":
            described = (_odata(parameter, said_of(parameter)),)
        elif word in (*_EXPRESSIONS, *_PERHAPS) and parameter.style != "deepObject" and parameter.name not in names:
            described = _expression(parameter, names)
        if described:
            alternatives[described[0].parameter] = described
            found.append(described[0])
        elif word in _EXPRESSIONS and parameter.style != "deepObject" and not found and parameter.name not in names:
            return _untold(parameter)
    best = max(found, key=lambda each: len(each.templates), default=None)
    return alternatives.get(best.parameter, (best,)) if best is not None else ()


def said_of(parameter: Parameter, operation: Operation | None = None) -> str:
    """Everything that the contract says of a parameter in words."""
    words = shape_of(parameter.schema).keywords
    parts = [parameter.description, *parameter.examples, words.get("description"), words.get("example")]
    parts += [*(words.get("examples") or []), words.get("pattern"), words.get("default")]
    text = "\n".join(str(part) for part in parts if isinstance(part, str | int | float))
    return text or (f"{operation.summary}\n{operation.description}" if operation else "")


def code_in(text: str) -> str:
    """The parts of a text that are written as code; the whole text where none is."""
    return "\n".join(re.findall(r"`([^`]+)`", text)) or text


# -- one parameter for each comparison ---------------------------------------------------------------


def _by_parameters(operation: Operation, queries: Sequence[Parameter], fields: Sequence[Field]) -> Filtering | None:
    templates: Templates = {}
    places = {}
    schemas: dict[tuple[str, Operator], Node] = {}
    negation = wildcard = ""
    ordered = sorted((each for each in fields if each.shown), key=lambda each: -len(each.name))
    for parameter in queries:
        deep = list(_deep(parameter, fields)) if parameter.style == "deepObject" else []
        found = {key: template for key, template, _ in deep}
        schemas.update({key: node for key, template, node in deep if template.endswith("={value}")})
        if not found:
            hint = said_of(parameter, operation)
            found = _named(parameter, ordered, hint)
            negation = negation or ("not.{inner}" if found and re.search(r"\bnot\.", hint) else "")
        hint = said_of(parameter)
        wildcard = wildcard or ("*" if re.search(r"\*\w|\w\*", hint) else "%" if "%" in hint else "")
        templates.update(found)
        if parameter.style != "deepObject" and parameter.schema is not None:
            plain = [key for key, template in found.items() if re.search(r"=\{(?:value|each)\}$", template)]
            item = shape_of(parameter.schema).item
            schemas.update(dict.fromkeys(plain, item if item is not None else parameter.schema))
        places.update({field: parameter.place for field, _ in found})
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
    values = [each for each in alternatives(parameter.schema) if _is_scalar(each)] if parameter.name in shown else []
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


def _is_scalar(node: Node) -> bool:
    shape = shape_of(node)
    return bool(shape.types) and not shape.is_object and not shape.is_array


def _operator(field: str, word: str, written: str, several: bool = False) -> Iterator[tuple[tuple[str, Operator], str]]:
    operator = operator_of(word)
    if operator in _NEGATED:
        yield (field, operator), f"{written}=true"
        yield (field, _NEGATED[operator]), f"{written}=false"
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
    for field in fields:
        rest = _rest(name, field.name)
        words = re.findall(r"[A-Za-z]+|[<>=!]+", rest or "")
        words = words[1:] if words[:1] in (["filter"], ["filters"], ["where"], ["f"], ["q"]) else words
        if rest is not None and not words:
            return _of_field(parameter, field, hint)
        if rest is not None and operator_of("".join(words)):
            several = shape_of(parameter.schema).is_array and parameter.explode
            return dict(_operator(field.name, "".join(words), name, several))
    return {}


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
        several = f"{name}=" + ("{each}" if parameter.explode else "{values}")
        return {(field.name, "in"): several, (field.name, "eq"): f"{name}={{value}}"}
    loose = field.kind == "date-time" or (field.kind == "text" and "enum" not in field.keywords)
    exact = re.search(r"\b(?:exact\w*|equals?|is this)\b", hint, re.I)
    found: Templates = {(field.name, "match" if loose and not exact else "eq"): f"{name}={{value}}"}
    # what is said of the whole list may be said of its order
    if re.search(r"\bcsv\b|\bcommas?[- ](?:separated|delimited)\b|separated by commas", said_of(parameter), re.I):
        found[field.name, "in"] = f"{name}={{values}}"
    return found


#: A form in which words stand for an operator and a value.
_PLACED = re.compile(r"\b(?:operat(?:or|ion)|op|comparator)[}>]?([:.|~])[{<]?value\b", re.I)
_LISTED = re.compile(r"<li>\s*([$\w]+)\s*</li>|`([$\w]+)`|(?<![\w$])(\$\w+)")


def _placeholder(name: str, field: Field, hint: str) -> Templates:
    """Operators before the value, where a form says where they stand (``OPERATION:VALUE``) and a list which there
    are."""
    form = _PLACED.search(hint)
    listed = [next(filter(None, each)) for each in _LISTED.findall(hint)] if form else []
    templates: Templates = {}
    for word in dict.fromkeys(listed):
        operator = operator_of(word)
        if form is None or operator is None or operator in {"null", "not_null", "between", "from", "to"}:
            continue
        templates[field.name, operator] = f"{name}={word}{form[1]}" + (
            "{values}" if operator in {"in", "not_in"} else "{value}"
        )
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


# -- one expression --------------------------------------------------------------------------------


def _odata(parameter: Parameter, said: str) -> Filtering:
    """``$filter`` (OData 4.01, part 2, 5.1.1). Where the contract names the operators, those alone are
    taken as promised."""
    templates: Templates = {
        (ANY, operator): f"{{field}} {operator} {{value}}" for operator in ("eq", "ne", "lt", "le", "gt", "ge")
    }
    templates[ANY, "null"], templates[ANY, "not_null"] = "{field} eq null", "{field} ne null"
    functions: dict[str, Operator] = {"contains": "contains", "startswith": "starts", "endswith": "ends"}
    said_functions = [word for word in functions if re.search(rf"\b{word}\b", said, re.I)]
    for word in said_functions:
        templates[ANY, functions[word]] = f"{word}({{field}},{{value}})"
    if re.search(r"`in`|\bin\s*\(", said):
        templates[ANY, "in"] = "{field} in ({values})"
    return Filtering(
        "expression",
        templates,
        Reason("the list takes $filter, an OData expression", "stated"),
        parameter.name,
        conjunction="{left} and {right}",
        disjunction="{left} or {right}",
        negation="not ({inner})",
        bare=frozenset({"number", "boolean", "date", "date-time", "uuid"}),
        place=parameter.place,
    )


#: A form of query parameters that words give: ``{field}__{operator}={value}``, ``FIELD[OP]=VALUE``.
_FORM = re.compile(
    r"[{<]?\b(?:field|column|attribute|property)(?:_?name)?[}>]?(?P<before>__|[.\[_:-])"
    r"[{<]?(?:operator|operation|op|lookup|comparator)[}>]?(?P<behind>\]?)=",
    re.I,
)


def _parameters_in_words(parameter: Parameter, said: str, names: Sequence[str]) -> Filtering | None:
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
    why = Reason(f"what is said of {parameter.name} shows FIELD{before}OPERATOR{behind}=VALUE", "likely")
    return Filtering("parameters", templates, why, parameter.name, quote='"', wildcard="%", place=parameter.place)


def _expression(parameter: Parameter, names: Sequence[str]) -> tuple[Filtering, ...]:
    """An expression whose grammar is told by what is said of the parameter: none where it is not, two where
    nothing tells whether texts stand in quotes."""
    said = said_of(parameter)
    in_words = _parameters_in_words(parameter, said, names)
    if in_words is not None:
        return (in_words,)
    if parameter.media_type.endswith("json") or re.search(r"\{\s*\\?\"", said):
        by_json = _json(parameter, said, names)
        return (by_json,) if by_json is not None else ()
    fields = "|".join(map(re.escape, sorted(names, key=len, reverse=True)))
    code = code_in(said)
    if not fields:
        return ()
    for kind, pattern in (
        ("call", rf"\b(?P<op>[a-z_]+)\(\s*(?:{fields})\s*,\s*(?P<value>{_VALUE})\s*\)"),
        ("between signs", rf"\b(?:{fields})(?P<op>=[a-z]+=)(?P<value>{_VALUE}|\()"),
        ("signs", rf"\b(?:{fields})(?P<space>\s*)(?P<op>[<>=!]+)\s*(?P<value>{_VALUE})"),
        ("separated", rf"\b(?:{fields})(?P<sep>[:.|~])(?P<op>[a-z_]+)(?P=sep)(?P<value>{_VALUE})"),
        ("words", rf"\b(?:{fields})\s+(?P<op>[A-Za-z_]+)\s+(?P<value>{_VALUE})"),
    ):
        found = [each for each in re.finditer(pattern, code) if operator_of(each["op"].strip("=") or each["op"])]
        if found:
            return _infix(parameter, kind, found, said, code)
    return ()


def _infix(
    parameter: Parameter, kind: str, found: Sequence[re.Match[str]], said: str, code: str
) -> tuple[Filtering, ...]:
    first = found[0]
    listed = _listed_operators(said)
    templates: Templates = {}
    if kind in {"signs", "between signs"}:
        signs = ["=", "==", "!=", "<>", "<", "<=", ">", ">="]
        space = first["space"] if kind == "signs" else ""
        used = {each["op"] for each in found} | {
            sign for sign in listed if sign in signs or (kind == "between signs" and re.fullmatch("=[a-z]+=", sign))
        }
        for sign in sorted(used):
            operator = operator_of(sign.strip("=") if kind == "between signs" and sign not in signs else sign)
            if operator is not None:
                several = "({values})" if operator in {"in", "not_in"} else "{value}"
                templates[ANY, operator] = f"{{field}}{space}{sign}{space}{several}"
    else:
        words = {each["op"] for each in found} | {word for word in listed if operator_of(word) and word.isalpha()}
        for word in sorted(words - {"not"}):
            operator = operator_of(word)
            template = {
                "call": f"{word}({{field}},{{value}})",
                "separated": f"{{field}}{first['sep']}{word}{first['sep']}{{value}}" if kind == "separated" else "",
                "words": f"{{field}} {word} {{value}}",
            }[kind]
            if operator is not None and operator not in {"null", "not_null", "between", "from", "to"}:
                several = "({values})" if kind == "words" else "{values}"
                templates[ANY, operator] = (
                    template.replace("{value}", several) if operator in {"in", "not_in"} else template
                )
    templates.update(_sql_words(said, code))
    if "%" not in said and "*" not in said:
        templates = {key: each for key, each in templates.items() if key[1] not in {"like", "ilike"}}
    quotes = [each["value"][0] for each in found if each["value"][0] in "'\""]
    bare_text = any(each["value"][0].isalpha() and each["value"] not in {"true", "false", "null"} for each in found)
    quote = quotes[0] if quotes else ("" if bare_text else "'")
    doubled = re.search(r"doubl|''", said, re.I)
    escape = "backslash" if re.search(r"backslash|\\'", said, re.I) else ("double" if quote == "'" or doubled else "")
    upper = bool(re.search(r"\bAND\b", code))

    def joined(word: str) -> str:
        written = next((each for each in (word.upper(), word) if re.search(rf"\b{each}\b", code)), "")
        return f"{{left}} {written} {{right}}" if written else ""

    negation = re.search(r"\b(NOT|not)\s*\(", code)
    calls = kind == "call"
    semicolons = kind == "between signs" and ";" in said
    told = bool(quotes) or bare_text or bool(re.search(r"\bsingle[- ]quot", said, re.I))
    either = ",{right}" if re.search(r"[`'\"],[`'\"]", said) else ""
    described = Filtering(
        "expression",
        templates,
        Reason(f"what is said of {parameter.name} shows {first[0]}", "likely"),
        parameter.name,
        conjunction="{left};{right}" if semicolons else ("and({left},{right})" if calls else joined("and")),
        disjunction="{left}" + either if either and semicolons else ("or({left},{right})" if calls else joined("or")),
        negation=f"{negation[1]} ({{inner}})" if negation else ("not({inner})" if calls and "not(" in code else ""),
        quote=quote,
        escape=escape,  # type: ignore[arg-type]
        separator=", " if upper else ",",
        wildcard="*" if "*" in said and "%" not in said else "%",
        place=parameter.place,
    )
    if told:
        return (described,)
    both = (replace(described, quote="'", escape="double"), replace(described, quote="", escape=""))
    return both[::-1] if kind == "separated" else both


def _listed_operators(said: str) -> set[str]:
    """Words and signs that stand as code, or in a list of at least three."""
    listed: set[str] = set()
    for segment in re.findall(r"`([^`]+)`", said):
        if len(segment.split()) == 1:
            listed.add(segment)
        listed.update(re.split(r"[,\s]+", segment) if "," in segment else ())
    for run in re.findall(r"(?:[\w<>=!]+\s*,\s*){2,}(?:and\s+|or\s+)?[\w<>=!]+", said):
        listed.update(word for word in re.split(r"[,\s]+", run) if operator_of(word))
    return listed


def _sql_words(said: str, code: str) -> Templates:
    """Operators of SQL that are named: LIKE, IN, BETWEEN, IS NULL."""
    templates: Templates = {}
    named: tuple[tuple[str, Operator, str], ...] = (
        (r"\bIN\b", "in", "{field} IN ({values})"),
        (r"\bNOT IN\b", "not_in", "{field} NOT IN ({values})"),
        (r"\bBETWEEN\b", "between", "{field} BETWEEN {low} AND {high}"),
        (r"\bIS NULL\b", "null", "{field} IS NULL"),
        (r"\bIS NOT NULL\b", "not_null", "{field} IS NOT NULL"),
        (r"\bLIKE\b", "like", "{field} LIKE {value}"),
        (r"\bILIKE\b", "ilike", "{field} ILIKE {value}"),
    )
    for pattern, operator, template in named:
        if re.search(pattern, said):
            templates[ANY, operator] = template
        elif re.search(pattern.lower(), code) and code != said:
            templates[ANY, operator] = template.lower()
    return templates


def _json(parameter: Parameter, said: str, names: Sequence[str]) -> Filtering | None:
    """A JSON value with a member for each field, and operators as members of that."""
    said = said.replace('\\"', '"')
    templates: Templates = {}
    fields: tuple[str, ...] | None = None
    tokens = set(re.findall(r"\"([$_]?[A-Za-z_]+)\"\s*:", said)) | set(re.findall(r"(?<![\w$])([$_][a-z_]+)\b", said))
    tokens |= _listed_operators(said)
    for name, node in shape_of(parameter.schema).properties.items():
        if name not in names:
            tokens.add(name)
            continue
        fields = (*(fields or ()), name)
        # an object under an operator is a condition on another row
        members = [word for word, each in shape_of(node).properties.items() if not shape_of(each).properties]
        for word in members:
            templates |= {(name, operator): each for operator, each in _json_members(word)}
        if any(_is_scalar(each) for each in alternatives(node)):
            templates.setdefault((name, "eq"), '{"{field}": "{value}"}')
    stated = bool(templates)
    tokens = {token for token in tokens if re.fullmatch(r"[$_]?[A-Za-z_]+", token)}
    for token in sorted(tokens - set(names)) if not stated else ():
        templates |= {(ANY, operator): each for operator, each in _json_members(token)}
    scalar = rf"\"(?:{'|'.join(map(re.escape, names))})\"\s*:\s*(?:\"|-?\d|true|false|null)" if names else "$^"
    if re.search(scalar, said) and not stated:
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


def _json_members(word: str) -> Iterator[tuple[Operator, str]]:
    """The operators that a member under a field stands for, and how each is written."""
    operator = operator_of(word.lstrip("$_")) if word.lstrip("$_") != "not" else None
    if operator in {"null", "not_null"}:
        yield operator, f'{{"{{field}}": {{"{word}": true}}}}'
        yield _NEGATED[operator], f'{{"{{field}}": {{"{word}": false}}}}'
    elif operator == "between":
        yield operator, f'{{"{{field}}": {{"{word}": ["{{low}}", "{{high}}"]}}}}'
    elif operator is not None and operator not in {"from", "to"}:
        values = "{values}" if operator in {"in", "not_in"} else "{value}"
        yield operator, f'{{"{{field}}": {{"{word}": "{values}"}}}}'


def _untold(parameter: Parameter) -> tuple[Filtering, ...]:
    """A parameter of which nothing is said: the usual grammars, to be tried."""
    why = Reason(f"the list takes {parameter.name}, of whose grammar nothing is said", "guess")
    grammars: tuple[Mapping[tuple[str, Operator], str], ...] = (
        {(ANY, "eq"): "{field} eq {value}", (ANY, "gt"): "{field} gt {value}", (ANY, "lt"): "{field} lt {value}"},
        {(ANY, "eq"): "{field} = {value}", (ANY, "gt"): "{field} > {value}", (ANY, "lt"): "{field} < {value}"},
        {(ANY, "eq"): "{field}={value}", (ANY, "gt"): "{field}>{value}", (ANY, "lt"): "{field}<{value}"},
        {(ANY, "eq"): "{field}=={value}", (ANY, "gt"): "{field}>{value}", (ANY, "lt"): "{field}<{value}"},
        {(ANY, "eq"): "{field}:eq:{value}", (ANY, "gt"): "{field}:gt:{value}", (ANY, "lt"): "{field}:lt:{value}"},
        {(ANY, "eq"): "eq({field},{value})", (ANY, "gt"): "gt({field},{value})", (ANY, "lt"): "lt({field},{value})"},
    )
    found = [
        Filtering("expression", each, why, parameter.name, documented=False, quote=quote, place=parameter.place)
        for each in grammars
        for quote in ("'", "")
    ]
    signs = ("eq", "ne", "gt", "lt", "gte", "lte", "in")
    between = {(ANY, operator): f"{{field}}||${sign}||{{value}}" for sign in signs if (operator := operator_of(sign))}
    between[ANY, "in"] = "{field}||$in||{values}"
    found.append(
        Filtering(
            "expression", between, why, parameter.name, documented=False, quote="", escape="", place=parameter.place
        )
    )
    found.append(
        Filtering(
            "json",
            {
                (ANY, "eq"): '{"{field}": "{value}"}',
                (ANY, "gt"): '{"{field}": {"$gt": "{value}"}}',
                (ANY, "lt"): '{"{field}": {"$lt": "{value}"}}',
            },
            why,
            parameter.name,
            documented=False,
            place=parameter.place,
        )
    )
    return tuple(found)
