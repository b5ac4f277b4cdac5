"""Changes of rate: stuffed, filtered and dropped by the book, and the same from the model, C, an emulated core and circuits."""

from __future__ import annotations

import contextlib
import itertools
import json
import random
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Sequence
from fractions import Fraction
from itertools import product
from math import ceil, log10, prod
from pathlib import Path
from typing import Any
from unittest import mock

import numpy as np

from combe.analysis.bounds import bounds
from combe.analysis.measured import Measured, measured_noise
from combe.analysis.noise import predicted_noise
from combe.delivery.c import c_package
from combe.delivery.c.rates import chunk_of
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.recipes import recipe_named
from combe.delivery.tables import integer_sets, real_sets, sets_text
from combe.designing.designed import Design
from combe.designing.equiripple.method import nearly_shortest
from combe.designing.estimates import estimated_taps
from combe.designing.file import design_document, design_from
from combe.designing.methods import design, design_task
from combe.designing.rates import making
from combe.designing.rates.chain import planned
from combe.designing.rates.plans import duties, plan_from, priced
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, DesignError, FormatError, RequirementError
from combe.filters import Fir
from combe.ledger import lines_of, meets
from combe.proof.c import prove_c
from combe.proof.cores import prove_on_target
from combe.proof.hdl import prove_hdl
from combe.proof.runners.compiled import Compiled
from combe.realization.cic import Cic
from combe.realization.formats import Format, narrowest_signed
from combe.realization.reading import realization_document, realization_from
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.requirement import Requirement, requirement_document, requirement_from
from combe.requirement.rates import prototype_requirement
from combe.rounding.choices import Choices
from combe.rounding.holding import stages_that_hold
from combe.rounding.movement import rounding_facts
from combe.rounding.rates import fewest_bits_of_stages, rate_lines, realize_stages
from combe.rounding.realize import realize
from combe.rounding.trade import trade
from combe.rounding.widths import design_chart
from combe.running.flow import BitTrueFlow
from combe.running.simulate import ideal_run, simulate
from combe.signals.noise_run import SIGNALS, listen
from combe.values import replace
from tests.independent import brought_parts, in_parts, times, whole
from tests.support import IS_CAMPAIGN, document, examples, fewer_vectors, in_campaign, some

setUpModule = fewer_vectors

SANITIZERS = ["-fsanitize=address,undefined", "-fno-sanitize-recover=all", *([] if IS_CAMPAIGN else ["-O0"])]


def by_the_book(stages: Sequence[Stage], samples: list[int]) -> list[int]:
    """Zeros stuffed in, every tap multiplied, all but every ``down``-th dropped: plain integers, stage after stage."""
    signal = list(samples)
    for stage in stages:
        if isinstance(stage, Requantize):
            given = [in_parts(x, stage.source.fraction) for x in signal]
            done = [brought_parts(x, str(stage.target), stage.rounding, stage.overflow)[0] for x in given]
            signal = [whole(times(1, -stage.target.fraction, value), "floor") for value in done]
            continue
        assert isinstance(stage, (TapSum, Cic))
        if isinstance(stage, Cic) and stage.discarded:
            signal = cut_on_the_way(stage, signal)
            continue
        taps = [1]
        if isinstance(stage, TapSum):
            taps = list(stage.coefficients)
        else:
            for _ in range(stage.order):
                box = [1] * (stage.factor * stage.delay)
                taps = [
                    sum(taps[i] * box[k - i] for i in range(len(taps)) if 0 <= k - i < len(box))
                    for k in range(len(taps) + len(box) - 1)
                ]
        stuffed = [0] * (len(signal) * stage.up)
        stuffed[:: stage.up] = signal
        count = ceil(Fraction(len(signal) * stage.up, stage.down))
        signal = [
            sum(c * stuffed[m * stage.down - i] for i, c in enumerate(taps) if 0 <= m * stage.down - i < len(stuffed))
            for m in range(count)
        ]
    return signal


