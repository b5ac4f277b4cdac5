"""Small places where a wrong sign or one bit would go unseen: each held against counting all cases, or whole numbers."""

from __future__ import annotations

import itertools
import random
import unittest
from fractions import Fraction
from unittest import mock

import numpy as np

from combe.analysis.bounds import worst_values
from combe.analysis.certified import _FirProver
from combe.analysis.exact import exact_filter
from combe.analysis.linear import LinearProgram
from combe.analysis.noise import mean, predicted_noise, variance
from combe.delivery.c import c_package
from combe.delivery.c.blocks import fits_32
from combe.designing.contenders import contenders
from combe.designing.methods import design, design_task
from combe.designing.nearest import relaxations
from combe.designing.task import DesignChoice, Task
from combe.errors import FormatError
from combe.filters import Cascade, Fir
from combe.filters.pairing import sections_of
from combe.filters.rational import Rational, rational_of
from combe.ledger import lines_of
from combe.project.demo import demo_project
from combe.project.history import History
from combe.realization.formats import Format
from combe.realization.network import Network, Node, check_rate
from combe.realization.program import Step, stages_program
from combe.realization.reading import realization_document
from combe.realization.stages import Realization, Requantize, TapSum, check
from combe.realization.term import Term
from combe.requirement import Limit, requirement_from
from combe.requirement.rates import RateChange
from combe.responses import frequency_response
from combe.responses.extremes import stays_below, turning_points, worst_point, worst_points
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.running.run import fits_compiled, run_program
from combe.running.simulate import simulate
from combe.values import replace
from tests.independent import plain_run, rounded
from tests.support import asked, document

S16 = Format(True, 16, 15)

LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
LOUD = Choices(16, "", "s16f15", "s16f15", overflow="wrap", scaling="l2", state_bits=18)


class Rounding(unittest.TestCase):
    """Mean and variance of one rounding, over every pattern of the bits it cuts off."""

    def test_every_way_counts_out(self) -> None:
        for rounding, shift in itertools.product(("nearest-even", "nearest-up", "floor", "toward-zero"), (1, 2, 3, 7)):
            step = Step("y", (Term(0, 0, 1),), Format(True, 24, shift), Format(True, 24, 0), rounding, "saturate")
            exact = [Fraction(k, 1 << shift) for k in range(-4 << shift, 4 << shift)]
            errors = [rounded(value, rounding) - value for value in exact]
            average = sum(errors, Fraction(0)) / len(errors)
            spread = sum((error * error for error in errors), Fraction(0)) / len(errors)
            # An error toward zero has a mean that changes its sign with the signal: only the mean square counts.
            spread -= average * average if rounding != "toward-zero" else 0
            with self.subTest(rounding=rounding, shift=shift):
                self.assertAlmostEqual(variance(step), float(spread), places=12)
                if rounding != "toward-zero":
                    self.assertAlmostEqual(mean(step), float(average), places=12)

    def test_bits_that_are_always_zero_cost_nothing(self) -> None:
        step = Step("y", (Term(0, 0, 12),), Format(True, 24, 3), Format(True, 24, 0), "floor", "saturate")
        errors = [rounded(Fraction(12 * k, 8), "floor") - Fraction(12 * k, 8) for k in range(-8, 8)]
        self.assertAlmostEqual(mean(step), float(sum(errors, Fraction(0)) / 16), places=12)

    def test_noise_is_the_sum_over_a_very_long_impulse_response(self) -> None:
        """A pole near the circle: the energy from each rounding to the output, summed until nothing is left."""
        made = realize(
            design(LOW, "elliptic", 5).filter, 48_000, Choices(24, "direct-1", "s16f15", "s16f15", state_bits=20)
        )
        flow = LinearProgram.of(made.program)
        A, B, C, D = flow.state_space
        total = 0.0
        for index, step in enumerate(made.program.steps):
            last = made.program.output - 1
            energy, state = D[last, index + 1] ** 2, B[:, index + 1]
            for _ in range(20_000):
                energy += float(C[last] @ state) ** 2
                state = A @ state
            total += energy * variance(step)
        self.assertAlmostEqual(predicted_noise(made).fluctuating / (total / made.output.step**2), 1.0, places=6)


