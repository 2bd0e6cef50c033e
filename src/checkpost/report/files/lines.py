"""CSV (RFC 4180): a line for each finding."""

from __future__ import annotations

import csv
import io

from checkpost.report.files import Exchanges, Json
from checkpost.report.words import places

ENDING = ".csv"
_PLAIN = ("id", "severity", "check", "title", "expected", "observed", "basis", "role", "count", "line", "reproduce")


def write(document: Json, exchanges: Exchanges) -> str:
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(["number", *_PLAIN, "resources", "where", "with"])
    for number, each in enumerate(document["findings"], 1):
        beside = ["; ".join(each["resources"]), places(each), "; ".join(each["subjects"])]
        writer.writerow([number, *(_text(each[name]) for name in _PLAIN), *map(_text, beside)])
    return text.getvalue()


def _text(value: object) -> object:
    """A value that no spreadsheet takes for a formula."""
    return f"'{value}" if isinstance(value, str) and value[:1] in {"=", "+", "-", "@", "\t", "\r"} else value
