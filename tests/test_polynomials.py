"""Taps that follow polynomials of the place between two samples: designed, rounded, run, and in every language, their ratio set by hand too."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Callable
from fractions import Fraction
from math import ceil, floor, log10
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np
from scipy.optimize import linprog

import combe
from combe.analysis.bounds import bounds
from combe.analysis.cost import realized_cost
from combe.analysis.exact import exact_filter
from combe.analysis.measured import measured_noise
from combe.analysis.noise import predicted_noise
from combe.delivery.c import c_package
from combe.delivery.c.model import float_model
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.delivery.tables import integer_sets
from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.designing.file import design_document, design_from
from combe.designing.rates.chain import planned
from combe.designing.rates.phase_polynomials import _tops, best_kernel
from combe.designing.rates.plans import plan_from
from combe.designing.rates.stages import RateStage
from combe.designing.task import DesignChoice
from combe.errors import CombeError, DesignError, FileError, FormatError
from combe.filters import Fir
from combe.project.demo import demo_project
from combe.proof.c import prove_c
from combe.proof.hdl import prove_hdl
from combe.realization.fingerprint import realization_checksum
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format
from combe.realization.network import NamedTerm, Network, Node
from combe.realization.reading import realization_document, realization_from, stage_document
from combe.realization.stages import Realization
from combe.realization.term import INPUT, ONE, Term
from combe.requirement import Requirement
from combe.requirement.rates import prototype_requirement
from combe.requirement.reading import requirement_document
from combe.rounding.choices import Choices
from combe.rounding.network_parts import summed
from combe.rounding.polynomials import integer_branches
from combe.rounding.rates import fewest_bits_of_stages, rate_lines, realize_stages
from combe.running.flow import BitTrueFlow
from combe.running.phased import PhasedFlow, Steps
from combe.running.simulate import simulate
from combe.values import replace
from tests import memory
from tests.benches import from_verilog, from_vhdl
from tests.independent import brought, point
from tests.rate_cases import FASTER, RATIO, SANITIZERS, SLOWER, UP, asked, by_the_book, random_input
from tests.support import application_for, fewer_vectors, in_campaign, some
from tests.test_cli import InFolder, call
from tests.test_half_band_stages import SIMULATORS, as_circuits, in_c, in_floating_point, in_rust

setUpModule = fewer_vectors

MUSIC = asked(44_100, ((0, 18_000, -0.1, 0.1),), up=160, down=147, alias_db=-80, image_db=-80, protect="everything")
SMOOTH = asked(8000, ((0, 3400, -0.1, 0.1),), up=64, down=1, image_db=-60)


def branches_of(found: Design) -> tuple[RateStage, ...]:
    return tuple(stage for stage in found.stages if stage.kind == "farrow")


def written_out(part: dict[str, Any]) -> np.ndarray:
    """The taps of a part of a design file, by its definition in the documents, with a gain of 1 for a constant from in to out."""
    up = part["up"]
    if part["kind"] == "taps":
        return np.array(part["taps"]) / up
    taps = []
    for sample in range(len(part["branches"][0])):
        for phase in range(up):
            x = (2 * phase + 1 - up) / up
            taps.append(sum(row[sample] * x**power for power, row in enumerate(part["branches"])))
    return np.array(taps) / up


def gain_of(document: dict[str, Any], hz: np.ndarray, rate: float) -> np.ndarray:
    """Of all parts, each a sum of exponentials at the rate it works at."""
    whole = np.ones(len(hz), dtype=complex)
    for part in document["parts"]:
        works = rate * part["up"]
        taps = written_out(part)
        for some_hz in np.array_split(np.arange(len(hz)), max(len(hz) * len(taps) // 4_000_000, 1)):
            whole[some_hz] *= np.exp(-2j * np.pi * np.outer(hz[some_hz] / works, np.arange(len(taps)))) @ taps
        rate = works / part["down"]
    return np.abs(whole)


def by_its_phases(stage: Network, entry: Format, samples: list[int]) -> list[int]:
    """Output by output in fractions, from the file's own words: where it lies, then one sum after the other."""
    row = json.loads(json.dumps(stage_document(stage)))
    up, down, bits = row["up"], row["down"], point(row["phase"])
    unit = 2**31 // up
    found = []
    for m in range(ceil(Fraction(len(samples) * up, down))):
        newest, part = m * down // up, m * down % up
        place = part * unit + unit // 2
        x = Fraction(floor(Fraction(place, 2**31) * 2 ** (bits + 1)), 2**bits) - 1
        values: dict[str, Fraction] = {}
        for node in row["nodes"]:
            total = Fraction(0)
            for key, delay, coefficient, form in node["terms"]:
                factor = x if key.endswith(".phase") else Fraction(coefficient, 2 ** point(form))
                if key == "input":
                    at = newest - delay
                    total += factor * (Fraction(samples[at]) * Fraction(2) ** -entry.fraction if at >= 0 else 0)
                else:
                    total += factor * values[key.removesuffix(".phase")]
            values[node["name"]] = brought(total, node["to"], node["rounding"], node["overflow"])[0]
        found.append(int(values[row["output"]] * Fraction(2) ** stage.result.fraction))
    return found


