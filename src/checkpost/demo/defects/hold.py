"""Defects that show when the API has been started anew."""

from __future__ import annotations

from typing import Any

from checkpost.demo.api import TableApi
from checkpost.demo.defects.registry import defect


@defect("rows-forgotten", "tags", "POST", "hold", "New tags are gone when the API is started anew.")
class RowsForgotten(TableApi):
    def __init__(self, *known: Any) -> None:
        super().__init__(*known)
        self.database.connection.execute("DELETE FROM tags WHERE id > 7")


@defect("changes-forgotten", "vaults", "GET", "hold", "A vault's capacity is lost at a new start.", item=True)
class ChangesForgotten(TableApi):
    def __init__(self, *known: Any) -> None:
        super().__init__(*known)
        self.database.connection.execute("UPDATE vaults SET capacity = 0 WHERE code NOT IN ('NV-01', 'NV-02', 'SV-01')")
