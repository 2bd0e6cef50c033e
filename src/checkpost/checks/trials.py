"""Bodies that break a rule, and may break what an API shows: each kind is tried in one table first."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Iterator
from dataclasses import dataclass, field

from checkpost.model.purpose import Purpose

#: How often, and after how many seconds each time, it is looked whether a trial of the same kind has ended.
_LOOKS, _PAUSE = 40, 0.05


@dataclass
class Trials:
    """Which kinds of broken bodies were seen to do no harm, which are tried just now, and whether one left a row that
    could not be mended: none is sent any more then."""

    harmless: set[tuple[Purpose, str]] = field(default_factory=set)
    under_way: set[tuple[Purpose, str]] = field(default_factory=set)
    harmful: bool = False

    async def begin(self, purpose: Purpose, kind: str) -> bool | None:
        """Whether this is the first body of its kind, so that the row has to be looked at behind it; None where such
        are not to be sent. Others of the kind are waited for, though not for ever: they may wait for this check."""
        each = purpose, kind
        for _ in range(_LOOKS):
            if each not in self.under_way:
                break
            await asyncio.sleep(_PAUSE)
        if self.harmful:
            return None
        first = each not in self.harmless
        self.under_way |= {each} if first else set()
        return first

    @contextlib.contextmanager
    def given_up(self, purpose: Purpose, kind: str) -> Iterator[None]:
        """End a trial that comes to nothing: its body was not sent."""
        try:
            yield
        except BaseException:
            self.under_way.discard((purpose, kind))
            raise

    def end(self, purpose: Purpose, kind: str, harmless: bool) -> None:
        """Note what came of a trial."""
        self.under_way.discard((purpose, kind))
        self.harmless |= {(purpose, kind)} if harmless else set()
        self.harmful |= not harmless
