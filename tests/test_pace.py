"""How many requests are on their way at once."""

from __future__ import annotations

import asyncio
import time
import unittest
from unittest import mock

from checkpost.engine.breakdown import Breakdown
from checkpost.wire.exchange import Answer, Exchange, Request
from checkpost.wire.pace import Pace
from checkpost.wire.throttle import Throttle


class PaceTest(unittest.IsolatedAsyncioTestCase):
    async def most(self, pace: Pace, requests: int = 20) -> int:
        """How many of some requests were on their way at once."""
        under_way = most = 0

        async def one() -> None:
            nonlocal under_way, most
            async with pace:
                under_way += 1
                most = max(most, under_way)
                await asyncio.sleep(0.001)
                under_way -= 1

        await asyncio.gather(*(one() for _ in range(requests)))
        return most

    async def test_as_many_at_once_as_were_asked_for(self) -> None:
        self.assertEqual(await self.most(Pace(8)), 8)

    async def test_three_in_a_row_without_an_answer_halve_what_is_sent(self) -> None:
        pace = Pace(8)
        for _ in range(3):
            pace.note("timeout", time.perf_counter())
        self.assertEqual((pace.at_once, await self.most(pace)), (4, 4))

    async def test_what_was_on_its_way_before_counts_no_second_time(self) -> None:
        pace, started = Pace(8), time.perf_counter()
        for _ in range(8):
            pace.note("timeout", started)
        self.assertEqual(pace.at_once, 4)

    async def test_an_answer_between_breaks_the_row(self) -> None:
        pace = Pace(8)
        for failure in ("timeout", "timeout", "", "timeout", "timeout"):
            pace.note(failure, time.perf_counter())
        self.assertEqual(pace.at_once, 8)

    async def test_how_fast_answers_come_is_told_by_the_last_of_them(self) -> None:
        pace, now = Pace(8), time.perf_counter()
        for _ in range(63):
            pace.note("", time.perf_counter())
        self.assertFalse(pace.keeps_within(1), "they are too few to tell")
        pace.note("", now - 0.5)
        self.assertTrue(pace.keeps_within(1))
        self.assertFalse(pace.keeps_within(0.4))
        pace.note("closed", time.perf_counter())
        self.assertFalse(pace.keeps_within(1000))
        for _ in range(64):
            pace.note("", time.perf_counter())
        self.assertTrue(pace.keeps_within(0.4))

    async def test_one_at_a_time_is_the_least(self) -> None:
        pace = Pace(2)
        for _ in range(5):
            pace.slower()
        self.assertEqual(pace.at_once, 1)
        self.assertEqual(await self.most(pace), 1)

    async def test_alone_is_one_at_a_time_also_while_fewer_are_to_be_sent(self) -> None:
        pace = Pace(8)
        seen: list[int] = []

        async def look() -> None:
            under_way = 0

            async def one() -> None:
                nonlocal under_way
                async with pace:
                    under_way += 1
                    seen.append(under_way)
                    await asyncio.sleep(0.001)
                    under_way -= 1

            first = [asyncio.create_task(one()) for _ in range(8)]
            await asyncio.sleep(0)
            pace.slower()
            async with pace.alone():
                seen.clear()
                await asyncio.gather(*(one() for _ in range(5)))
            await asyncio.gather(*first)

        await look()
        self.assertEqual(seen, [1] * 5)
        self.assertEqual(await self.most(pace), 4)

    async def test_in_quiet_nothing_has_its_turn_be_another_alone_or_not(self) -> None:
        pace = Pace(4)
        order: list[str] = []

        async def one(name: str) -> None:
            async with pace:
                await asyncio.sleep(0.001)
                order.append(name)

        async def look() -> None:
            async with pace.alone():
                quiet = pace.quiet()
                await quiet.__aenter__()
                waiting = asyncio.create_task(one("another"))
                await asyncio.sleep(0.01)
                order.append("quiet")
                await quiet.__aexit__(None, None, None)
                await waiting
            await one("after")

        await look()
        self.assertEqual(order, ["quiet", "another", "after"])
        self.assertEqual(await self.most(pace), 4)

    async def test_what_has_to_be_together_is_not_parted(self) -> None:
        pace, order = Pace(8), []

        async def one(name: str) -> None:
            async with pace:
                order.append(f"{name} begins")
                await asyncio.sleep(0.002)
                order.append(f"{name} ends")

        async def by_itself(begin: asyncio.Event | None = None) -> None:
            if begin is not None:
                await begin.wait()
            async with pace.by_itself():
                await one("alone")

        another = asyncio.create_task(by_itself(begin := asyncio.Event()))
        async with pace.together():
            begin.set()
            await asyncio.sleep(0.001)
            await asyncio.gather(one("a"), one("b"), by_itself())
        await another
        together, alone = order[:6], order[6:]
        self.assertEqual(sorted(together[:3]), ["a begins", "alone begins", "b begins"])
        self.assertEqual(alone, ["alone begins", "alone ends"])
        self.assertEqual(await self.most(pace), 8)

    async def test_alone_within_alone_waits_for_nobody(self) -> None:
        pace = Pace(4)
        async with asyncio.timeout(1), pace.alone(), pace.alone(), pace.together(), pace.by_itself():
            self.assertEqual(await self.most(pace), 1)
        self.assertEqual(await self.most(pace), 4)


