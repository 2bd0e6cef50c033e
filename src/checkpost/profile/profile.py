"""The profile as values, and reading it from YAML with errors that name file and line."""

from __future__ import annotations

import difflib
import os
import re
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field, replace
from datetime import date
from pathlib import Path
from typing import Any, get_args

from checkpost.contract.parse import is_json, parse
from checkpost.contract.pointer import join
from checkpost.contract.positions import locate
from checkpost.errors import CheckPostError
from checkpost.model.access import Access, Rights
from checkpost.model.correction import Correction
from checkpost.model.query import Function, Operator
from checkpost.profile.access import RightsError, rights
from checkpost.profile.credentials import PUBLIC, VARIABLE, Credential, Login, Role
from checkpost.profile.waivers import Waiver
from checkpost.profile.witness import Stated, Witness

NAME = "checkpost.yaml"


@dataclass(frozen=True)
class Profile:
    """Everything that a user may say. ``folder`` is where runs are stored and relative paths start."""

    folder: Path
    contract: str | None = None
    contract_role: str | None = None
    base_url: str | None = None
    #: Which of the contract's servers is meant, and what its variables are to be.
    server: str | None = None
    server_variables: Mapping[str, str] = field(default_factory=dict)
    #: The tables behind a path that is one for all, where the contract does not name them.
    tables: tuple[str, ...] = ()
    roles: Mapping[str, Role] = field(default_factory=dict)
    run_as: str | None = None
    allow_writes: tuple[str, ...] = ()
    resources: Mapping[str, Correction] = field(default_factory=dict)
    parameters: Mapping[str, Any] = field(default_factory=dict)
    queries: Mapping[str, Any] = field(default_factory=dict)
    access: Access = field(default_factory=dict)
    unexposed: tuple[str, ...] = ()
    #: Whether changes may be sent whose rows the API itself picks, by a filter, say.
    writes_by_filter: bool = False
    witness: Witness | None = None
    waivers: tuple[Waiver, ...] = ()
    file: Path | None = None

    @property
    def role(self) -> Role:
        """The role that the checks run as: the one named, else the first, else the public."""
        if self.run_as is not None:
            return self.roles[self.run_as]
        return next(iter(self.roles.values()), PUBLIC)


class ProfileError(CheckPostError):
    """Something in the profile cannot be used; the message has file and line."""


class _Source:
    """A profile's text, for errors that point into it."""

    def __init__(self, file: Path, text: str) -> None:
        self.file, self.text = file, text

    def error(self, pointer: str, problem: str) -> ProfileError:
        line, _ = locate(self.text, is_json(str(self.file), self.text), [pointer])[pointer]
        return ProfileError(f"{self.file}, line {line}: {problem}")

    def check_names(self, value: Any, pointer: str, known: tuple[str, ...]) -> dict[str, Any]:
        if value is None:
            return {}
        if not isinstance(value, dict):
            raise self.error(pointer, "this has to be a mapping of names to values.")
        for name in value:
            if name not in known:
                near = difflib.get_close_matches(name, known, 1)
                hint = f"did you mean {near[0]!r}?" if near else f"the keys here are {', '.join(known)}."
                raise self.error(join(pointer, name), f"there is no key {name!r} here; {hint}")
        return value

    def text_of(self, value: Any, pointer: str) -> str:
        if not isinstance(value, str):
            raise self.error(pointer, "this has to be text.")
        return value

    def truth_of(self, value: Any, pointer: str) -> bool:
        if not isinstance(value, bool):
            raise self.error(pointer, "this has to be true or false.")
        return value

    def texts_of(self, value: Any, pointer: str) -> tuple[str, ...]:
        values = value if isinstance(value, list) else [value]
        return tuple(self.text_of(each, pointer) for each in values)


