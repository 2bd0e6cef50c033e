"""The console that everything is drawn on: texts of APIs and contracts are shown as they are, brackets and all."""

from __future__ import annotations

from typing import IO

from rich.console import Console


def plain_console(file: IO[str] | None = None, width: int | None = None, stderr: bool = False) -> Console:
    """A console that takes no square brackets for markup and colours nothing by itself."""
    return Console(file=file, width=width, stderr=stderr, markup=False, highlight=False, emoji=False)