class ThrottleTest(unittest.IsolatedAsyncioTestCase):
    async def seconds(self, throttle: Throttle, requests: int) -> float:
        started = time.perf_counter()
        await asyncio.gather(*(throttle.turn() for _ in range(requests)))
        return time.perf_counter() - started

    async def test_requests_leave_at_a_rate(self) -> None:
        self.assertGreater(await self.seconds(Throttle(100), 11), 0.095)
        self.assertLess(await self.seconds(Throttle(), 11), 0.05)

    async def test_each_sign_that_it_is_too_fast_has_them_further_apart(self) -> None:
        throttle = Throttle()
        await self.seconds(throttle, 50)
        throttle.refused(0.0, 0.01)
        first = throttle.apart
        self.assertAlmostEqual(first, 0.03, delta=0.001, msg="two thirds of what left within the last second")
        throttle.refused(0.5, 0.01)
        self.assertEqual(throttle.apart, first, "what left before says nothing new")
        await self.seconds(throttle, 1)
        throttle.refused(0.0, 0.0)
        self.assertGreater(throttle.apart, first)

    async def test_they_leave_no_faster_than_was_asked_for(self) -> None:
        throttle = Throttle(1)
        throttle.refused(0.0, 0.0)
        self.assertGreaterEqual(throttle.apart, 1.0)

    async def test_they_leave_closer_together_again_unless_that_was_for_good(self) -> None:
        for for_good in (False, True):
            throttle = Throttle()
            await self.seconds(throttle, 50)
            throttle.refused(0.0, 0.0, for_good)
            before = throttle.apart
            for _ in range(40):
                throttle.took()
            self.assertEqual(throttle.apart < before, not for_good)

    async def test_failures_that_met_no_haste_have_another_reason(self) -> None:
        throttle = Throttle()
        await self.seconds(throttle, 5)
        throttle.refused(0.0, 0.0, for_good=True)
        self.assertEqual(throttle.apart, 0.0)
        throttle.refused(0.0, 0.0)
        self.assertGreater(throttle.apart, 0.1, "a limit that the API tells itself counts always")

    async def test_what_was_slowed_down_in_vain_is_as_it_was_asked_for(self) -> None:
        for rate, apart in ((None, 0.0), (1000.0, 0.001)):
            throttle = Throttle(rate)
            await self.seconds(throttle, 50)
            throttle.refused(0.0, 0.0, for_good=True)
            self.assertGreater(throttle.apart, apart)
            throttle.in_vain()
            self.assertEqual(throttle.apart, apart)


class FailuresOfHaste(unittest.IsolatedAsyncioTestCase):
    def exchange(self, status: int, url: str = "http://x/things") -> Exchange:
        return Exchange(1, "", Request("GET", url, "public"), Answer(status), 0.0, 1, time.time())

    async def apart(self, failing: int, in_quiet: int, url: str = "http://x/things", hasty: int = 20) -> float:
        """How far apart requests are sent after failures, and this answer in quiet to what was answered before; so
        many left before them."""
        session = mock.Mock(throttle=Throttle())
        session.in_quiet = mock.AsyncMock(return_value=self.exchange(in_quiet))
        breakdown = Breakdown(session, lambda: True)
        for asked in range(failing):
            if asked % 3 == 0:
                breakdown.note(self.exchange(200))
                for _ in range(hasty):
                    session.throttle._left.append(time.monotonic())
            breakdown.note(self.exchange(500, url))
            await breakdown.settled()
        return float(session.throttle.apart)

    async def test_what_fails_beside_others_alone_is_asked_more_slowly(self) -> None:
        self.assertGreater(await self.apart(3, in_quiet=200), 0.05)
        self.assertEqual(await self.apart(3, in_quiet=200, hasty=2), 0.0, "there was no haste")
        with mock.patch("checkpost.engine.breakdown._REST", 0.01):
            self.assertEqual(await self.apart(3, in_quiet=500), 0.0, "it fails in quiet too")

    async def test_an_api_that_fails_at_any_pace_is_asked_as_fast_as_before(self) -> None:
        with mock.patch("checkpost.engine.breakdown._REST", 0.0):
            self.assertGreater(await self.apart(24, in_quiet=200), 0.05)
            self.assertEqual(await self.apart(27, in_quiet=200), 0.0)

    async def test_what_was_never_answered_tells_nothing(self) -> None:
        self.assertEqual(await self.apart(3, in_quiet=200, url="http://x/others"), 0.0)
        self.assertEqual(await self.apart(1, in_quiet=200), 0.0, "once is no sign")


if __name__ == "__main__":
    unittest.main()
