"""Every structure in integers: a stranger's implementation, exact transfer, bounds that are reached, noise as predicted."""

from __future__ import annotations

import json
import random
import unittest
import unittest.mock
from fractions import Fraction

import mpmath
import numpy as np

from combe.analysis.bounds import bounds
from combe.analysis.exact import exact_filter
from combe.analysis.measured import measured_noise
from combe.analysis.noise import noise_density, noise_power, predicted_noise
from combe.analysis.transfer import stage_transfer
from combe.delivery.c import c_package
from combe.designing.methods import design
from combe.errors import CombeError, FormatError
from combe.filters import Cascade, Fir
from combe.filters.precise import precise_roots
from combe.ledger import cost_of, meets
from combe.proof.c import prove_c
from combe.realization.formats import Format
from combe.realization.network import Network, Node, Term
from combe.realization.reading import realization_document, realization_from
from combe.realization.section import Section
from combe.realization.stages import FORMS, Realization, Requantize
from combe.responses import frequency_response
from combe.rounding.allpass import is_allpass_sum
from combe.rounding.realize import Choices, realize, rounded_lines
from combe.rounding.recursive import SECTION_STRUCTURES
from combe.running import run as running
from combe.running.random_integers import random_integers
from combe.running.simulate import simulate
from combe.values import replace
from tests.independent import plain_run
from tests.support import asked, examples, some
from tests.test_delivery import HAS_GCC, SANITIZERS

LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
ROUNDINGS = ["nearest-even", "nearest-up", "floor", "toward-zero"]


def random_network(source: random.Random) -> Realization:
    """A filter of a few sections or taps in any structure with any formats."""
    while True:
        bits = source.randint(4, 24)
        taps = source.random() < 0.3
        choices = Choices(
            source.randint(6, 20), source.choice(FORMS if taps else SECTION_STRUCTURES),
            f"{source.choice('ssu')}{bits}f{source.randint(-2, bits)}", f"s{source.randint(4, 24)}f{source.randint(0, 20)}",
            None, source.choice(ROUNDINGS), source.choice(["saturate", "wrap"]), source.choice([None, source.randint(6, 30)]),
            False, None, source.choice([None, source.randint(5, 20)]) if taps else None, source.choice([0, 0, 3]),
            source.choice(["l1", "l2", "peak"]), source.choice(["given", "given", "search"]), source.random() < 0.4,
            source.randint(2, 4),
        )  # fmt: skip
        try:
            return realize(random_taps(source) if taps else random_cascade(source), 1.0, choices)
        except FormatError:
            continue


def random_taps(source: random.Random) -> Fir:
    half = [source.uniform(-1, 1) for _ in range(source.randint(1, 6))]
    return Fir((*half, *half[::-1]) if source.random() < 0.6 else tuple(half))


def random_cascade(source: random.Random) -> Cascade:
    rows = []
    for _ in range(source.randint(1, 3)):
        radius, angle = source.uniform(0.1, 0.99), source.uniform(0, 3.14)
        b0, b1, b2 = (source.uniform(-1, 1) for _ in range(3))
        if source.random() < 0.25:
            rows.append((b0, b1, 0.0, source.uniform(-0.9, 0.9), 0.0))
        else:
            rows.append((b0, b1, b2, -2 * radius * float(np.cos(angle)), radius**2))
    return Cascade(tuple(rows), source.uniform(-2, 2))