def cut_on_the_way(stage: Cic, signal: list[int]) -> list[int]:
    """Integrators and combs that hold whole numbers of any size, what arrives at each divided and cut downwards."""
    for place, (now, before) in enumerate(zip(stage.discarded, (0, *stage.discarded))):
        if place == stage.order:
            signal = signal[:: stage.down]
        signal = [value // 2 ** (now - before) for value in signal]
        if place < stage.order:
            signal = list(itertools.accumulate(signal))
        else:
            signal = [value - (signal[k - stage.delay] if k >= stage.delay else 0) for k, value in enumerate(signal)]
    return [value * 2 ** stage.discarded[-1] for value in signal]


def dearer_than_plain(
    case: unittest.TestCase, briefs: Sequence[Requirement], least_bits: int = 0
) -> dict[tuple[int, int], float]:
    """By ratio, with sums of so many bits at least, how many instructions a multiply 64 designed taps of 16 bits take on a Cortex-M4, over
    those of a plain filter of as many."""
    plain = requirement_from(document(48_000, (0, 8000, -0.1, 0.1), (10_400, 24_000, -60)))
    cost = {}
    for brief in (plain, *briefs):
        up, down = (brief.rate.up, brief.rate.down) if brief.rate is not None else (1, 1)
        filter_ = design_task(Task(brief, brief.sample_rate_hz, DesignChoice("equiripple", 63)))
        made = realize_stages(filter_, Choices(16)) if brief.rate else realize(filter_.filter, 48_000, Choices(16))
        summed = made.stages[0]
        assert isinstance(summed, TapSum)
        case.assertGreaterEqual(summed.accumulator.bits, least_bits)
        proof = prove_on_target(c_package(made, "f"), made)
        case.assertTrue(proof.holds, proof.sentence())
        cost[up, down] = proof.instructions[256] / (64 / down)
    return {ratio: each / cost[1, 1] for ratio, each in cost.items()}


def random_taps(source: random.Random, entry: Format, up: int, down: int, longest: int = 40) -> TapSum:
    bits = source.randint(4, 18)
    coefficient = Format(True, bits, source.randint(0, 20))
    values = tuple(source.randint(coefficient.least, coefficient.most) for _ in range(source.randint(1, longest)))
    stage = TapSum(values, coefficient, Format(True, 64, entry.fraction + coefficient.fraction), "direct", 1, up, down)
    return replace(stage, accumulator=needed_accumulator(stage, entry))


def random_cic(source: random.Random, entry: Format, up: int, down: int) -> Cic:
    draft = Cic(source.randint(1, 4), up, down, source.randint(1, 2), Format(True, 2, entry.fraction))
    bits = narrowest_signed(*draft.span(entry))
    made = replace(draft, accumulator=Format(True, bits, entry.fraction))
    if down == 1 or source.random() < 0.5:
        return made
    most = source.randint(1, bits - 2)
    made = replace(made, discarded=tuple(sorted(source.randint(0, most) for _ in range(2 * made.order))))
    return replace(made, accumulator=Format(True, max(narrowest_signed(*made.span(entry)), bits), entry.fraction))


def rounded(source: random.Random, entry: Format, bits: int) -> Requantize:
    whole = max(2, min(bits, entry.bits - source.randint(0, 4)))
    target = Format(True, whole, entry.fraction - max(entry.bits - whole - source.randint(0, 3), 0))
    rounding = source.choice(("nearest-even", "nearest-even", "nearest-up", "floor", "toward-zero"))
    return Requantize(entry, target, rounding, source.choice(("saturate", "saturate", "wrap")))


def random_rates(source: random.Random, longest: int = 40, most: int = 7) -> Realization:
    """One to three stages, up before down, taps and sums in a row, each followed by a rounding."""
    entry = Format(source.random() < 0.9, source.choice((8, 12, 16, 16, 20)), source.randint(0, 15))
    ratios = source.choice(
        ("down", "up", "both", "down down", "up up", "up down", "same down", "up both", "both down", "up both down")
    ).split()
    stages: list[Stage] = []
    arriving = entry
    for word in ratios:
        up = source.randint(2, most) if word in ("up", "both") else 1
        down = source.randint(2, most) if word in ("down", "both") else 1
        stage: TapSum | Cic = (
            random_cic(source, arriving, up, down)
            if word in ("up", "down") and source.random() < 0.3
            else random_taps(source, arriving, up, down, longest)
        )
        stages += [stage, rounded(source, stage.result, 20)]
        arriving = stages[-1].result
    return Realization("random", 1.0, "direct", entry, arriving, tuple(stages))


def random_input(source: random.Random, entry: Format, count: int) -> list[int]:
    return [source.choice((entry.least, entry.most, source.randint(entry.least, entry.most))) for _ in range(count)]


class Exactly(unittest.TestCase):
    def test_the_model_is_stuff_filter_drop(self) -> None:
        source = random.Random(41)
        for index in range(examples(300)):
            made = random_rates(source)
            samples = random_input(source, made.input, source.randint(0, 90))
            wanted = by_the_book(made.stages, samples)
            found = simulate(made, np.array(samples, dtype=np.int64))
            self.assertEqual([int(x) for x in found], wanted, index)
            self.assertEqual(made.output_count(len(samples)), len(wanted))

    def test_pieces_of_any_length_give_the_same(self) -> None:
        source = random.Random(42)
        for _ in range(examples(60)):
            made = random_rates(source)
            samples = np.array(random_input(source, made.input, 200), dtype=np.int64)
            flow, pieces, at = BitTrueFlow(made), [], 0
            while at < len(samples):
                step = source.choice((0, 1, 2, 3, 7, 50))
                pieces += [int(x) for x in flow.take(samples[at : at + step])]
                at += step
            self.assertEqual(pieces, [int(x) for x in simulate(made, samples)])

    def test_files_keep_every_stage(self) -> None:
        source = random.Random(43)
        for _ in range(examples(20)):
            made = random_rates(source)
            text = json.dumps(realization_document(made))
            self.assertEqual(realization_from(json.loads(text)).realization, made)

    def test_large_sums_in_a_row_wrap_and_come_out_exact(self) -> None:
        """Order 6, ratio 256, delay 2, 24 bits: 78 bits of growth; a million samples at the format's ends, each output looked
        at held against all its weights at once."""
        entry = Format(True, 24, 23)
        draft = Cic(6, 1, 256, 2, Format(True, 2, 23))
        stage = replace(draft, accumulator=Format(True, narrowest_signed(*draft.span(entry)), 23))
        self.assertEqual(stage.accumulator.bits, 24 + 6 * 9)
        made = Realization("cic", 1.0, "direct", entry, stage.accumulator, (stage,))
        weights = [1]
        for _ in range(6):
            weights = [int(x) for x in np.convolve(np.array(weights, dtype=object), np.ones(512, dtype=object))]
        source = np.random.default_rng(5)
        count = 1_000_000 if examples(2) == 2 else 120_000
        signal = np.where(source.random(count) < 0.5, entry.least, entry.most)
        signal[: 6 * 512 + 1] = entry.least
        found = simulate(made, signal)
        self.assertEqual(len(found), ceil(count / 256))
        for m in [0, 1, 2, 3, 11, 12, 13, *source.integers(0, len(found), 60).tolist()]:
            wanted = sum(w * int(signal[m * 256 - i]) for i, w in enumerate(weights) if m * 256 - i >= 0)
            self.assertEqual(int(found[m]), wanted)
        self.assertEqual(int(found[12]), 512**6 * entry.least)

    def test_bad_stages_are_refused(self) -> None:
        entry = Format(True, 16, 15)
        taps = random_taps(random.Random(1), entry, 3, 2)
        for wrong in (
            replace(taps, up=0), replace(taps, down=5000), replace(taps, form="transposed"),
            replace(taps, accumulator=Format(True, 8, taps.accumulator.fraction)),
            Cic(3, 2, 2, 1, Format(True, 30, 15)), Cic(3, 1, 4, 1, Format(True, 20, 15)), Cic(3, 1, 4, 9, Format(True, 40, 15)),
            Cic(0, 1, 4, 1, Format(True, 40, 15)), Cic(2, 1, 4, 1, Format(True, 40, 14)),
        ):  # fmt: skip
            with self.assertRaises(FormatError):
                Realization("x", 1.0, "direct", entry, wrong.result, (wrong,))


class Code(unittest.TestCase):
    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_c_gives_the_same_in_blocks_of_any_length(self) -> None:
        source = random.Random(44)
        for index in range(examples(60) // 6):
            made = random_rates(source, 60, 9)
            language = source.choice(("c", "c", "c++"))
            is_fixed = any(isinstance(stage, Cic) for stage in made.stages)
            package = c_package(
                made, "f", choices=CodeChoices(language, reloadable=not is_fixed and source.random() < 0.3)
            )
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_floating_point_gives_the_same_but_for_rounding(self) -> None:
        """Against exact integers by the book, roundings left out; and the proof it comes with."""
        source, seen = random.Random(50), set()
        for index in range(examples(64) // 4):
            made = random_rates(source, 40, 5)
            number, language = source.choice(("single", "double")), source.choice(("c", "c", "c++"))
            choices = CodeChoices(language, number=number, reloadable=source.random() < 0.3)
            if any(isinstance(stage, Cic) for stage in made.stages):
                with self.assertRaisesRegex(CombeError, "modulo a power of two"):
                    c_package(made, "f", choices=choices)
                continue
            seen |= {(stage.up > 1, stage.down > 1) for stage in made.stages if isinstance(stage, TapSum)}
            package = c_package(made, "f", choices=choices)
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, made, proof.sentence()))
            sums = [stage for stage in made.stages if isinstance(stage, TapSum)]
            loud = [replace(stage, coefficients=tuple(map(abs, stage.coefficients))) for stage in sums]
            samples = random_input(source, made.input, 150)
            with Compiled(package, made, SANITIZERS) as program:
                program.build()
                heard = program.run(np.array(samples))
            bits = made.input.fraction + sum(stage.coefficient.fraction for stage in sums)
            wanted, most = by_the_book(sums, samples), max(by_the_book(loud, [abs(x) for x in samples]))
            self.assertEqual(len(heard), len(wanted))
            off = max(abs(Fraction(float(a)) - Fraction(b, 1 << bits)) for a, b in zip(heard, wanted))
            self.assertLess(off, Fraction(most, 1 << bits) * Fraction(200, 1 << (24 if number == "single" else 53)))
        self.assertGreater(len(seen), 1)

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_taps_at_one_rate_before_and_after_a_change_leave_nothing_unused(self) -> None:
        """Every layout of taps, with every warning an error."""
        entry, wide = Format(True, 16, 15), Format(True, 40, 30)
        narrow = Requantize(wide, entry, "nearest-even", "saturate")
        half = TapSum((1, 2, 1), Format(True, 16, 15), wide, down=2)
        for plain in some((
            TapSum((3, -1, 4, 1, -5, 9, 2, 6), Format(True, 16, 15), wide), TapSum((3, 1, 4, 1, 3), Format(True, 16, 15), wide, "folded"),
            TapSum((3, -1, 4, 1), Format(True, 16, 15), wide, "transposed"), TapSum((70_000, 1), Format(True, 20, 15), wide),
        ), 1):  # fmt: skip
            for stages in ((plain, narrow, half), (half, narrow, plain)):
                made = Realization("plain", 1.0, "direct", entry, wide, stages)
                proof = prove_c(c_package(made, "f"), made, (), SANITIZERS)
                self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_what_is_handed_on_stays_small(self) -> None:
        """However much a chain grows, no buffer between two stages holds more than a thousand words and a few."""
        for ratios in (
            [(8, 1), (8, 1), (2, 1)],
            [(16, 1), (1, 16), (4, 1)],
            [(3, 1), (5, 1), (1, 4)],
            [(100, 1), (1, 7)],
        ):
            count = chunk_of(ratios, 256)
            self.assertGreaterEqual(count, 1)
            for k in range(1, len(ratios)):
                self.assertLessEqual(count * prod(up / down for up, down in ratios[:k]), 1024)

    def test_room_for_outputs_is_told_and_new_taps_are_taken(self) -> None:
        """OUT_MAX is never passed, whatever came before; taps that are set count from the next sample on, unsafe ones don't."""
        entry = Format(True, 12, 11)
        taps = TapSum(tuple(range(-10, 11)), Format(True, 8, 7), Format(True, 30, 18), "direct", 1, 3, 4)
        made = Realization("x", 1.0, "direct", entry, Format(True, 30, 18), (taps,))
        made = replace(made, output=taps.accumulator)
        other = [(7 * k) % 23 - 11 for k in range(21)]
        changed = replace(made, stages=(replace(taps, coefficients=tuple(other)),))
        samples = random_input(random.Random(3), entry, 400)
        wanted = by_the_book(changed.stages, samples)
        program = f"""
#include "f.h"
#include <stdio.h>
static const f_in_t x[400] = {{ {", ".join(map(str, samples))} }};
static const int16_t taps[21] = {{ {", ".join(map(str, other))} }};
static const int16_t wild[21] = {{ {", ".join(["127"] * 21)} }};
int main(void)
{{
    static f_state_t s;
    static f_out_t y[400];
    size_t n = 0, k, w = 0;
    f_reset(&s);
    if (f_set_taps_0(&s, taps) != 0) return 9;
    for (k = 1; n < 400; k = k % 17 + 1) {{
        const size_t length = 400 - n < k ? 400 - n : k;
        const size_t made = f_run(&s, &x[n], &y[w], length);
        if (made > F_OUT_MAX(length)) return 8;
        n += length;
        w += made;
    }}
    for (k = 0; k < w; k++) printf("%ld\\n", (long)y[k]);
    return f_set_taps_0(&s, wild) == EXPECTED ? 0 : 7;
}}
"""
        package = c_package(made, "f", choices=CodeChoices(reloadable=True))
        per_phase = max(abs(sum(127 * 2048 for _ in range(p, 21, 3))) for p in range(3))
        fits = per_phase <= made.output.most
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            (Path(place) / "main.c").write_text(program.replace("EXPECTED", "0" if fits else "1"), encoding="utf-8")
            words = ["gcc", "-std=c99", "-Wall", "-Wextra", "-Werror", *SANITIZERS, "-o", "main", "main.c", "f.c"]
            subprocess.run(words, cwd=place, check=True)
            done = subprocess.run(["./main"], cwd=place, capture_output=True, text=True, check=False)
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual([int(word) for word in done.stdout.split()], wanted)

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulated core here")
    def test_an_emulated_core_gives_the_same(self) -> None:
        source = random.Random(45)
        for core, made in [
            (core, random_rates(source)) for core in some(("cortex-m4", "cortex-m0plus", "cortex-m4"), 2)
        ]:
            proof = prove_on_target(c_package(made, "f"), made, core)
            self.assertTrue(proof.holds, (core, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulated core here")
    def test_no_multiply_is_wasted_on_zeros(self) -> None:
        """64 taps down by 8: an eighth of what a plain filter takes, and little on top; up by 4: each tap once a sample."""
        entry = Format(True, 16, 15)
        plain = random_taps(random.Random(9), entry, 1, 1, 1)
        values = tuple((k * 997) % 4001 - 2000 for k in range(64))
        cost = {}
        for up, down in ((1, 1), (1, 8), (4, 1)):
            stage = replace(plain, coefficients=values, coefficient=Format(True, 13, 12), up=up, down=down,
                            accumulator=Format(True, 64, 27))  # fmt: skip
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            after = Requantize(stage.accumulator, entry, "nearest-even", "saturate")
            made = Realization("x", 1.0, "direct", entry, entry, (stage, after))
            proof = prove_on_target(c_package(made, "f"), made)
            self.assertTrue(proof.holds, proof.sentence())
            cost[up, down] = proof.instructions[256] / (64 / down)
        self.assertLess(cost[1, 8] / cost[1, 1], 1.32)
        self.assertLess(cost[4, 1] / cost[1, 1], 1.37)

    @unittest.skipUnless(shutil.which("qemu-system-arm") and shutil.which("arm-none-eabi-gcc"), "no emulated core here")
    def test_instructions_a_multiply_of_ordinary_filters(self) -> None:
        """64 designed taps of 16 bits beside a plain filter of as many: sums that nearly fill 32 bits up by 4, and a ratio."""
        up_by_four = asked(48_000, ((0, 18_000, -0.1, 0.1),), up=4, down=1, image_db=-60)
        ratio = asked(48_000, ((0, 10_000, -0.1, 0.1),), up=3, down=2, image_db=-60, alias_db=-60)
        cost = dearer_than_plain(self, (up_by_four, ratio))
        self.assertLess(cost[4, 1], 1.2)
        self.assertLess(cost[3, 2], 2.0)

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_outputs_of_the_same_phase_together(self) -> None:
        """Ratios whose outputs come back to each phase, and those that meet one phase only, over several blocks."""
        source, entry = random.Random(60), Format(True, 16, 15)
        for up, down in ((2, 4), (3, 2), (3, 6), (5, 4), (7, 60), (2, 65)) if IS_CAMPAIGN else ((2, 4), (3, 2)):
            stage = random_taps(source, entry, up, down, 40)
            after = Requantize(stage.accumulator, entry, "nearest-even", "saturate")
            made = Realization("x", 1.0, "direct", entry, entry, (stage, after))
            proof = prove_c(c_package(made, "f"), made, (), SANITIZERS)
            self.assertTrue(proof.holds, (up, down, proof.sentence()))

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_sums_start_with_half_a_step_where_that_fits(self) -> None:
        """The largest sum any input can cause, half a step below the end of 32 bits and right at it."""
        entry = Format(True, 16, 15)
        for room in (1, 4, 5, 6) if IS_CAMPAIGN else (4, 5):
            # The largest sum is 32768 times as much as all taps, a step four times as much.
            taps = (-32768, room - 32768, 0, 0, 0, 0, 0, 0)
            largest = 32768 * sum(-tap for tap in taps)
            for up, down in ((1, 1), (2, 1), (1, 2)) if IS_CAMPAIGN else ((2, 1),):
                spread = tuple(tap for tap in taps for _ in range(up))
                stage = TapSum(spread, Format(True, 16, 15), Format(True, 32, 30), up=up, down=down)
                after = Requantize(stage.accumulator, Format(True, 15, 13), "nearest-even", "saturate")
                made = Realization("x", 1.0, "direct", entry, after.target, (stage, after))
                text = c_package(made, "f").text(".c")
                self.assertEqual(
                    "half a step is in it already" in text, largest + (1 << 17) < 1 << 31, (room, up, down)
                )
                proof = prove_c(c_package(made, "f"), made, (), SANITIZERS)
                self.assertTrue(proof.holds, (room, up, down, proof.sentence()))

    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_raw_converter_codes_go_in_and_come_out(self) -> None:
        """What the model gives for what the codes stand for, each rounded and held as a converter has it; in C and as circuits."""
        source = random.Random(48)
        for index in range(examples(24) // 3):
            made = random_rates(source, 20, 5)
            if not made.input.signed or made.input.bits < 6 or made.output.bits > 30:
                continue
            converter = {
                "converter_in": f"{source.randint(5, made.input.bits)}",
                "converter_out": f"{source.randint(5, 16)}@{source.randint(0, 31)}",
            }
            language = source.choice(("c", "c++"))
            proof = prove_c(c_package(made, "f", choices=CodeChoices(language, **converter)), made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, made, converter, proof.sentence()))
            for word, tool in (("verilog", "iverilog"), ("vhdl", "ghdl")):
                if shutil.which(tool) and (IS_CAMPAIGN or index % 4 == (word == "vhdl")):
                    package = hdl_package(made, word, "f", choices=HardwareChoices(**converter))
                    circuit = prove_hdl(package, made, simulators=(tool,))
                    self.assertTrue(circuit.holds, (index, word, made, converter, circuit.sentence()))

    def test_what_does_not_go_with_rates_is_refused(self) -> None:
        made = next(made for made in map(random_rates, map(random.Random, range(99))) if len(made.stages) > 3)
        with self.assertRaises(FormatError):
            hdl_package(made, "verilog", "f", choices=HardwareChoices(architecture="transposed"))


class Circuits(unittest.TestCase):
    def test_circuits_give_the_same_with_stalls_and_resets(self) -> None:
        """Both languages, every simulator there is; latency and clocks are those told."""
        source = random.Random(46)
        tools = {"verilog": "iverilog", "vhdl": "ghdl"}
        for index in range(40 if IS_CAMPAIGN else 2):
            made = random_rates(source, 12, 4 if IS_CAMPAIGN else 3)
            for turn, (language, tool) in enumerate(tools.items()):
                if shutil.which(tool) is None or not (IS_CAMPAIGN or index % 2 == turn):
                    continue
                package = hdl_package(made, language, "f")
                proof = prove_hdl(package, made, simulators=(tool,))
                self.assertTrue(proof.holds, (index, language, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_taps_before_a_change_of_rate_take_no_clock_that_is_not_told(self) -> None:
        entry = Format(True, 8, 7)
        first = TapSum((3, -5, 7, 11, 2), Format(True, 5, 3), Format(True, 64, 10), "direct", 1, 1, 1)
        first = replace(first, accumulator=needed_accumulator(first, entry))
        second = TapSum((1, 2, 3), Format(True, 3, 2), Format(True, 64, 12), "direct", 1, 1, 2)
        second = replace(second, accumulator=needed_accumulator(second, first.result))
        made = Realization("before", 1.0, "direct", entry, second.result, (first, second))
        proof = prove_hdl(hdl_package(made, "verilog", "f"), made, simulators=("iverilog",))
        self.assertTrue(proof.holds, proof.sentence())

    def test_a_phase_that_no_output_meets_takes_no_room(self) -> None:
        """Up by 2 and down by 2 or 4: the taps of the other phase are nowhere in the text."""
        entry = Format(True, 12, 11)
        for down in (2, 4):
            taps = TapSum((101, 7, 103, 7, 107, 7, 109), Format(True, 9, 8), Format(True, 64, 19), "direct", 1, 2, down)
            taps = replace(taps, accumulator=needed_accumulator(taps, entry))
            made = Realization("even", 1.0, "direct", entry, taps.result, (taps,))
            text = hdl_package(made, "verilog", "f").files[0].text
            self.assertIn("9'sd109", text)
            self.assertNotIn("9'sd7;", text)

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_taps_at_full_speed_drop_outputs(self) -> None:
        entry = Format(True, 10, 9)
        for architecture in some(("parallel", "transposed", "folded", "multiplierless"), 2):
            stage = TapSum((3, -5, 7, 7, -5, 3), Format(True, 5, 4), Format(True, 20, 13), "direct", 1, 1, 3)
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            made = Realization("x", 1.0, "direct", entry, stage.accumulator, (stage,))
            package = hdl_package(made, "verilog", "f", choices=HardwareChoices(architecture=architecture))
            proof = prove_hdl(package, made, simulators=("iverilog",))
            self.assertTrue(proof.holds, (architecture, proof.sentence()))


def asked(rate: float, bands: tuple[tuple[Any, ...], ...], **change: Any) -> Requirement:
    return requirement_from(document(rate, *bands) | {"rate": change})


DOWN = asked(250_000, ((0, 12_000, -0.1, 0.1),), up=1, down=8, alias_db=-70)
UP = asked(31_250, ((0, 12_000, -0.1, 0.1),), up=4, down=1, image_db=-70)
SLOWER = asked(48_000, ((0, 8000, -0.1, 0.1),), up=5, down=12, alias_db=-70, image_db=-70)
FASTER = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=12, down=5, alias_db=-70, image_db=-70)
RATIO = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=3, down=2, image_db=-70, alias_db=-60)
STRICT = asked(250_000, ((0, 12_000, -0.1, 0.1), (100_000, 125_000, -90)), down=8, alias_db=-60, protect="everything")


def lands_on(hz: float, spacing: float, bands: list[tuple[float, float]]) -> bool:
    """Whether a frequency, moved by some multiple of a rate other than none, lies in a band of either sign."""
    for k in range(-200, 201):
        moved = abs(hz + k * spacing)
        if k and any(a <= moved <= b for a, b in bands):
            return True
    return False


class Asked(unittest.TestCase):
    def test_what_lands_on_a_passband_is_limited_and_nothing_else(self) -> None:
        """Each frequency of the prototype asked where sampling and stuffing bring it."""
        source = random.Random(47)
        for _ in range(examples(40)):
            up, down = source.choice(((1, 2), (1, 5), (1, 8), (4, 1), (3, 2), (5, 3), (2, 7), (160, 147)))
            rate = source.uniform(1e3, 1e6)
            half = min(rate, rate * up / down) / 2
            start = source.choice((0.0, source.uniform(0.05, 0.4) * half))
            stop = start + source.uniform(0.1, 0.5) * half
            brief = asked(rate, ((start, stop, -1, 1),), up=up, down=down, alias_db=-50, image_db=-60)
            found = design_of(brief).filter
            lines = lines_of(found, brief)
            names = {line.band for line in lines if line.band_index < 0}
            self.assertEqual(names, {f"{word} of b0" for word, n in (("aliases", down), ("images", up)) if n > 1})
            taps = np.array(found.taps)  # type: ignore[union-attr]
            grid = np.array([source.uniform(0, rate * up / 2) for _ in range(120)])
            gains = np.abs(np.exp(-2j * np.pi * np.outer(grid / (rate * up), np.arange(len(taps)))) @ taps)
            for line in lines:
                if line.band_index >= 0:
                    continue
                spacing = rate * up / down if line.band.startswith("aliases") else rate
                hit = [lands_on(hz, spacing, [(start, stop)]) for hz in grid]
                self.assertLessEqual(max(gains[hit], default=0.0), 10 ** (line.reached / 20) * (1 + 1e-6))
                assert line.at_hz is not None
                self.assertTrue(lands_on(line.at_hz, spacing, [(start - 1e-6 * rate, stop + 1e-6 * rate)]))
                here = abs(np.exp(-2j * np.pi * line.at_hz / (rate * up) * np.arange(len(taps))) @ taps)
                self.assertAlmostEqual(20 * log10(here), line.reached, 5)

    def test_files_come_back(self) -> None:
        for brief in (DOWN, UP, RATIO, STRICT):
            text = requirement_document(brief)
            self.assertEqual(requirement_from(text), brief)
            self.assertEqual(text["sample_rate_hz"], brief.input_rate_hz)
        self.assertEqual(requirement_document(RATIO)["sample_rate_hz"], 48_000)

    def test_contradictions_are_named(self) -> None:
        for bands, change in (
            (((0, 20_000, -1, 1),), {"down": 8, "alias_db": -60}), (((0, 1000, -1, 1),), {"up": 1, "down": 1}),
            (((0, 1000, -1, 1),), {"down": 2, "alias_db": 3}), (((0, 130_000, -1, 1),), {"up": 2, "image_db": -50}),
        ):  # fmt: skip
            with self.assertRaises(RequirementError):
                asked(250_000, bands, **change)
        for wrong in ({"down": 0}, {"up": 1.5}, {"down": 2, "protect": "some"}, {"sideways": 2}):
            with self.assertRaises(CombeError):
                asked(250_000, ((0, 1000, -1, 1),), **wrong)


def design_of(brief: Requirement, plan: str = "single") -> Design:
    return planned(brief, plan)


def counted(design: Design) -> float:
    """Multiplies and adds a sample of the input, from the taps themselves."""
    total, rate = 0.0, 1.0
    for stage in design.stages:
        rate_out = rate * stage.up / stage.down
        if stage.kind == "cic":
            total += stage.order * (rate + rate_out)
        else:
            used = [tap for tap in stage.taps if tap]
            if stage.up == 1:
                total += rate_out * (
                    len({(min(k, len(stage.taps) - 1 - k)) for k, tap in enumerate(stage.taps) if tap}) + len(used) - 1
                )
            else:
                total += rate / stage.down * (len(used) + max(len(used) - stage.up, 0))
        rate = rate_out
    return total


def looked_at(
    taps: Any, rate: float, pass_hz: float, stop_hz: float, ripple_db: float, level_db: float, spacing: float = 0.0
) -> bool:  # fmt: skip
    """Whether gains on a grid far closer than their ripples keep a lowpass's limits; with a ``spacing``, only around its multiples."""
    size = 1 << (32 * len(taps)).bit_length()
    db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(taps, size)), 1e-12))
    hz = np.arange(len(db)) * rate / size
    from_copy = np.abs(hz - spacing * np.round(hz / spacing)) if spacing else np.zeros(len(hz))
    blocked = db[(hz >= stop_hz) & (from_copy <= pass_hz)]
    return bool(np.max(np.abs(db[hz <= pass_hz])) < ripple_db + 1e-6 and np.max(blocked) < level_db + 1e-3)