def random_network(source: random.Random, entry: Format) -> Network:
    """Sums of samples and of sums before them, some turned by the phase."""
    bits = source.randint(2, 20)
    place = Format(True, bits, bits - 1)
    nodes: dict[str, Node] = {}
    names = [f"n{k}" for k in range(source.randint(0, 4))]
    for name in (*names, "y"):
        terms: list[NamedTerm] = []
        for _ in range(source.randint(1, 4)):
            signal = source.choice((INPUT, *nodes))
            if signal != INPUT and source.random() < 0.6:
                terms.append(Term(signal, 0, 1, place, is_turned=True))
                continue
            coefficient = Format(True, source.randint(3, 14), source.randint(0, 12))
            delay = source.randint(0, 6) if signal == INPUT else 0
            terms.append(Term(signal, delay, source.randint(coefficient.least, coefficient.most), coefficient))
        terms = list({(term.signal, term.delay, term.is_turned): term for term in terms}.values())
        result = Format(True, source.randint(6, 20), source.randint(0, 14))
        whole = None if name != "y" and source.random() < 0.2 else result
        nodes[name] = summed(
            name, tuple(terms), nodes, entry, whole, source.choice(ROUNDINGS), source.choice(OVERFLOWS)
        )
    up, down = source.randint(2, 9), source.randint(1, 12)
    return Network(tuple(nodes.values()), "y", "drawn", up, down, place)


def drawn(source: random.Random) -> Realization:
    while True:
        entry = Format(source.random() < 0.9, source.choice((8, 12, 16)), source.randint(0, 12))
        try:
            stage = random_network(source, entry)
            return Realization("drawn", 1.0, "direct", entry, stage.result, (stage,))
        except CombeError:
            continue


class Kernels(unittest.TestCase):
    def test_no_better_one_of_its_size_and_no_smaller_one_is_to_be_had(self) -> None:
        """A linear program of its own: other unknowns (plain powers, all samples), other frequencies. What it finds over some frequencies
        no kernel can beat over all."""
        for brief, samples, degree in some(((RATIO, 10, 3), (FASTER, 10, 4)), 2):
            limits = prototype_requirement(brief)
            up, works = brief.rate.up, limits.sample_rate_hz  # type: ignore[union-attr]
            found = best_kernel(limits, up, samples, degree)
            assert found is not None
            least = self.least_error(limits, up, works, samples, degree)
            self.assertGreater(found.error, least * 0.999)
            self.assertLess(found.error, least * 1.02)
            self.assertGreater(self.least_error(limits, up, works, samples, 1), 1)
            self.assertIsNone(best_kernel(limits, up, samples, 1))

    def least_error(self, limits: Requirement, up: int, works: float, samples: int, degree: int) -> float:
        rows, middles, rooms = [], [], []
        places = (2 * np.arange(up) + 1 - up) / up
        stretches = [
            (*piece[:3], band.lower.first_db if band.lower else None)
            for band in limits.bands
            for piece in band.upper.pieces()
        ]
        for start, stop, upper, lower in stretches:
            high = 10 ** (upper / 20)
            low = 10 ** (lower / 20) if lower is not None else -high
            for hz in np.linspace(start, stop, 12 * samples):
                turn = 2 * np.pi * hz / works
                late = np.arange(samples * up) - (samples * up - 1) / 2
                waves = np.cos(turn * late).reshape(samples, up) / up
                rows.append(np.concatenate([waves @ places**power for power in range(degree + 1)]))
                middles.append((high + low) / 2)
                rooms.append((high - low) / 2)
        matrix, middle, room = np.array(rows), np.array(middles), np.array(rooms)
        one = -np.ones((len(rows), 1))
        above = np.hstack([matrix / room[:, None], one])
        below = np.hstack([-matrix / room[:, None], one])
        done = linprog(
            np.append(np.zeros(matrix.shape[1]), 1.0), np.vstack([above, below]),
            np.concatenate([middle / room, -middle / room]), bounds=[(None, None)] * matrix.shape[1] + [(0, None)],
        )  # fmt: skip
        self.assertEqual(done.status, 0)
        return float(done.fun)

    def test_between_the_bands_nothing_rises_above_the_cap(self) -> None:
        """A band high up with free room below: without the cap the best kernel rises there by 20 and by 52 dB."""
        for low, level, up, down, samples in ((15_000, -60, 3, 2, 8), (18_000, -60, 4, 3, 10)):
            brief = asked(48_000, ((low, low + 2000, -0.1, 0.1),), up=up, down=down, image_db=level, alias_db=level)
            limits = prototype_requirement(brief)
            found = best_kernel(limits, up, samples, 4)
            assert found is not None
            part = {"kind": "farrow", "up": up, "down": down, "branches": found.branches}
            for start, stop in limits.transitions():
                hz = np.linspace(start, stop, 801)
                self.assertLessEqual(20 * log10(gain_of({"parts": [part]}, hz, 48_000).max()), 0.1 + 0.5 + 1e-3)

    def test_a_kernel_that_misses_by_a_few_in_a_hundred_is_none(self) -> None:
        """The level at which the best of its size uses 1.02 of the room, by the linear program of this test."""
        low, high = -110.0, -60.0
        for _ in range(14):
            level = (low + high) / 2
            brief = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=3, down=2, image_db=level, alias_db=level)
            limits = prototype_requirement(brief)
            error = self.least_error(limits, 3, limits.sample_rate_hz, 10, 3)
            low, high = (level, high) if error > 1.02 else (low, level)
        self.assertAlmostEqual(error, 1.02, delta=0.005)
        self.assertIsNone(best_kernel(limits, 3, 10, 3))
        easier = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=3, down=2, image_db=level + 1, alias_db=level + 1)
        self.assertIsNotNone(best_kernel(prototype_requirement(easier), 3, 10, 3))

    def test_a_straight_line_where_that_is_all_it_takes(self) -> None:
        """So narrow a band that joining two samples by a line is enough: one power, and hardly more than the two samples."""
        brief = asked(48_000, ((0, 400, -0.05, 0.05),), up=16, down=1, image_db=-70)
        (stage,) = planned(brief, "farrow16").stages
        self.assertEqual((len(stage.branches), len(stage.branches[0])), (2, 2))
        np.testing.assert_allclose(stage.branches[0], (0.5, 0.5), atol=2e-3)
        np.testing.assert_allclose(np.abs(stage.branches[1]), (0.5, 0.5), atol=2e-3)