class BitTrue(unittest.TestCase):
    def test_a_strangers_implementation_agrees_in_every_bit(self) -> None:
        source = random.Random(14)
        seen = set()
        for index in some(range(90), 25):
            made = random_network(source)
            seen.add(made.structure)
            samples = random_integers(80, made.input, index + 1)
            document = json.loads(json.dumps(realization_document(made)))
            with self.subTest(structure=made.structure, index=index):
                self.assertEqual(simulate(made, samples).tolist(), plain_run(document, samples.tolist()))
                self.assertEqual(realization_from(document).realization, made)
        self.assertGreater(len(seen), 7)

    def test_corner_inputs(self) -> None:
        """Full-scale steps, alternating signs and the smallest inputs, in every structure."""
        low = design(LOW, "elliptic").filter
        for structure in SECTION_STRUCTURES:
            made = realize(low, 48_000, Choices(14, structure, state_bits=18))
            ends = made.input.least, made.input.most
            samples = [*[ends[1]] * 30, *[ends[0]] * 30, *list(ends) * 20, *[1, -1, 0, 0] * 8, *[0] * 20]
            document = realization_document(made)
            self.assertEqual(simulate(made, np.array(samples)).tolist(), plain_run(document, samples), structure)

    def test_the_compiled_loop_is_the_plain_one(self) -> None:
        source = random.Random(5)
        for index in range(16):
            made = random_network(source)
            samples = random_integers(2000, made.input, index + 1)
            with unittest.mock.patch.object(running, "is_worth_compiling", lambda _: False):
                plain = simulate(made, samples)
            with unittest.mock.patch.object(running, "is_worth_compiling", lambda _: True):
                np.testing.assert_array_equal(simulate(made, samples), plain)

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_generated_c_agrees_under_sanitizers(self) -> None:
        source = random.Random(26)
        for index in some(range(8), 3):
            made = random_network(source)
            with self.subTest(index=index, structure=made.structure):
                proof = prove_c(c_package(made, "filter_1"), made, (), SANITIZERS)
                self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(HAS_GCC, "there is no compiler on this machine")
    def test_sums_whose_terms_all_end_with_zeros(self) -> None:
        """As many zeros as the rounding cuts off, fewer and more, in sums with and without what another one cut off."""
        source = random.Random(29)
        shorter = 0
        for index in range(examples(40)):
            made = random_network(source)
            stages = tuple(
                replace(stage, nodes=tuple(with_zeros(source, node) for node in stage.nodes)) if isinstance(stage, Network) else stage
                for stage in made.stages
            )  # fmt: skip
            made = replace(made, stages=stages)
            package = c_package(made, "filter_1")
            shorter += package.text(".c").count("const int32_t sum_")
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, made, proof.sentence()))
        self.assertGreater(shorter, 0)


def with_zeros(source: random.Random, node: Node) -> Node:
    """A node whose coefficients all are multiples of a power of two."""
    zeros = source.choice((0, 2, max(node.shift, 0), node.shift + 2 if node.shift > 0 else 1))
    # Cut toward zero, so that the least one doesn't leave its format.
    kept = [(abs(term.coefficient) >> zeros << zeros) * (1 if term.coefficient > 0 else -1) for term in node.terms]
    return replace(node, terms=tuple(replace(term, coefficient=value) for term, value in zip(node.terms, kept)))