class Norms(unittest.TestCase):
    def test_the_sum_of_sizes_is_never_too_small(self) -> None:
        """Σ|h| of sections whose ringing outlasts any sum cut off early: never below a sum of two million samples."""
        for radius in (0.9, 0.999, 0.9995):
            made = realize_section(radius)
            flow = LinearProgram.of(made.program)
            A, B, C, D = flow.state_space
            last = made.program.output - 1
            total, state = abs(D[last, 0]), B[:, 0]
            for _ in range(60_000):
                total += abs(float(C[last] @ state))
                state = A @ state
            self.assertGreaterEqual(float(flow.norms().l1[last]) * (1 + 1e-11), total, radius)
            self.assertLess(float(flow.norms().l1[last]), total * (1 + 1e-5), radius)

    def test_bounds_are_the_worst_input_and_the_worst_errors_together(self) -> None:
        """Each sample of each impulse response with the end that drives it farthest, summed until nothing is left."""
        made = realize(design(LOW, "elliptic", 4).filter, 48_000,
                       Choices(18, "direct-1", "s16f15", "s16f15", rounding="floor", state_bits=20))  # fmt: skip
        program = made.program
        A, B, C, D = LinearProgram.of(program).state_space
        ends = [(program.input.least * program.input.step, program.input.most * program.input.step)]
        for step in program.steps:
            cut = step.accumulator.fraction - step.result.fraction
            ends.append((-step.result.step * (1 - 2.0**-cut), 0.0) if cut > 0 else (0.0, 0.0))
        down, up = (np.array(side) for side in zip(*ends))
        high, low, state = np.zeros(len(program.steps)), np.zeros(len(program.steps)), B
        for response in itertools.chain([D], iter(lambda: None, 0)):
            if response is None:
                response, state = C @ state, A @ state
                if np.max(np.abs(response)) < 1e-16:
                    break
            high += np.maximum(response * up, response * down).sum(axis=1)
            low += np.minimum(response * up, response * down).sum(axis=1)
        steps = np.array([step.result.step for step in program.steps])
        found_low, found_high = worst_values(program)
        for found, wanted, sign in ((found_high, high / steps, 1), (found_low, low / steps, -1)):
            room = sign * (found - wanted)
            self.assertGreaterEqual(float(np.min(room + 1e-12 * np.abs(wanted))), 0.0)
            self.assertLess(float(np.max(room / np.abs(wanted))), 1e-5)

    def test_long_signals_wrap_as_short_ones_do(self) -> None:
        """Far too loud for its states: the compiled loops against fractions."""
        source = random.Random(6)
        for structure in ("direct-1", "transposed-2"):
            made = realize_section(0.9, replace(LOUD, structure=structure))
            samples = [source.choice((-32768, 32767)) for _ in range(20_400)]
            found = simulate(made, np.array(samples))
            self.assertEqual(found[:600].tolist(), plain_run(realization_document(made), samples[:600]), structure)


def realize_section(radius: float, choices: Choices | None = None) -> Realization:
    """A resonator in 24-bit coefficients."""
    from combe.filters import Cascade

    section = (1.0, 0.0, 0.0, -2 * radius * float(np.cos(0.7)), radius * radius)
    usual = Choices(24, "direct-1", "s16f15", "s24f20", state_bits=30)
    return realize(Cascade((section,), 0.01 if choices is None else 1.0), 1.0, choices or usual)


