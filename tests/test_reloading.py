"""Taps replaced while generated C runs: random formats, lengths, rates and layouts, against the sum by its definition."""

from __future__ import annotations

import random
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

import numpy as np
from msgspec import Struct

from combe.delivery.c import c_package
from combe.delivery.c.types import c_type, literal
from combe.delivery.code_choices import CodeChoices
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.running.simulate import simulate
from combe.values import replace
from tests.support import IS_CAMPAIGN

FLAGS = ["-std=c99", "-O1" if IS_CAMPAIGN else "-O0", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror",
         "-fsanitize=address,undefined", "-fno-sanitize-recover=all"]  # fmt: skip
RATES = ((1, 1),) * 3 + ((1, 2), (1, 7), (2, 1), (4, 1), (8, 1), (3, 2), (2, 5))
ROUNDINGS = ("nearest-even", "nearest-up", "floor", "toward-zero")


class Case(Struct, frozen=True):
    """A program, the taps that come later, and the samples before and after they come."""

    made: Realization
    others: tuple[int, ...]
    samples: tuple[int, ...]
    before: int
    choices: CodeChoices

    @property
    def stage(self) -> TapSum:
        """Its sum of taps."""
        stage = self.made.stages[0]
        assert isinstance(stage, TapSum)
        return stage


def random_case(source: random.Random) -> Case | None:
    """None where no word of C holds the sums."""
    count = source.randint(1, source.choice((4, 12, 40, 90)))
    up, down = source.choice(RATES)
    form = source.choice(("direct", "folded")) if (up, down) == (1, 1) and count > 1 else "direct"
    coefficient = Format(True, source.choice((3, 8, 12, 14, 16, 16, 16, 17, 24, 32)), source.randint(0, 20))
    entry = Format(source.random() < 0.8, source.choice((4, 8, 12, 16, 16, 16, 17, 24, 32)), source.randint(0, 20))
    widest = TapSum(
        (coefficient.least,) * count,
        coefficient,
        Format(True, 64, coefficient.fraction + entry.fraction),
        up=up,
        down=down,
    )
    needed = needed_accumulator(widest, entry)
    if needed.bits > 61:
        return None
    stage = replace(
        widest,
        coefficients=taps(source, count, coefficient, form),
        accumulator=replace(needed, bits=needed.bits + 1),
        form=form,
    )
    target = Format(
        True, source.randint(4, 32), stage.accumulator.fraction - source.randint(0, max(0, needed.bits - 8))
    )
    after = Requantize(stage.accumulator, target, source.choice(ROUNDINGS), source.choice(("saturate", "wrap")))
    length = source.randint(1, 90)
    ends = (entry.least, entry.most)
    history = (
        "double"
        if form == "folded"
        else source.choice(("blocks", "blocks", "double", "circular"))
        if (up, down) == (1, 1)
        else "blocks"
    )
    return Case(
        Realization("one", 1.0, "direct", entry, target, (stage, after)), taps(source, count, coefficient, form),
        tuple(source.choice((*ends, source.randint(*ends))) for _ in range(length)), source.randint(0, length),
        CodeChoices(reloadable=True, history=history, unroll=source.choice((0, 0, 4, 16)), single_file=source.random() < 0.3),
    )  # fmt: skip