def read_environment(folder: Path) -> dict[str, str]:
    """The environment, with what a ``.env`` file in the folder adds to it."""
    from dotenv import dotenv_values

    file = folder / ".env"
    added = {name: value for name, value in dotenv_values(file).items() if value} if file.is_file() else {}
    return {**added, **os.environ}


def read_profile(file: Path) -> Profile:
    """Read a profile. Raises ProfileError, or ContractError for YAML that cannot be read."""
    try:
        raw = file.read_bytes()
    except OSError as error:
        raise ProfileError(f"{file}: the profile cannot be read ({error.strerror}).") from None
    value, text = parse(str(file), raw)
    source = _Source(file, text)
    known = (
        "contract",
        "contract_role",
        "base_url",
        "server",
        "server_variables",
        "tables",
        "roles",
        "run_as",
        "allow_writes",
        "parameters",
        "queries",
        "resources",
        "access",
        "unexposed",
        "writes_by_filter",
        "witness",
        "waivers",
    )
    stated = source.check_names(value, "", known)
    folder = file.parent
    roles = {
        str(name): _role(source, str(name), each, join("/roles", name))
        for name, each in _mapping(source, stated.get("roles"), "/roles").items()
    }
    for key in ("run_as", "contract_role"):
        if stated.get(key) is not None and stated[key] not in roles:
            near = ", ".join(roles) or "none"
            raise source.error(f"/{key}", f"the role {stated[key]!r} is not among the roles here ({near}).")
    contract = stated.get("contract")
    if contract is not None and "://" not in source.text_of(contract, "/contract"):
        contract = str(folder / contract)
    return Profile(
        folder=folder,
        contract=contract,
        contract_role=stated.get("contract_role"),
        base_url=_base_url(source, stated),
        tables=source.texts_of(stated.get("tables") or [], "/tables"),
        server=source.text_of(stated["server"], "/server") if stated.get("server") else None,
        server_variables={
            str(name): str(each)
            for name, each in _mapping(source, stated.get("server_variables"), "/server_variables").items()
        },
        roles=roles,
        run_as=stated.get("run_as"),
        allow_writes=source.texts_of(stated.get("allow_writes") or [], "/allow_writes"),
        resources={
            str(name): _correction(source, each, join("/resources", name))
            for name, each in _mapping(source, stated.get("resources"), "/resources").items()
        },
        parameters=_mapping(source, stated.get("parameters"), "/parameters"),
        queries=_queries(source, stated.get("queries"), "/queries"),
        access=_access(source, stated.get("access"), roles),
        unexposed=source.texts_of(stated.get("unexposed") or [], "/unexposed"),
        writes_by_filter=source.truth_of(stated.get("writes_by_filter") or False, "/writes_by_filter"),
        witness=_witness(source, stated.get("witness")),
        waivers=_waivers(source, stated.get("waivers") or []),
        file=file,
    )


def _waivers(source: _Source, value: Any) -> tuple[Waiver, ...]:
    if not isinstance(value, list):
        raise source.error("/waivers", "this has to be a list of waivers.")
    found = []
    for place, each in enumerate(value):
        at = join("/waivers", place)
        said = source.check_names(each, at, ("finding", "check", "resource", "why", "until", "by"))
        if isinstance(said.get("finding"), int | float):
            raise source.error(join(at, "finding"), "put the id in quotes: as it is, YAML takes it for a number.")
        texts = {name: source.text_of(text, join(at, name)) for name, text in said.items() if name != "until"}
        if not texts.get("why"):
            raise source.error(at, "a waiver says why; add 'why'.")
        if bool(texts.get("finding")) == bool(texts.get("check")):
            raise source.error(at, "a waiver names a finding by its id, or a check; add one of 'finding' and 'check'.")
        until = None
        if "until" in said:
            try:
                until = date.fromisoformat(str(said["until"]))
            except ValueError:
                raise source.error(join(at, "until"), "this has to be a date such as 2027-01-31.") from None
        found.append(Waiver(until=until, **texts))
    return tuple(found)