class Plans(unittest.TestCase):
    def checked(self, found: Design, brief: Requirement) -> None:
        assert brief.rate is not None
        told = json.loads(json.dumps(design_document(found)))
        works, rate = brief.sample_rate_hz, brief.input_rate_hz
        (band,) = brief.passbands
        assert band.lower is not None
        hz = np.linspace(band.start_hz, band.stop_hz, 301)
        level = 20 * np.log10(gain_of(told, hz, rate))
        self.assertGreaterEqual(level.min(), band.lower.first_db - 1e-6)
        self.assertLessEqual(level.max(), band.upper.first_db + 1e-6)
        low = min(rate, works / brief.rate.down) / 2
        for spacing, limit in ((works / brief.rate.down, brief.rate.alias_db), (rate, brief.rate.image_db)):
            if limit is None or spacing == works:
                continue
            ends = [low + k * spacing / 400 for k in range(2400)] if brief.rate.protect == "everything" else []
            for k in range(1, min(int(works / 2 / spacing), 12) + 2):
                ends += [*(hz + k * spacing), *(k * spacing - hz)]
            there = np.array([end for end in ends if 0 <= end <= works / 2])
            if len(there):
                worst = 20 * log10(max(gain_of(told, there, rate).max(), 1e-12))
                self.assertLessEqual(worst, limit + 1e-6, found.size_words)

    def test_the_top_of_a_parabola_is_found_between_its_points(self) -> None:
        for top in (3.0, 3.2, 3.5, 3.8):
            off = 1.5 - 0.1 * (np.arange(8) - top) ** 2
            places, moved, height = _tops(off)
            np.testing.assert_allclose((places + moved)[0], top, atol=1e-12)
            np.testing.assert_allclose(height[0], 1.5, atol=1e-12)

    def test_every_plan_keeps_every_limit_with_far_fewer_coefficients(self) -> None:
        for brief, plan in some(
            ((MUSIC, "farrow"), (FASTER, "farrow12/5"), (SLOWER, "farrow"), (SMOOTH, "farrow"), (MUSIC, "2x2xfarrow40/147"),
             (SLOWER, "farrow5/3x4"), (UP, "2xfarrow2")), 3
        ):  # fmt: skip
            found = planned(brief, plan)
            self.checked(found, brief)
            self.assertEqual((found.kind, len(branches_of(found))), ("fir", 1))
            if plan != "farrow":
                self.assertEqual(found.size_words, plan)
            (stage,) = branches_of(found)
            # A sum of samples for each power, those on both sides of the middle taken together, then a product for each power.
            samples, powers = len(stage.branches[0]), len(stage.branches)
            middle = sum(1 for power in range(0, powers, 2)) * (samples % 2)
            each = samples // 2 * powers + middle + powers - 1
            self.assertAlmostEqual(stage.cost()[0], each * stage.up / stage.down)
        plain = planned(MUSIC)
        fewer, many = (
            sum(len(stage.coefficients) for stage in each.stages) for each in (planned(MUSIC, "farrow"), plain)
        )
        self.assertLess(5 * fewer, many)

    def test_linear_phase_to_the_last_digit(self) -> None:
        found = planned(replace(RATIO, phase="linear"), "farrow")
        assert isinstance(found.filter, Fir)
        self.assertEqual(found.filter.symmetry, 1)

    def test_random_briefs(self) -> None:
        source = random.Random(12)
        for _ in some(range(60), 2):
            up, down = source.choice(((3, 2), (2, 3), (7, 5), (10, 3), (12, 1), (25, 24), (32, 1), (6, 35), (160, 147)))
            rate, level = source.uniform(1e3, 1e6), source.uniform(-100, -30)
            half = min(rate, rate * up / down) / 2
            ripple = source.uniform(0.02, 1)
            brief = asked(rate, ((0, source.uniform(0.1, 0.85) * half, -ripple, ripple),), up=up, down=down, alias_db=level, image_db=level,
                          protect=source.choice(("passbands", "everything")))  # fmt: skip
            try:
                found = planned(brief, "farrow")
            except DesignError as error:
                self.assertRegex(str(error), "coefficients than can be searched|more than|taps|misses")
                continue
            self.checked(found, brief)

    def test_files_come_back_and_wrong_ones_are_named(self) -> None:
        found = planned(RATIO, "farrow")
        told = json.loads(json.dumps(design_document(found)))
        self.assertEqual(design_from(told).stages, found.stages)
        self.assertEqual((told["kind"], told["plan"]), ("fir", "farrow3/2"))
        for change, words in (
            ({"up": 1}, "2 or more"), ({"branches": []}, "branches"), ({"branches": [[1.0], [1.0, 2.0]]}, "differ in length"), ({"taps": [1]}, "taps"),
            ({"branches": [[1.0] * 4000], "up": 4096}, "too many"), ({"branches": [["x"]]}, "branches"),
        ):  # fmt: skip
            wrong = json.loads(json.dumps(told))
            wrong["parts"][0] |= change
            with self.assertRaisesRegex(FileError, words):
                design_from(wrong)

    def test_plans_that_cannot_be_built(self) -> None:
        eighth = asked(250_000, ((0, 12_000, -0.1, 0.1),), up=1, down=8, alias_db=-70)
        for brief, plan, words in (
            (eighth, "farrow", "only goes down"), (eighth, "farrow8", "only goes down"), (RATIO, "farrow2/3", "not a plan"), (RATIO, "2xfarrow3", "not a plan"),
            (RATIO, "farrowfarrow3/2", "not a plan"), (MUSIC, "farrow160/147x2", "not a plan"),
            (asked(48_000, ((0, 3000, -0.1, 0.1),), up=3, down=2), "farrow3/2", "nothing is to be blocked"),
            (asked(48_000, ((0, 23_900, -0.01, 0.01),), up=3, down=2, image_db=-120), "farrow", "searched"),
        ):  # fmt: skip
            with self.assertRaisesRegex(DesignError, words):
                planned(brief, plan)
        with self.assertRaisesRegex(DesignError, "no other rate|changes no rate"):
            combe.design(demo_project().requirement, method="farrow")
        with self.assertRaisesRegex(DesignError, "as short as can be"):
            combe.design(RATIO, method="farrow", order=5)
        self.assertEqual(plan_from("2x2xfarrow40/147", 160, 147).words, "2x2xfarrow40/147")

    def test_stages_that_others_lift_block_deeper(self) -> None:
        """Where one stage droops the other stands above it, and what the first lets through with it."""
        brief = asked(
            44_100, ((0, 18_000, -0.1, 0.1),), up=160, down=147, alias_db=-70, image_db=-70, protect="everything"
        )
        self.checked(planned(brief, "2x80/147"), brief)


