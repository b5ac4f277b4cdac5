"""The sum of taps as generated C has it for four kinds of processor, each built and run on this one."""

from __future__ import annotations

import random
import subprocess
import tempfile
import unittest
from pathlib import Path

from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.values import replace
from tests.support import IS_CAMPAIGN, some

ACLE = """
/* What the instructions do, word by word, as their manual has it. */
#include <stdint.h>
#include <string.h>
typedef int32_t int16x2_t;
static inline int16_t lower(int16x2_t w) { int16_t h[2]; memcpy(h, &w, 4); return h[0]; }
static inline int16_t upper(int16x2_t w) { int16_t h[2]; memcpy(h, &w, 4); return h[1]; }
static inline int32_t __smlad(int16x2_t a, int16x2_t b, int32_t sum)
{
    return sum + (int32_t)lower(a) * lower(b) + (int32_t)upper(a) * upper(b);
}
static inline int64_t __smlald(int16x2_t a, int16x2_t b, int64_t sum)
{
    return sum + (int64_t)lower(a) * lower(b) + (int64_t)upper(a) * upper(b);
}
static inline int32_t __ssat(int32_t x, int bits)
{
    const int32_t most = (int32_t)((1u << (bits - 1)) - 1u);
    return x > most ? most : x < -most - 1 ? -most - 1 : x;
}
"""
KINDS = {
    "vectors": [], "plain": ["-U__SSE2__"], "short products": ["-U__SSE2__", "-D__ARM_ARCH_ISA_THUMB=1"],
    "dual": ["-U__SSE2__", "-D__ARM_FEATURE_SIMD32=1", "-D__ARM_FEATURE_SAT=1", "-I."],
}  # fmt: skip
STRICT = ["-std=c99", "-O1" if IS_CAMPAIGN else "-O0", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror",
          "-fsanitize=address,undefined", "-fno-sanitize-recover=all"]  # fmt: skip


def random_sum(source: random.Random) -> Realization:
    """Taps of any length, small or filling their bits, in front of a rounding of any kind."""
    count = source.choice((1, 2, 3, 7, 8, 9, 16, 31, 32, 33, 64, 100, 257, 300))
    bits, signed = source.choice((16, 16, source.randint(2, 18))), source.random() < 0.8
    entry = Format(signed, source.choice((8, 12, 15, 16, 16, 16, 17)), source.randint(0, 16))
    coefficient = Format(True, bits, source.randint(0, 16))
    reach = source.choice((1.0, 1.0, 0.3, 0.01))
    least, most = round(coefficient.least * reach), round(coefficient.most * reach)
    taps = [source.randint(least, most) for _ in range(count)]
    if source.random() < 0.3:
        taps = [source.choice((coefficient.least, coefficient.most)) for _ in range(count)]
    stage = TapSum(tuple(taps), coefficient, Format(True, 64, entry.fraction + coefficient.fraction))
    stage = replace(stage, accumulator=needed_accumulator(stage, entry))
    shift = source.randint(0, 20)
    target = Format(True, source.randint(4, 20), stage.accumulator.fraction - shift)
    rounding = source.choice(("nearest-even", "nearest-even", "nearest-up", "floor", "toward-zero"))
    after = Requantize(stage.accumulator, target, rounding, source.choice(("saturate", "saturate", "wrap")))
    return Realization("random", 1.0, "direct", entry, target, (stage, after))