class Transfer(unittest.TestCase):
    def test_every_structure_is_the_same_filter(self) -> None:
        """With many coefficient bits the response of every form is the design's, found by summing its own impulse."""
        found = design(LOW, "elliptic").filter
        omega = np.linspace(0, np.pi, 60)
        wanted = frequency_response(found, omega)
        for structure in SECTION_STRUCTURES:
            made = realize(found, 48_000, Choices(26, structure, "s24f23", state_bits=30))
            np.testing.assert_allclose(frequency_response(exact_filter(made), omega), wanted, atol=1e-6)
            impulse = np.zeros(1200, dtype=np.int64)
            impulse[0] = 1 << 22
            heard = simulate(made, impulse) / (1 << 22)
            turn = np.exp(-1j * np.outer(omega, np.arange(1200)))
            np.testing.assert_allclose(turn @ heard, wanted, atol=3e-5, err_msg=structure)

    def test_the_exact_filter_is_that_of_the_integers(self) -> None:
        """exact() against the impulse response of the rounded program, computed in fractions by the recurrences."""
        source = random.Random(3)
        for _ in range(25):
            made = random_network(source)
            numerator, denominator = [Fraction(1)], [Fraction(1)]
            for stage, entry in zip(made.stages, made.formats()):
                part = stage_transfer(stage, entry)
                numerator = np.convolve(np.array(numerator, object), np.array(part.numerator, object)).tolist()
                denominator = np.convolve(np.array(denominator, object), np.array(part.denominator, object)).tolist()
            z = np.exp(-1j * np.linspace(0.1, 3, 20))
            top = np.polyval([float(c) for c in numerator[::-1]], z)
            bottom = np.polyval([float(c) for c in denominator[::-1]], z)
            found = frequency_response(exact_filter(made), np.linspace(0.1, 3, 20))
            np.testing.assert_allclose(found, top / bottom, rtol=1e-6, atol=1e-9)

    def test_roots_of_integer_polynomials_keep_every_digit(self) -> None:
        """Twenty zeros next to one another on the circle: a companion matrix loses half the digits."""
        angles = [0.01 * k for k in range(1, 11)]
        polynomial = [1]
        with mpmath.workdps(60):
            for angle in angles:
                middle = int(mpmath.nint(-2 * mpmath.cos(angle) * 2**40))
                polynomial = np.convolve(
                    np.array(polynomial, object), np.array([2**40, middle, 2**40], object)
                ).tolist()
            exact = sorted(
                float(mpmath.acos(mpmath.nint(2 * mpmath.cos(a) * 2**40) / mpmath.mpf(2) ** 41)) for a in angles
            )
        found = precise_roots(polynomial)
        np.testing.assert_allclose(sorted(np.angle(z) for z in found if z.imag > 0), exact, rtol=1e-13)
        np.testing.assert_allclose(np.abs(found), 1, rtol=1e-14)
        self.assertEqual(len(precise_roots([0, 3, 0, 0])), 2)

    def test_an_even_order_is_no_sum_of_allpasses(self) -> None:
        self.assertTrue(is_allpass_sum(design(LOW, "elliptic", 7).filter))  # type: ignore[arg-type]
        self.assertFalse(is_allpass_sum(design(LOW, "elliptic", 6).filter))  # type: ignore[arg-type]

    def test_two_allpasses_take_a_multiply_a_pole_and_are_the_filter(self) -> None:
        """What a design says it costs is what stands in the integers of the structure it names: counted here."""
        rate = 48_000
        kinds = (
            (asked(rate, (0, 4800, -0.3, 0.3), (8000, 24_000, -45)), "elliptic", 5),
            (asked(rate, (0, 4800, -0.5, 0.5), (8000, 24_000, -50)), "inverse-chebyshev", 7),
            (asked(rate, (0, 3000, -50), (6000, 24_000, -0.4, 0.4)), "elliptic", 5),
            (asked(rate, (0, 4000, -40), (6000, 8000, -0.5, 0.5), (10_500, 24_000, -40)), "elliptic", 6),
        )
        for requirement, method, order in kinds:
            with self.subTest(method=method, order=order):
                found = design(requirement, method, order).filter
                told = cost_of(found)
                self.assertEqual(told.structure, "allpass-direct")
                self.assertIn(told.multiplies, (order, order + 1))
                made = realize(found, rate, Choices(24, told.structure))
                network = made.stages[0]
                assert isinstance(network, Network)
                numbers = [term.coefficient for node in network.nodes for term in node.terms]
                self.assertEqual(sum(bin(abs(value)).count("1") > 1 for value in numbers), told.multiplies)
                self.assertEqual(sum(len(node.terms) - 1 for node in network.nodes), told.adds)
                omega = np.linspace(0, np.pi, 300)
                difference = frequency_response(exact_filter(made), omega) - frequency_response(found, omega)
                self.assertLess(float(np.max(np.abs(difference))), 1e-4)

    def test_sections_in_a_row_take_the_multiplies_a_design_tells(self) -> None:
        """Numerators 1, b1, 1 keep their ones as powers of two: all of an even elliptic's sections but the last."""
        found = design(LOW, "elliptic", 6).filter
        told = cost_of(found)
        self.assertEqual((told.structure, told.multiplies), ("direct-1", 10))
        made = realize(found, 48_000, Choices(16))
        numbers: list[int] = []
        for stage in made.stages:
            if isinstance(stage, Section):
                self.assertEqual(stage.b[0], stage.b[2])
                numbers += [*stage.b[:2], *stage.a]
        self.assertEqual(sum(bin(abs(value)).count("1") > 1 for value in numbers), told.multiplies)

    def test_a_brief_that_spends_few_multiplies_gets_the_structure_that_takes_them(self) -> None:
        spends = asked(48_000, (0, 4800, -0.3, 0.3), (8000, 24_000, -45), max_multiplies=7)
        found = design(spends, "elliptic").filter
        made = realize(found, 48_000, Choices(16), requirement=spends)
        self.assertEqual(made.structure, "allpass-direct")
        self.assertTrue(meets(rounded_lines(made, spends)))
        plain = realize(found, 48_000, Choices(16, "direct-1"), requirement=spends)
        self.assertEqual([line.reached for line in rounded_lines(plain, spends) if line.limit == "max_multiplies"], [8])

    def test_allpass_branches_cannot_rise_above_the_gain(self) -> None:
        """However coarse the reflections, |A0 ± A1|/2 is at most one."""
        found = design(LOW, "elliptic", 7).filter
        peak = max(abs(frequency_response(found, np.linspace(0, np.pi, 5000))))
        for bits in (6, 8, 10):
            made = realize(found, 48_000, Choices(bits, "allpass-sum"))
            rounded = max(abs(frequency_response(exact_filter(made), np.linspace(0, np.pi, 5000))))
            self.assertLess(rounded, peak * (1 + 2.0 ** (2 - bits)))