_NO_SECRET = "a secret does not belong in the profile; write ${NAME} and set NAME in the environment or .env."
#: A password that stands in a URL as it is.
_PASSWORD = re.compile(r"://[^/@:]*:(?!\$\{)[^@/]+@")


def _witness(source: _Source, value: Any) -> Witness | None:
    if value is None:
        return None
    said = source.check_names(value, "/witness", ("database", "tables"))
    url = source.text_of(said.get("database"), "/witness/database")
    if _PASSWORD.search(url):
        raise source.error("/witness/database", _NO_SECRET)
    tables = {}
    for name, each in _mapping(source, said.get("tables"), "/witness/tables").items():
        at = join("/witness/tables", str(name))
        if isinstance(each, str):
            tables[str(name)] = Stated(each)
            continue
        own = source.check_names(each, at, ("table", "columns"))
        columns = _mapping(source, own.get("columns"), join(at, "columns"))
        named = {str(key): source.text_of(column, join(at, "columns", str(key))) for key, column in columns.items()}
        tables[str(name)] = Stated(source.text_of(own.get("table"), join(at, "table")), named)
    return Witness(url, tables)


def _base_url(source: _Source, stated: Mapping[str, Any]) -> str | None:
    url = stated.get("base_url")
    if url is not None and not source.text_of(url, "/base_url").startswith(("http://", "https://")):
        raise source.error("/base_url", "the base URL has to begin with http:// or https://.")
    return url


def _mapping(source: _Source, value: Any, pointer: str) -> dict[str, Any]:
    if value is None:
        return {}
    if not isinstance(value, dict):
        raise source.error(pointer, "this has to be a mapping of names to values.")
    return value


def _access(source: _Source, value: Any, roles: Mapping[str, Role]) -> dict[tuple[str, str], Rights]:
    """The rights of each role, by resource."""
    found = {}
    for resource, by_role in _mapping(source, value, "/access").items():
        for role, line in _mapping(source, by_role, join("/access", resource)).items():
            at = join("/access", resource, role)
            if role not in roles:
                near = difflib.get_close_matches(str(role), roles, 1)
                hint = f"did you mean {near[0]!r}?" if near else f"the roles are {', '.join(roles) or 'none yet'}."
                raise source.error(at, f"there is no role {role!r}; {hint}")
            try:
                found[str(resource), str(role)] = rights(source.text_of(line, at), roles[str(role)].identity)
            except RightsError as error:
                raise source.error(at, str(error)) from None
    return found


_ROLE_KEYS = ("bearer", "basic", "header", "query", "cookie", "identity", "login", "oauth", "expired")


def _role(source: _Source, name: str, value: Any, pointer: str) -> Role:
    if value in (None, "none"):
        return Role(name)
    stated = source.check_names(value, pointer, _ROLE_KEYS)
    credentials: list[Credential] = []
    if "bearer" in stated:
        template = _secret(source, stated["bearer"], join(pointer, "bearer"))
        credentials.append(Credential("header", "Authorization", f"Bearer {template}"))
    if "basic" in stated:
        at = join(pointer, "basic")
        both = source.check_names(stated["basic"], at, ("user", "password"))
        user = source.text_of(both.get("user"), join(at, "user"))
        password = _secret(source, both.get("password"), join(at, "password"))
        credentials.append(Credential("header", "Authorization", f"Basic {user}:{password}", encoded=True))
    for where in ("header", "query", "cookie"):
        for key, each in _mapping(source, stated.get(where), join(pointer, where)).items():
            template = _secret(source, each, join(pointer, where, key))
            credentials.append(Credential(where, str(key), template))
    login = _login(source, stated, pointer)
    role = Role(name, tuple(credentials), stated.get("identity"), login)
    if login is not None:
        at = _mapping(source, stated.get("login"), join(pointer, "login")).get("header") or "Authorization"
        template = ("Bearer " if at == "Authorization" else "") + "${" + role.token_variable + "}"
        role = replace(role, credentials=(Credential("header", str(at), template), *credentials))
    if "expired" in stated:
        role = replace(role, expired=_secret(source, stated["expired"], join(pointer, "expired")))
    return role


