"""Half-bands of two allpasses, and any network between stuffing zeros and dropping samples: designed, rounded, run, and in every language."""

from __future__ import annotations

import itertools
import json
import random
import shutil
import sys
import tempfile
import unittest
from collections.abc import Sequence
from fractions import Fraction
from math import ceil, log10
from pathlib import Path
from unittest import mock

import mpmath
import numpy as np

import combe
from combe.analysis.bounds import bounds
from combe.analysis.cost import realized_cost
from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.analysis.measured import measured_noise
from combe.analysis.noise import predicted_noise
from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.rust import rust_package
from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.designing.file import design_document, design_from
from combe.designing.rates.chain import planned
from combe.designing.rates.half_bands import allpass_half_band
from combe.designing.rates.stages import RateStage
from combe.designing.task import DesignChoice
from combe.errors import CombeError, DesignError, FileError, FormatError
from combe.filters import Fir
from combe.project.demo import demo_project
from combe.proof.c import prove_c
from combe.proof.hdl import prove_hdl
from combe.proof.rust import proved
from combe.realization.fingerprint import realization_checksum
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format
from combe.realization.network import NamedTerm, Network, Node, needed_node_accumulator
from combe.realization.reading import realization_document, realization_from, stage_document
from combe.realization.stages import Realization, Stage
from combe.realization.term import INPUT, ONE, Term
from combe.requirement import Requirement
from combe.rounding.choices import Choices
from combe.rounding.half_bands import half_band
from combe.rounding.rates import fewest_bits_of_stages, rate_lines, realize_stages
from combe.running.simulate import ideal_run, simulate
from combe.values import replace
from tests import memory
from tests.independent import _network, in_parts, point, times, whole
from tests.rate_cases import DOWN, SANITIZERS, UP, asked, by_the_book, random_input
from tests.support import application_for, fewer_vectors, in_campaign, some
from tests.test_cli import InFolder, call

setUpModule = fewer_vectors

SIMULATORS = (("verilog", "iverilog"), ("vhdl", "ghdl"))


def random_network(source: random.Random, entry: Format) -> Network:
    """Sums of sums with any delays that a turn at the lower rate allows, rests fed back among them."""
    factor, goes_up = source.randint(2, 4), source.random() < 0.5
    nodes: dict[str, Node] = {}
    names = [f"n{k}" for k in range(source.randint(1, 4))]
    for name in (*names, "y"):
        is_out = name == "y" and goes_up
        result = Format(True, source.randint(6, 20), source.randint(0, 14))
        terms: list[NamedTerm] = []
        for _ in range(source.randint(1, 3)):
            signal = source.choice((INPUT, *names))
            known = signal == INPUT or (signal in nodes and signal != name)
            turns = source.randint(0 if known else 1, 2)
            spare = source.randrange(factor) if is_out or (signal == INPUT and not goes_up) else 0
            coefficient = Format(True, source.randint(3, 12), source.randint(0, 10))
            value = source.randint(coefficient.least, coefficient.most)
            terms.append(Term(signal, factor * turns + spare, value, coefficient))
        nodes[name] = Node(name, tuple(terms), result, result, source.choice(ROUNDINGS), source.choice(OVERFLOWS))
    return settled(
        Network(tuple(nodes.values()), "y", "drawn", *((factor, 1) if goes_up else (1, factor))), entry, source
    )


def settled(draft: Network, entry: Format, source: random.Random) -> Network:
    """Accumulators that hold every sum, and here and there a rest taken once more."""
    nodes = {node.name: node for node in draft.nodes}
    factor = max(draft.up, draft.down)

    def summed(name: str) -> None:
        node = nodes[name]
        points = [
            (entry if term.signal == INPUT else nodes[term.signal].accumulator if term.is_rest else nodes[term.signal].result).fraction
            + term.format.fraction
            for term in node.terms
        ]  # fmt: skip
        at = max(points)
        nodes[name] = replace(node, accumulator=Format(True, 2, at))
        nodes[name] = replace(nodes[name], accumulator=needed_node_accumulator(nodes[name], nodes, entry))

    for name in list(nodes):
        summed(name)
        if nodes[name].shift > 0 and source.random() < 0.3 and not (name == "y" and draft.up > 1):
            more = Term(name, factor, 1, ONE, is_rest=True)
            nodes[name] = replace(nodes[name], terms=(*nodes[name].terms, more))
            summed(name)
    return replace(draft, nodes=tuple(nodes.values()))


