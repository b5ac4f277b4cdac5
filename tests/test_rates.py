"""Changes of rate: stuffed, filtered and dropped by the book, and the same from the model, C, an emulated core and circuits."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import tempfile
import unittest
from fractions import Fraction
from math import ceil, prod
from pathlib import Path

import numpy as np

from combe.delivery.c import c_package
from combe.delivery.c.rates import chunk_of
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.errors import CombeError, FormatError
from combe.proof.c import prove_c
from combe.proof.cores import prove_on_target
from combe.proof.hdl import prove_hdl
from combe.proof.runners.compiled import Compiled
from combe.realization.cic import Cic
from combe.realization.formats import Format, narrowest_signed
from combe.realization.reading import realization_document, realization_from
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.running.flow import BitTrueFlow
from combe.running.simulate import simulate
from combe.values import replace
from tests.rate_cases import (
    SANITIZERS,
    asked,
    by_the_book,
    dearer_than_plain,
    random_input,
    random_rates,
    random_taps,
)
from tests.support import IS_CAMPAIGN, examples, fewer_vectors, some

setUpModule = fewer_vectors


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
