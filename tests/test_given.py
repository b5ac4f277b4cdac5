"""Coefficients by hand: what is understood, and what is said of the rest."""

from __future__ import annotations

import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from combe.designing.given import given_filter
from combe.errors import FileError
from combe.filters import Cascade, Fir, Roots
from tests.support import examples, plain_section_gain_db


class Understood(unittest.TestCase):
    def test_taps_in_any_layout(self) -> None:
        for text in (
            "0.25\n0.5\n0.25", "0.25, 0.5, 0.25", "[0.25 0.5 0.25]", "0.25;0.5;0.25;", "{0.25, 0.5,\n 0.25,}",
            "const float h[3] = { 0.25f, 0.5f, 0.25f };  // smoother", "/* three\n taps */ taps: 1/4, 1/2, 1/4",
            "static const int16_t my_taps[3] = {0x2000, 0x4000, 0x2000};", "0x2000\n0x4000\n0x2000\n",
            "# remark\n.25\n\n5e-1\n+2.5D-1",
        ):  # fmt: skip
            with self.subTest(text=text):
                self.assertEqual(given_filter(text).filter, Fir((0.25, 0.5, 0.25)))

    def test_repeats_shares_and_memory_images(self) -> None:
        self.assertEqual(given_filter("1/7 x7").filter, Fir((1 / 7,) * 7))
        self.assertEqual(given_filter("1/7 ×7").filter, given_filter("1/7x7").filter)
        image = given_filter("7FFF\n8000\nC000").filter
        self.assertEqual(image, Fir((32767 / 32768, -1.0, -0.5)))

    def test_b_and_a_become_sections_with_the_same_response(self) -> None:
        b, a = [0.1, 0.2, 0.35, 0.15, 0.1], [2.0, -1.2, 0.9, -0.3, 0.1]
        found = given_filter(f"b = {{{', '.join(map(str, b))}}};\na = {{{', '.join(map(str, a))}}};").filter
        assert isinstance(found, Cascade)
        f = np.linspace(0, 0.5, 301)
        z = np.exp(-2j * np.pi * f)
        exact = 20 * np.log10(np.abs(np.polyval(b[::-1], z) / np.polyval(a[::-1], z)))
        np.testing.assert_allclose(plain_section_gain_db(found.sections, found.gain, f), exact, atol=1e-9)
        rows = given_filter("0.1 0.2 0.1\n1 -0.5 0.25").filter
        self.assertEqual(rows, Cascade(((0.1, 0.2, 0.1, -0.5, 0.25),)))
        self.assertEqual(given_filter("b = 1 2\na = 1").filter, Fir((1.0, 2.0)))
        late = given_filter("b={0,0,1} a={1,.5,0,.1}").filter
        assert isinstance(late, Cascade)
        self.assertAlmostEqual(float(plain_section_gain_db(late.sections, late.gain, [0.0])[0]), -20 * np.log10(1.6))

    def test_sections_of_five_and_six(self) -> None:
        five = given_filter("1 2 1 -0.5 0.25\n1 1 0 0.1 0").filter
        six = given_filter("sos = [[2, 4, 2, 2, -1, 0.5], [1, 1, 0, 1, 0.1, 0]]").filter
        self.assertEqual(five, six)
        self.assertEqual(given_filter("float biquads[10] = {1,2,1,-0.5,0.25, 1,1,0,0.1,0};").filter, five)

    def test_roots_bring_their_conjugates(self) -> None:
        found = given_filter("zeros: 1j, -1\npoles: 0.5+0.5i, 0.5-0.5i, 0.2\ngain: 3").filter
        assert isinstance(found, Roots)
        self.assertEqual((len(found.zeros), len(found.poles), found.gain), (3, 3, 3.0))
        self.assertIn(-1j, found.zeros)


class Explained(unittest.TestCase):
    def test_mistakes_name_their_line(self) -> None:
        for text, words in (
            ("", "found 0 numbers"), ("1\nfoo\n2", "line 2"), ("1 2\n3 4", "could be roots or b and a"), ("1e200", "too large"),
            ("b = {1} b = {2}", "two blocks of b"), ("b = {1, 2} a = {0, 1}", "a starts with zero"), ("b = {0, 0} a = {1, 1}", "b is zero"),
            ("sections: 1 2 3 4", "5 or 6"), ("sections = {{1,2,3,0,5,6}}", "a0"), ("poles: 0.5+0.1j, 0.4-0.1j, 0.1-0.2j", "conjugate"),
            ("0.5+0.1j\n0.5-0.1j", "which are zeros"), ("taps = {1, 2j}", "complex"), ("b = {1}\nwhat is this\na = {1, 2}", "line 2"), ("1 2 3\n4 5", "start with 1"),
            ("1 x0", "repeats"), ("nan", "nan"), ("1/0", "1/0"),
        ):  # fmt: skip
            with self.subTest(text=text), self.assertRaises(FileError) as caught:
                given_filter(text)
            self.assertIn(words, caught.exception.sentence())

    @settings(max_examples=examples(300), deadline=None)
    @given(st.text(alphabet="0123456789.,;eE+-xji{}[]()=ab:/ \n", max_size=40))
    def test_any_text_is_read_or_refused(self, text: str) -> None:
        try:
            found = given_filter(text).filter
        except FileError as error:
            self.assertTrue(error.sentence())
        else:
            self.assertIsInstance(found, (Fir, Cascade, Roots))

    @settings(max_examples=60, deadline=None)
    @given(st.lists(st.floats(-1e9, 1e9), min_size=1, max_size=30))
    def test_what_is_written_is_read_back(self, taps: list[float]) -> None:
        self.assertEqual(given_filter("h = {" + ", ".join(map(repr, taps)) + "};").filter, Fir(tuple(taps)))
