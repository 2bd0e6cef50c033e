"""How orders are written, told from the parameters of a list."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence

from checkpost.contract.contract import Operation, Parameter
from checkpost.model.choices import choices_of, separator_of
from checkpost.model.field import Reason
from checkpost.model.filters.templates import COLUMNS
from checkpost.model.media import is_json_type
from checkpost.model.members import APPENDED
from checkpost.model.paths import normal
from checkpost.model.said import said_of
from checkpost.model.shape import shape_of
from checkpost.model.spelling import AS_JSON, Sorting

#: Directions that are said by yes or no.
FLAGS = re.compile(r"(?:sort|order|is|orderby|sortby)?(?:(?P<up>asc|ascending)|desc|descending|reversed?)")
#: A choice of an order: a field and a direction, in letters alone.
_CHOICE = re.compile(r"(?P<field>\w+?)(?P<way>(?:asc|desc)(?:ending)?)|(?P<said>(?:asc|desc)(?:ending)?)(?P<name>\w+)")
#: Spellings of descending and ascending, and what shows them in choices, examples or words.
_STYLES: tuple[tuple[str, str, str], ...] = (
    ('{"{field}": "asc"}', '{"{field}": "desc"}', r"\{\s*\\?\"(?:FIELD)\\?\"\s*:\s*\\?\"(?:asc|desc)\b"),
    ('["{field}", "asc"]', '["{field}", "desc"]', r"\[\s*\\?\"(?:FIELD)\\?\"\s*,\s*\\?\"(?:asc|desc)\b"),
    (
        "{field}",
        "-{field}",
        r"(?<![\w-])-(?:FIELD)\b|\w,\s?-[a-z]|[`'\"]-[`'\"]|\b(?:minus|hyphen)\b|(?:prefix\w*|leading)\W+(?:\w+\W+)?[`'\"]?-",
    ),
    ("{field}:asc", "{field}:desc", r"(?:FIELD):(?:asc|desc)\b"),
    ("{field}.asc", "{field}.desc", r"(?:FIELD)\.(?:asc|desc)\b"),
    ("{field} asc", "{field} desc", r"(?:FIELD) (?:asc|desc)\b"),
    ("{field},ASC", "{field},DESC", r"(?-i:(?:FIELD),(?:ASC|DESC))\b"),
    ("{field},asc", "{field},desc", r"(?:FIELD),(?:asc|desc)\b"),
    ("{field}|asc", "{field}|desc", r"(?:FIELD)\|(?:asc|desc)\b"),
    ("{field}__asc", "{field}__desc", r"(?:FIELD)__(?:asc|desc)\b"),
    ("{field}_asc", "{field}_desc", r"(?:FIELD)_(?:asc|desc)\b"),
    ("{field}_ASC", "{field}_DESC", r"(?:FIELD)_(?:ASC|DESC)\b"),
    ("asc({field})", "desc({field})", r"\b(?:asc|desc)\((?:FIELD)\)"),
)
#: What names the direction beside a field, in an object that is one key of an order.
_DIRECTED = frozenset(
    {
        "direction",
        "dir",
        "order",
        "sort",
        "sortorder",
        "sortdirection",
        "orderby",
        "asc",
        "desc",
        "ascending",
        "descending",
    }
)
#: Words by which an order takes several fields, and what joins them; a comma also stands before a direction.
_SEVERAL = r"\b(?:commas?|several|multiple|fields|columns|keys)\b|\w,\s?-?(?!(?:asc|desc)\w*\b)\w"
#: Those that are tried where nothing is said.
_USUAL = _STYLES[2:7]


def sortings_of(parameter: Parameter, direction: Parameter | None, names: Sequence[str]) -> tuple[Sorting, ...]:
    """The ways in which the list may take an order: one that is described, or several to be tried."""
    by_member = _sorting_by_member(parameter, names) or _sorting_by_objects(parameter, names)
    by_member = by_member or _sorting_by_example(parameter, names)
    if by_member is not None:
        return (by_member,)
    separator = separator_of(parameter)
    choices = choices_of(parameter)
    plain_choices = tuple(each for each in choices if each in names)
    several = (
        shape_of(parameter.schema).is_array
        or parameter.name == "$orderby"
        or bool(not choices and re.search(_SEVERAL, said_of(parameter), re.I))
    )
    said = "\n".join([said_of(parameter), *choices])
    # an example may be of another table, where one description serves all
    another = rf"(?<={re.escape(parameter.name)}=)\w+?"
    general = ["field", "FIELD", "column", "name", "property", r"\{\w+\}", r"<\w+>", another]
    pattern = "|".join([*map(re.escape, names), *general])
    if direction is not None:
        words = _direction_words(direction)
        why = Reason(f"the list takes {parameter.name}, and {direction.name} for the direction", "stated")
        return (
            Sorting(
                parameter.name,
                "{field}",
                "{field}",
                why,
                separator,
                direction.name,
                words,
                plain_choices or None,
                several,
                parameter.place,
            ),
        )

    def made(style: tuple[str, str, str], why: Reason) -> Sorting:
        ascending, descending, _ = style
        among = tuple(name for name in names if descending.replace("{field}", name) in choices) if choices else ()
        joined = None if separator == "," and "," in descending else separator
        joined = AS_JSON if descending.startswith('{"') else joined
        return Sorting(
            parameter.name,
            ascending,
            descending,
            why,
            joined,
            fields=among or plain_choices or None,
            several=several and not descending.startswith("["),
            place=parameter.place,
        )

    if parameter.name == "$orderby":
        why = Reason("the list takes $orderby, as OData has it", "stated")
        return (made(("{field} asc", "{field} desc", ""), why),)
    for style in _STYLES if said else ():
        found = re.search(style[2].replace("FIELD", pattern), said, re.I if "_" not in style[1] else 0)
        if found and re.search(r"(?<![a-z])(?:ASC|DESC)\b", found[0]):
            # the words are written as they are shown
            style = tuple(re.sub(r"\b(?:asc|desc)(?=\"?[}\]]?$)", lambda word: word[0].upper(), each) for each in style)  # type: ignore[assignment]
        if found:
            return (made(style, Reason(f"the description of {parameter.name} shows {style[1]}", "likely")),)
    chosen = _by_choice(choices, names)
    if chosen:
        shown = next(iter(chosen.values()))
        why = Reason(f"{parameter.name} takes {shown[0]} and {shown[1]}", "likely")
        return (
            Sorting(
                parameter.name, "{field}", "{field}", why, fields=tuple(chosen), choices=chosen, place=parameter.place
            ),
        )
    why = Reason(f"the list takes {parameter.name}, whose form the contract does not describe", "guess")
    return tuple(made(style, why) for style in _USUAL)


def _by_choice(choices: Sequence[str], names: Sequence[str]) -> dict[str, tuple[str, str]]:
    """The fields of which there is a choice for either direction, written in whatever way: ``NAME_DESC``, ``nameDesc``,
    ``desc(name)``."""
    known = {normal(name): name for name in names}
    found: dict[str, dict[bool, str]] = {}
    for choice in choices:
        matched = _CHOICE.fullmatch(normal(choice))
        name = known.get(matched["field"] or matched["name"]) if matched else None
        if matched and name is not None:
            found.setdefault(name, {})[(matched["way"] or matched["said"]).startswith("desc")] = choice
    return {name: (ways[False], ways[True]) for name, ways in found.items() if len(ways) == 2}


def other_sort(sort: Parameter, known: Mapping[str, Parameter]) -> Parameter | None:
    """Another parameter that is named as one for an order, where nothing says which of the two takes the field."""
    both = [known[word] for word in ("sort", "sortby", "orderby") if word in known]
    others = [each for each in both if each is not sort]
    silent = sort in both and len(both) == 2 and not any(said_of(each) or choices_of(each) for each in both)
    return others[0] if silent else None


def either_order(sort: Parameter, other: Parameter, names: Sequence[str]) -> tuple[Sorting, ...]:
    """The field in one of two parameters and the direction in the other, to be tried; and each alone."""
    found = []
    for field, direction in ((sort, other), (other, sort)):
        why = Reason(f"the list takes {field.name} and {direction.name}, which the contract does not describe", "guess")
        for words in (("asc", "desc"), ("ASC", "DESC")):
            by = (direction.name, words, None, False, field.place)
            found.append(Sorting(field.name, "{field}", "{field}", why, None, *by))
    return (*found, *sortings_of(sort, None, names), *sortings_of(other, None, names))


def _sorting_by_member(parameter: Parameter, names: Sequence[str]) -> Sorting | None:
    """An object of fields with a direction each, in brackets: ``sort[field]=desc`` (OpenAPI 3.1, 4.8.12:
    ``deepObject``), or as JSON."""
    whole = shape_of(parameter.schema)
    members = shape_of(whole.item).properties if whole.is_array else whole.properties
    among = tuple(name for name in names if name in members)
    as_json = is_json_type(parameter.media_type)
    if not among or not (parameter.style == "deepObject" or as_json):
        return None
    shape = shape_of(members[among[0]])
    numbers = bool(shape.types) and shape.types <= {"integer", "number"}
    choices = [str(each) for each in shape.keywords.get("enum") or (["1", "-1"] if numbers else [])]
    ascending, descending = _words_among(choices)
    why = Reason(f"{parameter.name} has a member for each field", "stated")
    if as_json:
        up, down = (json.dumps({"{field}": word}) for word in (ascending, descending))
        several = parameter.name.endswith(APPENDED)
        return Sorting(parameter.name, up, down, why, None, fields=among, several=several, place=parameter.place)
    name = f"{parameter.name}[{{field}}]"
    return Sorting(name, ascending, descending, why, None, fields=among, several=True, place=parameter.place)


def _sorting_by_objects(parameter: Parameter, names: Sequence[str]) -> Sorting | None:
    """A list of objects with a field and a direction each."""
    item = shape_of(shape_of(parameter.schema).item)
    field = next((each for each in item.properties if normal(each) in COLUMNS), "")
    rest = [each for each in item.properties if each != field and normal(each) in _DIRECTED]
    if not field or len(rest) != 1:
        return None
    direction = shape_of(item.properties[rest[0]])
    among = shape_of(item.properties[field]).keywords.get("enum")
    if direction.types == {"boolean"}:
        flag = FLAGS.fullmatch(normal(rest[0]))
        words: tuple[object, object] = (True, False) if flag is not None and flag["up"] else (False, True)
    else:
        words = _words_among([str(each) for each in direction.keywords.get("enum") or ()])
    up, down = (json.dumps([{field: "{field}", rest[0]: word}]) for word in words)
    why = Reason(f"{parameter.name} takes a list of objects with {field} and {rest[0]}", "stated")
    fields = tuple(each for each in names if each in among) if among else None
    return Sorting(parameter.name, up, down, why, AS_JSON, fields=fields, several=True, place=parameter.place)


#: The two directions in whatever way they are written.
_PAIRS: tuple[tuple[object, object], ...] = (
    *(("asc", "desc"), ("ASC", "DESC"), ("ascending", "descending")),
    *(("+", "-"), (1, -1), ("1", "-1")),
)
_EXAMPLE = re.compile(r"\[\s*\{.*?\}\s*\]", re.S)


def _sorting_by_example(parameter: Parameter, names: Sequence[str]) -> Sorting | None:
    """A list of objects in JSON, with a field and a direction each, of which an example tells; what else they hold is
    the same for each field."""
    said = (said_of(parameter) + "\n" + parameter.elsewhere).replace('\\"', '"')
    for text in _EXAMPLE.findall(said):
        try:
            objects = json.loads(text)
        except ValueError:
            continue
        for word in COLUMNS:  # what names a field best first: objects of one list may be of several kinds
            for each in objects:
                field = next((name for name in each if normal(name) == word), "")
                way = next((name for name in each if name != field and normal(name) in _DIRECTED), "")
                pair = next((pair for pair in _PAIRS if each.get(way) in pair), None)
                if not (field and way and pair and isinstance(each[field], str)):
                    continue
                up, down = (json.dumps({**each, field: "{field}", way: sign}) for sign in pair)
                why = Reason(f"an example of {parameter.name} has {field} and {way}", "likely")
                return Sorting(
                    parameter.name, f"[{up}]", f"[{down}]", why, AS_JSON, several=True, place=parameter.place
                )
    return None


def sorting_by_parameter(operation: Operation, names: Sequence[str]) -> Sorting | None:
    """A parameter for each field that takes a direction: ``orderby.field=desc``, ``sort[field]=desc``."""
    found: dict[str, dict[str, Parameter]] = {}
    for parameter in operation.parameters:
        if parameter.location != "query" or not _is_direction(choices_of(parameter)):
            continue
        for name in names:
            at = re.search(rf"(?<=[._\[:-]){re.escape(name)}(?=\]?$)", parameter.name)
            if at is not None:
                written = parameter.name[: at.start()] + "{field}" + parameter.name[at.end() :]
                found.setdefault(written, {})[name] = parameter
    if not found:
        return None
    written, by_name = max(found.items(), key=lambda each: len(each[1]))
    first = next(iter(by_name.values()))
    ascending, descending = _words_among(choices_of(first))
    why = Reason(f"the list takes {written.replace('{field}', 'FIELD')} with a direction", "stated")
    return Sorting(written, ascending, descending, why, None, fields=tuple(by_name), place=first.place)


def _is_direction(choices: Sequence[str]) -> bool:
    """Whether a parameter takes an ascending and a descending direction, and little else."""
    words = {normal(each) for each in choices}
    return (
        len(words) <= 4
        and any(each.startswith("asc") for each in words)
        and any(each.startswith("desc") for each in words)
    )


def _direction_words(direction: Parameter) -> tuple[str, str]:
    """The words for an ascending and a descending order."""
    flag = FLAGS.fullmatch(normal(direction.name)) if is_flag(direction) else None
    if flag is not None:
        return ("true", "false") if flag["up"] else ("false", "true")
    return _words_among(choices_of(direction))


def says_direction(parameter: Parameter) -> bool:
    """Whether a parameter takes nothing but a direction."""
    pattern = str(shape_of(parameter.schema).keywords.get("pattern", ""))
    return (
        _is_direction(choices_of(parameter))
        or re.fullmatch(r"\^\(?(?:asc\|desc|desc\|asc)\)?\$", pattern, re.I) is not None
    )


def is_flag(parameter: Parameter) -> bool:
    return shape_of(parameter.schema).types == {"boolean"}


def _words_among(choices: Sequence[str]) -> tuple[str, str]:
    ascending = next((each for each in choices if normal(each).startswith("asc") or each == "1"), "asc")
    descending = next((each for each in choices if normal(each).startswith("desc") or each == "-1"), "desc")
    return ascending, descending
