"""Taps against bits, judged by rounding, transforms and limits of the tests' own."""

from __future__ import annotations

import json
import math
import random
import tempfile
import unittest
from pathlib import Path

import numpy as np

import combe
from combe.errors import CombeError
from combe.project import edits
from combe.project.demo import audible_project
from combe.project.document import Project
from combe.requirement import Requirement
from combe.rounding.choices import Choices
from combe.rounding.remedies import rounding_remedies
from combe.rounding.trade import Cell, unbeaten
from tests.support import IS_CAMPAIGN, some
from tests.test_cli import call

POINTS = 1 << 15


def lowpass(keep: float, stop: float, ripple: float, down: float, phase: str = "linear") -> Requirement:
    made = combe.from_document({
        "format": "combe-requirement", "version": 1, "name": "slow probe", "sample_rate_hz": 1,
        "bands": [{"name": "keep", "start_hz": 0, "stop_hz": keep, "min_db": -ripple, "max_db": ripple},
                  {"name": "stop", "start_hz": stop, "stop_hz": 0.5, "max_db": -down}], "phase": phase,
    })  # fmt: skip
    assert isinstance(made, Requirement)
    return made


def any_lowpass(seed: int) -> Requirement:
    draw = random.Random(seed)
    keep = draw.uniform(0.04, 0.3)
    return lowpass(keep, keep + draw.uniform(0.05, 0.12), draw.uniform(0.05, 0.5), draw.uniform(30, 55))


def rounded(taps: list[float], bits: int) -> np.ndarray:
    """The finest binary point at which the largest tap fits, every tap to its nearest integer, ties to even."""
    most, least = 2 ** (bits - 1) - 1, -(2 ** (bits - 1))
    fraction = 200
    while not all(least <= round(tap * 2.0**fraction) <= most for tap in taps):
        fraction -= 1
    return np.array([float(round(tap * 2.0**fraction)) for tap in taps]) * 2.0**-fraction


def margin_db(taps: np.ndarray, requirement: Requirement) -> float:
    """The least distance from all limits on a dense grid of each band."""
    worst = math.inf
    for band in requirement.bands:
        hz = np.linspace(band.start_hz, band.stop_hz, 4000) / requirement.sample_rate_hz
        gain = 20 * np.log10(np.abs(np.exp(-2j * np.pi * np.outer(hz, np.arange(len(taps)))) @ taps) + 1e-30)
        worst = min(worst, float(np.min(band.upper.first_db - gain)))
        if band.lower is not None:
            worst = min(worst, float(np.min(gain - band.lower.first_db)))
    return worst


class LeastThatHolds(unittest.TestCase):
    def test_plain_rounding_by_anyone_keeps_every_limit(self) -> None:
        for seed in some(range(40), 4):
            asked, bits = any_lowpass(seed), random.Random(seed).randint(10, 14)
            with self.subTest(seed=seed, bits=bits):
                found = combe.design(asked, "equiripple", holds_with_bits=bits)
                taps = list(combe.document(found)["taps"])
                self.assertGreaterEqual(margin_db(np.array(taps), asked), 0)
                self.assertGreaterEqual(margin_db(rounded(taps, bits), asked), 0)
                self.assertEqual(found.holds_with_bits, bits)
                realized = combe.realize(found, bits)
                self.assertTrue(combe.meets(realized))
                least = combe.design(asked, "equiripple")
                self.assertGreaterEqual(found.order, least.order)
                for shorter in range(least.order, found.order):
                    self.assertLess(margin_db(rounded(list(least_of(asked, shorter)), bits), asked), 1e-9)

    def test_it_takes_far_fewer_taps_than_plain_rounding_alone(self) -> None:
        asked = lowpass(0.1, 1 / 6, 0.3, 45)
        held = combe.design(asked, "equiripple", holds_with_bits=10)
        self.assertLessEqual(held.order, 30)
        plain = next(n for n in range(28, 60) if margin_db(rounded(list(least_of(asked, n)), 10), asked) >= 0)
        self.assertGreater(plain, held.order)

    def test_a_classic_holds_too(self) -> None:
        asked = lowpass(0.1, 1 / 6, 0.3, 45, "any")
        found = combe.design(asked, "elliptic", holds_with_bits=9)
        self.assertTrue(combe.meets(combe.realize(found, 9)))
        self.assertFalse(combe.meets(combe.realize(combe.design(asked, "elliptic"), 9)))

    def test_the_cheapest_contender_that_holds(self) -> None:
        asked = lowpass(0.1, 1 / 6, 0.3, 45)
        found = combe.design(asked, holds_with_bits=12)
        self.assertTrue(combe.meets(combe.realize(found, 12)))
        cost = combe.document(found)["cost"]["multiplies"]
        self.assertLessEqual(
            cost, combe.document(combe.design(asked, "equiripple", holds_with_bits=12))["cost"]["multiplies"]
        )

    def test_what_cannot_be_says_which_width_would_do(self) -> None:
        asked = lowpass(0.1, 1 / 6, 0.3, 45)
        for bits, order, words in (
            (5, None, "bits hold at order"),
            (12, 40, "leave one"),
            (1, None, "take 2 to 48"),
            (99, None, "take 2"),
        ):
            with self.subTest(bits=bits), self.assertRaises(CombeError) as caught:
                combe.design(asked, "equiripple", order, holds_with_bits=bits)
            self.assertIn(words, caught.exception.sentence())


def least_of(asked: Requirement, order: int) -> list[float]:
    return list(combe.document(combe.design(asked, "equiripple", order))["taps"])