class Sums(unittest.TestCase):
    def test_32_bits_hold_a_sum_just_where_they_do(self) -> None:
        source = random.Random(4)
        seen = set()
        for _ in range(2000):
            entry = Format(source.random() < 0.5, source.choice((8, 12, 16)), 0)
            size = source.choice((1 << 12, 1 << 15, 1 << 16, 1 << 18))
            taps = [source.randint(-size, size) for _ in range(source.randint(1, 12))]
            ends = range(entry.least, entry.most + 1, max(1, entry.most - entry.least))
            sums = [
                sum(max(tap * end for end in ends) for tap in taps),
                sum(min(tap * end for end in ends) for tap in taps),
            ]
            fits = all(-(2**31) <= value <= 2**31 - 1 for value in sums)
            self.assertEqual(fits_32(taps, entry), fits, (taps, entry))
            seen.add(fits)
        self.assertEqual(seen, {True, False})
        self.assertFalse(fits_32([1 << 16], Format(True, 17, 0)))
        self.assertFalse(fits_32([-(1 << 15)] * 2, Format(True, 16, 0)), "2·2¹⁵·2¹⁵ is one too many")

    def test_two_products_at_once_only_of_signed_halves(self) -> None:
        taps = design(LOW, "equiripple", 30).filter
        for entry, is_dual in (("s16f15", True), ("u15f15", True), ("u16f16", False), ("s17f16", False)):
            package = c_package(realize(taps, 48_000, Choices(10, "direct", entry, "s16f15")), "f")
            self.assertEqual("__smla" in package.text(".c"), is_dual, entry)
        wide = c_package(realize(taps, 48_000, Choices(18, "direct", "s16f15", "s16f15")), "f")
        self.assertNotIn("__smla", wide.text(".c"))

    def test_sums_of_64_bits_are_not_left_to_64_bits(self) -> None:
        """The half added before a shift carries the largest sum over the top."""
        most = (1 << 31) - 1
        wide = Format(True, 64, 62)
        made = Realization(
            "wide", 1.0, "direct", Format(True, 32, 31), Format(True, 24, 22),
            (TapSum((most, most), Format(True, 32, 31), wide), Requantize(wide, Format(True, 24, 22), "nearest-up", "wrap")),
        )  # fmt: skip
        samples = [most, most, -most - 1, -most - 1, 5] * 4_100
        found = run_program(made.program, np.array(samples, dtype=np.int64)).output
        self.assertEqual([int(x) for x in found[:40]], plain_run(realization_document(made), samples[:40]))
        self.assertFalse(fits_compiled(made.program))


