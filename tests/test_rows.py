"""Sums of 64 bits in rows of instructions: identical on an emulated core whatever the ratio, built by GCC however it is told to."""

from __future__ import annotations

import random
import shutil
import subprocess
import tempfile
import unittest
from collections import Counter

from combe.delivery.c import c_package
from combe.delivery.c.assembly import REACH, together_down, together_up
from combe.delivery.code_choices import CodeChoices
from combe.delivery.package import Package
from combe.proof.cores import prove_on_target
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.values import replace
from tests.rate_cases import asked, dearer_than_plain
from tests.support import some

HAS_ARM = shutil.which("arm-none-eabi-gcc") is not None and shutil.which("qemu-system-arm") is not None


def changing(source: random.Random, up: int, down: int, longest: int) -> Realization:
    """Taps of 16 bits whose sums take more than 32, some with zeros at every ``up``-th or ``down``-th place but one."""
    entry = Format(*source.choice(((True, 16, 15), (True, 16, 12), (False, 15, 15), (True, 13, 12))))
    count = source.randint(longest // 2, longest)
    values = [source.randint(-32768, 32767) for _ in range(count)]
    bands = max(up, down)
    if source.random() < 0.3:
        middle = count // 2
        values = [0 if k != middle and (k - middle) % bands == 0 else value for k, value in enumerate(values)]
    if source.random() < 0.5:
        values[: 2 * bands] = [value // 64 for value in values[: 2 * bands]]
        values[-2 * bands :] = [value // 64 for value in values[-2 * bands :]]
    stage = TapSum(tuple(values), Format(True, 16, 15), Format(True, 64, 15 + entry.fraction), "direct", 1, up, down)
    stage = replace(stage, accumulator=needed_accumulator(stage, entry))
    rounding = source.choice(("nearest-even", "nearest-even", "nearest-up", "floor", "toward-zero"))
    target = replace(entry, fraction=entry.fraction - source.randint(0, 3))
    after = Requantize(stage.accumulator, target, rounding, source.choice(("saturate", "saturate", "wrap")))
    return Realization("x", 1.0, "direct", entry, target, (stage, after))


def kind(package: Package) -> str:
    """What a text's rows are like; empty where it has none."""
    text = package.text(".c")
    if "__asm__(\n" not in text:
        return ""
    is_down = "sum3" not in text.split("__asm__(\n")[0].rsplit("void", 1)[1]
    begins = '"=&r"(sum0)' in text
    return f"{'down' if is_down else 'up'}{', begun' if begins else ''}{', counted' if 'subs %[n]' in text else ''}"


class Lines(unittest.TestCase):
    """What the lines compute, played by a small machine that knows five instructions and nothing of filters."""

    def play(self, lines: list[str], taps: list[int], samples: list[int], sums: list[int], turns: int = 0) -> list[int]:
        """The sums after all of the lines; ``at`` of a pointer counts bytes, two to a value."""
        registers: dict[str, int | tuple[int, int]] = {f"s{k}": value for k, value in enumerate(sums)}
        base = {"h": 0, "x": 0}
        memory = {"h": taps, "x": samples}
        symbols: dict[str, int] = {}

        def number(text: str) -> int:
            return sum(symbols[word] if word in symbols else int(word) for word in text.replace(" ", "").split("+"))

        def once(rows: list[str]) -> None:
            index = 0
            while index < len(rows):
                word, _, rest = rows[index].partition(" ")
                if word == ".rept":
                    depth, end = 1, index
                    while depth:
                        end += 1
                        depth += rows[end].startswith(".rept") - (rows[end] == ".endr")
                    for _ in range(int(rest)):
                        once(rows[index + 1 : end])
                    index = end
                elif word == ".set":
                    name, text = rest.split(", ")
                    symbols[name] = number(text)
                elif word == "ldr":
                    target, place = rest.split(", ", 1)
                    pointer, _, offset = place.strip("[]").replace("%[", "").replace("]", "").partition(", #")
                    at = base[pointer] + (number(offset) if offset else 0)
                    self.assertEqual(at % 2, 0)
                    self.assertLessEqual(at - base[pointer], REACH)
                    registers[target[2:-1]] = (memory[pointer][at // 2], memory[pointer][at // 2 + 1])
                elif word == "mov":
                    registers["start"] = int(rest.split("#")[1])
                elif word == "add":
                    base[rest[2]] += int(rest.split("#")[1])
                elif word in ("smlald", "smlad"):
                    names = [part.strip(" %[]QR") for part in rest.split(",")]
                    pair = (
                        [registers[name] for name in names[-2:]]
                        if word == "smlald"
                        else [registers[name] for name in names[1:3]]
                    )
                    product = sum(a * b for a, b in zip(*pair))  # type: ignore[arg-type]
                    if word == "smlad":
                        value = product + registers["start"]  # type: ignore[operator]
                        self.assertTrue(-(1 << 31) <= value < 1 << 31)
                        registers[names[0]] = value
                    else:
                        registers[names[0]] += product  # type: ignore[operator]
                else:
                    self.assertIn(word, ("asr", "1:", "subs", "bne"))
                index += 1

        for _ in range(turns or 1):
            once(lines)
        return [registers[f"s{k}"] for k in range(len(sums))]  # type: ignore[misc]

    def test_four_sums_of_samples_that_follow_each_other(self) -> None:
        source = random.Random(3)
        for pairs in (2, 3, 4, 8, 17, 64):
            taps = [source.randint(-32768, 32767) for _ in range(2 * pairs)]
            samples = [source.randint(-32768, 32767) for _ in range(2 * pairs + 4)]
            wanted = [sum(t * samples[k + o] for k, t in enumerate(taps)) for o in range(4)]
            before = [source.randint(-(1 << 40), 1 << 40) for _ in range(4)]
            found = self.play(together_up(pairs, None, "at"), taps, samples, before)
            self.assertEqual(found, [a + b for a, b in zip(before, wanted)])
            taps[:2] = [taps[0] // 8, taps[1] // 8]
            wanted = [sum(t * samples[k + o] for k, t in enumerate(taps)) for o in range(4)]
            found = self.play(together_up(pairs, 1 << 14, "at"), taps, samples, [0] * 4)
            self.assertEqual(found, [(1 << 14) + value for value in wanted])
        self.assertEqual(together_up(1, None, "at") + together_up(65, None, "at"), [])

    def test_three_sums_of_samples_that_lie_apart(self) -> None:
        source = random.Random(4)
        for stride, steps in ((2, 4), (2, 33), (4, 16), (8, 8), (8, 9), (6, 11), (8, 20), (16, 30), (12, 64)):
            taps = [source.randint(-32768, 32767) for _ in range(stride * steps)]
            samples = [source.randint(-32768, 32767) for _ in range(stride * (steps + 2))]
            wanted = [7 + sum(t * samples[k + o * stride] for k, t in enumerate(taps)) for o in range(3)]
            lines = together_down(steps, stride, "at")
            turns = stride // 2 if "1:" in lines else 0
            self.assertEqual(bool(turns), steps * stride // 2 > 64, "long rows in turns")
            self.assertEqual(self.play(lines, taps, samples, [7] * 3, turns), wanted, (stride, steps))
        for stride, steps in ((3, 8), (2, 3), (2, 65), (64, 32)):
            self.assertEqual(together_down(steps, stride, "at"), [], (stride, steps))


@unittest.skipUnless(HAS_ARM, "the Arm compiler and emulator are not on this machine")
class OnTheCore(unittest.TestCase):
    def test_random_ratios_give_what_the_model_gives(self) -> None:
        source = random.Random(7)
        seen: Counter[str] = Counter()
        ratios = [(4, 1), (1, 8), (1, 4), (8, 1), (2, 1), (1, 2), (3, 1), (1, 6), (5, 1), (1, 16), (1, 3), (12, 1)]
        for index, (up, down) in enumerate(some(ratios * 20, 9)):
            made = changing(source, up, down, source.choice((60, 120, 300)))
            package = c_package(made, "f", choices=CodeChoices(reloadable=index % 7 == 5))
            seen[kind(package)] += 1
            proof = prove_on_target(package, made)
            self.assertTrue(proof.holds, (index, up, down, kind(package), made, proof.sentence()))
        self.assertLess(seen[""], sum(seen.values()) / 2, seen)
        self.assertGreaterEqual(len(seen), 3, seen)

    def test_sums_begin_in_32_bits_only_where_these_hold_the_first_two_taps(self) -> None:
        """Twice the least tap with the least samples is 2^31, and half a step fills it up where a tap is a little less."""
        entry = Format(True, 16, 15)
        for first, begins in (
            ((-32768, -32768), False),
            ((-32768, 32767), False),
            ((-32768, 32000), True),
            ((0, 9), True),
        ):
            row = [*first, *range(20_000, 20_022)]
            values = tuple(value for value in row[::-1] for _ in range(4))
            stage = TapSum(values, entry, Format(True, 64, 30), "direct", 1, 4, 1)
            stage = replace(stage, accumulator=needed_accumulator(stage, entry))
            after = Requantize(stage.accumulator, Format(True, 16, 12), "nearest-even", "saturate")
            made = Realization("x", 1.0, "direct", entry, after.target, (stage, after))
            package = c_package(made, "f")
            self.assertEqual(kind(package), "up, begun" if begins else "up", first)
            proof = prove_on_target(package, made)
            self.assertTrue(proof.holds, (first, proof.sentence()))
            # Taps that are set while it runs may both be the least, where half a step is small, too.
            after = replace(after, target=Format(True, 16, 15))
            made = replace(made, output=after.target, stages=(stage, after))
            self.assertEqual(kind(c_package(made, "f", choices=CodeChoices(reloadable=True))), "up", first)

    def test_it_is_built_however_the_compiler_is_told_to(self) -> None:
        """Without optimization, small, with a frame pointer; and without the rows, where registers are kept for something else."""
        source = random.Random(11)
        for up, down in ((4, 1), (2, 1), (1, 8), (1, 64)):
            packages = (c_package(changing(source, up, down, 640 if down == 64 else 100), "f") for _ in range(20))
            package = next(package for package in packages if kind(package))
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                plain = [
                    "arm-none-eabi-gcc",
                    "-mcpu=cortex-m4",
                    "-mthumb",
                    "-std=c99",
                    "-Wall",
                    "-Wextra",
                    "-Wpedantic",
                    "-Werror",
                ]
                ways = {
                    "-O0": True, "-Os": True, "-O1 -g": True, "-O3 -fno-omit-frame-pointer": True, "-O2 -fPIC": False,
                    "-O2 -ffixed-r9 -DF_NO_ROWS": False,
                }  # fmt: skip
                for more, has_rows in ways.items():
                    words = [*plain, *more.split(), "-c", "-o", "f.o", "f.c"]
                    done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
                    self.assertEqual(done.returncode, 0, (more, done.stderr))
                    code = subprocess.run(
                        ["arm-none-eabi-objdump", "-d", "f.o"], cwd=place, capture_output=True, text=True, check=True
                    ).stdout
                    self.assertEqual("f_rows_0" in code, has_rows, more)

    def test_instructions_a_multiply_where_sums_take_more_than_32_bits(self) -> None:
        """The ordinary case, 64 designed taps of 16 bits beside a plain filter of as many."""
        briefs = (
            asked(48_000, ((0, 19_200, -0.1, 0.1),), up=4, down=1, image_db=-60),
            asked(384_000, ((0, 18_000, -0.1, 0.1),), up=1, down=8, alias_db=-60),
            asked(192_000, ((0, 18_000, -0.1, 0.1),), up=1, down=4, alias_db=-60),
        )
        cost = dearer_than_plain(self, briefs, least_bits=33)
        self.assertLess(cost[4, 1], 1.3)
        self.assertLess(cost[1, 8], 1.22)
        self.assertLess(cost[1, 4], 1.15)
