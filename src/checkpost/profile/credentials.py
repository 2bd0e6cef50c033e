"""A role's credentials, kept as templates; the secrets themselves stay in the environment."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

#: How credentials are used: as given, not at all, damaged, expired, under another scheme, in another place.
Presented = Literal["right", "none", "wrong", "expired", "scheme", "place"]
VARIABLE = re.compile(r"\$\{([A-Za-z_][A-Za-z0-9_]*)\}")


def damaged(value: str) -> str:
    """A credential of the same form that cannot be right: its last two letters are others."""
    head, last = value[:-2], value[-2:]
    return head + "".join(other if letter != other else "q" for letter, other in zip(last, "by", strict=False))


@dataclass(frozen=True)
class Credential:
    """One thing a request carries, such as ``Authorization: Bearer ${TOKEN}``.

    ``encoded`` marks HTTP Basic (RFC 7617): what follows the scheme is sent in base64.
    """

    where: Literal["header", "query", "cookie"]
    name: str
    template: str
    encoded: bool = False

    @property
    def variables(self) -> tuple[str, ...]:
        return tuple(VARIABLE.findall(self.template))

    def value(self, environment: Mapping[str, str], wrong: bool = False) -> str:
        """The value to send, or one of the same form that is ``wrong``. Raises KeyError for a variable that
        is not set."""
        filled = VARIABLE.sub(lambda match: environment[match[1]], self.template)
        filled = damaged(filled) if wrong else filled
        if self.encoded:
            scheme, _, plain = filled.partition(" ")
            return f"{scheme} {base64.b64encode(plain.encode()).decode()}"
        return filled

    def under(self, scheme: str) -> Credential:
        """The same under another authentication scheme (RFC 9110, 11.1), where it has one."""
        _, space, rest = self.template.partition(" ")
        return replace(self, template=f"{scheme} {rest}") if space and self.where == "header" else self

    @property
    def elsewhere(self) -> Credential | None:
        """The same in another place of the request: a bearer token as RFC 6750, 2.3 has it in a query, a key under
        its own name; None where there is no such place."""
        if self.encoded:
            return None
        if self.where == "query":
            return replace(self, where="header")
        scheme, _, token = self.template.rpartition(" ")
        if not scheme:
            return replace(self, where="query")
        return Credential("query", "access_token", token) if scheme.lower() == "bearer" else None


@dataclass(frozen=True)
class Login:
    """A request whose answer holds a token: JSON or a form (RFC 6749, 4.3 and 4.4, for OAuth 2.0), with
    templates as its values; ``token`` is a JSON Pointer into the answer."""

    url: str
    fields: tuple[tuple[str, str], ...]
    form: bool
    token: str
    method: str = "POST"

    @property
    def variables(self) -> tuple[str, ...]:
        return tuple(name for _, template in self.fields for name in VARIABLE.findall(template))

    def filled(self, environment: Mapping[str, str]) -> dict[str, str]:
        """The fields to send. Raises KeyError for a variable that is not set."""
        return {name: VARIABLE.sub(lambda found: environment[found[1]], text) for name, text in self.fields}


@dataclass(frozen=True)
class Role:
    """A named set of credentials; none of them makes it the public."""

    name: str
    credentials: tuple[Credential, ...] = ()
    #: Whose rows are its own: a value, or values by the field that they stand in.
    identity: Any = field(default=None, hash=False)
    #: Where the first credential comes from, if a log-in gives it; and one that has expired, to be refused.
    login: Login | None = None
    expired: str = ""

    @property
    def variables(self) -> tuple[str, ...]:
        """The environment variables that it needs."""
        own = [name for each in self.credentials for name in each.variables if name != self.token_variable]
        own += self.login.variables if self.login is not None else ()
        return tuple(dict.fromkeys([*own, *VARIABLE.findall(self.expired)]))

    @property
    def token_variable(self) -> str:
        """The name that stands for the token of its log-in, in templates and in commands to copy."""
        return re.sub(r"\W", "_", self.name).upper() + "_TOKEN" if self.login is not None else ""

    def presented(self, how: Presented, token: str = "") -> tuple[Credential, ...]:
        """The credentials as a request carries them; ``token`` names another variable than that of its log-in."""
        if how == "none":
            return ()
        if how == "place":
            return tuple(other for each in self.credentials if (other := each.elsewhere) is not None)
        if how == "expired":
            return tuple(replace(each, template=VARIABLE.sub(self.expired, each.template)) for each in self.credentials)
        if how == "scheme":
            return tuple(each.under("Digest") for each in self.credentials)
        if token:
            own, given = f"${{{self.token_variable}}}", f"${{{token}}}"
            return tuple(replace(each, template=each.template.replace(own, given)) for each in self.credentials)
        return self.credentials


PUBLIC = Role("public")
