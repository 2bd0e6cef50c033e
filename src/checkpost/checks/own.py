"""A row that the run has made."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from checkpost.wire.exchange import Exchange
from checkpost.wire.listing import Key


@dataclass(frozen=True)
class Own:
    """A row that the run created: its key, the record sent, and the exchange that made it."""

    key: Key
    record: Mapping[str, Any]
    exchange: Exchange