class Map(unittest.TestCase):
    def test_each_cell_is_what_designing_and_rounding_give(self) -> None:
        asked, bits = lowpass(0.12, 0.24, 0.3, 32), range(7, 14) if IS_CAMPAIGN else range(7, 12)
        cells = list(combe.trade(asked, "equiripple", bits=bits, longer=4 if IS_CAMPAIGN else 2))
        self.assertEqual({cell.bits for cell in cells}, set(bits))
        searched = some([cell for cell in cells if cell.is_better], 2)
        for cell in (*searched, *(cell for cell in cells if not cell.is_better)):
            found = combe.design(asked, "equiripple", cell.order)
            if not cell.is_better:
                exact = margin_db(rounded(list(combe.document(found)["taps"]), cell.bits), asked)
                self.assertAlmostEqual(cell.margin_db, exact, delta=0.003 + 0.01 * abs(exact))
                self.assertEqual(cell.meets, cell.margin_db >= 0)
                continue
            stage = combe.realize(found, cell.bits, better=True).realization.stages[0]
            taps = np.array(stage.coefficients) * stage.coefficient.step
            self.assertGreaterEqual(margin_db(taps, asked), 0)
            self.assertLessEqual(max(abs(k) for k in stage.coefficients), 2 ** (cell.bits - 1))
        self.assertTrue(any(cell.is_better for cell in cells))
        self.assertFalse(any(cell.is_better for cell in combe.trade(asked, "equiripple", longer=1, plain=True)))

    def test_nothing_beats_the_frontier(self) -> None:
        draw = random.Random(5)
        for _ in range(200):
            keys = {(draw.randint(1, 6), draw.randint(1, 6)): draw.random() < 0.6 for _ in range(20)}
            cells = [
                Cell(order, order + 1, bits, 0.0, kept, False, 1, 1, 1, 1, 1) for (order, bits), kept in keys.items()
            ]
            best = {(cell.order, cell.bits) for cell in unbeaten(cells)}
            for (order, bits), kept in keys.items():
                beaten = any(k and o <= order and b <= bits and (o < order or b < bits) for (o, b), k in keys.items())
                self.assertEqual((order, bits) in best, kept and not beaten)

    def test_the_command_prints_a_list_and_a_map(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "asked.json"
            path.write_text(json.dumps(combe.document(lowpass(0.12, 0.2, 0.2, 40))))
            status, out, _ = call(
                "trade", str(path), "--method", "equiripple", "--bits", "9:11", "--longer", "2", "--json"
            )
            self.assertEqual(status, 0)
            rows = json.loads(out)
            keys = {"order", "taps", "coefficient_bits", "margin_db", "meets", "better", "unbeaten", "cost"}
            self.assertTrue(all(set(row) == keys for row in rows))
            self.assertTrue(any(row["unbeaten"] for row in rows))
            status, out, _ = call("trade", str(path), "--method", "equiripple", "--bits", "10", "--longer", "1")
            self.assertIn("nothing beats it", out)
            self.assertEqual(
                call("trade", str(path), "--method", "equiripple", "--bits", "3", "--longer", "0", "--plain")[0], 1
            )
            for words in (("--bits", "9-11"), ("--bits", "12:9"), ("--bits", "1:60"), ("--longer", "-1")):
                status, _, told = call("trade", str(path), "--method", "equiripple", *words)
                self.assertEqual(status, 2, words)
                self.assertIn(words[0].lstrip("-"), told)


class Remedies(unittest.TestCase):
    def test_every_remedy_keeps_every_limit_when_it_is_taken(self) -> None:
        asked = lowpass(0.1, 1 / 6, 0.3, 45)
        project = Project("probe", asked)
        found = combe.design(asked, "equiripple")
        told = list(rounding_remedies(found, project.design, asked, Choices(11)))
        self.assertGreaterEqual(len(told), 2)
        for fact in told:
            assert fact.remedy is not None
            taken = edits.take_remedy(fact.remedy.changes, "").make(edits.coefficient_bits(11).make(project))
            design = combe.design(asked, "equiripple", taken.design.order)
            own = {"coefficient_bits": taken.arithmetic.coefficient_bits, "better": taken.arithmetic.better}
            self.assertTrue(combe.meets(combe.realize(design, **own)), fact.remedy.words)
        self.assertEqual(list(rounding_remedies(found, project.design, asked, Choices(20))), [])

    def test_a_new_filter_holds_with_the_width_in_force_and_follows_it(self) -> None:
        project = Project("probe", lowpass(0.1, 1 / 6, 0.3, 45))
        started = edits.start_from("lowpass").make(project)
        self.assertEqual(started.design.holds_with_bits, started.arithmetic.coefficient_bits)
        self.assertEqual(edits.coefficient_bits(13).make(started).design.holds_with_bits, 13)
        taken = edits.take_cell(31, 9, True).make(started)
        self.assertEqual(
            (taken.design.order, taken.arithmetic.coefficient_bits, taken.arithmetic.better), (31, 9, True)
        )
        self.assertIsNone(taken.design.holds_with_bits)
        rated = edits.take_cell(31, 9, False).make(audible_project())
        self.assertEqual(
            (rated.design.order, rated.design.plan), (None, "cheapest"), "stages have no order of their own"
        )
        self.assertEqual(rated.arithmetic.coefficient_bits, 9)
        self.assertEqual(edits.hold_with_integers().make(taken).design.holds_with_bits, 9)
