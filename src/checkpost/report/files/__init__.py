"""A run written to a file, in the format that the file's ending names: a module for each format.

A module has ``ENDING`` and ``write(document, exchanges)``, which takes a run's document and what gives all of its
exchanges, and gives the file's text.
"""

from __future__ import annotations

import importlib
import pkgutil
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from checkpost.errors import CheckPostError

Json = dict[str, Any]
Exchanges = Callable[[], Iterable[Json]]
Write = Callable[[Json, Exchanges], str]


def formats() -> dict[str, Write]:
    """What writes each format, by ending."""
    modules = [importlib.import_module(f"{__name__}.{each.name}") for each in pkgutil.iter_modules(__path__)]
    return {module.ENDING: module.write for module in sorted(modules, key=lambda module: module.ENDING)}


def writer_of(file: Path) -> Write:
    """What writes a file of that ending. Raises CheckPostError where its format is not known, or its folder is not
    there."""
    known = formats()
    ending = max((each for each in known if file.name.lower().endswith(each)), key=len, default="")
    if not ending:
        raise CheckPostError(f"{file}: the ending of a report names its format, which is one of {', '.join(known)}.")
    if not file.resolve().parent.is_dir():
        raise CheckPostError(f"{file}: the folder of the report does not exist.")
    return known[ending]


def write_files(files: Iterable[Path], document: Json, exchanges: Exchanges) -> None:
    """Write a run to each file. Raises CheckPostError."""
    for file in files:
        try:
            file.write_text(writer_of(file)(document, exchanges), "utf-8", "backslashreplace")
        except OSError as error:
            raise CheckPostError(f"{file}: the report cannot be written ({error.strerror}).") from None