def _login(source: _Source, stated: Mapping[str, Any], pointer: str) -> Login | None:
    """A log-in request, or an OAuth 2.0 token request (RFC 6749, 4.3 and 4.4)."""
    if "oauth" in stated:
        at = join(pointer, "oauth")
        known = ("token_url", "client_id", "client_secret", "user", "password", "scope", "token")
        said = source.check_names(stated["oauth"], at, known)
        url = source.text_of(said.get("token_url"), join(at, "token_url"))
        fields = [("grant_type", "password" if "user" in said else "client_credentials")]
        fields += [("username", source.text_of(said["user"], join(at, "user")))] if "user" in said else []
        for key in ("password", "client_secret"):
            if key in said:
                fields.append((key, _secret(source, said[key], join(at, key))))
        fields += [(key, source.text_of(said[key], join(at, key))) for key in ("client_id", "scope") if key in said]
        return Login(url, tuple(fields), True, str(said.get("token") or "/access_token"))
    if "login" not in stated:
        return None
    at = join(pointer, "login")
    said = source.check_names(stated["login"], at, ("url", "json", "form", "token", "header"))
    url = source.text_of(said.get("url"), join(at, "url"))
    form = "form" in said
    body = _mapping(source, said.get("form" if form else "json"), join(at, "form" if form else "json"))
    fields = [(str(name), source.text_of(each, join(at, "json", name))) for name, each in body.items()]
    if not any(VARIABLE.search(template) for _, template in fields):
        raise source.error(at, "the log-in sends no secret; write its password as ${NAME}, set in the environment.")
    token = source.text_of(said.get("token") or "/token", join(at, "token"))
    return Login(url, tuple(fields), form, token if token.startswith("/") else "/" + token)


def _secret(source: _Source, value: Any, pointer: str) -> str:
    template = source.text_of(value, pointer)
    if not VARIABLE.search(template):
        raise source.error(pointer, _NO_SECRET)
    return template


def _correction(source: _Source, value: Any, pointer: str) -> Correction:
    known = tuple(Correction.__dataclass_fields__)
    stated = dict(source.check_names(value, pointer, known))
    for name in ("key", "unique", "read_only"):
        if name in stated:
            stated[name] = source.texts_of(stated[name], join(pointer, name))
    if "paging" in stated:
        known_paging = ("limit", "offset", "page", "start", "largest")
        stated["paging"] = source.check_names(stated["paging"], join(pointer, "paging"), known_paging)
    if "queries" in stated:
        stated["queries"] = _queries(source, stated["queries"], join(pointer, "queries"))
    for name in ("references", "values"):
        if name in stated:
            stated[name] = _mapping(source, stated[name], join(pointer, name))
    for name in ("collection", "item", "rows", "row", "body", "total", "next"):
        if stated.get(name):
            text = source.text_of(stated[name], join(pointer, name))
            if not text.startswith("/"):
                raise source.error(join(pointer, name), "this has to begin with '/'.")
    return Correction(**stated)


#: The parts of ``queries`` and the keys of each (docs/spellings.md).
_QUERY_KEYS = {
    "filter": (
        "parameter", "form", "operators", "members", "and", "or", "not", "quote", "escape", "bare", "separator",
        "wildcard", "fields",
    ),
    "sort": ("parameter", "ascending", "descending", "separator", "direction", "words", "fields", "several"),
    "select": ("parameter", "separator", "fields"),
    "count": ("parameter", "header", "value"),
    "aggregate": ("path", "functions", "parameter", "group", "separator", "joint", "rows", "groups", "filters"),
}  # fmt: skip


