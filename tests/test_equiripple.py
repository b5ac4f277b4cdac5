"""Equiripple designs held against Chebyshev's theorem, linear programs and an evaluator of our own."""

from __future__ import annotations

import itertools
import random
import threading
import unittest
from unittest import mock

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from scipy.optimize import linprog

from combe.designing.contenders import contenders, ranked
from combe.designing.equiripple.exchange import (
    Approximation,
    _chosen,
    barycentric_weights,
    drafted,
    drafted_taps,
    exchange,
    make_ready,
)
from combe.designing.equiripple.problem import Piece, Problem, pieces_of, transition_cap_db
from combe.designing.methods import design
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import lines_of, meets
from combe.requirement import Requirement, requirement_from
from tests.support import BAT, LOWPASS, asked, document, examples, plain_gain_db, worst_margin_db

HIGHPASS = asked(2, (0, 0.3, -70), (0.38, 1, -0.05, 0.05))
BANDSTOP = asked(48_000, (0, 8000, -0.2, 0.1), (10_000, 12_000, -50), (14_000, 24_000, -0.2, 0.1))
MULTIBAND = asked(2, (0, 0.1, -40), (0.18, 0.3, -0.5, 0.5), (0.38, 0.5, -60), (0.58, 0.7, -5.2, -4.8), (0.8, 1, -50))


def basis(taps: int, symmetry: int, omega: np.ndarray) -> np.ndarray:
    """The functions a linear-phase amplitude is made of, for each of the four types."""
    half = taps // 2
    if symmetry == 1:
        return np.cos(np.outer(omega, np.arange(half + 1) if taps % 2 else np.arange(half) + 0.5))
    return np.sin(np.outer(omega, np.arange(1, half + 1) if taps % 2 else np.arange(half) + 0.5))


def program_error(requirement: Requirement, taps: int, symmetry: int = 1, density: int = 8) -> float:
    """The least weighted error of any linear-phase filter on a fine grid, by a linear program."""
    rows, bounds = [], []
    for band in requirement.bands:
        start, stop = (2 * np.pi * edge / requirement.sample_rate_hz for edge in (band.start_hz, band.stop_hz))
        omega = np.linspace(start, stop, max(12, int(density * taps * (stop - start) / np.pi)))
        high = 10 ** (band.upper.at(omega / 2 / np.pi * requirement.sample_rate_hz, "least") / 20)
        low = -high
        if band.lower is not None:
            low = 10 ** (band.lower.at(omega / 2 / np.pi * requirement.sample_rate_hz, "most") / 20)
        middle, room = (low + high) / 2, (high - low) / 2
        scaled = basis(taps, symmetry, omega) / room[:, None]
        rows += [np.column_stack([s * scaled, -np.ones(len(omega))]) for s in (1, -1)]
        bounds += [s * middle / room for s in (1, -1)]
    count = rows[0].shape[1]
    cost = np.append(np.zeros(count - 1), 1.0)
    solved = linprog(cost, np.vstack(rows), np.concatenate(bounds), bounds=[(None, None)] * count)
    return float(solved.fun)