def drawn(source: random.Random, is_stable: bool = False) -> Realization:
    """One or two such networks in a row; of what grows without bound there is no filter to tell of."""
    while True:
        entry = Format(source.random() < 0.9, source.choice((8, 12, 16)), source.randint(0, 12))
        try:
            stages: list[Stage] = [random_network(source, entry)]
            if source.random() < 0.4:
                stages.append(random_network(source, stages[-1].result))
            made = Realization("drawn", 1.0, "direct", entry, stages[-1].result, tuple(stages))
            if is_stable:
                exact_filter(made)
            return made
        except CombeError:
            continue


def plainly(stages: Sequence[Stage], entry: Format, samples: list[int]) -> list[int]:
    """Each network in exact numbers at its higher rate, between zeros stuffed in and samples dropped; all else by the book."""
    signal, arriving = list(samples), entry
    for stage in stages:
        if isinstance(stage, Network):
            row = stage_document(stage)
            stuffed = list(itertools.chain.from_iterable([value, *[0] * (stage.up - 1)] for value in signal))
            exact = _network(row, [in_parts(value, arriving.fraction) for value in stuffed])
            at = point(next(node["to"] for node in row["nodes"] if node["name"] == row["output"]))
            signal = [whole(times(1, -at, value), "floor") for value in exact][:: stage.down]
        else:
            signal = by_the_book([stage], signal)
        arriving = stage.result
    return signal


def gain_of(parts: Sequence[dict[str, object]], hz: np.ndarray, rate: float) -> np.ndarray:
    """|H| of a design's parts at frequencies of the highest rate, by the formula of each kind."""
    works = rate
    for part in parts:
        works *= part["up"]  # type: ignore[operator]
    total = np.ones(len(hz), dtype=complex)
    now = rate
    for part in parts:
        up, down = int(part["up"]), int(part["down"])  # type: ignore[call-overload]
        z = np.exp(-2j * np.pi * hz / (now * up))
        if part["kind"] == "allpass":
            ways = [np.ones(len(hz), dtype=complex), z.copy()]
            for way, key in enumerate(("even", "odd")):
                for alpha in part[key]:  # type: ignore[attr-defined]
                    ways[way] *= (alpha + z**2) / (1 + alpha * z**2)
            total *= (ways[0] + ways[1]) / 2
        elif part["kind"] == "taps":
            taps = np.array(part["taps"])
            total *= (z[:, None] ** np.arange(len(taps))) @ taps / up
        else:
            length = max(up, down) * int(part["delay"])  # type: ignore[call-overload]
            total *= ((z[:, None] ** np.arange(length)).mean(axis=1)) ** part["order"]
        now *= up / down
    return np.abs(total)


class Coefficients(unittest.TestCase):
    def test_it_is_an_elliptic_half_band_of_the_least_order(self) -> None:
        """Equal ripples, as many as an elliptic filter has; and no fewer poles by the degree equation (Cauer; Orfanidis 2006)."""
        source = random.Random(3)
        for _ in range(25):
            edge, level = source.uniform(0.02, 0.245), source.uniform(-130, -25)
            even, odd = allpass_half_band(edge, level)
            poles = len(even) + len(odd)
            hz = np.linspace(0.5 - edge, 0.5, 40_001)
            parts = [{"kind": "allpass", "up": 1, "down": 2, "even": even, "odd": odd}]
            stop, passed = gain_of(parts, hz, 1.0), gain_of(parts, 0.5 - hz, 1.0)
            np.testing.assert_allclose(stop**2 + passed**2, 1, atol=1e-12)
            self.assertLessEqual(20 * log10(stop.max()), level + 1e-9)
            tops = [stop[0], *stop[1:-1][(stop[1:-1] > stop[:-2]) & (stop[1:-1] >= stop[2:])]]
            if stop.max() > 1e-7:
                self.assertEqual(len(tops), poles + 1)
                np.testing.assert_allclose(tops, stop.max(), rtol=1e-3)
            self.assertTrue(all(0 < alpha < 1 for alpha in (*even, *odd)))
            mpmath.mp.dps = 60
            k = mpmath.tan(mpmath.pi * edge) ** 2
            room = mpmath.mpf(10) ** (mpmath.mpf(level) / 10)
            k1 = room / (1 - room)

            def quarter(modulus: mpmath.mpf) -> mpmath.mpf:
                return mpmath.ellipk(modulus**2)

            def other(modulus: mpmath.mpf) -> mpmath.mpf:
                return mpmath.ellipk(1 - modulus**2)

            order = quarter(k) * other(k1) / (other(k) * quarter(k1))
            self.assertEqual(poles, max(ceil((order - 1) / 2 - 1e-9), 1), (edge, level))

    def test_what_cannot_be_had_is_refused(self) -> None:
        for edge, level in ((0.25, -60), (0.3, -20), (0.2499999, -150), (0.0, -60)):
            with self.assertRaises(DesignError):
                allpass_half_band(edge, level)


