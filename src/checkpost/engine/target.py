"""What a run is aimed at, put together from profile, options and contract; nothing is sent to the API."""

from __future__ import annotations

import ipaddress
import re
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from urllib.parse import urljoin, urlsplit

from checkpost.contract.contract import Contract, SecurityScheme, Server
from checkpost.contract.node import Node
from checkpost.contract.pointer import join
from checkpost.contract.reader import read_contract
from checkpost.errors import CheckPostError
from checkpost.model.access import EVERYTHING, rights_of
from checkpost.model.correction import Correction
from checkpost.model.infer import infer
from checkpost.model.resource import Model
from checkpost.model.unfolding import fold_of, rows_by_name, unfolded, with_choices, with_values
from checkpost.profile.credentials import PUBLIC, VARIABLE, Credential, Role
from checkpost.profile.profile import Profile, error_at, nearest, read_environment, require_variables
from checkpost.wire.fetch import loader


@dataclass(frozen=True)
class Target:
    """``no_writes`` says why nothing is written; it is empty where writes are allowed."""

    contract: Contract
    model: Model
    base_url: str
    role: Role
    profile: Profile
    environment: Mapping[str, str]
    no_writes: str
    #: What its API has told of itself: corrections by resource, and the schemas of rows.
    settled: Mapping[str, Correction] = field(default_factory=dict)
    rows: Mapping[str, Node] = field(default_factory=dict)

    @property
    def actors(self) -> dict[str, dict[str, str]]:
        """The roles to look at, by resource: those with stated rights beside the one that the run uses, each
        with the reason why it cannot be asked as."""
        return self._others(True)

    @property
    def others(self) -> dict[str, dict[str, str]]:
        """All roles beside the one that the run uses, by resource, whatever is stated of them."""
        return self._others(False)

    def _others(self, stated: bool) -> dict[str, dict[str, str]]:
        found: dict[str, dict[str, str]] = {}
        for resource in self.model.resources:
            for name, other in self.profile.roles.items():
                known = rights_of(self.profile.access, resource.name, name) is not None
                if name == self.role.name or (stated and not known):
                    continue
                missing = [each for each in other.variables if not self.environment.get(each)]
                found.setdefault(resource.name, {})[name] = f"{missing[0]} is not set" if missing else ""
        return found


def is_loopback(host: str | None) -> bool:
    """Whether a host is this machine by its name or address alone."""
    if host is None:
        return False
    if host == "localhost" or host.endswith(".localhost"):
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


def why_no_writes(base_url: str, read_only: bool, allowed: Sequence[str]) -> str:
    """Why a run may not write to an API; empty if it may."""
    if read_only:
        return "the run is read-only"
    parts = urlsplit(base_url)
    if is_loopback(parts.hostname) or parts.hostname in allowed or parts.netloc in allowed:
        return ""
    return f"{parts.hostname} is not this machine; --allow-writes {parts.hostname} would allow writes"


def load_contract(profile: Profile, timeout: float) -> tuple[Contract, dict[str, str]]:
    """The profile's contract and the environment. Raises CheckPostError."""
    environment = read_environment(profile.folder)
    if profile.contract is None:
        where = f"{profile.file}: add the key 'contract'" if profile.file else "give it as an argument or in a profile"
        raise CheckPostError(f"No contract is named; {where}.")
    role = profile.roles[profile.contract_role] if profile.contract_role else PUBLIC
    if "://" in profile.contract:
        require_variables(role, environment, profile)
    contract = read_contract(profile.contract, loader(role, environment, timeout, profile.base_url or ""))
    if not contract.operations and "://" in profile.contract and not profile.contract_role:
        raise CheckPostError(
            f"{profile.contract}: the contract has no operations; where it shows those that a role may use, name the "
            "role that may use them all as contract_role in the profile."
        )
    return contract, environment


def told_to_roles(profile: Profile, contract: Contract, timeout: float) -> dict[str, tuple[list[str], list[str]]]:
    """The operations that the contract at its URL has for each role beside those of the contract as it was read, and
    those that it lacks; only of roles whose description differs. A description that a role may not read lacks all."""
    environment = read_environment(profile.folder)
    if profile.contract is None or "://" not in profile.contract:
        return {}
    usual = [str(operation) for operation in contract.operations]
    found = {}
    for name, role in profile.roles.items():
        if any(not environment.get(variable) for variable in role.variables):
            continue
        try:
            told = read_contract(profile.contract, loader(role, environment, timeout, profile.base_url or ""))
            own = [str(operation) for operation in told.operations]
        except CheckPostError:
            own = []
        more = [each for each in own if each not in usual]
        less = [each for each in usual if each not in own]
        if more or less:
            found[name] = more, less
    return found