def taps(source: random.Random, count: int, entry: Format, form: str) -> tuple[int, ...]:
    """Any of their format, its ends among them, or small ones: sums that the taps at hand don't fill."""
    most = source.choice((entry.most, entry.most, max(entry.most // 64, 1)))
    found = [source.choice((-most, most, source.randint(-most, most))) for _ in range(count)]
    return tuple(found[: (count + 1) // 2] + found[: count // 2][::-1] if form == "folded" else found)


def wanted(case: Case) -> list[int]:
    """Each output by the taps in force when it is due, over all samples that have come; rounded as the program says."""
    stage, raw = case.stage, []
    first = -(-case.before * stage.up // stage.down)
    for m in range(-(-len(case.samples) * stage.up // stage.down)):
        own = case.others if m >= first else stage.coefficients
        places = [(m * stage.down - i, tap) for i, tap in enumerate(own)]
        raw.append(sum(tap * case.samples[at // stage.up] for at, tap in places if at >= 0 and at % stage.up == 0))
    last = Realization("last", 1.0, "direct", stage.accumulator, case.made.output, case.made.stages[1:])
    return [int(value) for value in simulate(last, np.array(raw, dtype=np.int64))]


def heard(case: Case, source: random.Random) -> list[int]:
    """What the compiled program gives, in blocks of mixed lengths."""
    package = c_package(case.made, "one", choices=case.choices)
    table = next(
        word
        for word in ("int16_t", "int8_t", "int32_t", "int64_t")
        if f"_set_taps_0(one_state_t *state, const {word} *taps)" in package.text(".h")
    )
    calls = pieces(source, 0, case.before) + [
        "    if (one_set_taps_0(&state, other) != 0) {",
        "        return 2;",
        "    }",
    ]
    calls += pieces(source, case.before, len(case.samples))
    rows = ", ".join(literal(value, c_type(case.made.input)) for value in case.samples)
    room = len(case.samples) * case.stage.up + 64
    text = [
        "#define ONE_BODY" if case.choices.single_file else "", '#include "one.h"', "#include <stdio.h>",
        f"static const {table} other[] = {{ {', '.join(literal(value, table) for value in case.others)} }};",
        f"static const one_in_t x[] = {{ {rows} }};", f"static one_out_t y[{room}];",
        "int main(void)", "{", "    static one_state_t state;", "    size_t w = 0, k;", "    one_reset(&state);", *calls,
        "    for (k = 0; k < w; k++) {", '        printf("%lld\\n", (long long)y[k]);', "    }", "    return 0;", "}", "",
    ]  # fmt: skip
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "main.c").write_text("\n".join(text))
        sources = ["main.c"] if case.choices.single_file else ["one.c", "main.c"]
        subprocess.run(["gcc", *FLAGS, "-o", "main", *sources], cwd=place, check=True)
        done = subprocess.run(["./main"], cwd=place, capture_output=True, text=True, check=False)
    if done.returncode:
        raise AssertionError(done.stderr[:300] or "the new taps were refused")
    return [int(word) for word in done.stdout.split()]


def pieces(source: random.Random, start: int, stop: int) -> list[str]:
    """Calls that take the samples between two places."""
    found = []
    while start < stop:
        count = min(source.choice((1, 2, 3, 7, 64)), stop - start)
        found.append(f"    w += one_run(&state, &x[{start}], &y[w], {count}u);")
        start += count
    return found


@unittest.skipUnless(shutil.which("gcc"), "gcc is not on this machine")
class Replaced(unittest.TestCase):
    def test_outputs_are_those_of_the_taps_in_force(self) -> None:
        source = random.Random(21)
        made = 0
        while made < (200 if IS_CAMPAIGN else 10):
            case = random_case(source)
            if case is not None:
                made += 1
                self.assertEqual(
                    heard(case, source),
                    wanted(case),
                    (made, case.stage.form, str(case.stage.coefficient), str(case.made.input), case.choices),
                )

    def test_small_taps_give_way_to_large_ones(self) -> None:
        """Words are as wide as any taps of the format need, not as those it was made with do."""
        entry, coefficient = Format(True, 24, 21), Format(True, 16, 16)
        for up, down in ((8, 1), (1, 7), (1, 1)):
            stage = TapSum((1, -1), coefficient, Format(True, 43, 37), up=up, down=down)
            target = Format(True, 20, 14)
            program = Realization(
                "one", 1.0, "direct", entry, target, (stage, Requantize(stage.accumulator, target, "floor", "saturate"))
            )
            case = Case(program, (-32768, 32767), (entry.least, entry.most) * 20, 11, CodeChoices(reloadable=True))
            self.assertEqual(heard(case, random.Random(1)), wanted(case), (up, down))


if __name__ == "__main__":
    unittest.main()