class Exactly(unittest.TestCase):
    def test_the_model_is_one_sum_after_the_other_at_every_place(self) -> None:
        source = random.Random(31)
        for index in some(range(400), 60):
            made = drawn(source)
            stage = made.stages[0]
            assert isinstance(stage, Network)
            samples = random_input(source, made.input, source.randint(0, 50))
            wanted = by_its_phases(stage, made.input, samples)
            with self.subTest(index=index):
                self.assertEqual([int(y) for y in simulate(made, np.array(samples, dtype=np.int64))], wanted)
                self.assertEqual(made.output_count(len(samples)), len(wanted))
                document = json.loads(json.dumps(realization_document(made)))
                self.assertEqual(realization_from(document).realization, made)
                flow, pieces = BitTrueFlow(made), list[int]()
                rest = np.array(samples, dtype=np.int64)
                while len(rest):
                    count = source.randint(0, 9)
                    pieces += [int(y) for y in flow.take(rest[:count])]
                    rest = rest[count:]
                self.assertEqual(pieces, wanted)

    def test_wide_sums_are_whole(self) -> None:
        """Beyond 62 bits the model counts in Python's integers."""
        stage = RateStage("farrow", 3, 2, branches=((0.25, 0.5, 0.25), (-0.3, 0.0, 0.3), (0.1, -0.2, 0.1)))
        design = Design("given", Fir(tuple(stage.prototype().tolist())), 3.0, stages=(stage,))
        made = realize_stages(design, Choices(30, input="s30f29", output="s30f29", state_bits=40))
        samples = random_input(random.Random(2), made.input, 40)
        (network,) = made.stages
        assert isinstance(network, Network)
        self.assertGreater(max(node.accumulator.bits for node in network.nodes), 62)
        self.assertEqual(
            [int(y) for y in simulate(made, np.array(samples))], by_its_phases(network, made.input, samples)
        )

    def test_one_impulse_reads_the_branches(self) -> None:
        """Taps of the model, an impulse at a time, are the polynomials of the file at the places told, to what roundings do."""
        found = planned(RATIO, "farrow")
        made = realize_stages(found, Choices(18, input="s16f14", output="s24f22"))
        (stage,) = made.stages
        assert isinstance(stage, Network)
        heard = np.zeros(stage.up * len(found.stages[0].branches[0]))
        for late in range(stage.down):
            signal = np.zeros(40, dtype=np.int64)
            signal[late] = 1 << 14
            for m, y in enumerate(simulate(made, signal).tolist()):
                place = m * stage.down - late * stage.up
                if 0 <= place < len(heard):
                    heard[place] = y / 2**22
        np.testing.assert_allclose(heard, written_out(design_document(found)["parts"][0]) * stage.up, atol=6e-5)

    def test_a_checksum_knows_the_phase(self) -> None:
        entry, place = Format(True, 8, 4), Format(True, 8, 7)
        stages = []
        for bits in (8, 9):
            finer = Format(True, bits, bits - 1)
            y = Node("y", (Term(INPUT, 0, 1, ONE),), entry, entry, "floor", "wrap")
            stages.append(Network((y,), "y", "f", 3, 2, finer))
        stages += [Network(stages[0].nodes, "y", "f", 4, 2, place), Network(stages[0].nodes, "y", "f", 3, 1, place)]
        sums = {realization_checksum(Realization("n", 1.0, "direct", entry, entry, (each,))) for each in stages}
        self.assertEqual(len(sums), 4)

    def test_what_has_no_place_is_refused(self) -> None:
        entry, place = Format(True, 8, 0), Format(True, 8, 7)

        def network(*terms: NamedTerm, up: int = 3, down: int = 2, phase: Format | None = place) -> Network:
            a = Node("a", (Term(INPUT, 0, 1, ONE),), Format(True, 12, 0), entry, "floor", "wrap")
            y = Node(
                "y", terms or (Term("a", 0, 1, place, is_turned=True),), Format(True, 40, 14), entry, "floor", "wrap"
            )
            return Network((a, y), "y", "f", up, down, phase)

        for stage, words in (
            (network(up=1), "goes up"), (network(up=9999), "goes up"), (network(down=9999), "goes up"), (network(phase=Format(True, 8, 6)), "no phase"),
            (network(phase=Format(False, 8, 8)), "no phase"), (network(Term("a", 1, 1, ONE)), "another phase"),
            (network(Term("a", 0, 1, ONE, is_rest=True)), "another phase"), (network(Term("a", 0, 2, place, is_turned=True)), "its coefficient is the phase"),
            (network(Term("a", 0, 1, ONE, is_turned=True)), "its coefficient is the phase"), (network(phase=None, up=1), "without a phase"),
        ):  # fmt: skip
            with self.assertRaisesRegex(FormatError, words):
                Realization("n", 1.0, "direct", entry, entry, (stage,))
        Realization("n", 1.0, "direct", entry, entry, (network(Term(INPUT, 5, 1, ONE), up=2, down=1),))


