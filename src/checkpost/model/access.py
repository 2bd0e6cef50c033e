"""What a role may do with a resource: which actions, on which rows, with which fields."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal

from checkpost.model.field import Reason
from checkpost.model.query import Condition

Action = Literal["list", "read", "create", "update", "replace", "delete", "bulk", "aggregate"]
ACTIONS: tuple[Action, ...] = ("list", "read", "create", "update", "replace", "delete", "bulk", "aggregate")
READS: frozenset[Action] = frozenset({"list", "read", "aggregate"})


@dataclass(frozen=True)
class Rights:
    """``rows`` is the condition on the rows that the role sees and touches (None for all of them), ``owner``
    the field that says whose a row is and ``identity`` the role's own value of it. ``hidden`` fields are never
    shown, ``kept`` ones never changed."""

    actions: frozenset[Action]
    rows: Condition | None = None
    owner: str = ""
    identity: Any = None
    hidden: tuple[str, ...] = ()
    kept: tuple[str, ...] = ()
    reason: Reason = field(default=Reason("the profile says so", "stated"))

    def may(self, action: Action) -> bool:
        return action in self.actions

    @property
    def short(self) -> str:
        """In a few words: what it may do, on which rows, and that fields are kept from it."""
        said = "none" if not self.actions else ("all" if self.actions == frozenset(ACTIONS) else "")
        said = said or ("read" if self.actions == READS else " ".join(each for each in ACTIONS if each in self.actions))
        said += " own" if self.owner else (" some" if self.rows is not None else "")
        return said + (" in part" if self.hidden or self.kept else "")

    @property
    def in_words(self) -> str:
        said = "nothing" if not self.actions else ("all" if self.actions == frozenset(ACTIONS) else "")
        said = said or (
            "read" if self.actions == READS else ", ".join(each for each in ACTIONS if each in self.actions)
        )
        if self.rows is not None:
            said += f" where {self.rows}"
        said += f"; without {', '.join(self.hidden)}" if self.hidden else ""
        return said + (f"; keeps {', '.join(self.kept)}" if self.kept else "")


#: Rights by resource and role; what nobody has stated is not there.
Access = Mapping[tuple[str, str], Rights]
EVERYTHING = "*"


def rights_of(access: Access, resource: str, role: str) -> Rights | None:
    """What a role may do with a resource, as it is stated for it or for every resource; None if it is not."""
    return access.get((resource, role)) or access.get((EVERYTHING, role))