class Plans(unittest.TestCase):
    def checked(self, found: Design, brief: Requirement) -> None:
        """Passbands and what folds onto them on a grid, from the parts alone."""
        told = design_document(found)
        assert brief.rate is not None
        rate, works = brief.input_rate_hz, brief.sample_rate_hz
        band = brief.passbands[0]
        assert band.lower is not None
        hz = np.linspace(band.start_hz, band.stop_hz, 600)
        level = 20 * np.log10(gain_of(told["parts"], hz, rate))
        self.assertGreaterEqual(level.min(), band.lower.first_db - 1e-6)
        self.assertLessEqual(level.max(), band.upper.first_db + 1e-6)
        for spacing, limit in ((works / brief.rate.down, brief.rate.alias_db), (rate, brief.rate.image_db)):
            for k in range(1, int(works / 2 / spacing) + 2):
                for side in (hz + k * spacing, k * spacing - hz):
                    side = side[(side >= 0) & (side <= works / 2)]
                    if len(side) and limit is not None:
                        worst = 20 * log10(max(gain_of(told["parts"], side, rate).max(), 1e-12))
                        self.assertLessEqual(worst, limit + 1e-6, (found.size_words, k))

    def test_every_plan_keeps_every_limit_and_costs_less(self) -> None:
        for brief, plans in (
            (DOWN, ("iir", "iir2xiir2xiir2", "2x2xiir2", "iir2x2x2", "iir2x4", "cic2xiir2x2")),
            (UP, ("iir", "iir2xiir2", "2xiir2", "iir2x2")),
        ):
            for plan in some(plans, 4):
                found = planned(brief, plan)
                self.checked(found, brief)
                self.assertEqual(found.kind, "iir")
                operations = [
                    sum((cost.multiplies, cost.adds)) for cost in map(cost_of_design, (found, planned(brief)))
                ]
                if plan == "iir":
                    self.assertLess(operations[0], operations[1])
                    counted, now = 0.0, 1.0
                    for part in design_document(found)["parts"]:
                        poles = len(part["even"]) + len(part["odd"])
                        turns = now if part["up"] > 1 else now / 2
                        counted += turns * (3 * poles + (part["down"] > 1))
                        now *= part["up"] / part["down"]
                    self.assertAlmostEqual(operations[0], counted, 5)

    def test_random_briefs(self) -> None:
        source = random.Random(12)
        for _ in some(range(60), 5):
            up, down = source.choice(((1, 2), (1, 4), (1, 6), (1, 16), (2, 1), (4, 1), (6, 1), (1, 12)))
            rate, level = source.uniform(1e3, 1e6), source.uniform(-110, -30)
            half = min(rate, rate * up / down) / 2
            ripple = source.uniform(0.02, 1)
            brief = asked(rate, ((0, source.uniform(0.1, 0.9) * half, -ripple, ripple),), up=up, down=down,
                          alias_db=level, image_db=level)  # fmt: skip
            try:
                found = planned(brief, "iir")
            except DesignError as error:
                self.assertRegex(str(error), "no half-band|no factor of two|too sharp|taps")
                continue
            self.checked(found, brief)

    def test_files_come_back_and_wrong_ones_are_named(self) -> None:
        found = planned(DOWN, "iir2x2xiir2")
        told = json.loads(json.dumps(design_document(found)))
        self.assertEqual(design_from(told).stages, found.stages)
        self.assertEqual((told["kind"], told["plan"]), ("iir", "iir2x2xiir2"))
        for change, words in (
            ({"down": 4}, "by two"), ({"up": 2}, "by two"), ({"even": [1.0]}, "even"), ({"odd": "x"}, "odd"), ({"taps": [1]}, "taps"),
        ):  # fmt: skip
            wrong = json.loads(json.dumps(told))
            wrong["parts"][0] |= change
            with self.assertRaisesRegex(FileError, words):
                design_from(wrong)

    def test_any_coefficient_inside_the_circle_is_looked_at_or_named(self) -> None:
        for even, odd in (((-0.95,), (0.3,)), ((0.0,), ()), ((-0.2, -0.7), (-0.1,)), ((1e-30,), (0.5,))):
            stage = RateStage("allpass", 1, 2, even=even, odd=odd)
            taps = stage.prototype()
            hz = np.linspace(0, 0.5, 41)
            wanted = gain_of([{"kind": "allpass", "up": 1, "down": 2, "even": even, "odd": odd}], hz, 1.0)
            np.testing.assert_allclose(
                np.abs(np.exp(-2j * np.pi * np.outer(hz, np.arange(len(taps)))) @ taps), wanted, atol=1e-12
            )
        with self.assertRaisesRegex(DesignError, "rings too long"):
            RateStage("allpass", 1, 2, even=(0.999999999,)).prototype()

    def test_what_blocks_nothing_is_named(self) -> None:
        for plan in ("iir2", "iir"):
            brief = asked(48_000, ((0, 3000, -0.1, 0.1),), up=1, down=2)
            with self.assertRaises(DesignError):
                planned(brief, plan)

    def test_plans_that_cannot_be_built(self) -> None:
        for plan, words in (
            ("iir4x2", "iir2"), ("cic4xiir2", "droop"), ("iir2x2", "makes 4"), ("iirx2", "not a plan"), ("ciciir2x4", "not a plan"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DesignError, words):
                planned(DOWN, plan)
        with self.assertRaisesRegex(DesignError, "linear phase"):
            planned(replace(DOWN, phase="linear"), "iir")
        with self.assertRaisesRegex(DesignError, "one way"):
            planned(asked(48_000, ((0, 8000, -0.1, 0.1),), up=2, down=3, alias_db=-50, image_db=-50), "iir")
        with self.assertRaisesRegex(DesignError, "no other rate|changes no rate"):
            combe.design(demo_project().requirement, method="allpass-half-bands")


class Exactly(unittest.TestCase):
    def test_the_model_is_stuff_run_drop(self) -> None:
        source = random.Random(31)
        for index in some(range(400), 60):
            made = drawn(source)
            samples = random_input(source, made.input, source.randint(0, 50))
            wanted = plainly(made.stages, made.input, samples)
            with self.subTest(index=index):
                self.assertEqual([int(y) for y in simulate(made, np.array(samples, dtype=np.int64))], wanted)
                self.assertEqual(made.output_count(len(samples)), len(wanted))
                document = json.loads(json.dumps(realization_document(made)))
                self.assertEqual(realization_from(document).realization, made)

    def test_two_allpasses_by_their_own_equations(self) -> None:
        """Down: y[m] = (A₀ of x[2m] + A₁ of x[2m − 1])/2; up: each phase one of them; every product rounded once."""
        source = random.Random(8)
        for index in some(range(60), 12):
            goes_up = bool(index % 2)
            ways = [tuple(source.uniform(0, 0.97) for _ in range(source.randint(0, 3))) for _ in range(2)]
            stage = RateStage("allpass", *((2, 1) if goes_up else (1, 2)), even=ways[0] or (0.3,), odd=ways[1])
            choices = Choices(12, input="s12f11", output="s14f12", rounding=source.choice(ROUNDINGS))
            made = realize_stages(Design("given", _taps(stage), 1.0, stages=(stage,)), choices)
            network = made.stages[0]
            assert isinstance(network, Network)
            samples = random_input(source, made.input, 60)
            found = [int(y) for y in simulate(made, np.array(samples))]
            self.assertEqual(found, two_allpasses(network, samples, choices, len(stage.even), goes_up))

    def test_a_checksum_knows_the_rate(self) -> None:
        entry = Format(True, 8, 0)
        for goes_up in (False, True):
            node = Node("y", (Term(INPUT, 0, 1, ONE),), entry, entry, "floor", "wrap")
            sums = [
                realization_checksum(
                    Realization("n", 1.0, "direct", entry, entry, (Network((node,), "y", "f", *ratio),))
                )
                for ratio in (((2, 1), (4, 1)) if goes_up else ((1, 2), (1, 1)))
            ]
            self.assertNotEqual(*sums)

    def test_what_has_no_turn_at_the_lower_rate_is_refused(self) -> None:
        entry = Format(True, 8, 0)

        def network(up: int, down: int, inner: int, late: int, last: str = "a") -> Network:
            wide = Format(True, 12, 0)
            a = Node("a", (Term(INPUT, inner, 1, ONE),), wide, entry, "floor", "wrap")
            y = Node("y", (Term(last, late, 1, ONE),), wide, entry, "floor", "wrap")
            return Network((a, y), "y", "f", up, down)

        for stage, words in (
            (network(2, 1, 1, 0), "multiple of 2"), (network(1, 2, 0, 1), "multiple of 2"), (network(2, 2, 0, 0), "up or down"),
            (network(0, 2, 0, 0), "up or down"), (network(2, 1, 0, 2, "y"), "nothing else"), (network(1, 9999, 0, 0), "up or down"),
        ):  # fmt: skip
            with self.assertRaisesRegex(FormatError, words):
                Realization("n", 1.0, "direct", entry, entry, (stage,))
        for stage in (network(2, 1, 2, 1), network(1, 2, 1, 2), network(1, 3, 5, 3)):
            Realization("n", 1.0, "direct", entry, entry, (stage,))


def _taps(stage: RateStage) -> Fir:
    return Fir(tuple(stage.prototype().tolist()))


def two_allpasses(network: Network, samples: list[int], choices: Choices, evens: int, goes_up: bool) -> list[int]:
    """Written from the equations, in fractions; the α and the formats are read off the network."""
    from tests.independent import brought

    state = next((str(node.result) for node in network.nodes if node.name == "e0"), "")
    alphas: list[list[Fraction]] = [[], []]
    for way, mark in enumerate("eo"):
        for node in network.nodes:
            if node.name[0] == mark:
                term = node.terms[0]
                alphas[way].append(Fraction(term.coefficient) * Fraction(2) ** -term.format.fraction)
    assert len(alphas[0]) == evens
    pasts = [[[Fraction(0)] * 2 for _ in own] for own in alphas]
    unit = Fraction(2) ** -11

    def through(way: int, value: Fraction) -> Fraction:
        for alpha, past in zip(alphas[way], pasts[way]):
            result, _ = brought(alpha * (value - past[1]) + past[0], state, choices.rounding, choices.overflow)
            past[:] = [value, result]
            value = result
        return value

    found: list[Fraction] = []
    before = Fraction(0)
    for n, raw in enumerate(samples):
        x = raw * unit
        if goes_up:
            found += [through(0, x), through(1, x)]
        elif n % 2 == 0:
            found.append((through(0, x) + through(1, before)) / 2)
        before = x
    ends = [brought(value, "s14f12", choices.rounding, choices.overflow)[0] for value in found]
    return [int(value * 2**12) for value in ends]


class Arithmetic(unittest.TestCase):
    def test_noise_is_what_a_run_hears(self) -> None:
        for brief, plan in some(((DOWN, "iir"), (UP, "iir"), (DOWN, "iir2xiir2x2"), (UP, "2xiir2")), 2):
            for rounding in some(("nearest-even", "floor"), 2):
                choices = Choices(16, input="s16f15", output="s12f11", state_bits=15, rounding=rounding)
                made = realize_stages(planned(brief, plan), choices)
                told, heard = predicted_noise(made), measured_noise(made, level=0.1)
                self.assertAlmostEqual(
                    10 * log10(told.power), 10 * log10(heard.power), delta=0.25, msg=(plan, rounding)
                )
                self.assertAlmostEqual(told.offset, heard.offset, delta=0.05)

    def test_no_input_goes_beyond_a_bound_and_the_worst_comes_near(self) -> None:
        """The input that is largest where the impulse response has its sign, found from a run of an impulse."""
        for brief in (DOWN, UP):
            made = realize_stages(planned(brief, "iir"), Choices(16, input="s12f11", output="s24f20"))
            told = bounds(made)[-1]
            long = 3000
            exact = ideal_run(exact_filter(made), made, np.array([2047] + [0] * (long - 1)))
            up, down = made.ratio
            phases = [exact[phase::up] for phase in range(up)] if up > 1 else [exact]
            # Going down, an output meets every input: each of the first inputs answers with its own phase.
            answers = phases if up > 1 else [np.concatenate([
                ideal_run(exact_filter(made), made, np.array([0] * k + [2047] + [0] * (long - 1 - k)))[:, None] for k in range(down)
            ], axis=1)[:, ::-1].ravel()]  # fmt: skip
            worst = max(answers, key=lambda row: float(np.abs(row).sum()))
            signal = np.where(worst[::-1] >= 0, made.input.most, made.input.least)
            heard = np.asarray(simulate(made, signal.astype(np.int64)))
            self.assertLessEqual(int(heard.max()), told.most)
            self.assertGreaterEqual(int(heard.max()), 0.97 * told.most)
            self.assertTrue(all(bound.is_safe for bound in bounds(made)))

    def test_what_is_rounded_on_the_way_reaches_the_end(self) -> None:
        """Half a coarse step between two half-bands, times all |h| of the second, on top of what the input can cause."""
        entry, coarse, fine = Format(True, 12, 11), Format(True, 8, 5), Format(True, 30, 24)
        halves = [
            RateStage("allpass", 1, 2, even=(0.1,), odd=(0.55,)),
            RateStage("allpass", 1, 2, even=(0.2,), odd=(0.7,)),
        ]
        choices = Choices(16, input="s12f11", output="s30f24", state_bits=28)
        first = half_band(halves[0], [], entry, entry, coarse, choices)
        second = half_band(halves[1], [first], entry, coarse, fine, choices)
        made = Realization("two", 1.0, "direct", entry, fine, (first, second))
        told = bounds(made)[-1].most * fine.step
        alone = exact_filter(made).array  # type: ignore[union-attr]
        behind = halves[1].prototype()
        least = np.abs(alone).sum() * 2048 / 2048 + np.abs(behind).sum() * coarse.step / 2
        self.assertGreater(told, least - 0.003)
        self.assertLess(told, least + 0.003)

    def test_limits_cost_and_facts_are_of_the_integers(self) -> None:
        found = planned(DOWN, "iir")
        made = fewest_bits_of_stages(found, Choices(input="s16f15", output="s16f15"))
        self.assertGreaterEqual(min(line.margin for line in rate_lines(made, DOWN)), 0)
        bits = next(term.format.bits for node in made.stages[0].nodes for term in node.terms if term.format != ONE)  # type: ignore[union-attr]
        coarser = realize_stages(found, Choices(bits - 1, input="s16f15", output="s16f15"))
        self.assertLess(min(line.margin for line in rate_lines(coarser, DOWN)), 0)
        self.assertEqual(realized_cost(made).multiplies, cost_of_design(found).multiplies)
        said = " ".join(fact.sentence for fact in facts(made))
        self.assertIn("No input makes a value inside overflow", said)
        self.assertIn("no limit cycle comes out of a stage", said)

    def test_a_coefficient_rounded_to_one_is_named(self) -> None:
        stage = RateStage("allpass", 1, 2, even=(0.3,), odd=(0.9999,))
        with self.assertRaisesRegex(FormatError, "feeding errors back"):
            realize_stages(Design("given", _taps(stage), 1.0, stages=(stage,)), Choices(16, error_feedback=True))
        with self.assertRaisesRegex(FormatError, "rounded to 1"):
            realize_stages(Design("given", _taps(stage), 1.0, stages=(stage,)), Choices(6))


def in_c(case: unittest.TestCase, cases: Sequence[Realization]) -> str:
    """Each proved in C or C++ with sanitizers; the text of the last."""
    for index, made in enumerate(cases):
        package = c_package(made, "f", choices=CodeChoices(("c", "c++")[index % 2]))
        proof = prove_c(package, made, (), SANITIZERS)
        case.assertTrue(proof.holds, (index, made, proof.sentence()))
    return package.text(".hpp" if package.language == "c++" else ".c")


def in_floating_point(case: unittest.TestCase, cases: Sequence[Realization]) -> None:
    """Each within what rounding allows, which is little: of the last, a design, no more than some last digits."""
    for index, made in enumerate(cases):
        number = ("double", "single")[index // 2 % 2]
        choices = CodeChoices(("c", "c++")[index % 2], number=number, guard=index % 3 == 0)
        proof = prove_c(c_package(made, "f", choices=choices), made, (), SANITIZERS)
        case.assertTrue(proof.holds, (index, made, proof.sentence()))
    case.assertLess(proof.largest_error, 2e-6 if number == "single" else 1e-14)


def in_rust(case: unittest.TestCase, cases: Sequence[Realization]) -> None:
    """Each proved."""
    for index, made in enumerate(cases):
        proof = proved(rust_package(made, "f"), made, (), None, lambda _: None, lambda: False)
        case.assertTrue(proof.holds, (index, made, proof.sentence()))


def as_circuits(case: unittest.TestCase, cases: Sequence[Realization]) -> None:
    """In turn in both languages and with registers between so many adders."""
    for index, made in enumerate(cases):
        language, tool = SIMULATORS[index % 2]
        if shutil.which(tool) is None:
            continue
        choices = HardwareChoices("serial", pipeline=index // 2 % 3)
        proof = prove_hdl(hdl_package(made, language, "f", choices=choices), made, simulators=(tool,))
        case.assertTrue(proof.holds, (index, language, choices, made, proof.sentence()))


class InEveryLanguage(unittest.TestCase):
    def cases(self, seed: int, count: int, most: int) -> list[Realization]:
        source = random.Random(seed)
        found = [drawn(source, True) for _ in some(range(most), count)]
        designs = [planned(brief, "iir") for brief in (DOWN, UP)]
        return [*found, *(realize_stages(each, Choices(14, input="s14f13", output="s14f13")) for each in designs)]

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_c_under_sanitizers(self) -> None:
        text = in_c(self, self.cases(51, 4, 100))
        # States are added in 32 bits behind the shift, not in 64 before it.
        self.assertIn("int32_t more", text)

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_floating_point(self) -> None:
        in_floating_point(self, self.cases(54, 3, 60))

    @unittest.skipUnless(shutil.which("rustc"), "there is no compiler of Rust on this machine")
    def test_rust(self) -> None:
        in_rust(self, self.cases(52, 1, 60))

    def test_circuits_with_stalls_and_resets(self) -> None:
        """Latency and clocks are those told, which the shipped bench holds them to."""
        as_circuits(self, self.cases(53, 4, 150))

    def test_beside_taps_and_sums_in_a_row(self) -> None:
        for index, (brief, plan) in enumerate(
            some(((DOWN, "cic2xiir2x2"), (UP, "2xiir2"), (DOWN, "iir2x2x2"), (UP, "iir2x2")), 2)
        ):
            made = realize_stages(planned(brief, plan), Choices(14, input="s14f13", output="s14f13"))
            samples = random_input(random.Random(index), made.input, 300)
            self.assertEqual(
                [int(y) for y in simulate(made, np.array(samples))], plainly(made.stages, made.input, samples)
            )
            language, tool = SIMULATORS[index % 2]
            if shutil.which(tool):
                proof = prove_hdl(hdl_package(made, language, "f"), made, simulators=(tool,))
                self.assertTrue(proof.holds, (plan, proof.sentence()))

    def test_one_multiplier_goes_through_a_turn(self) -> None:
        """A product a pole pair and a few sums: no more clocks a sample than twice the products of a turn."""
        stage = planned(asked(48_000, ((0, 9000, -0.1, 0.1),), up=1, down=2, alias_db=-70), "iir")
        made = realize_stages(stage, Choices(16, input="s16f15", output="s16f15"))
        built = build_circuit(made, "f", HardwareChoices("serial", pipeline=0))
        self.assertEqual(built.count.multipliers, 1)
        poles = len(stage.stages[0].even) + len(stage.stages[0].odd)
        self.assertLessEqual(built.clocks, 2 * (3 * poles + 2) + 4)

    def test_what_is_not_written_is_named(self) -> None:
        made = realize_stages(planned(DOWN, "iir"), Choices(14))
        for words, make in (
            ("can't be replaced", lambda: c_package(made, "f", choices=CodeChoices(reloadable=True))),
            ("serial does", lambda: hdl_package(made, "verilog", "f", choices=HardwareChoices("parallel"))),
        ):
            with self.assertRaisesRegex(CombeError, words):
                make()
        entry = Format(True, 8, 0)
        node = Node("y", (Term(INPUT, 0, 1, ONE),), entry, entry, "floor", "wrap")
        far = Realization("n", 1.0, "direct", entry, entry, (Network((node,), "y", "f", 1, 40),))
        with self.assertRaisesRegex(CombeError, "factors to 16"):
            hdl_package(far, "verilog", "f")


class OnTheCommandLine(InFolder):
    def test_from_a_brief_to_code_and_back(self) -> None:
        from combe.requirement import requirement_document

        brief = self.put("r.json", json.dumps(requirement_document(DOWN)))
        design, made = self.folder / "d.json", self.folder / "p.json"
        status, out, said = call("design", brief, "--method", "allpass-half-bands", "--out", design)
        self.assertEqual(status, 0, said)
        self.assertIn("plan iir2xiir2xiir2", out)
        self.assertIn("the phase isn't linear", said)
        self.assertEqual(call("realize", design, "--coefficient-bits", "fewest", "--out", made)[0], 0)
        status, out, _ = call("examine", made)
        self.assertEqual(status, 0)
        self.assertIn("iir of order", out)
        self.assertRegex(out, r"cost: multiplies \d(\.\d+)?, ")
        self.assertIn("allpass-half-bands, iir2xiir2xiir2", call("contenders", brief)[1])
        self.assertIn("order", self.refused("design", brief, "--method", "allpass-half-bands", "--order", "5"))
        status, out, _ = call("deliver", made, "--to", self.folder / "c", "--language", "c", "--name", "f")
        text = (self.folder / "c" / "f.c").read_text() if status == 0 else ""
        self.assertIn("half-band, down by 2", text)


class InTheWindow(unittest.TestCase):
    def test_a_contender_where_phase_is_free(self) -> None:
        application = application_for(self)
        from combe.app.picture import settle
        from combe.app.session import Session
        from combe.app.settings import Settings
        from combe.app.window import MainWindow

        self.assertIsNotNone(application)
        faults: list[object] = []
        patched = mock.patch.object(sys, "excepthook", lambda *words: faults.append(words[:2]))
        patched.start()
        self.addCleanup(patched.stop)
        project = demo_project()
        memory.remember_all(self, project.requirement)
        session = Session(
            replace(project, requirement=DOWN, design=DesignChoice("allpass-half-bands"), arithmetic=Choices(16))
        )
        with tempfile.TemporaryDirectory() as place:
            window = MainWindow(session, Settings(path=Path(place, "settings.json")))
            window.show()
            session.start()
            settle(session)
            self.assertEqual(dict(session.results.troubles), {})
            assert session.results.ideal is not None
            self.assertEqual(session.results.ideal.design.size_words, "iir2xiir2xiir2")
            for tab in ("stages", "phase", "delay", "time", "widths"):
                window.plots.open_tab(tab)
                settle(session)
                self.assertFalse(window.plots.grab().isNull(), tab)
            window.plots.open_tab("stages")
            window.plots.current_page.set_mode("phases")
            settle(session)
            sheet = window.plots.current_page.sheet
            self.assertEqual(sheet.rows[0][0] if hasattr(sheet, "rows") else "stage 1, allpass 0", "stage 1, allpass 0")
            self.assertLessEqual(window.minimumSizeHint().width(), 1180)
            panel = window.arithmetic
            shown = {
                key for key in panel.fields | panel.boxes if panel.form.isRowVisible((panel.fields | panel.boxes)[key])
            }
            self.assertIn("state_bits", shown)
            self.assertEqual(shown & {"scaling", "ordering", "product_bits"}, set())
            self.assertEqual(faults, [])
            session.saved = session.project
            window.close()


@in_campaign
class Long(unittest.TestCase):
    def test_a_million_samples(self) -> None:
        made = realize_stages(planned(DOWN, "iir"), Choices(16, input="s16f15", output="s16f15"))
        samples = np.random.default_rng(1).integers(-32768, 32768, 1_000_000)
        whole = simulate(made, samples)
        self.assertEqual(
            [int(y) for y in whole[:2000]], plainly(made.stages, made.input, samples[:16_000].tolist())[:2000]
        )
        self.assertEqual(len(whole), made.output_count(1_000_000))


if __name__ == "__main__":
    unittest.main()
