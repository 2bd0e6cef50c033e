"""A role's credentials, kept as templates; the secrets themselves stay in the environment."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

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


@dataclass(frozen=True)
class Role:
    """A named set of credentials; none of them makes it the public."""

    name: str
    credentials: tuple[Credential, ...] = ()

    @property
    def variables(self) -> tuple[str, ...]:
        return tuple(dict.fromkeys(name for each in self.credentials for name in each.variables))


PUBLIC = Role("public")
