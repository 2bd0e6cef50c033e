"""Values in sentences."""

from __future__ import annotations

import json
from typing import Any


def shown(value: Any, most: int = 120) -> str:
    """A value as text short enough for a sentence."""
    if isinstance(value, str) and len(value) > most // 3:
        return f'{json.dumps(value[: most // 3], ensure_ascii=False)[:-1]}…" ({len(value)} characters)'
    text = json.dumps(value, ensure_ascii=False)
    return text if len(text) <= most else text[: most - 1] + "…"