class Bounds(unittest.TestCase):
    def test_the_worst_input_reaches_the_bound_and_one_bit_less_overflows(self) -> None:
        """ℓ1: signs of the reversed impulse response at full scale; the impulse response is the test's own."""
        for structure in ("direct-1", "direct-2", "transposed-2", "coupled", "lattice"):
            cascade = Cascade(((0.3, 0.2, 0.1, -1.2, 0.72),))
            made = realize(cascade, 1.0, Choices(16, structure, "s12f11", state_bits=20))
            program = bounds(made)
            stage = made.stages[0]
            output = next(b for b in program if b.name.startswith("y") or structure == "direct-1")
            exact = exact_filter(made)
            assert isinstance(exact, Cascade)
            b0, b1, b2, a1, a2 = exact.sections[0]
            h = [0.0] * 400
            for n in range(400):
                x = [1.0 if n - k == 0 else 0.0 for k in range(3)]
                h[n] = b0 * x[0] + b1 * x[1] + b2 * x[2] - (a1 * h[n - 1] if n else 0) - (a2 * h[n - 2] if n > 1 else 0)
            worst = np.array([2047 if value > 0 else -2048 for value in h[::-1]])
            own = replace(made, stages=(stage,), output=made.formats()[1])
            reached = int(simulate(own, worst)[-1])
            self.assertLessEqual(reached, output.most)
            self.assertGreaterEqual(reached, output.most * 0.999 - 24, structure)
            self.assertTrue(output.is_safe)
            narrow = output.needed_bits - 1
            self.assertFalse(Format(True, narrow, output.result.fraction).holds(output.most))
            if reached > Format(True, narrow, 0).most:
                squeezed = narrowed(own, narrow)
                self.assertNotEqual(simulate(squeezed, worst).tolist(), simulate(own, worst).tolist(), structure)

    def test_no_random_input_leaves_the_bounds(self) -> None:
        source = random.Random(8)
        for index in range(30):
            made = random_network(source)
            from combe.running.run import run_program

            if any(not b.is_safe for b in bounds(made)):
                continue
            ends = np.random.default_rng(index).choice([made.input.least, made.input.most], 3000)
            run = run_program(made.program, ends)
            self.assertEqual(sum(run.overflows), 0)
            for bound, low, high in zip(bounds(made), run.least, run.most):
                self.assertTrue(bound.least <= low and high <= bound.most)

    def test_slow_poles_have_their_tails_counted(self) -> None:
        """A pole at 0.99995: Σ|h| is 1/(1 − r) in closed form."""
        made = realize(Cascade(((1.0, 0.0, 0.0, -0.99995, 0.0),)), 1.0, Choices(24, "direct-2", "s8f7", state_bits=40))
        pole = -exact_filter(made).sections[0][3]  # type: ignore[union-attr]
        first = bounds(made)[0]
        closed = 128 / 128 / (1 - pole) * 2**first.result.fraction
        self.assertGreaterEqual(-first.least, closed)
        self.assertLess(-first.least, closed * 1.0001 + 1 / (1 - pole))


def narrowed(made: Realization, bits: int) -> Realization:
    """The same program with its output one bit narrower."""
    stage = made.stages[0]
    if isinstance(stage, Network):
        nodes = tuple(
            replace(n, result=Format(True, bits, n.result.fraction)) if n.name == stage.output else n
            for n in stage.nodes
        )
        stage = replace(stage, nodes=nodes)
        return replace(made, stages=(stage,), output=stage.result)
    result = Format(True, bits, stage.result.fraction)  # type: ignore[union-attr]
    return replace(made, stages=(replace(stage, result=result),), output=result)  # type: ignore[type-var]


