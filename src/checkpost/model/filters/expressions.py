"""Conditions as an expression in one parameter, whose grammar its description tells."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import replace

from checkpost.contract.contract import Parameter
from checkpost.model.field import Reason
from checkpost.model.filters.objects import by_json, by_json_suffix
from checkpost.model.filters.parameters import parameters_in_words
from checkpost.model.filters.templates import OTHERWISE, Templates, operand
from checkpost.model.query import Operator
from checkpost.model.said import code_in, listed_operators, said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import ANY, Filtering
from checkpost.model.vocabulary import operator_of

_VALUE = r"'(?:[^']|'')*'|\"[^\"]*\"|[\w.+-]+"


def odata(parameter: Parameter, said: str) -> Filtering:
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


def expression(parameter: Parameter, names: Sequence[str]) -> tuple[Filtering, ...]:
    """An expression whose grammar the description of the parameter tells: none where it does not, two where
    nothing tells whether texts stand in quotes. What the introduction says of it counts where it tells more."""
    said = said_of(parameter)
    found = _expression(parameter, said, names)
    wider = _expression(parameter, f"{said}\n{parameter.elsewhere}", names) if parameter.elsewhere else ()
    return wider if wider and (not found or len(wider[0].templates) > len(found[0].templates)) else found


def _expression(parameter: Parameter, said: str, names: Sequence[str]) -> tuple[Filtering, ...]:
    in_words = parameters_in_words(parameter, said, names)
    if in_words is not None:
        return (in_words,)
    suffixed = by_json_suffix(parameter, said)
    if suffixed is not None:
        return (suffixed,)
    if _in_json(parameter) or shape_of(parameter.schema).item is not None:
        as_object = by_json(parameter, said, names)
        return (as_object,) if as_object is not None else ()
    # an example may be of another table, where one description serves all
    example = re.search(rf"(?<![\w-]){re.escape(parameter.name)}=(\(.+|[^\s`\"]+)", said)
    shown = re.findall(r"\b([a-z_]\w*)\s*(?:[:=<>!~]|\|\|)", example[1], re.I) if example else []
    shown += re.findall(r"\(([a-z_]\w*),\s*[a-z_]+,[^(),`]+\)", said, re.I)
    fields = "|".join(map(re.escape, sorted({*names, *shown}, key=len, reverse=True)))
    code = code_in(said)
    if not fields:
        return ()
    for kind, pattern in (
        ("triple", rf"\((?:{fields}),\s*(?P<op>[a-z_]+),\s*(?P<value>[^(),`]+)\)"),
        ("call", rf"\b(?P<op>[a-z_]+)\(\s*(?:{fields})\s*,\s*(?P<value>{_VALUE})\s*\)"),
        ("between signs", rf"\b(?:{fields})(?P<op>=[a-z]+=)(?P<value>{_VALUE}|\()"),
        ("signs", rf"\b(?:{fields})(?P<space>\s*)(?P<op>!?~|[<>=!]+)\s*(?P<value>{_VALUE})"),
        ("separated", rf"\b(?:{fields})(?P<sep>[:.|~])(?P<op>[a-z_]+)(?P=sep)(?P<value>{_VALUE})"),
        ("pairs", rf"\b(?:{fields})(?P<op>:)(?P<value>{_VALUE})(?![:\w])"),
        ("words", rf"\b(?:{fields})\s+(?P<op>[A-Za-z_]+)\s+(?P<value>{_VALUE})"),
    ):
        every = re.finditer(pattern, code)
        found = [
            each
            for each in every
            if kind == "pairs" or "~" in each["op"] or operator_of(each["op"].strip("=") or each["op"])
        ]
        if found:
            return _infix(parameter, kind, found, said, code)
    return ()


def _infix(
    parameter: Parameter, kind: str, found: Sequence[re.Match[str]], said: str, code: str
) -> tuple[Filtering, ...]:
    first = found[0]
    listed = listed_operators(said)
    templates: Templates = {}
    if kind in {"signs", "between signs"}:
        signs = ["=", "==", "!=", "<>", "<", "<=", ">", ">="]
        listed |= _signs_alone(said)
        space = first["space"] if kind == "signs" else ""
        used = {each["op"] for each in found} | {
            sign for sign in listed if sign in signs or (kind == "between signs" and re.fullmatch("=[a-z]+=", sign))
        }
        for sign in sorted(used):
            operator = operator_of(sign.strip("=") if kind == "between signs" and sign not in signs else sign)
            if operator is not None:
                several = "({values})" if operator in {"in", "not_in"} else "{value}"
                templates[ANY, operator] = f"{{field}}{space}{sign}{space}{several}"
        if re.search(r"(?<!!)~['`\"]?[\s:=-]*(?:like|contains?|includes?|substring)", said, re.I):
            templates[ANY, "contains"] = f"{{field}}{space}~{space}{{value}}"
    elif kind == "pairs":
        templates[ANY, "eq"] = "{field}:{value}"
    else:
        words = {each["op"] for each in found} | {word for word in listed if operator_of(word) and word.isalpha()}
        # of two words for one operator that goes first which is its own name, as "eq" does before "is"
        for word in sorted(words - {"not"}, key=lambda each: (operator_of(each) != each, each)):
            operator = operator_of(word)
            template = {
                "triple": f"({{field}},{word},{{value}})",
                "call": f"{word}({{field}},{{value}})",
                "separated": f"{{field}}{first['sep']}{word}{first['sep']}{{value}}" if kind == "separated" else "",
                "words": f"{{field}} {word} {{value}}",
            }[kind]
            if operator is not None and operator not in OTHERWISE:
                several = "({values})" if kind == "words" else "{values}"
                written = template.replace("{value}", several) if operator in {"in", "not_in"} else template
                templates.setdefault((ANY, operator), written)
    of_sql = _sql_words(said, code)
    templates = {**of_sql, **templates} if kind == "triple" else {**templates, **of_sql}
    if "%" not in said and "*" not in said:
        templates = {key: each for key, each in templates.items() if key[1] not in {"like", "ilike"}}
    quotes = [each["value"][0] for each in found if each["value"][0] in "'\""]
    bare_text = any(each["value"][0].isalpha() and each["value"] not in {"true", "false", "null"} for each in found)
    quote = quotes[0] if quotes else ("" if bare_text else "'")
    doubled = re.search(r"doubl|''", said, re.I)
    escape = "backslash" if re.search(r"backslash|\\'", said, re.I) else ("double" if quote == "'" or doubled else "")
    upper = bool(re.search(r"\bAND\b", code))

    def joined(word: str) -> str:
        sign = re.search(rf"(?<![\w~])([~.|&;]){word}\b", code) if kind == "triple" else None
        if sign is not None:
            return f"{{left}}{sign[0]}{{right}}"
        written = next((each for each in (word.upper(), word) if re.search(rf"\b{each}\b", code)), "")
        if kind == "signs" and _JOINTS[word] in said:
            written = _JOINTS[word]
        return f"{{left}} {written} {{right}}" if written else ""

    negation = re.search(r"\b(NOT|not)\s*\(", code)
    calls = kind == "call"
    semicolons = kind == "between signs" and ";" in said
    comma = kind == "pairs" and re.search(rf"{re.escape(first[0])}\s*,\s*\w+:", code)
    told = bool(quotes) or bare_text or bool(re.search(r"\bsingle[- ]quot", said, re.I))
    either = ",{right}" if re.search(r"[`'\"],[`'\"]", said) else ""
    conjunction = "and({left},{right})" if calls else joined("and")
    if semicolons or comma:
        conjunction = "{left};{right}" if semicolons else "{left},{right}"
    described = Filtering(
        "expression",
        templates,
        Reason(f"the description of {parameter.name} shows {first[0]}", "likely"),
        parameter.name,
        conjunction=conjunction,
        disjunction="{left}" + either if either and semicolons else ("or({left},{right})" if calls else joined("or")),
        negation=f"{negation[1]} ({{inner}})" if negation else ("not({inner})" if calls and "not(" in code else ""),
        quote=quote,
        escape=escape,  # type: ignore[arg-type]
        escape_told=bool(doubled) or escape == "backslash",
        separator=", " if upper else ",",
        wildcard="*" if "*" in said and "%" not in said else "%",
        place=parameter.place,
        grouped=kind != "triple" or "((" in said,
    )
    if told:
        return (described,)
    both = (replace(described, quote="'", escape="double"), replace(described, quote="", escape=""))
    return both[::-1] if kind == "separated" else both


#: The signs that join conditions in languages like C.
_JOINTS = {"and": "&&", "or": "||"}


def _signs_alone(said: str) -> set[str]:
    """Signs that stand alone, each before what it means, where that is so of three at the least."""
    signs = {each for each in re.findall(r"(?:^|(?<=[\s`,(]))([<>=!]{1,2})(?=[\s`,)]|$)", said) if operator_of(each)}
    return signs if len(signs) > 2 else set()


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


def in_brackets(parameter: Parameter) -> tuple[Filtering, ...]:
    """An object that is spread in brackets, whose members nothing describes (OpenAPI 3.1, 4.8.12: ``deepObject``): the
    usual ways, to be tried."""
    why = Reason(f"the list takes {parameter.name}[…], whose members the contract does not describe", "guess")
    words: tuple[Operator, ...] = ("eq", "ne", "gt", "ge", "lt", "le", "in")
    spelled = {"ge": "gte", "le": "lte"}
    shown = _signs_shown(parameter)
    found = []
    for sign in shown or ("$", "", "_"):
        templates: dict[tuple[str, Operator], str] = {
            (ANY, word): f"{parameter.name}[{{field}}][{sign}{spelled.get(word, word)}]={operand(word)}"
            for word in words
            if word != "in" or shown
        }
        found.append(Filtering("parameters", templates, why, parameter.name, documented=False, place=parameter.place))
    return tuple(found) if shown else (*found, _by_member(parameter, why))


def _signs_shown(parameter: Parameter) -> tuple[str, ...]:
    """What stands before the operators of an example such as ``{"shelf": {"$gt": 5}}``, "" for nothing."""
    inner = [each for example in parameter.examples if isinstance(example, dict) for each in example.values()]
    words = [word for each in inner if isinstance(each, dict) for word in each]
    known = [word for word in words if operator_of(word.lstrip("$_"))]
    return tuple(dict.fromkeys(word[: len(word) - len(word.lstrip("$_"))] for word in known)) if known else ()


def _by_member(parameter: Parameter, why: Reason) -> Filtering:
    """A value for each field, in brackets."""
    templates: dict[tuple[str, Operator], str] = {(ANY, "eq"): f"{parameter.name}[{{field}}]={{value}}"}
    return Filtering("parameters", templates, why, parameter.name, documented=False, place=parameter.place)


def _in_json(parameter: Parameter) -> bool:
    """Whether a parameter takes JSON, by its media type, its schema or an example in words."""
    shown = re.search(r"\{\s*\\?\"", said_of(parameter))
    return parameter.media_type.endswith("json") or bool(shown) or "object" in shape_of(parameter.schema).types


def in_json_list(parameter: Parameter) -> bool:
    """Whether a parameter takes a list in JSON, by its default or an example in words."""
    default = shape_of(parameter.schema).keywords.get("default")
    return default == "[]" or bool(re.search(r"\[\s*\{\s*\\?\"", said_of(parameter)))


#: What the members of a condition are called: its field, its operator, its value.
_CONDITIONS = (
    ("field", "op", "value"),
    ("field", "operator", "value"),
    ("name", "op", "val"),
    ("col", "opr", "value"),
    ("column", "operator", "value"),
    ("column", "op", "value"),
    ("property", "operator", "value"),
)


def _conditions_in_list(parameter: Parameter, why: Reason) -> tuple[Filtering, ...]:
    """A list in JSON of conditions, each an object."""
    words: tuple[Operator, ...] = ("eq", "gt", "lt")
    ways: list[dict[tuple[str, Operator], str]] = [
        {(ANY, word): json.dumps([{name: "{field}", operator: word, value: "{value}"}]) for word in words}
        for name, operator, value in _CONDITIONS
    ]
    return tuple(Filtering("json", way, why, parameter.name, documented=False, place=parameter.place) for way in ways)


def untold(parameter: Parameter) -> tuple[Filtering, ...]:
    """A parameter without a description: the usual grammars, to be tried."""
    why = Reason(f"the list takes {parameter.name}, whose grammar the contract does not describe", "guess")
    grammars: tuple[Mapping[tuple[str, Operator], str], ...] = (
        {(ANY, "eq"): "{field} eq {value}", (ANY, "gt"): "{field} gt {value}", (ANY, "lt"): "{field} lt {value}"},
        {(ANY, "eq"): "{field} = {value}", (ANY, "gt"): "{field} > {value}", (ANY, "lt"): "{field} < {value}"},
        {(ANY, "eq"): "{field}={value}", (ANY, "gt"): "{field}>{value}", (ANY, "lt"): "{field}<{value}"},
        {(ANY, "eq"): "{field}=={value}", (ANY, "gt"): "{field}>{value}", (ANY, "lt"): "{field}<{value}"},
        {(ANY, "eq"): "{field}:eq:{value}", (ANY, "gt"): "{field}:gt:{value}", (ANY, "lt"): "{field}:lt:{value}"},
        {(ANY, "eq"): "eq({field},{value})", (ANY, "gt"): "gt({field},{value})", (ANY, "lt"): "lt({field},{value})"},
    )
    as_json = []
    for sign, plainly in (("$", True), ("", True), ("_", False), ("", False)):
        words: dict[tuple[str, Operator], str] = {(ANY, "eq"): '{"{field}": "{value}"}'} if plainly else {}
        for word in ("eq", "gt", "lt"):
            words.setdefault((ANY, word), f'{{"{{field}}": {{"{sign}{word}": "{{value}}"}}}}')
        as_json.append(Filtering("json", words, why, parameter.name, documented=False, place=parameter.place))
    if in_json_list(parameter):
        return _conditions_in_list(parameter, why)
    if _in_json(parameter):
        return tuple(as_json)
    found = [
        Filtering(
            "expression", each, why, parameter.name, documented=False, quote=quote, escape="", place=parameter.place
        )
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
    return (*found, *as_json, _by_member(parameter, why))