class Arithmetic(unittest.TestCase):
    def test_noise_is_what_a_run_hears(self) -> None:
        for brief, plan in some(
            ((RATIO, "farrow"), (SMOOTH, "farrow"), (SLOWER, "farrow5/3x4"), (FASTER, "farrow")), 2
        ):
            for rounding in some(("nearest-even", "floor"), 2):
                choices = Choices(16, input="s16f15", output="s14f13", state_bits=12, rounding=rounding)
                made = realize_stages(planned(brief, plan), choices)
                told, heard = predicted_noise(made), measured_noise(made, level=0.1)
                self.assertAlmostEqual(10 * log10(told.power), 10 * log10(heard.power), delta=0.3, msg=(plan, rounding))
                self.assertAlmostEqual(told.offset, heard.offset, delta=0.06)

    def test_no_input_goes_beyond_a_bound_and_the_worst_comes_near(self) -> None:
        """At every phase the input that has the signs of its taps, read off the prototype."""
        for brief in some((RATIO, FASTER, SLOWER), 2):
            made = realize_stages(planned(brief, "farrow"), Choices(16, input="s12f11", output="s24f20"))
            told = bounds(made)[-1]
            self.assertTrue(all(bound.is_safe for bound in bounds(made)))
            taps = exact_filter(made).array  # type: ignore[union-attr]
            up, down = made.ratio
            most = 0
            for phase in range(up):
                own = taps[phase::up]
                m = next(m for m in range(len(own) * up, 10**6) if m * down % up == phase)
                newest = m * down // up
                signal = np.zeros(newest + 1, dtype=np.int64)
                signal[newest - len(own) + 1 :] = np.where(own[::-1] >= 0, made.input.most, made.input.least)
                most = max(most, int(simulate(made, signal)[m]))
            self.assertLessEqual(most, told.most)
            self.assertGreaterEqual(most, 0.999 * told.most)

    def test_limits_cost_and_facts_are_of_the_integers(self) -> None:
        found = planned(FASTER, "farrow")
        made = fewest_bits_of_stages(found, Choices(input="s16f15", output="s16f15"))
        self.assertGreaterEqual(min(line.margin for line in rate_lines(made, FASTER)), 0)
        own = next(stage for stage in made.stages if isinstance(stage, Network))
        assert own.phase is not None
        coarser = realize_stages(found, Choices(own.phase.bits - 1, input="s16f15", output="s16f15"))
        self.assertLess(min(line.margin for line in rate_lines(coarser, FASTER)), 0)
        self.assertAlmostEqual(realized_cost(made).multiplies, cost_of_design(found).multiplies, delta=2)
        (stage,) = branches_of(found)
        whole = integer_branches(own)
        self.assertEqual((len(whole), len(whole[0])), (len(stage.branches), len(stage.branches[0])))
        for power, row in enumerate(whole):
            scale = max(map(abs, stage.branches[power])) / max(map(abs, row))
            np.testing.assert_allclose(np.array(row) * scale, stage.branches[power], atol=2 * scale)

    def test_behind_sums_in_a_row_they_make_good_their_gain_and_tables_have_every_power(self) -> None:
        """Four sums of three samples, 81 times as large; then polynomials."""
        (own,) = branches_of(planned(RATIO, "farrow"))
        stages = (RateStage("cic", 3, 1, (), 4, 1), own)
        taps = np.convolve(np.repeat(stages[0].prototype(), 1), [1.0])
        wide = np.zeros((len(taps) - 1) * 3 + 1)
        wide[::3] = taps
        whole = Fir(tuple(np.convolve(wide, own.prototype()).tolist()))
        made = realize_stages(Design("given", whole, 9.0, stages=stages), Choices(16, input="s14f13", output="s16f15"))
        self.assertAlmostEqual(float(np.sum(exact_filter(made).array)), float(np.sum(whole.array)), delta=2e-4)  # type: ignore[union-attr]
        steady = np.asarray(simulate(made, np.full(60, 4096, dtype=np.int64)))[-30:] / 2**15
        np.testing.assert_allclose(steady, 0.5, atol=0.02)
        alone = realize_stages(planned(RATIO, "farrow"), Choices(14, input="s14f13"))
        (table,) = integer_sets(alone)
        self.assertEqual(len(table.coefficients), len(own.coefficients))
        np.testing.assert_allclose([each.real for each in table.coefficients], own.coefficients, atol=2**-13)

    def test_choices_that_cannot_be_kept_are_named(self) -> None:
        found = planned(RATIO, "farrow")
        for choices, words in (
            (Choices(16, error_feedback=1), "without feeding errors back"), (Choices(16, product_bits=12), "products whole"),
            (Choices(16, structure="lattice"), "lattice"),
        ):  # fmt: skip
            with self.assertRaisesRegex(FormatError, words):
                realize_stages(found, choices)