class Noise(unittest.TestCase):
    def test_prediction_within_half_a_decibel_of_the_run(self) -> None:
        found = design(LOW, "elliptic").filter
        for structure in SECTION_STRUCTURES:
            for rounding in ("nearest-even", "floor"):
                for feedback in (False, True):
                    choices = Choices(18, structure, state_bits=16, rounding=rounding, error_feedback=feedback)
                    made = realize(found, 48_000, choices)
                    ratio = 10 * np.log10(measured_noise(made).power / predicted_noise(made).power)
                    self.assertLess(abs(ratio), 0.5, (structure, rounding, feedback))

    def test_the_spectrum_is_the_measured_one(self) -> None:
        found = design(LOW, "elliptic").filter
        made = realize(found, 48_000, Choices(18, "direct-2", state_bits=14, output="s24f23"))
        omega, heard = measured_noise(made, 1 << 18).density(256)
        told = noise_density(made, omega)
        inside = told > max(told) * 1e-3
        self.assertLess(np.max(np.abs(10 * np.log10(heard[inside] / told[inside]))), 1.5)

    def test_the_mean_density_is_the_power(self) -> None:
        made = realize(design(LOW, "elliptic").filter, 48_000, Choices(18, "lattice", state_bits=14))
        density = noise_density(made, np.linspace(0, np.pi, 20_001))
        self.assertAlmostEqual(float(np.mean(density)) / predicted_noise(made).fluctuating, 1, places=2)

    def test_error_feedback_quiets_a_slow_pole(self) -> None:
        """Noise near zero frequency of poles at 0.99 falls by far more than the theory's loss elsewhere."""
        cascade = Cascade(((0.00005, 0.0001, 0.00005, -1.98, 0.9802),))
        plain = realize(cascade, 1.0, Choices(20, "direct-1", state_bits=18))
        shaped = realize(cascade, 1.0, Choices(20, "direct-1", state_bits=18, error_feedback=True))
        self.assertLess(noise_power(shaped), noise_power(plain) / 20)
        self.assertLess(measured_noise(shaped).power, measured_noise(plain).power / 20)

    def test_a_searched_order_is_at_least_as_quiet(self) -> None:
        found = design(asked(48_000, (0, 1000, -0.1, 0.1), (1300, 24_000, -90)), "elliptic").filter
        shuffled = Cascade(found.sections[::-1], found.gain)  # type: ignore[union-attr]
        plain = realize(shuffled, 48_000, Choices(20, "direct-1", state_bits=18))
        searched = realize(shuffled, 48_000, Choices(20, "direct-1", state_bits=18, ordering="search"))
        self.assertLess(noise_power(searched), noise_power(plain) / 2)
        omega = np.linspace(0, 3, 50)
        np.testing.assert_allclose(
            frequency_response(exact_filter(searched), omega), frequency_response(exact_filter(plain), omega), atol=2e-3
        )