class FourKinds(unittest.TestCase):
    def test_all_give_what_the_model_gives(self) -> None:
        """The package's own check, its vectors worst cases among them, in blocks of four lengths, with sanitizers."""
        source = random.Random(2)
        seen: set[str] = set()
        for index in range(60 if IS_CAMPAIGN else 3):
            made = random_sum(source)
            choices = CodeChoices(reloadable=source.random() < 0.2, unroll=source.choice((0, 0, 4, 16)))
            package = c_package(made, "sum", choices=choices)
            text = package.text(".c")
            seen |= {word for word in ("_lower_0", "_stops_0", "__smlad(", "__smlald(") if word in text}
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "arm_acle.h").write_text(ACLE, encoding="utf-8")
                for kind, flags in KINDS.items():
                    self.built_and_run(place, flags, (index, kind, made))
        self.assertEqual(seen, {"_lower_0", "_stops_0", "__smlad(", "__smlald("})

    def test_changes_of_rate_read_nothing_beyond_their_samples(self) -> None:
        """Several outputs together, of sums that fit 32 bits and of such that don't; what is read is under the sanitizers' eyes."""
        source = random.Random(3)
        seen: set[str] = set()
        for index in range(60 if IS_CAMPAIGN else 4):
            up, down = ((4, 1), (1, 8), (3, 1), (8, 1), (2, 1), (1, 2), (5, 1), (1, 5))[index % 8]
            is_long = (index + index // 8) % 2 == 0
            bits = 16 if is_long else 10
            coefficient, entry = Format(True, bits, bits - 1), Format(True, 16 if is_long else 12, 11)
            count = source.choice((7, 16, 33, 64, 100)) * max(1, up // 2)
            taps = tuple(
                source.choice((coefficient.most, source.randint(coefficient.least, coefficient.most)))
                for _ in range(count)
            )
            stage = TapSum(taps, coefficient, Format(True, 64, 11 + bits - 1), "direct", 1, up, down)
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            after = Requantize(stage.accumulator, Format(True, 16, 11), "nearest-even", "saturate")
            made = Realization("rates", 1.0, "direct", entry, after.target, (stage, after))
            package = c_package(made, "sum")
            text = package.text(".c")
            seen |= {word for word in ("_many_0", "__smlad(", "__smlald(t, a", "sum7 = __smlad(") if word in text}
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "arm_acle.h").write_text(ACLE, encoding="utf-8")
                for kind, flags in KINDS.items() if IS_CAMPAIGN else (("dual", KINDS["dual"]),):
                    self.built_and_run(place, flags, (index, kind, made))
        self.assertEqual(seen, {"_many_0", "__smlad(", "__smlald(t, a", "sum7 = __smlad("})

    def test_wide_unsigned_samples_times_few_bits(self) -> None:
        """Their products fit 32 bits, the samples' own type has no sign."""
        entry, coefficient = Format(False, 31, 22), Format(True, 2, -2)
        stage = TapSum((0, 0, -1, 1, 0, 0, 0, 0, 0, 1, 0, 0), coefficient, Format(True, 64, 20))
        stage = replace(stage, accumulator=needed_accumulator(stage, entry))
        after = Requantize(stage.accumulator, Format(False, 12, 6), "nearest-even", "saturate")
        made = Realization("wide", 1.0, "direct", entry, after.target, (stage, after))
        package = c_package(made, "sum")
        self.assertIn("_stops_0", package.text(".c"))
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            self.built_and_run(place, KINDS["short products"], made)

    def built_and_run(self, place: str, flags: list[str], case: object) -> None:
        for words in (["gcc", *STRICT, *flags, "-o", "check", "sum.c", "sum_check.c"], ["./check"]):
            done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
            self.assertEqual(done.returncode, 0, (case, (done.stdout + done.stderr)[:800]))

    def test_the_worst_input_of_each_run_of_products(self) -> None:
        """All taps at the format's ends, all samples at theirs: any sum that holds one product too many overflows."""
        entry = coefficient = Format(True, 16, 15)
        for count, spread in some(((40, 1), (520, 7), (300, 0), (300, 1), (300, 3)), 3):
            ends = (-32768, 32767) if spread else (32767, 32767)
            taps = tuple(ends[(k + 1) % 2] // (1 + k % max(spread, 1)) for k in range(count))
            stage = TapSum(taps, coefficient, Format(True, 64, 30))
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            target = Format(True, 32, 15)
            after = Requantize(stage.accumulator, target, "nearest-even", "saturate")
            package = c_package(Realization("worst", 1.0, "direct", entry, target, (stage, after)), "sum")
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                (Path(place) / "arm_acle.h").write_text(ACLE, encoding="utf-8")
                for kind, flags in KINDS.items():
                    self.built_and_run(place, flags, (count, spread, kind))


if __name__ == "__main__":
    unittest.main()
