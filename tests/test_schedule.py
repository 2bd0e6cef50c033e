"""The schedule: what runs beside what, what comes first, and that nothing is left waiting."""

from __future__ import annotations

import asyncio
import unittest
from collections import defaultdict
from collections.abc import Sequence
from random import Random

from checkpost.checks.order import all_checks, builds_on
from checkpost.engine.schedule import Footprint, Use, Work, carry_out


class Log:
    """Does works that take a moment each, and notes what it sees of the others."""

    def __init__(self, again: dict[int, Footprint] | None = None) -> None:
        self.again = dict(again or {})
        self.begun: list[int] = []
        self.ended: list[int] = []
        self.under_way: dict[str, list[Use]] = defaultdict(list)
        self.most = 0

    async def do(self, work: Work, footprint: Footprint) -> Footprint | None:
        self.begun.append(work.number)
        for name, use in footprint.items():
            others = self.under_way[name]
            assert not others or (use != "alone" and set(others) == {use}), f"{use} of {name} beside {others}"
            others.append(use)
        self.most = max(self.most, len(self.begun) - len(self.ended))
        for _ in range(Random(work.number).randrange(1, 6)):
            await asyncio.sleep(0)
        for name, use in footprint.items():
            self.under_way[name].remove(use)
        self.ended.append(work.number)
        return self.again.pop(work.number, None)


def work(number: int, footprint: Footprint, after: Sequence[int] = (), rank: float = 0) -> Work:
    return Work(number, lambda: footprint, frozenset(after), rank)


def done(works: Sequence[Work], most: int = 100, again: dict[int, Footprint] | None = None) -> Log:
    log = Log(again)
    asyncio.run(carry_out(works, log.do, most))
    return log


class Schedules(unittest.TestCase):
    def test_reading_goes_on_side_by_side_and_so_do_works_on_own_rows(self) -> None:
        self.assertEqual(done([work(n, {"seeds": "reads"}) for n in range(5)]).most, 5)
        self.assertEqual(done([work(n, {"seeds": "own"}) for n in range(5)]).most, 5)
        self.assertEqual(done([work(n, {"seeds": "alone"}) for n in range(5)]).most, 1)
        self.assertEqual(done([work(0, {"seeds": "reads"}), work(1, {"seeds": "own"})]).most, 1)
        self.assertEqual(done([work(0, {"seeds": "alone"}), work(1, {"jars": "alone"})]).most, 2)

    def test_no_more_are_under_way_than_may_be(self) -> None:
        self.assertEqual(done([work(n, {}) for n in range(20)], most=3).most, 3)

    def test_what_builds_on_others_comes_behind_them(self) -> None:
        log = done([work(0, {}, [2]), work(1, {}, [0]), work(2, {})])
        self.assertEqual(log.ended, [2, 0, 1])

    def test_what_has_to_be_done_again_holds_up_what_builds_on_it(self) -> None:
        log = done([work(0, {"seeds": "own"}), work(1, {}, [0])], again={0: {"seeds": "alone"}})
        self.assertEqual(log.ended, [0, 0, 1])

    def test_the_least_rank_begins_first(self) -> None:
        self.assertEqual(done([work(n, {}, rank=-n) for n in range(4)], most=1).begun, [3, 2, 1, 0])

    def test_what_wants_a_table_for_itself_does_not_wait_for_all_that_could_be_shared(self) -> None:
        works = [work(0, {"seeds": "own"}), work(1, {"seeds": "alone"}, rank=1)]
        log = done([*works, *(work(n, {"seeds": "own"}, rank=n) for n in range(2, 30))], most=2)
        self.assertEqual(log.begun.index(1), 1)

    def test_a_circle_is_refused(self) -> None:
        with self.assertRaises(ExceptionGroup) as caught:
            done([work(0, {}, [1]), work(1, {}, [0])])
        self.assertIn("circle", str(caught.exception.exceptions[0]))

    def test_what_goes_wrong_ends_it_all(self) -> None:
        async def do(each: Work, footprint: Footprint) -> None:
            if each.number == 3:
                raise ZeroDivisionError
            await asyncio.sleep(30)

        with self.assertRaises(ExceptionGroup):
            asyncio.run(carry_out([work(n, {}) for n in range(6)], do, 10))

    def test_any_mixture_comes_to_its_end_and_no_two_disturb_each_other(self) -> None:
        uses: tuple[Use, ...] = ("reads", "own", "alone")
        for seed in range(60):
            random = Random(seed)
            works = []
            for number in range(80):
                names = random.sample(["seeds", "jars", "vaults", "loans"], random.randrange(0, 4))
                footprint: Footprint = {name: random.choice(uses) for name in names}
                after = random.sample(range(number), min(number, random.randrange(0, 3)))
                works.append(work(number, footprint, after, random.random()))
            again: dict[int, Footprint] = {number: {"seeds": "alone", "jars": "own"} for number in range(0, 80, 9)}
            log = done(works, random.randrange(1, 20), again)
            self.assertEqual(sorted(set(log.ended)), list(range(80)))
            self.assertEqual(len(log.ended), 80 + len(range(0, 80, 9)))
            last = {number: place for place, number in enumerate(log.ended)}
            for each in works:
                self.assertTrue(all(last[other] < last[each.number] for other in each.after))


class Order(unittest.TestCase):
    def test_checks_build_on_such_as_there_are_and_never_on_each_other(self) -> None:
        known = {each.name: each for each in all_checks()}
        above = {name: set(builds_on(each)) for name, each in known.items()}
        for name, others in above.items():
            self.assertLessEqual(others, set(known), name)
        while above:
            free = [name for name, others in above.items() if not others & set(above)]
            self.assertTrue(free, f"in a circle: {sorted(above)}")
            for name in free:
                del above[name]


if __name__ == "__main__":
    unittest.main()
