"""What a token says of itself, where it is a JSON Web Token (RFC 7519): shown, never verified."""

from __future__ import annotations

import base64
import json
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from checkpost.profile.credentials import Role

#: Claims that tell whose a token is, and as what; anything else in it is nobody's business.
_TELLING = ("sub", "user", "username", "preferred_username", "role", "roles", "scope", "scp", "groups", "aud", "exp")


def claims_of(role: Role, known: Mapping[str, str]) -> dict[str, Any]:
    """The telling claims of a role's token; none where it has no such token, or its variable is not set."""
    for credential in role.credentials:
        if any(name not in known for name in credential.variables):
            continue
        parts = credential.value(known).rpartition(" ")[2].split(".")
        if len(parts) != 3:
            continue
        try:
            padded = parts[1] + "=" * (-len(parts[1]) % 4)
            found = json.loads(base64.urlsafe_b64decode(padded))
        except ValueError:
            continue
        if isinstance(found, dict):
            return {name: found[name] for name in _TELLING if name in found}
    return {}


def in_words(claims: Mapping[str, Any], now: datetime | None = None) -> str:
    """Claims as a person reads them; ``exp`` is told as a moment, and whether it is over."""
    said = []
    for name, value in claims.items():
        if name == "exp" and isinstance(value, int | float):
            moment = datetime.fromtimestamp(value, UTC)
            over = moment <= (now or datetime.now(UTC))
            said.append(f"{'expired' if over else 'expires'} {moment.isoformat(timespec='minutes')}")
        else:
            text = ", ".join(map(str, value)) if isinstance(value, list) else str(value)
            said.append(f"{name} {text}")
    return ", ".join(said)