class Room(unittest.TestCase):
    """With the scaling l1 no value overflows, whatever comes in."""

    NARROW = (
        ("transposed-2", 16, "s12f11", 7, ((1.0, -1.7475727124491627, -0.7641625926578779, 1.110610824876323, 0.4870274338671134),)),
        ("lattice", 12, "s12f11", 10, ((1.0, 1.338373944667353, -0.18206931743805765, -0.2549422683438568, 0.9799528586342667),)),
        ("direct-1", 12, "s8f7", 6, ((1.0, 0.8465935254128345, 0.07280973231970922, 0.1451022947266229, 0.4655348601316841),
                                     (1.0, -0.9316199498390243, 0.22132546784155482, -1.8338315836143366, 0.8892953615651598))),
    )  # fmt: skip

    def test_roundings_that_grow_are_given_room(self) -> None:
        """The input that makes each sample as large as can be, found by a plain recursion: wrapping and saturating agree."""
        for form, bits, entry, state_bits, rows in self.NARROW:
            both = [
                realize(
                    Cascade(rows, 0.1),
                    1.0,
                    Choices(bits, form, entry, "s24f12", overflow=overflow, state_bits=state_bits),
                )
                for overflow in ("wrap", "saturate")
            ]
            impulse = np.zeros(400)
            impulse[0] = 0.1
            for b0, b1, b2, a1, a2 in rows:
                x1 = x2 = y1 = y2 = 0.0
                for n, x in enumerate(impulse.tolist()):
                    y = b0 * x + b1 * x1 + b2 * x2 - a1 * y1 - a2 * y2
                    x2, x1, y2, y1 = x1, x, y1, y
                    impulse[n] = y
            least, most = both[0].input.least, both[0].input.most
            for sign in (1, -1):
                worst = np.where(sign * impulse[::-1] >= 0, most, least)
                samples = np.concatenate(
                    [worst, np.zeros(20, dtype=int), worst[::-1], np.full(300, most), np.full(300, least)]
                )
                wrapped, saturated = (simulate(made, samples) for made in both)
                self.assertEqual(np.asarray(wrapped).tolist(), np.asarray(saturated).tolist(), form)

    def test_what_can_not_be_given_room_is_refused(self) -> None:
        rows = (
            (1.0, -0.9861674040610047, 0.460304461570322, -1.1737879306299637, 0.7336708870612938),
            (1.0, -0.27337781140090067, 0.9511068615439251, 1.9440927265896442, 0.965778015078442),
            (1.0, -1.8586958134521407, 0.9197866344485817, -0.2939808791676006, 0.20933958963590993),
        )
        with self.assertRaisesRegex(FormatError, "state bits"):
            realize(
                Cascade(rows, 0.1), 1.0, Choices(16, "transposed-2", "s12f11", rounding="toward-zero", state_bits=7)
            )
        self.assertTrue(realize(Cascade(rows, 0.1), 1.0, Choices(16, "transposed-2", "s12f11", state_bits=16)).stages)

    def test_the_bounded_tail_counts_where_the_sum_ends_early(self) -> None:
        made = realize(Cascade(((1.0, 0.0, 0.0, -0.984375, 0.0),)), 1.0, Choices(16, "direct-1", "s8f7"))
        program = stages_program(made.stages, made.input)
        room = "combe.analysis.linear."
        with mock.patch(room + "LONGEST", 8), mock.patch(room + "BLOCK", 8), mock.patch(room + "MOST_COLUMNS", 1):
            _, high = worst_values(program)
        # One pole at 63/64: Σ|h| is 64, and the largest input is 127.
        self.assertGreaterEqual(high[0] * program.steps[0].result.step, 64 * 128 / 128 - 1)


class Proofs(unittest.TestCase):
    def test_between_two_points_a_cubic_rest_is_counted_in(self) -> None:
        """cos(nω/2) next to its zero, where two derivatives say least: a margin too good is never proved."""
        source = random.Random(8)
        refused = proved = 0
        for count in (10, 24, 53):
            taps = np.zeros(count)
            taps[[0, -1]] = 0.5
            prover = _FirProver(Fir(tuple(taps)))
            half = (count - 1) / 2
            zero = np.pi / 2 / half
            for _ in range(200):
                beside = zero * (1 - 10 ** source.uniform(-5, -1.5))
                asked_db = 20 * np.log10(np.cos(half * beside)) - 0.3
                over = source.choice((0.0, 0.0004, 0.0006, 0.003, 0.0051, 0.02, 0.06))
                limit = Limit.level(asked_db, beside * 0.9, beside)
                within = prover.proved(limit, -1, 0.3 + over, 2 * np.pi)
                refused += within is None
                if within is not None:
                    proved += 1
                    self.assertLessEqual(over, within + 1e-9, (count, beside))
        self.assertGreater(min(refused, proved), 20)


