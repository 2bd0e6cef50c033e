"""Short texts that tell whose they are."""

from __future__ import annotations

import unittest
from random import Random

from checkpost.values.coined import LONGEST, SHORTEST, coin, has_mark

MARK = "cptmuy001"


class Coined(unittest.TestCase):
    def test_each_is_known_by_its_mark_alone(self) -> None:
        for length in range(SHORTEST, LONGEST + 1):
            texts = [coin(MARK, number, length) for number in range(2000)]
            self.assertEqual({len(text) for text in texts}, {length})
            self.assertEqual(len(set(texts)), len(texts))
            self.assertTrue(all(has_mark(text, MARK) and has_mark(text.upper(), MARK) for text in texts))
            self.assertFalse(any(has_mark(text, "cptmuy002") for text in texts))

    def test_what_was_changed_is_not_known(self) -> None:
        text = coin(MARK, 7, 12)
        for other in (text[:-1], text + "x", text[1:] + text[0], f" {text}", ""):
            self.assertFalse(has_mark(other, MARK), other)

    def test_texts_of_others_are_not_taken_for_coined(self) -> None:
        random, signs = Random(5), "0123456789abcdefghijklmnopqrstuvwxyz"
        texts = ("".join(random.choice(signs) for _ in range(10)) for _ in range(50_000))
        self.assertFalse([text for text in texts if has_mark(text, MARK)])

    def test_the_mark_itself_in_any_case(self) -> None:
        self.assertTrue(has_mark(f"Sample {MARK.upper()} x", MARK))


if __name__ == "__main__":
    unittest.main()
