"""Whether rows stand in an order, under some reading that a sensible database has of it."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from checkpost.model.query import Order
from checkpost.oracle.columns import Column, Snapshot

_TEXTS = ("exact", "case", "upper", "loose", "number", "declared")


def _ranks(column: Column, places: NDArray[np.int64], text: str, declared: Sequence[str]) -> NDArray[np.int64]:
    """A number for each row that is higher where its value is."""
    if column.kind == "text" and text == "declared":
        place = {value: index for index, value in enumerate(declared)}
        return np.array([place.get(value, -1) for value in column.values[places].tolist()], dtype=np.int64)
    values = column.form(text) if column.kind == "text" else column.values
    ranks: NDArray[np.int64] = np.unique(values[places], return_inverse=True)[1].astype(np.int64)
    return ranks


def out_of_order(snapshot: Snapshot, places: Sequence[int], order: Sequence[Order]) -> tuple[int, int] | None:
    """The first two rows (places in the snapshot) that no reading of an order explains; None if some
    reading explains them all.

    Readings: texts by code point, in small or capital letters, by letters and digits alone, or as an
    enumeration declares them; nulls first or last. Rows whose texts are ordered by rules of a language are
    left out: what is left of an ordered list is ordered.
    """
    columns = [snapshot.column(each.field) for each in order]
    judged = np.array(places, dtype=np.int64)
    for column in columns:
        keep = ~column.odd
        if column.kind == "text":
            keep &= column.null | column.plain()
        judged = judged[keep[judged]]
    if len(judged) < 2:
        return None
    choices = []
    for each, column in zip(order, columns, strict=True):
        declared = [str(value) for value in snapshot.fields[each.field].keywords.get("enum") or () if value is not None]
        texts = [text for text in _TEXTS if text != "declared" or declared] if column.kind == "text" else ["exact"]
        nulls = ("first", "last") if bool(column.null[judged].any()) else ("first",)
        choices.append([(text, where, declared) for text in texts for where in nulls])
    best: tuple[int, tuple[int, int]] | None = None
    for chosen in itertools.product(*choices):
        keys = []
        for (text, where, declared), each, column in zip(chosen, order, columns, strict=True):
            ranks = _ranks(column, judged, text, declared)
            ranks = -ranks if each.descending else ranks
            end = ranks.min() - 1 if where == "first" else ranks.max() + 1
            keys.append(np.where(column.null[judged], end, ranks))
        wrong = _violations(keys)
        if not len(wrong):
            return None
        first = int(wrong[0])
        if best is None or len(wrong) < best[0]:
            best = len(wrong), (int(judged[first]), int(judged[first + 1]))
    assert best is not None
    return best[1]


def _violations(keys: Sequence[NDArray[np.int64]]) -> NDArray[np.int64]:
    """Where a row is followed by one that belongs before it, by the first key that tells them apart."""
    wrong = np.zeros(len(keys[0]) - 1, dtype=bool)
    tied = np.ones(len(keys[0]) - 1, dtype=bool)
    for key in keys:
        step = np.diff(key)
        wrong |= tied & (step < 0)
        tied &= step == 0
    return np.flatnonzero(wrong)