def aim(
    profile: Profile, read_only: bool, timeout: float, credentials: Sequence[str] = (), ready: bool = True
) -> Target:
    """Everything a run needs to know before the first request. ``credentials`` (``SCHEME=VARIABLE``, or
    the variable alone) take the place of the profile's role, whose variables have to be set if it is to be
    ``ready``. Raises CheckPostError."""
    if not credentials and ready:
        require_variables(profile.role, read_environment(profile.folder), profile)
    contract, environment = load_contract(profile, timeout)
    role = _role(contract, credentials, environment) if credentials else profile.role
    if ready:
        require_variables(role, environment, profile)
    base_url = _base_url(profile, contract)
    contract, model = understood(contract, profile)
    if not model.resources and fold_of(contract) is None:
        _refuse_flaws(contract)
        raise CheckPostError(
            f"{contract.location}: no path of the contract could be understood as a resource; "
            "name collection and item paths under 'resources' in the profile."
        )
    if fold_of(contract) is None:
        check_names(profile, model)
    no_writes = why_no_writes(base_url, read_only, profile.allow_writes)
    return Target(contract, model, base_url, role, profile, environment, no_writes)


def understood(contract: Contract, profile: Profile) -> tuple[Contract, Model]:
    """What a contract and the profile say, with the paths of each table in place of one for all."""
    fold = fold_of(contract)
    tables = (profile.tables or fold.tables) if fold is not None else ()
    for place, each in enumerate(profile.tables):
        if fold is not None and fold.of(each) is None:
            raise error_at(
                profile, f"/tables/{place}", f"a table behind {fold.path} is written {fold.form}, not {each}"
            )
    contract = with_choices(with_values(unfolded(contract, tables), profile.parameters))
    rows = rows_by_name(contract, tables)
    return contract, inferred(contract, profile, profile.resources, rows)


def inferred(
    contract: Contract, profile: Profile, corrections: Mapping[str, Correction], rows: Mapping[str, Node]
) -> Model:
    """The model of a contract. Where the role of the run has rows of its own alone, it makes them in its own name."""
    model = infer(contract, corrections, profile.parameters, profile.queries, rows)
    resources = []
    for each in model.resources:
        rights = rights_of(profile.access, each.name, profile.role.name)
        own = rights is not None and each.field(rights.owner) is not None
        values = {rights.owner: rights.identity} if rights is not None and own else {}
        resources.append(replace(each, values={**values, **each.values}) if values else each)
    return replace(model, resources=tuple(resources))


def check_names(profile: Profile, model: Model) -> None:
    """Raise CheckPostError for a resource, field or key of the profile that there is not."""
    names = [resource.name for resource in model.resources]

    def require(name: str, known: Collection[str], what: str, *at: str) -> None:
        if name not in known:
            raise error_at(
                profile, join("", *at), f"there is no {what} {name!r} in the contract; {nearest(name, known)}"
            )

    for name, said in profile.resources.items():
        if said.skip:
            continue
        require(name, names, "resource", "resources", name)
        resource = model.resource(name)
        assert resource is not None
        fields = [each.name for each in resource.fields]
        stated = {"key": said.key, "unique": said.unique, "read_only": said.read_only, "values": said.values}
        for part, chosen in {**stated, "references": said.references}.items():
            for each in chosen if fields else ():
                require(each, fields, f"field of {name}", "resources", name, part)
        for referring, other in said.references.items():
            require(other.partition(".")[0], names, "resource", "resources", name, "references", referring)
    for name, role in profile.access:
        if name != EVERYTHING:
            require(name, names, "resource", "access", name, role)


