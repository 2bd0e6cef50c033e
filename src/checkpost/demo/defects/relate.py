"""Defects of references between tables."""

from __future__ import annotations

import contextlib
from typing import Any

from checkpost.demo.answers import Refusal
from checkpost.demo.api import Key, TableApi
from checkpost.demo.database import Row
from checkpost.demo.defects.registry import defect


class _Unbound(TableApi):
    """Without the database's own rules about references."""

    def unbound(self, switch: bool) -> None:
        self.database.connection.execute(f"PRAGMA foreign_keys = {'OFF' if switch else 'ON'}")


@defect("absent-parent-taken", "loans", "POST", "relate", "A loan of an accession that there is not is stored.")
class AbsentParentTaken(_Unbound):
    def insert(self, values: Row) -> Key:
        self.unbound(True)
        try:
            return super().insert(values)
        finally:
            self.unbound(False)


@defect(
    "absent-parent-updated",
    "germination_tests",
    "PATCH",
    "relate",
    "An update to a reference to nothing is taken.",
    item=True,
)
class AbsentParentUpdated(_Unbound):
    def change(self, key: Key, values: Row) -> None:
        self.unbound(True)
        try:
            super().change(key, values)
        finally:
            self.unbound(False)


@defect("absent-parent-crashes", "accessions", "POST", "relate", "A reference to nothing is answered 500.")
class AbsentParentCrashes(TableApi):
    def conflict(self, error: Any) -> Refusal:
        if "FOREIGN" in str(error):
            return Refusal(500, "Internal error", "Something went wrong.")
        return super().conflict(error)


@defect(
    "refused-parent-stored", "accessions", "POST", "relate", "A refused reference to nothing is stored all the same."
)
class RefusedParentStored(_Unbound):
    def insert(self, values: Row) -> Key:
        try:
            return super().insert(values)
        except Refusal:
            self.unbound(True)
            with contextlib.suppress(Refusal):
                super().insert(values)
            self.unbound(False)
            raise


@defect("orphans-left", "accessions", "DELETE", "relate", "Deleting an accession leaves its loans behind.", item=True)
class OrphansLeft(_Unbound):
    def remove(self, key: Key) -> None:
        self.unbound(True)
        try:
            super().remove(key)
        finally:
            self.unbound(False)


@defect("refused-delete-done", "species", "DELETE", "relate", "A delete that is refused removes the row.", item=True)
class RefusedDeleteDone(_Unbound):
    def remove(self, key: Key) -> None:
        try:
            super().remove(key)
        except Refusal:
            self.unbound(True)
            super().remove(key)
            self.unbound(False)
            raise


@defect("reference-dangles", "loans", "GET", "relate", "Loans refer to an accession that there is not.")
class ReferenceDangles(_Unbound):
    def __init__(self, *known: Any) -> None:
        super().__init__(*known)
        self.unbound(True)
        self.database.connection.execute("UPDATE loans SET accession_id = 900 WHERE seeds = 50")
        self.unbound(False)