class Extremes(unittest.TestCase):
    def test_no_ripple_hides_between_the_points_of_the_scan(self) -> None:
        """Sparse and random taps ripple as fast as taps can: the worst point against a hundred points a tap."""
        source = np.random.default_rng(31)
        for count in (2, 3, 17, 64, 129):
            for kind in ("random", "sparse"):
                taps = source.normal(size=count) if kind == "random" else np.zeros(count)
                taps[0] += 1.0
                taps[-1] += 0.9
                omega = np.linspace(0, np.pi, 100 * count + 1)
                plain = np.abs(np.exp(-1j * np.outer(omega, np.arange(count))) @ taps)
                for side, worst in ((1, plain.max()), (-1, plain.min())):
                    found = worst_point(Fir(tuple(taps)), 2.0, Limit.level(0.0, 0.0, 1.0), side)
                    wanted = 20 * np.log10(max(worst, 1e-20))
                    if side > 0:
                        self.assertGreaterEqual(found.gain_db, wanted - 1e-9)
                    else:
                        self.assertLessEqual(found.gain_db, wanted + 1e-9)

    def test_rounding_makes_no_ripple_of_a_flat_passband(self) -> None:
        """Maximally flat: it falls all the way, and only its ends are told, however the last digits wander."""
        flat = design(asked(2, (0, 0.3, -0.5, 0.1), (0.5, 1, -60)), "maximally-flat").filter
        self.assertGreater(len(flat.taps), 100)
        self.assertLessEqual(len(turning_points(flat, 0.0, 0.25 * np.pi)), 3)

    def test_narrow_bands_of_many_lobes(self) -> None:
        source = np.random.default_rng(32)
        for count in (85, 170):
            taps = source.normal(size=count)
            for _ in range(150):
                start = source.uniform(0, 0.95)
                stop = min(start + source.uniform(0.5, 4) / count, 1.0)
                omega = np.pi * np.linspace(start, stop, 800)
                plain = np.abs(np.exp(-1j * np.outer(omega, np.arange(count))) @ taps)
                found = worst_point(Fir(tuple(taps)), 2.0, Limit.level(0.0, start, stop), 1)
                self.assertGreaterEqual(found.gain_db, 20 * np.log10(plain.max()) - 1e-9, (count, start, stop))

    def test_a_lobe_between_two_close_zeros(self) -> None:
        """A band hardly wider than the lobe, in a filter with few points to spare between neighboring extremes."""
        source = np.random.default_rng(33)
        for trial in range(20):
            apart = np.pi / 1024 * source.uniform(0.45, 0.8)
            first = source.uniform(0.5, 2.5)
            pairs = [np.array([1.0, -2 * np.cos(angle), 1.0]) for angle in (first, first + apart)]
            taps = np.convolve(np.convolve(source.normal(size=337), pairs[0]), pairs[1])
            start, stop = first - 0.1 * apart, first + 1.1 * apart
            omega = np.linspace(start, stop, 801)
            plain = np.abs(np.exp(-1j * np.outer(omega, np.arange(len(taps)))) @ taps)
            found = worst_point(Fir(tuple(taps)), 2 * np.pi, Limit.level(0.0, start, stop), 1)
            self.assertGreaterEqual(found.gain_db, 20 * np.log10(plain.max()) - 1e-2, trial)

    def test_what_the_scan_rules_out_is_nowhere(self) -> None:
        source = np.random.default_rng(34)
        ruled_out = 0
        for _ in range(300):
            count = int(source.integers(1, 40))
            taps = source.normal(size=count)
            start, stop = np.sort(source.uniform(0, np.pi, 2))
            omega = np.linspace(start, stop, 2001)
            top = 20 * np.log10(np.max(np.abs(np.exp(-1j * np.outer(omega, np.arange(count))) @ taps)))
            level = top + source.choice([-1, 1]) * 10 ** source.uniform(-4, 0)
            says = stays_below(Fir(tuple(taps)), start, stop, level)
            ruled_out += says
            self.assertFalse(says and top >= level, (count, start, stop))
        self.assertGreater(ruled_out, 50)
        # A top half way between two points of the scan, wherever these lie: tones of even weight, a level just below it.
        for count in (20, 63, 113):
            for center in np.linspace(0.8, 0.85, 40):
                taps = Fir(tuple(np.cos(center * (np.arange(count) - (count - 1) / 2))))
                top = 20 * np.log10(np.sum(taps.array**2))
                self.assertFalse(stays_below(taps, 0.7, 0.95, top - 1e-6), (count, center))

    def test_several_limits_at_once_are_what_each_is_alone(self) -> None:
        source = np.random.default_rng(35)
        low = sections_of(Rational(0.1, 0, np.array([1.0, -1.0]), np.array([0.8 + 0.3j, 0.8 - 0.3j])))
        for made in (Fir(tuple(source.normal(size=41))), low):
            asked = tuple(
                (Limit(((a, source.uniform(-60, 0)), (b, source.uniform(-60, 0)))), side)
                for a, b in ((0.0, 0.2), (0.1, 0.9), (0.5, 1.0)) for side in (1, -1)
            )  # fmt: skip
            together = worst_points(made, 2.0, asked)
            for (limit, side), found in zip(asked, together):
                alone = worst_point(made, 2.0, limit, side)
                self.assertAlmostEqual(found.margin_db(side), alone.margin_db(side), 10)
                self.assertAlmostEqual(found.hz, alone.hz, 7)

    def test_the_pole_next_to_the_circle_takes_the_zero_next_to_it(self) -> None:
        pole, calm, near, far = 0.99 * np.exp(0.5j), 0.5 * np.exp(0.52j), np.exp(0.52j), np.exp(2j)
        both = [root for one in (near, far) for root in (one, np.conj(one))]
        poles = [root for one in (calm, pole) for root in (one, np.conj(one))]
        made = sections_of(Rational(1.0, 0, np.array(both), np.array(poles)))
        gentle, sharp = made.sections
        self.assertAlmostEqual(sharp[4], 0.99**2, 12)
        self.assertAlmostEqual(sharp[1], -2 * np.cos(0.52), 12)
        self.assertAlmostEqual(gentle[1], -2 * np.cos(2.0), 12)

    def test_a_wide_bandpass_keeps_its_lower_cut_off(self) -> None:
        """s² + B·s + w² with B large: the smaller root, solved for directly, would lose as many digits as B has."""
        for order in (2, 4, 6):
            made = design_task(
                Task(None, 1.0, DesignChoice("butterworth", order, cutoffs_hz=(0.01, 0.499999), shape="bandpass"))
            )
            roots = rational_of(made.filter)
            z = np.exp(2j * np.pi * 0.01)
            gain = abs(roots.gain) * np.prod(np.abs(z - roots.zeros)) / np.prod(np.abs(z - roots.poles))
            self.assertAlmostEqual(20 * np.log10(gain), -10 * np.log10(2), 9)

    def test_delays_are_kept_by_sections(self) -> None:
        for delay, zeros, poles in (
            (1, (), (0.5,)),
            (2, (), (0.5, -0.25)),
            (3, (0.9,), (0.5, 0.25, -0.5)),
            (5, (), (0.5, 0.1)),
        ):
            bare = Rational(0.7, delay, np.array(zeros, complex), np.array(poles, complex))
            z = np.exp(1j * np.array([0.1, 1.0, 2.5]))
            wanted = (
                0.7
                * z**-delay
                * np.prod([1 - q / z for q in zeros], axis=0)
                / np.prod([1 - p / z for p in poles], axis=0)
            )
            found = frequency_response(sections_of(bare), np.array([0.1, 1.0, 2.5]))
            self.assertLess(float(np.max(np.abs(found - wanted))), 1e-12, delay)