def weighted_error(fir: Fir, requirement: Requirement, points: int = 40_000) -> tuple[np.ndarray, np.ndarray]:
    """Frequencies (cycles per sample) in the bands and the signed error in units of the room there."""
    taps = np.array(fir.taps)
    delay = (len(taps) - 1) / 2
    places, errors = [], []
    for band in requirement.bands:
        f = np.linspace(band.start_hz, band.stop_hz, points // len(requirement.bands))
        omega = 2 * np.pi * f / requirement.sample_rate_hz
        wave = np.cos if fir.symmetry == 1 else np.sin
        offset = delay - np.arange(len(taps))
        amplitude = np.concatenate([wave(np.outer(part, offset)) @ taps for part in np.array_split(omega, 40)])
        high = 10 ** (band.upper.at(f, "least") / 20)
        low = 10 ** (band.lower.at(f, "most") / 20) if band.lower is not None else -high
        if fir.symmetry == -1 and band.lower is not None and np.mean(amplitude) < 0:
            amplitude = -amplitude
        places.append(omega / 2 / np.pi)
        errors.append((amplitude - (low + high) / 2) / ((high - low) / 2))
    return np.concatenate(places), np.concatenate(errors)


def alternations(error: np.ndarray, level: float) -> int:
    """How often the error swings between plus and minus its level."""
    at_level = error[np.abs(error) > level * (1 - 5e-3)]
    return 1 + int(np.count_nonzero(np.diff(np.sign(at_level)) != 0))


def cap_db(requirement: Requirement) -> float:
    """What docs/methods.md promises: half a decibel above the highest limit of any passband."""
    return max(db for band in requirement.bands if band.lower is not None for _, db in band.upper.points) + 0.5


class Optimality(unittest.TestCase):
    CASES = (
        ("type I", LOWPASS, 50, 1), ("type II", LOWPASS, 51, 1), ("type III", asked(2, (0, 0.1, -40), (0.2, 0.7, -0.5, 0.5), (0.85, 1, -40)), 30, -1),
        ("type IV", HIGHPASS, 61, -1), ("bandpass", BAT, 90, 1), ("bandstop", BANDSTOP, 40, 1), ("multiband", MULTIBAND, 70, 1),
    )  # fmt: skip

    def test_error_alternates_on_enough_extrema(self) -> None:
        for name, requirement, order, symmetry in self.CASES:
            with self.subTest(name):
                found = design(requirement, "equiripple", order, symmetry)
                assert isinstance(found.filter, Fir)
                _, error = weighted_error(found.filter, requirement)
                unknowns = basis(order + 1, symmetry, np.array([1.0])).shape[1]
                self.assertGreaterEqual(alternations(error, float(np.max(np.abs(error)))), unknowns + 1)

    def test_no_linear_program_on_a_fine_grid_does_better(self) -> None:
        for name, requirement, order, symmetry in self.CASES:
            with self.subTest(name):
                found = design(requirement, "equiripple", order, symmetry)
                assert isinstance(found.filter, Fir)
                self.assertFalse(found.notes, "the cap must not be in the way of this comparison")
                _, error = weighted_error(found.filter, requirement)
                bound = program_error(requirement, order + 1, symmetry)
                self.assertLessEqual(float(np.max(np.abs(error))), bound * 1.01 + 1e-9)

    def test_taps_are_symmetric_to_the_last_bit(self) -> None:
        for _, requirement, order, symmetry in self.CASES:
            found = design(requirement, "equiripple", order, symmetry).filter
            assert isinstance(found, Fir)
            self.assertEqual(found.symmetry, symmetry)
            self.assertEqual(len(found.taps), order + 1)

    def test_long_filters_settle(self) -> None:
        requirement = asked(2, (0, 0.3, -0.01, 0.01), (0.308, 1, -80))
        found = design(requirement, "equiripple", 800)
        assert isinstance(found.filter, Fir)
        _, error = weighted_error(found.filter, requirement, 60_000)
        self.assertGreaterEqual(alternations(error, float(np.max(np.abs(error)))), 402)

    def test_bands_narrower_than_a_ripple_settle_from_points_spread_afresh(self) -> None:
        """The reference of a shorter filter leads nowhere there."""
        brief = asked(2, (0, 0.0029841491716714914, -0.1, 0.1), (0.9917711343424205, 1, -60))
        found = design(brief, "equiripple", 330).filter
        assert isinstance(found, Fir)
        self.assertEqual(len(found.taps), 331)
        self.assertGreater(worst_margin_db(found.taps, brief), 0)

    def test_weights_of_many_nodes_are_those_of_the_closed_form(self) -> None:
        """Of Chebyshev points they are ±sin θ (Henrici 1982), from a few nodes to thousands."""
        for count in (5, 300, 601, 1500):
            angles = (2 * np.arange(count) + 1) * np.pi / (2 * count)
            found = barycentric_weights(np.cos(angles))
            wanted = np.where(np.arange(count) % 2, -1, 1) * np.sin(angles)
            np.testing.assert_allclose(found / found[0] * wanted[0], wanted, rtol=1e-8)

    def test_the_extremes_taken_alternate_and_hold_the_largest(self) -> None:
        """Against every choice there is of a few places."""
        source = random.Random(31)
        for _ in range(200):
            error = np.array([source.choice((-1, 1)) * source.random() * (source.random() > 0.1) for _ in range(9)])
            wanted = source.randint(2, 5)
            every = [
                places
                for places in itertools.combinations(range(9), wanted)
                if all(error[a] * error[b] < 0 for a, b in itertools.pairwise(places)) and error[places[0]]
            ]
            if not every:
                with self.assertRaises(DesignError):
                    _chosen(np.arange(9.0), error, wanted)
                continue
            taken = [int(place) for place in _chosen(np.arange(9.0), error, wanted)]
            self.assertIn(tuple(taken), every)
            self.assertIn(int(np.argmax(np.abs(error))), taken)


class Shortest(unittest.TestCase):
    def test_it_keeps_every_limit_and_nothing_shorter_does(self) -> None:
        for name, requirement in (("lowpass", LOWPASS), ("highpass", HIGHPASS), ("bat", BAT), ("bandstop", BANDSTOP)):
            with self.subTest(name):
                found = design(requirement)
                assert isinstance(found.filter, Fir)
                self.assertGreaterEqual(worst_margin_db(found.filter.taps, requirement), -1e-9)
                for shorter in (1, 2):
                    taps = found.order + 1 - shorter
                    passes_nyquist = (
                        requirement.bands[-1].is_passband and requirement.bands[-1].stop_hz == requirement.nyquist_hz
                    )
                    if taps % 2 == 0 and passes_nyquist:
                        continue
                    self.assertGreater(program_error(requirement, taps, density=20), 1.0)

    def test_both_parities_are_tried(self) -> None:
        parities = {
            design(asked(2, (0, 0.3, -0.1, 0.1), (edge, 1, -60))).order % 2 for edge in (0.39, 0.40, 0.41, 0.42, 0.43)
        }
        self.assertEqual(parities, {0, 1})

    def test_a_start_nearby_changes_nothing(self) -> None:
        before = design(asked(2, (0, 0.29, -0.1, 0.1), (0.4, 1, -60)))
        self.assertEqual(design(LOWPASS, near=before).filter, design(LOWPASS).filter)
        self.assertTrue(meets(lines_of(design(LOWPASS, near=before, is_draft=True).filter, LOWPASS)))

    def test_sloped_and_stepped_limits_are_kept(self) -> None:
        source = document(
            2, (0, 0.3, [[0, -0.2], [0.3, -0.6]], [[0, 0.2], [0.3, -0.2]]), (0.4, 1, [[0.4, -40], [0.7, -70], [1, -70]])
        )
        requirement = requirement_from(source)
        found = design(requirement)
        assert isinstance(found.filter, Fir)
        f = np.linspace(0.4, 1, 4001)
        limit = np.interp(f, [0.4, 0.7, 1], [-40, -70, -70])
        self.assertTrue(np.all(plain_gain_db(found.filter.taps, f[::10] / 2) <= limit[::10] + 1e-9))
        self.assertGreater(program_error(requirement, found.order, density=20), 1.0)

    def test_deep_stopbands_are_reached_in_the_taps_themselves(self) -> None:
        for width, decibels in ((0.2, -200), (0.1, -220), (0.5, -160)):
            requirement = asked(2, (0, 0.3, -0.1, 0.1), (0.3 + width, 1, decibels))
            found = design(requirement)
            assert isinstance(found.filter, Fir)
            self.assertGreaterEqual(worst_margin_db(found.filter.taps, requirement), -1e-3)

    def test_trivial_requirements_are_answered(self) -> None:
        self.assertEqual(design(asked(2, (0, 1, -0.1, 0.1))).order, 0)
        self.assertEqual(design(asked(2, (0.2, 0.4, 5.9, 6.1))).order, 0)

    def test_work_can_be_stopped(self) -> None:
        with self.assertRaises(Stopped):
            design(BAT, is_stopped=lambda: True)


class Drafts(unittest.TestCase):
    """What follows a hand runs in a compiled loop: the twin of the exchange, for pictures alone."""

    def test_a_draft_reaches_the_level_of_the_exchange_and_its_largest_error_is_found(self) -> None:
        source = random.Random(12)
        make_ready()
        for _ in range(12):
            edge, width = source.uniform(0.06, 0.3), source.uniform(0.03, 0.1)
            taps, symmetry = source.randint(12, 90), source.choice((1, 1, -1))
            if symmetry == 1:
                bands = [(0, edge, -0.2, 0.2), (edge + width, 0.47, -source.uniform(20, 60))]
            else:
                bands = [(0.03, edge, -50), (edge + width, 0.45, -0.3, 0.3)]
            before, after = (
                Problem(pieces_of(asked(1.0, *bands[:1], (bands[1][0] + moved, *bands[1][1:]))), taps, symmetry)
                for moved in (0.0, 0.004)
            )
            draft = drafted(after, exchange(before).reference, 1e-3)
            assert draft is not None
            self.assertLessEqual(draft.error, draft.bound * 1.0011)
            self.assertAlmostEqual(draft.bound, exchange(after).bound, delta=1e-3 * draft.bound)
            omega = np.concatenate([np.linspace(p.start, p.stop, 4000) for p in after.pieces])
            middle, room = (
                np.concatenate([np.full(4000, value) for value in column])
                for column in zip(*[((hi + lo) / 2, (hi - lo) / 2) for lo, hi in map(linear_limits, after.pieces)])
            )
            error = np.abs(draft.amplitude(omega) - middle) / room
            self.assertLessEqual(float(np.max(error)), draft.error * 1.0005)
            self.check_taps(draft, omega)

    def check_taps(self, draft: Approximation, omega: np.ndarray) -> None:
        """The taps of a draft have its amplitude, summed one cosine or sine after another."""
        taps = drafted_taps(draft)
        assert taps is not None
        np.testing.assert_array_equal(taps, draft.problem.symmetry * taps[::-1])
        wave = np.cos if draft.problem.symmetry == 1 else np.sin
        own = sum(tap * wave(omega * ((len(taps) - 1) / 2 - n)) for n, tap in enumerate(taps))
        np.testing.assert_allclose(own, draft.amplitude(omega), atol=1e-6 * draft.problem.taps)

    def test_no_design_that_is_kept_depends_on_it(self) -> None:
        """Loaded or not, a design has the same taps to the last bit, those of methods that begin with a draft too; sloped
        limits have no draft of this kind."""
        make_ready()
        methods = (
            "equiripple",
            "interpolated-fir",
            "minimum-phase",
            "constrained-least-squares",
            "balanced-truncation",
        )
        loaded = {method: design(LOWPASS, method).filter for method in methods}
        with mock.patch("combe.designing.equiripple.exchange._ready", threading.Event()):
            for method in methods:
                with self.subTest(method):
                    self.assertEqual(design(LOWPASS, method).filter, loaded[method])
            problem = Problem(pieces_of(LOWPASS), 41, 1)
            self.assertIsNone(drafted(problem, exchange(problem).reference, 1e-3))
        sloped = Problem((Piece(0.0, 1.0, (-1.0, -0.5), (0.5, 1.0)), Piece(1.5, np.pi, None, (-40.0, -40.0))), 31, 1)
        self.assertIsNone(drafted(sloped, exchange(sloped).reference, 1e-3))


def linear_limits(piece: Piece) -> tuple[float, float]:
    high = 10 ** (piece.upper_db[0] / 20)
    return (10 ** (piece.lower_db[0] / 20) if piece.lower_db else -high), high


class Transitions(unittest.TestCase):
    def test_a_wide_transition_hides_no_bump(self) -> None:
        for requirement in (
            asked(2, (0, 0.05, -60), (0.1, 0.2, -0.1, 0.1), (0.7, 1, -60)),
            asked(2, (0, 0.1, -60), (0.4, 0.5, -0.1, 0.1), (0.52, 1, -60)),
            asked(2, (0, 0.2, -60), (0.3, 0.4, -0.1, 0.1)),
        ):
            found = design(requirement)
            assert isinstance(found.filter, Fir)
            size = 1 << 16
            level = 20 * np.log10(np.abs(np.fft.rfft(found.filter.taps, size)) + 1e-20)
            self.assertLessEqual(level.max(), cap_db(requirement) + 0.01)
            self.assertGreaterEqual(worst_margin_db(found.filter.taps, requirement), -1e-9)
            self.assertIn("held below", found.notes[0])

    def test_the_cap_is_where_the_documents_say(self) -> None:
        for requirement in (MULTIBAND, LOWPASS, asked(2, (0, 0.2, 5.5, 6.5), (0.5, 1, -40))):
            self.assertAlmostEqual(transition_cap_db(requirement), cap_db(requirement))


class Refusals(unittest.TestCase):
    def test_hopeless_requirements_say_what_would_do(self) -> None:
        with self.assertRaises(DesignError) as caught:
            design(asked(2, (0, 0.3, -0.1, 0.1), (0.3002, 1, -200)))
        self.assertIn("a transition of", caught.exception.sentence())
        near = float(caught.exception.instead.split()[3])
        self.assertTrue(meets(lines_of(design(asked(2, (0, 0.3, -1, 1), (0.3 + 10 * near, 1, -100))).filter,
                                       asked(2, (0, 0.3, -1, 1), (0.3 + 10 * near, 1, -100)))))  # fmt: skip

    def test_limits_beyond_double_precision_are_refused(self) -> None:
        with self.assertRaises(DesignError) as caught:
            design(asked(2, (0, 0.3, -0.1, 0.1), (0.5, 1, -300)))
        self.assertIn("double precision", caught.exception.sentence())

    def test_orders_that_cannot_do_it_are_refused_with_a_neighbor(self) -> None:
        for order, symmetry in ((51, 1), (50, -1)):
            with self.assertRaises(DesignError) as caught:
                design(HIGHPASS, "equiripple", order, symmetry)
            self.assertIn(f"use order {order - 1} or {order + 1}", caught.exception.sentence())
        self.assertRaises(DesignError, design, LOWPASS, "equiripple", 10**6)
        self.assertRaises(DesignError, design, LOWPASS, "nosuch")


class Contenders(unittest.TestCase):
    def test_they_come_cheapest_first_and_each_is_what_it_says(self) -> None:
        found = ranked(list(contenders(LOWPASS, with_antisymmetric=True)))
        kept = [contender for contender in found if contender.keeps]
        costs = [contender.cost.multiplies for contender in kept if contender.cost]
        self.assertEqual(costs, sorted(costs))
        for contender in found:
            if contender.design is not None and isinstance(contender.design.filter, Fir):
                self.assertEqual(contender.keeps, worst_margin_db(contender.design.filter.taps, LOWPASS) >= -1e-9)
            elif contender.design is None:
                self.assertTrue(contender.reason)
                self.assertFalse(contender.keeps)

    def test_a_hopeless_requirement_gives_a_reason(self) -> None:
        found = list(contenders(asked(2, (0, 0.3, -0.1, 0.1), (0.3002, 1, -200))))
        equiripple = next(contender for contender in found if contender.method == "equiripple")
        self.assertIsNone(equiripple.design)
        self.assertIn("taps", equiripple.reason)


@st.composite
def requirements(draw: st.DrawFn) -> Requirement:
    """Two to five bands, kept and blocked in turn, of any width and any limits."""
    count = draw(st.integers(2, 5))
    widths = draw(st.lists(st.floats(0.02, 0.4), min_size=count, max_size=count))
    gaps = draw(st.lists(st.floats(0.02, 0.2), min_size=count - 1, max_size=count - 1))
    keeps = draw(st.booleans())
    scale = 1 / (sum(widths) + sum(gaps))
    bands, place = [], 0.0
    for index in range(count):
        stop = 1.0 if index == count - 1 else place + widths[index] * scale
        if keeps:
            ripple = 10 ** draw(st.floats(-2.3, 0))
            bands.append((place, stop, -ripple, ripple))
        else:
            bands.append((place, stop, -draw(st.floats(15, 90))))
        keeps = not keeps
        place = stop + (gaps[index] * scale if index < count - 1 else 0)
    return asked(2, *bands)


class AnyRequirement(unittest.TestCase):
    @settings(max_examples=examples(30), deadline=None, derandomize=True, suppress_health_check=list(HealthCheck))
    @given(requirements())
    def test_gets_a_filter_that_keeps_it_or_a_reason(self, requirement: Requirement) -> None:
        try:
            found = design(requirement)
        except DesignError as error:
            self.assertGreater(len(error.sentence()), 40)
            return
        assert isinstance(found.filter, Fir)
        self.assertGreaterEqual(worst_margin_db(found.filter.taps, requirement), -1e-7)
        level = 20 * np.log10(np.abs(np.fft.rfft(found.filter.taps, 1 << 15)) + 1e-20)
        self.assertLessEqual(level.max(), cap_db(requirement) + 0.02)