class InEveryLanguage(unittest.TestCase):
    def cases(self, seed: int, count: int, most: int) -> list[Realization]:
        source = random.Random(seed)
        found = [drawn(source) for _ in some(range(most), count)]
        designs = [(RATIO, "farrow"), (SLOWER, "farrow5/3x4")]
        return [
            *found,
            *(realize_stages(planned(*each), Choices(14, input="s14f13", output="s14f13")) for each in designs),
        ]

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_c_under_sanitizers(self) -> None:
        self.assertIn("set_step_", in_c(self, self.cases(51, 2, 100)))

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_floating_point(self) -> None:
        in_floating_point(self, self.cases(54, 3, 60))

    def test_what_floating_point_must_give_is_what_integers_give_but_for_their_roundings(self) -> None:
        """The model that floating-point code is held to, beside the run of the integers: as far apart as noise is predicted."""
        for brief, plan in some(((RATIO, "farrow"), (SLOWER, "farrow5/3x4"), (UP, "iir")), 2):
            made = realize_stages(planned(brief, plan), Choices(16, input="s16f15", output="s16f15"))
            samples = np.random.default_rng(3).integers(-12_000, 12_000, 3000)
            model = float_model(made, samples * made.input.step, CodeChoices(number="double"))
            apart = model.outputs / made.output.step - simulate(made, samples)
            self.assertAlmostEqual(
                10 * log10(float(np.mean(apart**2))), 10 * log10(predicted_noise(made).power), delta=0.4
            )

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_nothing_to_multiply_is_no_warning(self) -> None:
        entry, place = Format(True, 8, 0), Format(True, 8, 7)
        idle = Node("y", (Term(INPUT, 0, 0, ONE),), Format(True, 2, 0), entry, "floor", "wrap")
        unused = Node("a", (Term(INPUT, 3, 1, ONE),), entry, entry, "floor", "wrap")
        plain = Node("y", (Term(INPUT, 0, 1, ONE),), entry, entry, "floor", "wrap")
        for nodes in ((idle,), (unused, plain)):
            made = Realization("n", 1.0, "direct", entry, entry, (Network(nodes, "y", "f", 3, 2, place),))
            proof = prove_c(c_package(made, "f"), made, (), SANITIZERS)
            self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(shutil.which("rustc"), "there is no compiler of Rust on this machine")
    def test_rust(self) -> None:
        in_rust(self, self.cases(52, 1, 60))

    def test_circuits_with_stalls_and_resets(self) -> None:
        """Latency and clocks are those told, which the shipped bench holds them to."""
        as_circuits(self, self.cases(53, 2, 150))

    def test_beside_taps(self) -> None:
        for index, (brief, plan) in enumerate(some(((MUSIC, "farrow"), (SLOWER, "farrow5/3x4"), (UP, "2xfarrow2")), 2)):
            made = realize_stages(planned(brief, plan), Choices(14, input="s14f13", output="s14f13"))
            samples = random_input(random.Random(index), made.input, 60)
            signal, arriving = samples, made.input
            for stage in made.stages:
                signal = (
                    by_its_phases(stage, arriving, signal)
                    if isinstance(stage, Network)
                    else by_the_book([stage], signal)
                )
                arriving = stage.result
            self.assertEqual([int(y) for y in simulate(made, np.array(samples))], signal)

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_another_ratio_while_it_runs(self) -> None:
        """C and the model, told the same steps; and both at the very ratio of another network whose steps are whole."""
        made = realize_stages(planned(RATIO, "farrow"), Choices(14, input="s14f13", output="s14f13"))
        (stage,) = made.stages
        assert isinstance(stage, Network)
        samples = random_input(random.Random(5), made.input, 400)
        source = random.Random(6)
        for index in some(range(12), 3):
            whole, fraction = source.randint(0, 3), source.randrange(1 << 31)
            if Fraction(whole) + Fraction(fraction, 2**31) < Fraction(7, 8) * Fraction(2, 3):
                whole += 1
            steps = Steps(whole, fraction)
            wanted = PhasedFlow(stage, made.input, steps).take(np.array(samples)).tolist()
            self.assertEqual(wanted, by_steps(stage, made.input, samples, steps), (index, steps))
            self.assertEqual(self.run_c(made, samples, steps), ["0", *map(str, wanted)], (index, steps))
        # At most 8/7 as many outputs as three for two samples: 7/12 of a sample from one to the next.
        least = ceil(Fraction(7, 12) * 2**31)
        plain = [str(y) for y in simulate(made, np.array(samples)).tolist()]
        for refused in (Steps(0, 1 << 31), Steps(0, least - 1)):
            self.assertEqual(self.run_c(made, samples, refused), ["1", *plain])
        self.assertEqual(self.run_c(made, samples, Steps(0, least))[0], "0")

    def run_c(self, made: Realization, samples: list[int], steps: Steps) -> list[str]:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            c_package(made, "f").write(folder)
            values = ", ".join(map(str, samples))
            (folder / "main.c").write_text(
                '#include <stdio.h>\n#include "f.h"\n'
                f"static const f_in_t x[{len(samples)}] = {{ {values} }};\nstatic f_out_t y[F_OUT_MAX({len(samples)})];\nstatic f_state_t state;\n"
                "int main(void)\n{\n    size_t k, count = 0, done;\n    f_reset(&state);\n"
                f'    printf("%d\\n", f_set_step_0(&state, {steps.whole}u, {steps.fraction}u));\n'
                f"    for (done = 0; done < {len(samples)}u; done += 10u) {{\n        count += f_run(&state, &x[done], &y[count], 10u);\n    }}\n"
                '    for (k = 0; k < count; k++) {\n        printf("%ld\\n", (long)y[k]);\n    }\n    return 0;\n}\n'
            )
            command = ["gcc", "-std=c99", "-Wall", "-Wextra", "-Werror", *SANITIZERS, "f.c", "main.c", "-o", "main"]
            subprocess.run(command, cwd=folder, check=True, timeout=120)
            done = subprocess.run([folder / "main"], capture_output=True, text=True, check=True, timeout=60)
        return done.stdout.split()

    def test_another_ratio_while_a_circuit_runs(self) -> None:
        """Set before the first sample, and to its own ratio again with a reset; several outputs a sample, and samples without one."""
        made = realize_stages(planned(RATIO, "farrow"), Choices(12, input="s12f11", output="s12f11"))
        (stage,) = made.stages
        assert isinstance(stage, Network)
        choices = HardwareChoices("serial", reloadable=True)
        source = random.Random(9)
        samples = random_input(source, made.input, 30)
        for index, steps in enumerate(
            some(
                (
                    Steps(0, 1 << 29),
                    Steps(1, 12345),
                    Steps(0, 1932735283),
                    Steps(3, 0),
                    Steps(0, 600_000_000),
                    Steps(2, 2**31 - 1),
                ),
                4,
            )
        ):
            language, tool = SIMULATORS[index % 2]
            if shutil.which(tool) is None:
                continue
            package = hdl_package(made, language, "f", choices=choices)
            heard = (verilog_run if language == "verilog" else vhdl_run)(package, samples, steps)
            self.assertEqual(heard, by_steps(stage, made.input, samples, steps), (language, steps))
        package = hdl_package(made, "verilog", "f", choices=choices)
        if shutil.which("iverilog"):
            proof = prove_hdl(package, made, simulators=("iverilog",))
            self.assertTrue(proof.holds, proof.sentence())
        self.assertIn("step_part", package.text("f.md"))
        two = replace(made, stages=(stage, stage))
        with self.assertRaisesRegex(FormatError, "2 ratios"):
            hdl_package(two, "verilog", "f", choices=choices)

    def test_what_is_not_written_is_named(self) -> None:
        made = realize_stages(planned(RATIO, "farrow"), Choices(14))
        for words, make in (
            ("can't be replaced", lambda: c_package(made, "f", choices=CodeChoices(reloadable=True))),
            ("serial does", lambda: hdl_package(made, "verilog", "f", choices=HardwareChoices("parallel"))),
        ):
            with self.assertRaisesRegex(CombeError, words):
                make()
        wide = realize_stages(planned(RATIO, "farrow"), Choices(31, input="s30f29", output="s30f29"))
        with self.assertRaisesRegex(FormatError, "can't be written in C"):
            c_package(wide, "f")