class Designed(unittest.TestCase):
    def test_a_row_is_named_by_its_stages_and_one_of_taps_by_how_many(self) -> None:
        row, single = planned(DOWN, "4x2"), planned(DOWN, "single")
        self.assertEqual((row.size_words, row.summary()), ("4x2", f"{row.method}, stages 4x2"))
        self.assertEqual(single.size_words, f"{single.order + 1} taps")
        self.assertEqual(single.summary(), f"{single.method}, order {single.order}")

    def test_every_plan_keeps_every_limit(self) -> None:
        plans = ((DOWN, ("single", "2x2x2", "4x2", "2x4", "cic4x2", "cic2x2x2", "")), (UP, ("single", "2x2", "2xcic2", "")),
                 (RATIO, ("single", "")), (STRICT, ("single", "2x4", "")), (SLOWER, ("single", "5/6x2", "5/2x3x2", "5/12", "")),
                 (FASTER, ("single", "2x6/5", "3x4/5", "2x2x3/5", "")))  # fmt: skip
        for brief, names in plans:
            for plan in some(names, 3):
                found = planned(brief, plan)
                self.assertTrue(meets(lines_of(found.filter, brief)), (plan, found.notes))
                up, down = prod(s.up for s in found.stages), prod(s.down for s in found.stages)
                assert brief.rate is not None
                self.assertEqual((up, down), (brief.rate.up, brief.rate.down))

    def test_stages_in_a_row_are_their_prototype(self) -> None:
        """The parts as the file has them, run by the book in floating point, against the filter told."""
        for brief, plan in some(
            (
                (DOWN, "cic4x2"),
                (UP, "2xcic2"),
                (DOWN, "2x2x2"),
                (RATIO, "single"),
                (SLOWER, "5/6x2"),
                (FASTER, "2x6/5"),
            ),
            5,
        ):
            found = planned(brief, plan)
            text = design_document(found)
            signal = np.random.default_rng(1).standard_normal(400)
            whole = signal.copy()
            for part in text["parts"]:
                if part["kind"] == "cic":
                    box = np.ones(max(part["up"], part["down"]) * part["delay"])
                    taps = np.ones(1)
                    for _ in range(part["order"]):
                        taps = np.convolve(taps, box)
                    taps = taps / np.sum(taps) * part["up"]
                else:
                    taps = np.array(part["taps"])
                stuffed = np.zeros(len(whole) * part["up"])
                stuffed[:: part["up"]] = whole
                whole = np.convolve(stuffed, taps)[: len(stuffed)][:: part["down"]]
            made = realize_stages(found, Choices(16))
            again = ideal_run(design_from(text).filter, made, np.round(signal * 1000).astype(np.int64))
            whole2 = ideal_run(found.filter, made, np.round(signal * 1000).astype(np.int64))
            self.assertTrue(np.allclose(again, whole2, atol=1e-6))
            self.assertTrue(np.allclose(whole * 1000, whole2, atol=3), (plan, np.max(np.abs(whole * 1000 - whole2))))

    def test_the_search_loses_to_no_plan(self) -> None:
        """All plans of small ratios, each designed and counted by hand."""
        cases = ((DOWN, 8), (STRICT, 8), (asked(96_000, ((0, 3000, -0.2, 0.2),), down=12, alias_db=-80), 12))
        for brief, factor in cases if IS_CAMPAIGN else cases[1:2]:
            best = counted(planned(brief))
            plans = ["single"]
            for count in (2, 3):
                for factors in product(range(2, factor + 1), repeat=count):
                    if prod(factors) == factor:
                        plans += [
                            "x".join(map(str, factors)),
                            "x".join(["cic" + str(factors[0]), *map(str, factors[1:])]),
                        ]
            for plan in plans:
                try:
                    other = counted(planned(brief, plan))
                except CombeError:
                    continue
                self.assertLessEqual(best, other * 1.03, (plan, best, other))

    @in_campaign
    def test_of_a_ratio_either_way_may_be_cheapest(self) -> None:
        for brief, plans in some(
            (
                (SLOWER, ("single", "5/6x2", "5/4x3", "5/3x4", "5/2x6", "5/3x2x2", "5/2x3x2", "5/2x2x3")),
                (FASTER, ("single", "2x6/5", "3x4/5", "4x3/5", "6x2/5", "2x2x3/5", "2x3x2/5", "3x2x2/5")),
            ),
            1,
        ):
            best, each = counted(planned(brief)), {}
            for plan in plans:
                with contextlib.suppress(CombeError):
                    each[plan] = counted(planned(brief, plan))
            self.assertGreater(len(each), 4)
            self.assertLessEqual(best, 1.1 * min(each.values()), each)
        self.assertEqual(len(planned(SLOWER).stages), 2)

    def test_a_stage_longer_than_any_exchange_keeps_its_limits(self) -> None:
        """About 6500 taps, drawn from a short model: looked at from far closer than its ripples, nearly as short as estimated, and cheaper
        than every row of stages."""
        brief = asked(44_100, ((0, 20_000, -0.05, 0.05),), up=160, down=147, alias_db=-90, image_db=-90)
        found = planned(brief)
        self.assertEqual([(stage.up, stage.down) for stage in found.stages], [(160, 147)])
        assert isinstance(found.filter, Fir)
        taps = np.array(found.filter.taps)
        guess = estimated_taps(prototype_requirement(brief))[0]
        self.assertLess(len(taps), 1.03 * guess)
        self.assertTrue(np.array_equal(taps, taps[::-1]))
        self.assertTrue(looked_at(taps, 44_100 * 160, 20_000, 24_100, 0.05, -90))
        self.assertLess(counted(found), counted(planned(brief, "2x80/147")))
        named = design_task(Task(brief, brief.sample_rate_hz, DesignChoice("equiripple")))
        self.assertEqual(named.filter, found.filter)

    def test_long_stages_of_any_band_keep_their_limits(self) -> None:
        """Of random briefs, some of whose bands leave no room for a model that is stretched."""
        source = random.Random(58)
        lengths = []
        for _ in range(examples(40)):
            up = source.choice((3, 7, 16, 31, 64, 100, 147))
            rate, level, share = source.uniform(1e3, 1e6), -source.uniform(40, 120), source.uniform(0.5, 0.97)
            ripple, stop = source.choice((0.01, 0.05, 0.3)), (1 - share / 2) * rate
            brief = asked(rate, ((0, share * rate / 2, -ripple, ripple),), up=up, down=1, image_db=level)
            guess = estimated_taps(prototype_requirement(brief))[0]
            if not 850 < guess < 4000:
                continue
            taps = np.array(planned(brief, "single").stages[0].taps) / up
            lengths.append(len(taps) / guess)
            self.assertTrue(looked_at(taps, rate * up, share * rate / 2, stop, ripple, level, rate), brief)
        self.assertLess(max(lengths), 1.2)
        self.assertLess(float(np.median(lengths)), 1.06)

    def test_a_model_is_as_short_as_can_be(self) -> None:
        """One whose quarter of the rate lies in its transition: a half-band would count less by itself, and leave more behind."""
        brief = prototype_requirement(asked(1000, ((0, 495, -0.3, 0.3),), up=4, down=1, image_db=-70))
        found, least = making._long(brief).filter, nearly_shortest(brief).filter
        assert isinstance(found, Fir) and isinstance(least, Fir)
        self.assertLess(len(found.taps), 1.03 * len(least.taps))

    def test_a_stage_longer_than_a_file_holds_is_refused_at_once(self) -> None:
        brief = asked(44_100, ((0, 21_900, -0.05, 0.05),), up=160, down=147, alias_db=-120, image_db=-120)
        with self.assertRaisesRegex(DesignError, "would take about [0-9,]+ taps, and 20000 is the most"):
            planned(brief, "single")

    def test_a_price_is_near_what_is_counted(self) -> None:
        for brief, plan in ((SLOWER, "single"), (SLOWER, "5/6x2"), (FASTER, "2x6/5")):
            assert brief.rate is not None
            up, down = brief.rate.up, brief.rate.down
            price = up * priced(plan_from(plan, up, down), prototype_requirement(brief))
            self.assertTrue(0.7 < price / counted(planned(brief, plan)) < 1.5, (plan, price))

    def test_costs_are_those_of_the_structure(self) -> None:
        for brief, plan in (
            (DOWN, "single"),
            (DOWN, "2x2x2"),
            (UP, "2x2"),
            (RATIO, "single"),
            (DOWN, "cic4x2"),
            (SLOWER, "5/6x2"),
            (FASTER, "2x6/5"),
        ):
            found = planned(brief, plan)
            cost = design_document(found)["cost"]
            self.assertAlmostEqual(cost["multiplies"] + cost["adds"], counted(found), 4, plan)

    def test_a_long_stage_keeps_its_limits_with_hardly_more_taps(self) -> None:
        """Looked at from far closer than its ripples, and beside the shortest there is."""
        brief = asked(48_000, ((0, 23_000, -0.1, 0.1),), up=11, down=1, image_db=-60)
        whole = prototype_requirement(brief)
        found, least = nearly_shortest(whole).filter, design(whole, "equiripple").filter
        assert isinstance(found, Fir) and isinstance(least, Fir)
        self.assertGreater(len(least.taps), 300)
        self.assertLessEqual(len(found.taps), len(least.taps) * (1 + 1 / 150) + 2)
        size = 1 << 17
        db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(found.taps, size)), 1e-12))
        hz = np.arange(len(db)) * 48_000 * 11 / size
        self.assertLess(float(np.max(np.abs(db[hz <= 23_000]))), 0.1 + 1e-6)
        blocked = [(48_000 * k - 23_000, 48_000 * k + 23_000) for k in range(1, 6)]
        for start, stop in blocked:
            self.assertLess(float(np.max(db[(hz >= start) & (hz <= stop)])), -60 + 1e-4)

    def test_a_third_band_stage_is_taken_where_it_costs_less(self) -> None:
        """Down by 6 as 3x2: of the first stage every third tap from the middle is zero; where an ordinary one is as cheap, none is."""
        brief = asked(288e3, ((0, 20e3, -0.1, 0.1),), up=1, down=6, alias_db=-80)
        first = design_of(brief, "3x2").stages[0].taps
        middle = len(first) // 2
        zeros = [place for place, tap in enumerate(first) if not tap]
        self.assertEqual(zeros, [k for k in range(len(first)) if (k - middle) % 3 == 0 and k != middle])
        self.assertTrue(zeros)
        kept = (making._kept, making._all_but_last, making._last_stage)
        with mock.patch.object(making, "MOST_BANDS", 2):
            for each in kept:
                each.cache_clear()
            plain = design_of(brief, "3x2").stages[0]
        for each in kept:
            each.cache_clear()
        self.assertFalse([tap for tap in plain.taps if not tap])
        used = [len({abs(tap) for tap in taps if tap}) + sum(map(bool, taps)) - 1 for taps in (first, plain.taps)]
        self.assertLess(used[0], 0.95 * used[1])

    def test_of_stages_with_zeros_none_shorter_does(self) -> None:
        """Found in a few fits: every length between the shortest of all and it is tried here."""
        brief = prototype_requirement(asked(90e3, ((0, 9e3, -0.1, 0.1),), up=1, down=3, alias_db=-60))
        plan = plan_from("single", 1, 3)
        least = len(design(brief, "equiripple").filter.taps)  # type: ignore[union-attr]
        found = making._with_zeros(brief, plan, 3, least, np.inf)
        assert isinstance(found.filter, Fir)
        self.assertTrue(meets(lines_of(found.filter, brief)))
        self.assertTrue(
            all(
                not tap
                for k, tap in enumerate(found.filter.taps)
                if (k - len(found.filter.taps) // 2) % 3 == 0 and tap != max(found.filter.taps)
            )
        )
        for half in range(least // 2, len(found.filter.taps) // 2):
            if half % 3:
                choice = DesignChoice("nyquist", 2 * half, settings=(("bands", 3.0),))
                other = design_task(Task(brief, brief.sample_rate_hz, choice))
                self.assertFalse(meets(lines_of(other.filter, brief)), half)
        with self.assertRaisesRegex(DesignError, "don't pay"):
            making._with_zeros(brief, plan, 3, least, 1.0)

    def test_a_stage_blocks_what_no_later_one_can(self) -> None:
        """Point by point: what folds down to where it isn't blocked as deeply is the stage's own to block."""
        source = random.Random(49)
        for _ in range(examples(300)):
            factor, rate = source.choice((2, 2, 3, 3, 4, 5, 9)), source.uniform(1.0, 1e6)
            edges = sorted(source.uniform(0.02, 0.5) * rate for _ in range(6))
            levels = [source.choice((-30.0, -55.0, -80.0)) for _ in range(3)]
            pieces = tuple(zip(edges[::2], edges[1::2], levels))
            own = duties(pieces, rate, factor)

            def level(hz: float, stretches: tuple[tuple[float, float, float], ...]) -> float:
                return min((db for low, high, db in stretches if low <= hz <= high), default=0.0)

            for hz in (source.uniform(rate / factor / 2, rate / 2) for _ in range(60)):
                folded = abs(hz - round(hz * factor / rate) * rate / factor)
                wanted = level(hz, pieces)
                is_own = wanted < 0 and level(folded, pieces) > wanted
                self.assertEqual(level(hz, own), wanted if is_own else 0.0, (pieces, rate, factor, hz))

    def test_each_stage_has_a_table_of_its_own(self) -> None:
        found = design_of(DOWN, "cic2x2x2")
        made = realize_stages(found, Choices(16))
        sums = [(k, stage) for k, stage in enumerate((s for s in made.stages if not isinstance(s, Requantize)), 1)]
        wanted = {f"x_{k}": list(stage.coefficients) for k, stage in sums if isinstance(stage, TapSum)}
        self.assertEqual(list(wanted), ["x_2", "x_3"])
        text = sets_text(integer_sets(made), recipe_named("c-array"), "x")
        read = {
            name: [int(word) for word in body.replace("\n", " ").split(",")]
            for name, count, body in re.findall(r"int16_t (\w+)\[(\d+)\] = \{(.*?)\};", text, re.S)
        }
        self.assertEqual(read, wanted)
        whole = sets_text(real_sets(found), recipe_named("floats"), "x")
        taps = [tap for stage in found.stages for tap in stage.taps]
        self.assertEqual([float(word) for word in whole.split()], taps)
        half = sets_text(integer_sets(made), replace(recipe_named("lines"), half=True), "x").split()
        self.assertEqual(
            [int(word) for word in half], [v for own in wanted.values() for v in own[: (len(own) + 1) // 2]]
        )
        alone = sets_text(integer_sets(realize_stages(design_of(DOWN), Choices(16))), recipe_named("c-array"), "x")
        self.assertIn("int16_t x[", alone)

    def test_what_rounding_did_is_told_of_all_stages(self) -> None:
        """Digits of every stage's taps (those of 3·v xor v), and a zero's place at the rate where it stands."""
        for brief, plan, words in (
            (DOWN, "2x2x2", "of all stages"),
            (DOWN, "cic4x2", "the taps take"),
            (UP, "single", "the taps take"),
        ):
            found = design_of(brief, plan)
            made = realize_stages(found, Choices(16, input="s12f11", output="s16f15"))
            told = [fact.sentence for fact in rounding_facts(found.filter, made, brief, Choices(16))]
            taps = [abs(tap) for stage in made.stages if isinstance(stage, TapSum) for tap in stage.coefficients]
            digits = sum(f"{3 * tap ^ tap:b}".count("1") for tap in taps)
            self.assertTrue(any(words in one and f"take {digits} digits" in one for one in told), (told, digits))
            hz = float(next(one for one in told if "The zero" in one).split(", ")[1].split(" kHz")[0]) * 1e3
            assert isinstance(found.filter, Fir) and brief.rate is not None
            places = np.abs(np.angle(np.roots(found.filter.taps))) / (2 * np.pi) * brief.input_rate_hz * brief.rate.up
            self.assertLess(float(np.min(np.abs(places - hz))), 60.0, (plan, hz))  # told to four digits

    def test_better_integers_of_a_stage_are_told_by_its_own_limits(self) -> None:
        found = design_of(UP, "single")
        choices = Choices(15, input="s12f11", output="s16f15", better=True)
        made = realize_stages(found, choices)
        told = next(
            f.sentence for f in rounding_facts(found.filter, made, UP, choices) if "of the tolerances" in f.sentence
        )
        used = float(told.split("They use ")[1].split(" %")[0]) / 100
        rows = [(line.asked, line.reached, line.limit) for line in rate_lines(made, UP)]
        ripple = max(abs(10 ** (reached / 20) - 1) for _, reached, _ in rows[:2]) / (10 ** (0.1 / 20) - 1)
        image = max(10 ** ((reached - asked_db) / 20) for asked_db, reached, _ in rows[2:])
        self.assertAlmostEqual(used, max(ripple, image), delta=0.02)

    def test_maps_of_widths_are_of_the_stages(self) -> None:
        """Chart and trade: every stage rounded as it will be, looked at point by point through the stages' own integers."""
        for brief, plan in ((DOWN, "2x2x2"), (UP, "single"), (DOWN, "cic4x2")):
            found = design_of(brief, plan)
            choices = Choices(16, input="s12f11", output="s16f15")
            chart = {point.bits: point.margin_db for point in design_chart(found, brief, choices)}
            self.assertGreater(len(chart), 5)
            cells = list(trade(brief, DesignChoice(plan=plan), [12, 15], 0, choices, True, first=found))
            for bits in (12, 15):
                made = realize_stages(found, replace(choices, coefficient_bits=bits))
                whole, size = np.array([1.0]), 1 << 20
                for stage in made.stages:
                    if isinstance(stage, TapSum):
                        own = np.array(stage.coefficients) * stage.coefficient.step / stage.up
                    elif isinstance(stage, Cic):
                        box = np.ones(stage.factor * stage.delay)
                        own = np.array([1.0])
                        for _ in range(stage.order):
                            own = np.convolve(own, box)
                        own = own / (stage.up if stage.up > 1 else 1)
                    else:
                        continue
                    before = prod(
                        one.down for one in made.stages[: made.stages.index(stage)] if not isinstance(one, Requantize)
                    )
                    after = prod(
                        one.up for one in made.stages[made.stages.index(stage) + 1 :] if not isinstance(one, Requantize)
                    )
                    spread = np.zeros((len(own) - 1) * before * after + 1)
                    spread[:: before * after] = own
                    whole = np.convolve(whole, spread)
                assert brief.rate is not None
                db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(whole, size)), 1e-9))
                hz = np.arange(len(db)) * brief.input_rate_hz * brief.rate.up / size
                ripple = float(np.max(np.abs(db[hz <= 12_000])))
                low = min(brief.input_rate_hz, brief.output_rate_hz)
                blocked = [(low * k - 12_000, low * k + 12_000) for k in range(1, 5)]
                loud = max(float(np.max(db[(hz >= a) & (hz <= b)])) for a, b in blocked if a < hz[-1])
                margin = min(0.1 - ripple, -70 - loud)
                self.assertAlmostEqual(chart.get(bits, margin), margin, delta=0.02, msg=(plan, bits))
                cell = next(one for one in cells if one.bits == bits)
                self.assertAlmostEqual(cell.margin_db, margin, delta=0.02)
                self.assertEqual(
                    cell.taps, sum(len(one.coefficients) for one in made.stages if isinstance(one, TapSum))
                )
                self.assertAlmostEqual(cell.multiplies + cell.adds, counted(found), 3)

    def test_plans_that_cannot_be_are_refused(self) -> None:
        for plan in ("2x3", "cic8", "2xcic4", "x", "3x", "cic", "8x1", "0x8", "2x2x2x1"):
            with self.assertRaises(DesignError, msg=plan):
                planned(DOWN, plan)
        for plan in ("3x2", "3/2x1", "2x3/2", "x", "3/", "/2", "3/2/1", "cic3/2", "3x1/2", "0/2x3"):
            with self.assertRaises(DesignError, msg=plan):
                planned(RATIO, plan)
        with self.assertRaises(DesignError) as caught:
            planned(FASTER, "2x3/5")
        self.assertIn("stages such as 6x2/5", caught.exception.sentence())


class InIntegers(unittest.TestCase):
    def test_fewest_bits_keep_every_limit(self) -> None:
        for brief, plan in some(
            ((DOWN, "single"), (DOWN, "2x2x2"), (UP, "2x2"), (DOWN, "cic4x2"), (UP, "2xcic2"), (SLOWER, "5/6x2")), 4
        ):
            found = planned(brief, plan)
            made = fewest_bits_of_stages(found, Choices(16, better=IS_CAMPAIGN))
            taps = prototype_by_hand(made)
            grid = np.linspace(0, 0.5, 20_001)
            gains = np.abs(np.fft.rfft(taps, 40_000))
            for band in brief.passbands:
                inside = (grid * brief.sample_rate_hz >= band.start_hz) & (grid * brief.sample_rate_hz <= band.stop_hz)
                assert band.lower is not None
                self.assertLessEqual(np.max(gains[inside]), 10 ** (band.upper.first_db / 20) + 1e-9)
                self.assertGreaterEqual(np.min(gains[inside]), 10 ** (band.lower.first_db / 20) - 1e-9)

    def test_stages_hold_with_few_bits_or_that_is_said(self) -> None:
        """What is found for a width keeps every limit in integers of that width, where plain rounding doesn't."""
        self.assertFalse(meets(rate_lines(realize_stages(planned(DOWN), Choices(14)), DOWN)))
        task = Task(DOWN, DOWN.sample_rate_hz, DesignChoice("equiripple"))
        found = stages_that_hold(task, 14)
        made = realize_stages(found, Choices(14))
        gains = np.abs(np.fft.rfft(prototype_by_hand(made), 40_000))
        hz = np.linspace(0, DOWN.nyquist_hz, 20_001)
        self.assertLessEqual(np.max(np.abs(20 * np.log10(gains[hz <= 12_000]))), 0.1 + 1e-6)
        for k in range(1, 5):
            self.assertLessEqual(np.max(gains[np.abs(hz - k * 31_250) <= 12_000]), 10 ** (-70 / 20) + 1e-9)
        with self.assertRaisesRegex(DesignError, "11-bit"):
            stages_that_hold(task, 11)

    def test_noise_is_what_was_predicted(self) -> None:
        for brief, plan in some(((DOWN, "2x2x2"), (DOWN, "cic4x2"), (UP, "2x2"), (RATIO, "single")), 3):
            for bits, output in ((None, "s16f15"), (17, "s16f15")):
                made = realize_stages(planned(brief, plan), Choices(16, output=output, state_bits=bits))
                told, heard = predicted_noise(made).power, measured_noise(made, 1 << 17, 0.3).power
                self.assertLess(abs(told / heard - 1), 0.1, (plan, bits, told, heard))

    def test_few_outputs_are_listened_to_as_well(self) -> None:
        """Behind a large drop of rate a recording leaves a handful of outputs, or none that has settled."""
        for count in (0, 1, 2, 15, 16, 17, 31, 33):
            omega, power = Measured(np.ones(count), 1.0, ()).density()
            self.assertEqual((len(omega), bool(np.all(np.isfinite(power)))), (len(power), True))
        entry = Format(True, 12, 11)
        for down in (500, 1500, 4096):
            taps = TapSum((3, 5), Format(True, 4, 3), Format(True, 16, 14), "direct", 1, 1, down)
            rounding = Requantize(taps.result, Format(True, 8, 7), "nearest-even", "saturate")
            made = Realization("few", 250_000.0, "direct", entry, rounding.target, (taps, rounding))
            for name in SIGNALS:
                heard = listen(made, DOWN, name)
                self.assertEqual(len(heard.hz), len(heard.heard_db))
                self.assertTrue(heard.sentences())

    def test_no_input_leaves_the_bounds(self) -> None:
        """Each phase driven by the signs of its own taps, and random inputs at the ends of the range."""
        source = random.Random(48)
        for _ in range(examples(40)):
            made = random_rates(source, 20, 5)
            wide = replace_last(made)
            told = bounds(wide)[-1]
            for _ in range(6):
                samples = [source.choice((made.input.least, made.input.most)) for _ in range(150)]
                found = simulate(wide, np.array(samples, dtype=np.int64))
                if any(b.stage < len(wide.stages) - 1 and not b.is_safe for b in bounds(wide)):
                    continue
                self.assertGreaterEqual(int(min(found)), told.least)
                self.assertLessEqual(int(max(found)), told.most)


def replace_last(made: Realization) -> Realization:
    """The same with the last rounding so wide that it limits nothing."""
    last = made.stages[-1]
    assert isinstance(last, Requantize)
    wide = Format(True, 60, last.target.fraction)
    return replace(made, output=wide, stages=(*made.stages[:-1], replace(last, target=wide)))


def prototype_by_hand(made: Realization) -> np.ndarray:
    """All stages as one filter with a gain of 1, from the integers alone."""
    total = prod(stage.up for stage in made.stages if isinstance(stage, (TapSum, Cic)))
    whole, up, down = np.ones(1), 1, 1
    for stage in made.stages:
        if not isinstance(stage, (TapSum, Cic)):
            continue
        up *= stage.up
        if isinstance(stage, TapSum):
            own = np.array(stage.coefficients, dtype=float) * 2.0**-stage.coefficient.fraction / stage.up
        else:
            own = np.ones(1)
            for _ in range(stage.order):
                own = np.convolve(own, np.ones(stage.factor * stage.delay))
            own = own / stage.up
        stretch = total * down // up
        wide = np.zeros((len(own) - 1) * stretch + 1)
        wide[::stretch] = own
        whole = np.convolve(whole, wide)
        down *= stage.down
    return whole


class OnTheCommandLine(unittest.TestCase):
    def test_from_a_brief_to_proved_code(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "r.json").write_text(json.dumps(requirement_document(DOWN)), encoding="utf-8")
            (folder / "in.txt").write_text(
                "".join(f"{(k * 7919) % 60000 - 30000}\n" for k in range(1001)), encoding="utf-8"
            )

            def run(*words: str) -> subprocess.CompletedProcess[str]:
                return subprocess.run(
                    [sys.executable, "-m", "combe", *words], cwd=place, capture_output=True, text=True, check=False
                )

            self.assertEqual(run("design", "r.json", "--plan", "cic4x2", "--out", "d.json").returncode, 0)
            told = json.loads((folder / "d.json").read_text())
            self.assertEqual(told["sample_rate_hz"], 250_000)
            self.assertEqual([part["kind"] for part in told["parts"]], ["cic", "taps"])
            self.assertEqual([line["band"] for line in told["lines"]], ["b0", "b0", "aliases of b0"])
            self.assertEqual(run("realize", "d.json", "--coefficient-bits", "fewest", "--out", "p.json").returncode, 0)
            self.assertEqual(run("simulate", "p.json", "--input", "in.txt", "--output", "out.txt").returncode, 0)
            self.assertEqual(len((folder / "out.txt").read_text().split()), ceil(1001 / 8))
            self.assertEqual(
                run("simulate", "p.json", "--input", "in.txt", "--output", "i.txt", "--ideal").returncode, 0
            )
            pairs = zip((folder / "out.txt").read_text().split(), (folder / "i.txt").read_text().split())
            self.assertLess(max(abs(int(a) - float(b)) for a, b in pairs), 40)
            done = run("deliver", "p.json", "--language", "c", "--name", "calls", "--to", "c", "--prove")
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            self.assertIn("CALLS_OUT_MAX(count)", (folder / "c" / "calls.h").read_text())
            self.assertEqual(run("examine", "p.json", "--json").returncode, 0)
            refused = run("design", "r.json", "--plan", "2x3")
            self.assertEqual(refused.returncode, 2)
            self.assertEqual(refused.stderr.count("\n"), 1)


if __name__ == "__main__":
    unittest.main()