def _role(contract: Contract, credentials: Sequence[str], environment: Mapping[str, str]) -> Role:
    """A role of credentials that were given as environment variables. Raises CheckPostError."""
    schemes = {scheme.name: scheme for scheme in contract.schemes}
    made = []
    for text in credentials:
        name, _, variable = text.rpartition("=")
        if name and name not in schemes:
            known = ", ".join(schemes) or "none"
            raise CheckPostError(
                f"--credential {text}: the contract has no security scheme {name!r} (it has: {known})."
            )
        if not VARIABLE.fullmatch("${" + variable + "}"):
            raise CheckPostError(
                f"--credential {text.partition('=')[0]}: name an environment variable, as in SCHEME=VARIABLE; a secret "
                "itself does not belong on a command line."
            )
        if not name and len(schemes) > 1:
            raise CheckPostError(
                f"--credential {variable}: say for which scheme, as SCHEME={variable}; the contract "
                f"has {', '.join(schemes)}."
            )
        scheme = schemes.get(name or next(iter(schemes), ""))
        made.append(_credential(scheme, variable, environment.get(variable, "")))
    return Role("user", tuple(made))


#: A credential that begins with the word for its scheme (RFC 9110, 11.4), as ``Token abc``.
_WORDED = re.compile(r"[A-Za-z][\w.-]*\s+\S")


def _credential(scheme: SecurityScheme | None, variable: str, value: str) -> Credential:
    """The credential that a variable holds for a scheme; for none, that of a bearer, or of what its value says."""
    reference = "${" + variable + "}"
    if scheme is not None and scheme.type == "apiKey" and scheme.where in {"header", "query", "cookie"}:
        return Credential(scheme.where, scheme.parameter, reference)  # type: ignore[arg-type]
    if scheme is not None and scheme.type == "http" and scheme.scheme == "basic":
        return Credential("header", "Authorization", f"Basic {reference}", encoded=True)
    return Credential("header", "Authorization", reference if _WORDED.match(value) else f"Bearer {reference}")


def _refuse_flaws(contract: Contract) -> None:
    """Raise CheckPostError for a reference that leads nowhere, and may be why nothing was understood."""
    for flaw in contract.flaws:
        if flaw.severity == "error":
            line, column = contract.library.lines([flaw.place])[flaw.place]
            raise CheckPostError(f"{flaw.place.location}, line {line}, column {column}: {flaw.message}")


def addresses(contract: Contract, variables: Mapping[str, str]) -> list[str]:
    """The URL of each server of a contract, its variables filled and relative ones made absolute (RFC 3986, 5)."""
    filled = [server.filled(variables) for server in contract.servers]
    return [urljoin(contract.location, url) if "://" in contract.location else url for url in filled]


def _base_url(profile: Profile, contract: Contract) -> str:
    urls = addresses(contract, profile.server_variables)
    if profile.base_url:
        url = profile.base_url
    elif profile.server:
        url = _named_server(profile.server, contract, urls)
    else:
        local = [url for url in urls if is_loopback(urlsplit(url).hostname)]
        if not local:
            known = "; ".join(_server_words(*each) for each in zip(contract.servers, urls, strict=True))
            named = f", or which of the contract's servers with --server ({known})" if urls else ""
            raise CheckPostError(f"Say which instance to check with --base-url{named}; prefer a test instance.")
        url = local[0]
    parts = urlsplit(url)
    if parts.scheme not in {"http", "https"} or not parts.hostname:
        raise CheckPostError(f"The base URL {url!r} cannot be used; it has to look like http://host:port/path.")
    return url.rstrip("/")


def _server_words(server: Server, url: str) -> str:
    return f"{server.name or server.description}: {url}" if server.name or server.description else url


def _named_server(name: str, contract: Contract, urls: Sequence[str]) -> str:
    """The URL of the server that a name means: its own name, a word of its description, or its URL as written."""
    servers = list(zip(contract.servers, urls, strict=True))
    exact = [url for server, url in servers if name in {server.name, server.description, server.url, url}]
    wanted = name.lower()
    words = [url for server, url in servers if wanted in f"{server.name} {server.description} {url}".lower()]
    found = list(dict.fromkeys(exact or words))
    if len(found) == 1:
        return found[0]
    if not servers:
        raise CheckPostError(f"The contract names no servers, so that {name!r} is none of them; give --base-url URL.")
    known = "; ".join(_server_words(*each) for each in servers)
    raise CheckPostError(f"{len(found) or 'No'} servers of the contract are meant by {name!r}; they are: {known}.")