class Undoing(unittest.TestCase):
    def test_a_gesture_ends_with_undo(self) -> None:
        first, second, third = (replace(demo_project(), name=name) for name in "abc")
        history = History(demo_project())
        history.change(first, "drag", "edge")
        history.undo()
        history.change(second, "drag", "edge")
        self.assertEqual(history.undo_name, "drag")
        history.undo()
        self.assertEqual(history.current, demo_project())
        history.redo()
        history.change(third, "drag", "edge")
        history.undo()
        self.assertEqual(history.current, second)


class Nearest(unittest.TestCase):
    def test_a_relaxation_is_enough_and_hardly_more(self) -> None:
        """What is offered keeps the limits by its own filter, and a little less doesn't: halved the right way."""
        tight = asked(48_000, (0, 8000, -0.1, 0.1), (9000, 24_000, -80), phase="linear", max_multiplies=20)
        found = list(relaxations(tight, list(contenders(tight))))
        self.assertTrue(found)
        for each in found:
            order = None if each.method == "interpolated-fir" else each.order
            made = design(each.requirement, each.method, order)
            gains = [line.margin for line in lines_of(made.filter, each.requirement) if line.unit == "db"]
            self.assertGreaterEqual(min(gains), -1e-9, each.sentence)
            if "multiplies" not in each.sentence:
                self.assertLess(min(gains), 3.0, f"{each.sentence}: far more than is needed")

        # Folded, 20 multiplies are 40 taps: all of them are to be used.
        self.assertIn(39, [each.order for each in found if each.method == "equiripple"])

    def test_an_allowed_delay_is_long_enough(self) -> None:
        late = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60), phase="linear", max_delay_s=1e-4)
        found = [each for each in relaxations(late, list(contenders(late))) if "delay" in each.sentence]
        self.assertTrue(found)
        for each in found:
            assert each.requirement.max_delay_s is not None
            taps = design(each.requirement, each.method, each.order).filter
            self.assertGreaterEqual(each.requirement.max_delay_s, taps.order / 2 / 48_000, each.sentence)
            self.assertLess(each.requirement.max_delay_s, taps.order / 2 / 48_000 * 1.01)


