"""The whole run as JSON: ``docs/report.schema.json``."""

from __future__ import annotations

import json

from checkpost.report.files import Exchanges, Json

ENDING = ".json"


def write(document: Json, exchanges: Exchanges) -> str:
    return json.dumps(document, ensure_ascii=False, indent=2) + "\n"
