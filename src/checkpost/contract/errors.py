"""What can be wrong with a contract, as errors that carry where."""

from __future__ import annotations

from dataclasses import dataclass

from checkpost.errors import CheckPostError


@dataclass(frozen=True)
class Place:
    """A point in a contract: the document's location and a JSON Pointer into it."""

    location: str
    pointer: str


class ContractError(CheckPostError):
    """The contract cannot be read; the message names the file and, where there is one, the line."""

    def __init__(self, location: str, problem: str, line: int | None = None, column: int | None = None) -> None:
        where = location if line is None else f"{location}, line {line}, column {column or 1}"
        super().__init__(f"{where}: {problem}")
        self.location, self.line, self.column = location, line, column
