"""The temperaments of APIs that a run has to get through without harm."""

from __future__ import annotations

from dataclasses import replace

from tests.simulation.api import BOXES, COUNTS, CROPS, HEADS, LOTS, MARKS, PACKETS, SHELVES, TAGS, TEAMS, TRAYS, Temper

NOBODYS = replace(CROPS, rows=0)
TEMPERS = (
    Temper("sound", (CROPS, LOTS, TAGS, MARKS)),
    Temper("no text to mark", (CROPS, COUNTS)),
    Temper("largest key given again", keys_reused="largest", others=0.05),
    Temper("lowest key given again", keys_reused="lowest", others=0.05),
    Temper("largest key given again, as a text", (CROPS,), keys_reused="largest", text_keys=True, others=0.1),
    Temper("no key answered", answers="nothing"),
    Temper("only the key answered", answers="key"),
    Temper("row in a list of one", answers="list of one"),
    Temper("key beside the row", answers="beside"),
    Temper("wrong key answered", answers="wrong key", others=0.02),
    Temper("refused but done", refused_but_done=0.5),
    Temper("busy but done", busy_but_done=0.1),
    Temper("failing but done", failing_but_done=0.1),
    Temper("late", late=0.03, keys_reused="largest", others=0.05),
    Temper("lost", lost=0.05),
    Temper("doubled", doubled=0.05),
    Temper("maker may not delete", maker_may_not_delete=True),
    Temper("soft delete", soft_delete=True),
    Temper("soft delete, and a way to remove for good", soft_delete=True, purges=True, others=0.05),
    Temper("a way to remove for good, key given again", keys_reused="largest", purges=True, others=0.1),
    Temper("cascades", cascades=True),
    Temper("upserts", (CROPS, TAGS), upserts=True, others=0.05),
    Temper("replace forks", replace_forks=True),
    Temper("tables that refer to each other", (HEADS, TEAMS)),
    Temper("filter ignored on delete", (CROPS,), by_filter=True, filter_ignored=True),
    Temper("filter ignored, nobody's rows", (NOBODYS,), by_filter=True, filter_ignored=True),
    Temper("changes by filter", (CROPS,), by_filter=True),
    Temper("changes by filter, nobody's rows", (NOBODYS,), by_filter=True),
    Temper("nobody's rows, key given again", (NOBODYS, LOTS), keys_reused="largest", others=0.05),
    Temper("long lists", (replace(CROPS, rows=600), LOTS), lost=0.03),
    Temper("long lists, failing", (replace(CROPS, rows=600),), failing_but_done=0.1),
    Temper(
        "everything at once", (CROPS, LOTS, COUNTS), "row", "largest", 0.1, 0.03, 0.03, 0.02, 0.03, 0.03, others=0.1
    ),
    Temper("cuts blanks, and makes a row of a new key", (CROPS, TAGS, BOXES), trims=True, key_forks=True, others=0.02),
    Temper("cleans what it cannot store", (CROPS, LOTS, TAGS), cleans=True, keys_reused="largest", others=0.05),
    Temper("breaks behind what it cannot store", (CROPS, LOTS), breaks=True, cleans=True, others=0.05),
    Temper("fails where it should refuse", (SHELVES, TRAYS), refusals_fail=True, keys_reused="largest", others=0.05),
    Temper(
        "a create changes the row whose key it names",
        (CROPS, LOTS, COUNTS),
        keys_reused="largest",
        others=0.05,
        key_overwrites=True,
    ),
    Temper("a create changes the row whose key it names, or is lost", lost=0.03, late=0.03, key_overwrites=True),
    Temper("stores other values", garbles=True, others=0.05),
    Temper("stores other values, and answers with the key alone", answers="key", garbles=True, others=0.05),
    Temper("stores other values, and answers with another key", (CROPS,), "wrong key", garbles=True, others=0.05),
    Temper("removals fail", removes_nothing="with 500"),
    Temper("removals fail, and creates often", (CROPS, LOTS, TAGS), removes_nothing="with 500", creates_fail=0.3),
    Temper("removals do nothing", (CROPS, LOTS, BOXES), removes_nothing="silently", creates_fail=0.1),
    Temper("stores what it cannot show", (CROPS, LOTS, TAGS), poisoned=True),
    Temper("reading removes", (CROPS,), reading_removes=True),
    Temper("rows are found by another field than the documented key", found_by_uid=True, others=0.05),
    Temper("found by another field, removals fail", removes_nothing="with 500", found_by_uid=True),
    Temper("found by another field, key given again", lost=0.03, keys_reused="largest", found_by_uid=True, others=0.05),
    Temper("rows that are made are shown nowhere", (CROPS, LOTS, TAGS), unseen=True),
    Temper("a path takes many keys", (PACKETS,), divides=",;", others=0.02),
    Temper("a path takes many keys, divided by many signs", (PACKETS, TAGS), divides=", +%&=?#;:@"),
    Temper("takes anything, and has values of its own for it", (CROPS,), accepts_all=True, defaults=True, others=0.1),
    Temper(
        "takes anything, and answers with another key",
        (CROPS,),
        "wrong key",
        accepts_all=True,
        defaults=True,
        others=0.2,
    ),
    Temper("takes anything", (CROPS, TAGS), accepts_all=True, others=0.02),
    Temper("people at work", (CROPS, LOTS, TAGS, MARKS), others=0.2),
)
BY_NAME = {each.name: each for each in TEMPERS}
