"""Requirements: what is read, what is refused and how, what figures mean."""

from __future__ import annotations

import json
import math
import tempfile
import unittest
from pathlib import Path
from typing import Any

from combe.errors import CombeError, RequirementError
from combe.requirement import Requirement, read_requirement, requirement_document, requirement_from
from combe.requirement.presets import SHAPES, shape
from combe.requirement.quantities import (
    duration_text,
    frequency_text,
    parse_attenuation,
    parse_duration,
    parse_frequency,
    parse_ripple,
    parse_sample_rate,
)
from combe.requirement.sentences import (
    band_sentence,
    turned_band,
    with_figure,
    with_new_band,
    with_sample_rate,
    with_whole_figure,
    without_band,
)
from tests.support import BAT, LOWPASS, document


def sentence_of(change: Any) -> str:
    """The complaint a changed document brings."""
    found = document(48_000, (0, 4000, -1, 1), (6000, 24_000, -40))
    change(found)
    try:
        requirement_from(found)
    except CombeError as error:
        return error.sentence()
    return ""


class Reading(unittest.TestCase):
    def test_a_document_read_and_written_is_the_same(self) -> None:
        source = document(250_000, (0, 1e4, [[0, -40], [5000, -60], [1e4, -60]]), (2e4, 1e5, -0.1, 0.1), phase="linear",
                          max_delay_s=1e-3, max_multiplies=64)  # fmt: skip
        first = requirement_from(source)
        self.assertEqual(requirement_from(json.loads(json.dumps(requirement_document(first)))), first)

    def test_every_mistake_names_its_key(self) -> None:
        band = "bands[0]."
        mistakes: list[tuple[Any, str]] = [
            (lambda d: d.pop("format"), "format"),
            (lambda d: d.update(format="other"), "format"),
            (lambda d: d.update(version=2), "version"),
            (lambda d: d.update(version=True), "version"),
            (lambda d: d.pop("sample_rate_hz"), "sample_rate_hz"),
            (lambda d: d.update(sample_rate_hz=0), "sample_rate_hz"),
            (lambda d: d.update(sample_rate_hz="48k"), "sample_rate_hz"),
            (lambda d: d.update(bands=[]), "bands"),
            (lambda d: d.update(bands={}), "bands"),
            (lambda d: d.update(phase="minimum"), "phase"),
            (lambda d: d.update(max_delay_s=-1), "max_delay_s"),
            (lambda d: d.update(max_multiplies=1.5), "max_multiplies"),
            (lambda d: d.update(sampel_rate=3), "sampel_rate"),
            (lambda d: d["bands"][0].pop("max_db"), band + "max_db"),
            (lambda d: d["bands"][0].update(max_db=True), band + "max_db"),
            (lambda d: d["bands"][0].update(min_db=2), band + "max_db"),
            (lambda d: d["bands"][0].update(min_db=1), band + "max_db"),
            (lambda d: d["bands"][0].update(start_hz=-1), band + "start_hz"),
            (lambda d: d["bands"][0].update(stop_hz=0), band + "stop_hz"),
            (lambda d: d["bands"][1].update(stop_hz=30_000), "bands[1].stop_hz"),
            (lambda d: d["bands"][1].update(start_hz=3000), "bands[1].start_hz"),
            (lambda d: d["bands"][1].update(start_hz=4000), "bands[1].start_hz"),
            (lambda d: d["bands"][1].update(mindb=-3), "bands[1].mindb"),
            (lambda d: d["bands"][0].update(max_db=[[0, 1]]), band + "max_db"),
            (lambda d: d["bands"][0].update(max_db=[[0, 1], [2000, 1]]), band + "max_db"),
            (lambda d: d["bands"][0].update(max_db=[[0, 1], [4000, 1], [3000, 1]]), band + "max_db[2]"),
            (lambda d: d["bands"][0].pop("min_db"), "bands"),
            (lambda d: d["bands"].append(7), "bands[2]"),
        ]
        for change, key in mistakes:
            with self.subTest(key=key):
                self.assertTrue(sentence_of(change).startswith(key + ":"), sentence_of(change))

    def test_a_file_that_is_not_json_is_told_with_its_line(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "r.json"
            for text, word in (
                ("{\n 1}", "line 2"),
                ('{"a": NaN}', "NaN"),
                ('{"a": 1, "a": 2}', "twice"),
                ("\xff", "JSON"),
            ):
                path.write_text(text, encoding="utf-8")
                with self.assertRaises(CombeError) as caught:
                    read_requirement(path)
                self.assertIn(word, caught.exception.sentence())
                self.assertIn(str(path), caught.exception.sentence())
            path.write_bytes(b"\xff\xfe\x00")
            self.assertRaises(CombeError, read_requirement, path)
            self.assertRaises(CombeError, read_requirement, Path(folder))
            self.assertRaises(CombeError, read_requirement, Path(folder) / "none.json")

    def test_bands_may_touch_where_their_limits_agree(self) -> None:
        sloped = document(2, (0, 0.2, [[0, -40], [0.2, -60]]), (0.2, 0.4, -60), (0.5, 1, -1, 1))
        self.assertEqual(len(requirement_from(sloped).bands), 3)
        sloped["bands"][1]["max_db"] = -50
        self.assertRaises(RequirementError, requirement_from, sloped)

    def test_bands_may_come_in_any_order(self) -> None:
        found = requirement_from(document(2, (0.5, 1, -60), (0, 0.3, -1, 1)))
        self.assertEqual([band.start_hz for band in found.bands], [0, 0.5])


class Figures(unittest.TestCase):
    def test_frequencies_take_units_and_shares(self) -> None:
        for text, hz in (
            ("12k", 12e3), ("12 kHz", 12e3), ("1.5M", 1.5e6), ("0.25fs", 62_500), ("0.5 fn", 62_500), ("440", 440),
            ("440 Hz", 440), ("1e3", 1000), ("12,5k", 12_500), (" 7 ", 7),
        ):  # fmt: skip
            self.assertAlmostEqual(parse_frequency(text, 250_000), hz, msg=text)

    def test_levels_take_decibels_and_percent(self) -> None:
        for text, db in (("60", -60), ("-60", -60), ("−60 dB", -60), ("60 dB down", -60), ("0.1 %", -60), ("0", 0)):
            self.assertAlmostEqual(parse_attenuation(text), db, msg=text)
        for text, pair in (
            ("0.1", (-0.1, 0.1)),
            ("±0.1 dB", (-0.1, 0.1)),
            ("-0.2 to 0.1", (-0.2, 0.1)),
            ("-0.2/+0.1 dB", (-0.2, 0.1)),
        ):
            self.assertEqual(parse_ripple(text), pair, text)
        low, high = parse_ripple("1 %")
        self.assertAlmostEqual(10 ** (low / 20), 0.99)
        self.assertAlmostEqual(10 ** (high / 20), 1.01)

    def test_times_take_units_and_samples(self) -> None:
        for text, seconds in (("400 us", 4e-4), ("0.4 ms", 4e-4), ("1 s", 1), ("100 samples", 4e-4), ("3 µs", 3e-6)):
            self.assertAlmostEqual(parse_duration(text, 250_000), seconds, msg=text)

    def test_nonsense_is_refused_with_an_example(self) -> None:
        cases = (
            (lambda t: parse_frequency(t, 1), ("", "twelve", "12 kV", "--3", "1e999")),
            (parse_attenuation, ("", "x", "0 %", "200 %")),
            (parse_ripple, ("", "0", "-1 to -1", "100 %", "a to b")),
            (lambda t: parse_duration(t, 1), ("", "5", "-1 s", "5 m")),
            (parse_sample_rate, ("", "0", "-48k", "0.5fs")),
        )
        for parse, texts in cases:
            for text in texts:
                with self.subTest(text=text), self.assertRaises(RequirementError):
                    parse(text)

    def test_what_is_shown_can_be_typed_again(self) -> None:
        for hz in (0.0, 1.0, 440.0, 12_000.0, 62_500.0, 1_234_567.0, 118_560.0):
            self.assertAlmostEqual(parse_frequency(frequency_text(hz, 1e7), 1e7), hz, delta=1e-6 * max(hz, 1))
            self.assertAlmostEqual(parse_frequency(frequency_text(hz, 1e7, True), 1e7), hz, delta=10)
        for seconds in (4e-4, 1.5, 2e-8, 3.7e-5):
            self.assertAlmostEqual(parse_duration(duration_text(seconds), 1), seconds, delta=1e-3 * seconds)
        self.assertEqual(parse_sample_rate("250 kS/s"), 250_000)


class Sentences(unittest.TestCase):
    def test_a_sentence_reads_as_one(self) -> None:
        words = [" ".join(word.text for word in band_sentence(band, BAT)) for band in BAT.bands]
        self.assertEqual(words[0], "Block 0 to 12 kHz by 60 dB")
        self.assertEqual(words[1], "Keep 18 kHz to 110 kHz at ±0.1 dB")

    def test_every_figure_typed_as_shown_changes_nothing(self) -> None:
        for index, band in enumerate(BAT.bands):
            for word in band_sentence(band, BAT):
                if word.figure:
                    self.assertEqual(with_figure(BAT, index, word.figure, word.text), BAT)

    def test_figures_change_what_they_name(self) -> None:
        self.assertEqual(with_figure(BAT, 0, "stop", "10k").bands[0].stop_hz, 10_000)
        self.assertEqual(with_figure(BAT, 0, "attenuation", "80").bands[0].upper.first_db, -80)
        lower = with_figure(BAT, 1, "ripple", "-0.3 to 0.2").bands[1].lower
        assert lower is not None
        self.assertEqual(lower.first_db, -0.3)
        self.assertEqual(with_whole_figure(BAT, "max_delay_s", "1 ms").max_delay_s, 1e-3)

    def test_a_figure_that_contradicts_is_refused(self) -> None:
        for index, figure, text in ((0, "stop", "20k"), (1, "start", "5k"), (2, "stop", "126k"), (0, "start", "13k")):
            with self.assertRaises(RequirementError):
                with_figure(BAT, index, figure, text)

    def test_bands_are_added_turned_and_removed(self) -> None:
        grown, index = with_new_band(LOWPASS)
        self.assertEqual(len(grown.bands), 3)
        self.assertTrue(0.3 < grown.bands[index].start_hz < grown.bands[index].stop_hz < 0.4)
        self.assertFalse(grown.bands[index].is_passband)
        self.assertTrue(turned_band(grown, index).bands[index].is_passband)
        self.assertEqual(without_band(grown, index), LOWPASS)
        self.assertRaises(RequirementError, without_band, LOWPASS, 0)

    def test_another_sample_rate_keeps_edges_in_hertz_while_they_fit(self) -> None:
        faster = with_sample_rate(BAT, 300_000)
        self.assertEqual(faster.bands[0].stop_hz, 12_000)
        self.assertEqual(faster.bands[-1].stop_hz, 150_000)
        slower = with_sample_rate(BAT, 25_000)
        self.assertAlmostEqual(slower.bands[0].stop_hz, 1200)

    def test_shapes_to_start_from_are_requirements(self) -> None:
        for name in SHAPES:
            for rate in (1.0, 44_100.0):
                found: Requirement = shape(name, rate)
                self.assertEqual(found.bands[0].is_passband, name in ("lowpass", "bandstop"))
                self.assertTrue(math.isclose(found.bands[-1].stop_hz, rate / 2))
