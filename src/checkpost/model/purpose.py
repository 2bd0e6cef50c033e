"""What an operation is for, in the life of a row."""

from __future__ import annotations

from typing import Literal

Purpose = Literal["list", "create", "read", "replace", "update", "delete"]
#: Those that send a record.
Write = Literal["create", "replace", "update"]