def verilog_run(package: Package, samples: list[int], steps: Steps) -> list[int]:
    """Outputs of a circuit whose ratio is set before the first sample."""
    rows = "\n".join(f"    play({value});" for value in samples)
    text = f"""module bench;
  reg clk = 0, rst = 1, v = 0, w = 0; reg [7:0] a = 0; reg [30:0] b = 0; reg signed [11:0] x = 0; wire r, o; wire signed [11:0] y;
  f dut (.clk(clk), .rst(rst), .in_valid(v), .in_ready(r), .in_data(x), .out_valid(o), .out_data(y), .step_write(w), .step_whole(a), .step_part(b));
  always #5 clk = ~clk;
  always @(posedge clk) if (o && !rst) $display("%0d", y);
  task play(input integer value); begin v = 1; x = value; #1; while (!r) begin @(negedge clk); #1; end @(negedge clk); v = 0; end endtask
  initial begin
    repeat (3) @(negedge clk); rst = 0; w = 1; a = {steps.whole}; b = 31'd{steps.fraction}; @(negedge clk); w = 0; a = 0; b = 0;
{rows}
    repeat (900) @(negedge clk);
    $finish;
  end
endmodule
"""
    return from_verilog(package, text)


def vhdl_run(package: Package, samples: list[int], steps: Steps) -> list[int]:
    """The same in VHDL."""
    rows = "\n".join(f"    play({value});" for value in samples)
    text = f"""library ieee; use ieee.std_logic_1164.all; use ieee.numeric_std.all;
entity bench is end entity;
architecture played of bench is
  signal clk, v, w : std_logic := '0'; signal rst : std_logic := '1'; signal r, o : std_logic; signal is_over : boolean := false;
  signal a : std_logic_vector(7 downto 0) := (others => '0'); signal b : std_logic_vector(30 downto 0) := (others => '0');
  signal x : std_logic_vector(11 downto 0) := (others => '0'); signal y : std_logic_vector(11 downto 0);
begin
  dut : entity work.f port map (clk => clk, rst => rst, in_valid => v, in_ready => r, in_data => x, out_valid => o, out_data => y,
    step_write => w, step_whole => a, step_part => b);
  clk <= not clk after 5 ns when not is_over else '0';
  process (clk) begin
    if rising_edge(clk) and o = '1' and rst = '0' then
      report "out " & integer'image(to_integer(signed(y)));
    end if;
  end process;
  process
    procedure step is begin wait until falling_edge(clk); end procedure;
    procedure play(value : integer) is begin
      v <= '1'; x <= std_logic_vector(to_signed(value, 12)); wait for 1 ns;
      while r /= '1' loop step; wait for 1 ns; end loop;
      step; v <= '0';
    end procedure;
  begin
    for k in 1 to 3 loop step; end loop; rst <= '0';
    w <= '1'; a <= std_logic_vector(to_unsigned({steps.whole}, 8)); b <= std_logic_vector(to_unsigned({steps.fraction}, 31)); step;
    w <= '0'; a <= (others => '0'); b <= (others => '0');
{rows}
    for k in 1 to 900 loop step; end loop;
    is_over <= true; wait;
  end process;
end architecture;
"""
    return from_vhdl(package, text)