class Formats(unittest.TestCase):
    def test_the_narrowest_format_counts_out(self) -> None:
        from combe.realization.formats import narrowest_signed

        for least in range(-40, 1):
            for most in range(41):
                bits = next(b for b in range(2, 9) if -(1 << (b - 1)) <= least and most <= (1 << (b - 1)) - 1)
                self.assertEqual(narrowest_signed(least, most), bits, (least, most))

    def test_a_tap_beyond_its_format_is_refused_at_its_place(self) -> None:
        for taps, place in (((3, 128, -5), 1), ((3, -5, -129), 2), ((-129, 128), 0)):
            stage = TapSum(taps, Format(True, 8, 7), Format(True, 24, 22))
            with self.assertRaises(FormatError) as caught:
                check(Realization("f", 1.0, "direct", S16, stage.result, (stage,)))
            self.assertIn(f"stages[0].coefficients[{place}]", caught.exception.sentence())
        stage = TapSum((127, -128), Format(True, 8, 7), Format(True, 24, 22))
        check(Realization("f", 1.0, "direct", S16, stage.result, (stage,)))

    def test_a_factor_is_refused_from_one_beyond_the_most(self) -> None:
        node = Node("y", (), Format(True, 40, 30), S16, "nearest-even", "saturate")
        for up, down, is_right in ((1, 4096, True), (4096, 1, True), (1, 4097, False), (2, 2, False), (0, 3, False)):
            stage = Network((node,), "y", "sum", up, down)
            with self.subTest(up=up, down=down):
                if is_right:
                    check_rate(stage, "stages[0]")
                else:
                    with self.assertRaises(FormatError):
                        check_rate(stage, "stages[0]")

    def test_sums_in_a_row_are_the_product_of_their_taps(self) -> None:
        first = TapSum((1, 2, 3), Format(True, 4, 1), Format(True, 24, 16))
        then = TapSum((5, -7), Format(True, 4, 2), Format(True, 30, 18))
        made = Realization("f", 1.0, "direct", S16, then.result, (first, then))
        self.assertEqual(exact_filter(made), Fir(tuple(value / 8 for value in (5.0, 3.0, 1.0, -21.0))))

    def test_a_ratio_and_a_band_without_a_name_are_called_what_they_are(self) -> None:
        words = {RateChange(up, down).words for up, down in ((1, 8), (4, 1), (3, 2), (1, 1))}
        self.assertEqual(words, {"÷8", "×4", "×3 ÷2", "×1"})
        plain = document(48_000, (0, 1000, -1, 1), (2000, 24_000, -40))
        for band in plain["bands"]:
            del band["name"]
        self.assertEqual([band.name for band in requirement_from(plain).bands], ["band 1", "band 2"])