class Refusals(unittest.TestCase):
    def test_networks_that_do_not_hold_together_are_named(self) -> None:
        made = realize(Cascade(((0.5, 0.1, 0.2, -0.3, 0.4),)), 1.0, Choices(10, "transposed-2"))
        stage = made.stages[0]
        assert isinstance(stage, Network)
        first = stage.nodes[0]
        term = first.terms[0]
        for changed, words in (
            (replace(stage, output="nobody"), "is no node"),
            (replace(stage, nodes=(first, first)), "one name"),
            (replace(stage, nodes=()), "0 nodes"),
            (replace(with_node(stage, name="Y!"), output="Y!"), "is no name"),
            (with_node(stage, terms=()), "no terms"),
            (with_node(stage, terms=(replace(term, signal="q"),)), "isn't computed yet"),
            (with_node(stage, terms=(replace(term, signal="x"),)), "is no signal"),
            (with_node(stage, terms=(replace(term, delay=-1),)), "out of reach"),
            (with_node(stage, terms=(replace(term, coefficient=99_999),)), "doesn't fit"),
            (with_node(stage, accumulator=Format(True, 12, first.accumulator.fraction)), "can't hold"),
            (with_node(stage, accumulator=Format(True, 40, 2)), "fraction bits are needed"),
            (with_node(stage, rounding="up"), "not known here"),
        ):
            with self.assertRaises(FormatError) as caught:
                replace(made, stages=(changed, *made.stages[1:]))
            self.assertIn(words, caught.exception.sentence())

    def test_a_rest_of_nothing_is_refused(self) -> None:
        """A node finer than its sum cuts nothing off; what its rest would be was nobody's word."""
        one, wide = Format(True, 2, 0), Format(True, 40, 20)
        finer = Node("y", (Term("input", 0, 1, Format(True, 6, 0)),), Format(True, 30, 15), wide, "floor", "wrap")
        user = Node(
            "z", (Term("y", 0, 1, one), Term("y", 1, 1, one, True)), Format(True, 60, 20), wide, "floor", "wrap"
        )
        with self.assertRaisesRegex(FormatError, r"y\.rest is no signal"):
            Realization("t", 1.0, "network", Format(True, 16, 15), wide, (Network((finer, user), "z", "network"),))

    def test_files_that_say_it_wrongly_are_named(self) -> None:
        made = realize(Cascade(((0.5, 0.1, 0.2, -0.3, 0.4),)), 1.0, Choices(10, "coupled"))
        for damage, words in (
            (lambda node: node["terms"].__setitem__(0, ["input", 0]), "terms[0]"),
            (lambda node: node["terms"].__setitem__(0, ["input", 0.5, 3, "s4f2"]), "whole number"),
            (lambda node: node.__setitem__("to", "s99q3"), "number format"),
            (lambda node: node.__setitem__("sum", "s9f3"), "not known"),
        ):
            document = json.loads(json.dumps(realization_document(made)))
            damage(document["stages"][0]["nodes"][0])
            with self.assertRaises(CombeError) as caught:
                realization_from(document)
            self.assertIn(words, caught.exception.sentence())

    def test_choices_that_cannot_be_kept(self) -> None:
        low = design(LOW, "elliptic", 6).filter
        taps = Fir((0.25, 0.5, 0.25))
        for source, choices, words in (
            (low, Choices(16, "allpass-sum"), "no sum of two allpasses"),
            (low, Choices(16, scaling="l3"), "known are l1"),
            (low, Choices(16, ordering="best"), "known are given"),
            (low, Choices(16, coefficient_fraction=15), "doesn't fit"),
            (low, Choices(16, product_bits=12), "kept whole"),
            (low, Choices(16, guard_bits=60), "out of reach"),
            (low, Choices(16, state_bits=1), "state bits"),
            (taps, Choices(16, "folded", product_bits=12), "keeps its products whole"),
            (taps, Choices(16, product_bits=99), "out of reach"),
            (taps, Choices(16, "polyphase", branches=40), "branches"),
            (taps, Choices(16, coefficient_fraction=20), "doesn't fit"),
        ):
            with self.assertRaises(FormatError) as caught:
                realize(source, 1.0, choices)
            self.assertIn(words, caught.exception.sentence())


def with_node(stage: Network, **changes: object) -> Network:
    return replace(stage, nodes=(replace(stage.nodes[0], **changes), *stage.nodes[1:]))  # type: ignore[arg-type]


class ByHand(unittest.TestCase):
    def test_a_network_written_by_hand(self) -> None:
        """y = ⌊x/2 + y/2⌋ with its rest carried on: the step response is exact by hand."""
        one, half = Format(True, 2, 0), Format(True, 2, 1)
        entry = Format(True, 8, 0)
        terms = (Term("input", 0, 1, half), Term("y", 1, 1, half), Term("y", 1, 1, one, True))
        node = Node("y", terms, Format(True, 10, 1), entry, "floor", "saturate")
        made = Realization("hand", 1.0, "hand", entry, entry, (Network((node,), "y", "hand"),))
        # sums: 2.5, 2.5+1+.5=4, 2.5+2=4.5, 2.5+2+.5=5, 5, 5
        self.assertEqual(simulate(made, np.array([5, 5, 5, 5, 5, 5])).tolist(), [2, 4, 4, 5, 5, 5])
        last = Requantize(entry, entry, "floor", "wrap")
        self.assertEqual(simulate(replace(made, stages=(*made.stages, last)), np.array([5, 5])).tolist(), [2, 4])


if __name__ == "__main__":
    unittest.main()
