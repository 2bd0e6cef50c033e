"""Operations by how their paths begin and end, so that nobody has to look at all of them for each resource."""

from __future__ import annotations

from bisect import bisect_left
from collections import defaultdict
from collections.abc import Iterable, Iterator

from checkpost.contract.contract import Operation
from checkpost.model.paths import PARAMETER, plain


class Nearby:
    """The operations of a contract; what it gives is in the contract's order."""

    def __init__(self, operations: Iterable[Operation]) -> None:
        self._all = tuple(operations)
        self._ranked = sorted((plain(each.path), place) for place, each in enumerate(self._all))
        self._by_end: dict[str, list[int]] = defaultdict(list)
        for place, each in enumerate(self._all):
            self._by_end[plain(each.path).rpartition("/")[2]].append(place)

    def __iter__(self) -> Iterator[Operation]:
        return iter(self._all)

    def _places(self, beginning: str) -> list[int]:
        first = bisect_left(self._ranked, (beginning, -1))
        last = bisect_left(self._ranked, (beginning + "\U0010ffff", -1), lo=first)
        return [place for _, place in self._ranked[first:last]]

    def beginning(self, beginning: str) -> list[Operation]:
        """Those whose path begins so."""
        return [self._all[place] for place in sorted(self._places(beginning))]

    def beside(self, item: str) -> dict[str, dict[str, Operation]]:
        """Those whose path begins as the path of an item does before its key, by path and method."""
        by_path: dict[str, dict[str, Operation]] = {}
        for operation in self.beginning(PARAMETER.split(item)[0]):
            by_path.setdefault(operation.path, {})[operation.method] = operation
        return by_path

    def around(self, base: str) -> list[Operation]:
        """Those whose path begins with another one, or ends with its last word."""
        places = {*self._places(base), *self._by_end.get(base.rpartition("/")[2], ())}
        return [self._all[place] for place in sorted(places)]
