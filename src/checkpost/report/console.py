"""The console that everything is drawn on: texts of APIs and contracts are shown as they are, brackets and all."""

from __future__ import annotations

import io
import sys
from typing import IO

from rich.console import Console


def plain_console(file: IO[str] | None = None, width: int | None = None, stderr: bool = False) -> Console:
    """A console that takes no square brackets for markup and colours nothing by itself. What cannot be written, half of
    a character say, is written as its escape."""
    stream = file or (sys.stderr if stderr else sys.stdout)
    if isinstance(stream, io.TextIOWrapper):
        stream.reconfigure(errors="backslashreplace")
    return Console(file=file, width=width, stderr=stderr, markup=False, highlight=False, emoji=False)