def by_steps(stage: Network, entry: Format, samples: list[int], steps: Steps) -> list[int]:
    """A ratio set by hand, output by output: the place counted in parts of 2^31, nothing added to it."""
    step = Fraction(steps.whole) + Fraction(steps.fraction, 2**31)
    assert stage.phase is not None
    bits, found, at = stage.phase.fraction, list[int](), Fraction(0)
    while at < len(samples):
        newest = floor(at)
        phase = floor((at - newest) * 2 ** (bits + 1)) - 2**bits
        fixed = replace(stage.at_phase(phase), up=1, down=1)
        alone = Realization("at", 1.0, "direct", entry, stage.result, (fixed,))
        first = max(newest - 20, 0)
        found.append(int(simulate(alone, np.array(samples[first : newest + 1]))[-1]))
        at += step
    return found


class OnTheCommandLine(InFolder):
    def test_from_a_brief_to_code_and_back(self) -> None:
        brief = self.put("r.json", json.dumps(requirement_document(RATIO)))
        design, made = self.folder / "d.json", self.folder / "p.json"
        status, out, said = call("design", brief, "--method", "farrow", "--out", design)
        self.assertEqual(status, 0, said)
        self.assertIn("plan farrow3/2", out)
        self.assertRegex(said, r"polynomials of degree \d+ over \d+ samples, \d+ coefficients for \d+ taps")
        self.assertEqual(call("realize", design, "--coefficient-bits", "18", "--out", made)[0], 0)
        self.assertEqual(call("examine", made)[0], 0)
        self.assertIn("farrow, farrow3/2", call("contenders", brief)[1])
        self.assertIn("order", self.refused("design", brief, "--method", "farrow", "--order", "5"))
        self.assertEqual(call("deliver", made, "--to", self.folder / "c", "--language", "c", "--name", "f")[0], 0)
        self.assertIn("f_set_step_0", (self.folder / "c" / "f.h").read_text())


class InTheWindow(unittest.TestCase):
    def opened(self, requirement: Requirement, choice: DesignChoice) -> tuple[Any, Any, Callable[[], None]]:
        self.application = application_for(self)
        from combe.app.picture import settle
        from combe.app.session import Session
        from combe.app.settings import Settings
        from combe.app.window import MainWindow

        self.assertIsNotNone(self.application)
        faults: list[object] = []
        patched = mock.patch.object(sys, "excepthook", lambda *words: faults.append(words[:2]))
        patched.start()
        self.addCleanup(patched.stop)
        self.addCleanup(lambda: self.assertEqual(faults, []))
        project = demo_project()
        memory.remember_all(self, project.requirement)
        session = Session(replace(project, requirement=requirement, design=choice, arithmetic=Choices(14)))
        place = tempfile.TemporaryDirectory()
        self.addCleanup(place.cleanup)
        window = MainWindow(session, Settings(path=Path(place.name, "settings.json")))
        window.show()
        session.start()
        settle(session)

        def close() -> None:
            session.saved = session.project
            window.close()

        self.addCleanup(close)
        return session, window, lambda: settle(session)

    def test_its_boxes_and_its_table(self) -> None:
        session, window, wait = self.opened(RATIO, DesignChoice("farrow"))
        self.assertEqual(dict(session.results.troubles), {})
        for tab in ("stages", "phase", "time", "widths", "measures"):
            window.plots.open_tab(tab)
            wait()
            self.assertFalse(window.plots.grab().isNull(), tab)
        window.plots.open_tab("stages")
        window.resize(1280, 800)
        wait()
        # Its tab makes fourteen: they stand closer, and in one line.
        self.assertEqual(len({button.y() for button in window.plots.buttons.values() if button.isVisible()}), 1)
        page = window.plots.current_page
        self.assertIn("polynomials, degree 2, 9 samples, 14 bits", page.row.boxes.accessibleName())
        page.set_mode("phases")
        wait()
        self.assertIn("power 0", [row[0] for row in page.sheet.table.rows])
        self.assertLessEqual(window.minimumSizeHint().width(), 1180)

    def test_a_row_of_stages_is_one_contender_and_taken_as_a_plan(self) -> None:
        session, window, wait = self.opened(SLOWER, DesignChoice("equiripple", plan="cheapest"))
        rows = [contender for contender, _ in window.contenders.rows if contender.method == "stages-in-a-row"]
        self.assertEqual([contender.design.size_words for contender in rows], [session.results.ideal.design.size_words])
        window.contenders.picked.emit(DesignChoice("kaiser"))
        wait()
        window.contenders._on_picked(
            next(each for each, _ in window.contenders.rows if each.method == "stages-in-a-row")
        )
        wait()
        # The race's own is the cheapest there is, the one that stood there before a plan by its words.
        self.assertEqual(session.project.design.method, "equiripple")
        self.assertIn(session.project.design.plan, ("cheapest", rows[0].design.size_words))
        self.assertGreater(len(session.results.ideal.design.stages), 1)


@in_campaign
class Long(unittest.TestCase):
    def test_a_hundred_thousand_samples(self) -> None:
        made = realize_stages(planned(RATIO, "farrow"), Choices(16, input="s16f15", output="s16f15"))
        samples = np.random.default_rng(1).integers(-32768, 32768, 100_000)
        (stage,) = made.stages
        assert isinstance(stage, Network)
        whole = simulate(made, samples)
        self.assertEqual(
            [int(y) for y in whole[:3000]], by_its_phases(stage, made.input, samples[:2000].tolist())[:3000]
        )
        self.assertEqual(len(whole), made.output_count(100_000))


if __name__ == "__main__":
    unittest.main()