def _queries(source: _Source, value: Any, pointer: str) -> dict[str, Any]:
    """How queries are spelled; null for one that is not to be tested."""
    stated = source.check_names(value, pointer, tuple(_QUERY_KEYS))
    for part, said in stated.items():
        at = join(pointer, part)
        keys = source.check_names(said, at, _QUERY_KEYS[part])
        for name in ("operators", "functions", "members"):
            known = set(get_args(Function if name == "functions" else Operator))
            for word, template in _mapping(source, keys.get(name), join(at, name)).items():
                if word not in known:
                    near = difflib.get_close_matches(str(word), known, 1)
                    hint = f"did you mean {near[0]!r}?" if near else f"they are {', '.join(sorted(known))}."
                    raise source.error(join(at, name, word), f"there is no {name[:-1]} {word!r}; {hint}")
                source.text_of(template, join(at, name, word))
        _check_form(source, part, keys, at)
    return stated


def error_at(profile: Profile, pointer: str, problem: str) -> CheckPostError:
    """An error about a place of the profile's file, with its line."""
    if profile.file is None:
        return ProfileError(f"{pointer}: {problem}")
    return _Source(profile.file, profile.file.read_text("utf-8")).error(pointer, problem)


def nearest(name: str, known: Collection[str]) -> str:
    """What was probably meant by a name, or all that there is."""
    near = difflib.get_close_matches(name, known, 1)
    return f"did you mean {near[0]!r}?" if near else f"there are {', '.join(known) or 'none'}."


#: What a template is filled with.
_PLACES = ("field", "fields", "value", "values", "each", "low", "high", "left", "right", "inner", "path", "collection")
_PLACE = re.compile(r"\{(\w+)\}")


def _check_templates(source: _Source, value: Any, pointer: str) -> None:
    """Every template is made of places that can be filled."""
    if isinstance(value, dict):
        for name, each in value.items():
            _check_templates(source, each, join(pointer, name))
    for place in _PLACE.findall(value) if isinstance(value, str) else ():
        if place not in _PLACES:
            raise source.error(pointer, f"nothing is put in the place of {{{place}}}; {nearest(place, _PLACES)}")


def _check_form(source: _Source, part: str, keys: Mapping[str, Any], pointer: str) -> None:
    if part in {"sort", "select"} and keys and not keys.get("parameter"):
        raise source.error(pointer, f"{part} needs the name of its parameter, as in {{parameter: {part}}}.")
    if part == "count" and keys and not (keys.get("parameter") or keys.get("header")):
        raise source.error(pointer, "count needs the name of its parameter or header.")
    _check_templates(source, keys, pointer)
    if part == "filter" and keys.get("form", "parameters") not in {"parameters", "expression", "json"}:
        raise source.error(join(pointer, "form"), "the form of filters is parameters, expression or json.")
    if part == "filter" and keys.get("form") in {"expression", "json"} and not keys.get("parameter"):
        raise source.error(pointer, "a filter of this form needs the name of its parameter.")
    plain = part == "filter" and not keys.get("parameter")
    for word, template in (keys.get("operators") or {}).items():
        if plain and "=" not in template:
            raise source.error(join(pointer, "operators", word), "a template has the form NAME=VALUE here.")


def require_variables(role: Role, environment: Mapping[str, str], profile: Profile) -> None:
    """Make sure that every variable of a role is set. Raises CheckPostError naming it."""
    where = f" ({profile.file})" if profile.file else ""
    require_set(role.variables, f"The role {role.name!r}{where}", environment, profile)


def require_set(names: Iterable[str], needing: str, environment: Mapping[str, str], profile: Profile) -> None:
    """Make sure that variables are set; ``needing`` is what needs them, in words. Raises CheckPostError naming one."""
    for name in names:
        if not environment.get(name):
            raise CheckPostError(
                f"{needing} needs the environment variable {name}, which is not set; "
                f"export it or add it to {profile.folder / '.env'}."
            )
