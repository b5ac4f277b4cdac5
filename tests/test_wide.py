"""Sums of more than 64 bits in C: the compiler's own type and the pair of words against exact fractions."""

from __future__ import annotations

import random
import subprocess
import tempfile
import unittest
from unittest import mock

import numpy as np
from numpy.typing import NDArray

from combe.delivery.c import c_package
from combe.errors import FormatError
from combe.realization.cic import Cic
from combe.realization.formats import Format, narrowest_signed
from combe.realization.network import Network, Node, needed_node_accumulator
from combe.realization.reading import realization_document
from combe.realization.section import Section, needed_section_accumulator
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.realization.term import INPUT, Term
from combe.running.simulate import simulate
from combe.signals.stimuli import vectors
from combe.values import replace
from tests.independent import plain_run
from tests.rate_cases import by_the_book
from tests.support import some
from tests.test_delivery import HAS_GCC

STRICT = ["-std=c99", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]
SANITIZERS = ["-fsanitize=undefined,address", "-fno-sanitize-recover=all", "-O0"]
ROUNDINGS = ("nearest-even", "nearest-up", "floor", "toward-zero")


def _ends(source: random.Random) -> dict[str, str]:
    return {"rounding": source.choice(ROUNDINGS), "overflow": source.choice(("saturate", "wrap"))}


def wide_section(source: random.Random, entry: Format) -> tuple[Stage, ...]:
    """Poles well inside, coefficients and state of up to 40 bits."""
    bits = source.randint(30, 40)
    b, a = Format(True, bits, bits - 2), Format(True, bits, bits - 2)
    state = Format(True, source.randint(30, 40), source.randint(26, 36))
    tops = [source.randint(-(1 << (bits - 2)), 1 << (bits - 2)) for _ in range(3)]
    made = Section(
        (tops[0], tops[1], tops[2]), (source.randint(-(1 << (bits - 2)), 1 << (bits - 2)), source.randint(0, 1 << (bits - 3))),
        b, a, Format(True, 2, max(entry.fraction + b.fraction, state.fraction + a.fraction)), state, **_ends(source),
    )  # fmt: skip
    return (replace(made, accumulator=needed_section_accumulator(made, entry)),)


def wide_network(source: random.Random, entry: Format) -> tuple[Stage, ...]:
    """A slow loop: one wide node and one narrow."""
    gain = Format(True, 38, 36)
    held = Format(True, 36, 33)
    terms = (Term(INPUT, 0, source.randint(-(1 << 36), 1 << 36), gain), Term("w", 1, source.randint(0, 1 << 35), gain))
    w = Node("w", terms, Format(True, 2, max(entry.fraction, held.fraction) + 36), held, **_ends(source))
    y = Node("y", (Term("w", 0, 1, Format(True, 2, 0)), Term("w", 1, -1, Format(True, 2, 0))), Format(True, 2, held.fraction),
             Format(True, 20, 17), **_ends(source))  # fmt: skip
    nodes = {"w": w, "y": y}
    full = tuple(replace(n, accumulator=needed_node_accumulator(n, nodes, entry)) for n in (w, y))
    return (Network(full, "y", "direct-2"),)


def wide_taps(source: random.Random, entry: Format) -> tuple[Stage, ...]:
    """Taps as wide as data."""
    bits = 36
    count = source.randint(1, 9)
    taps = tuple(source.choice((-1, 1)) * source.randint(1 << (bits - 2), (1 << (bits - 1)) - 1) for _ in range(count))
    stage = TapSum(taps, Format(True, bits, source.randint(20, 40)), Format(True, 2, 0))
    stage = replace(stage, accumulator=needed_accumulator(stage, entry))
    shift = source.choice((1, 20, 40, 63, 64, 65, 66))
    target = Format(True, source.randint(4, 40), stage.accumulator.fraction - shift)
    return stage, Requantize(stage.accumulator, target, **_ends(source))


def wide_sums(source: random.Random) -> Realization:
    """Sums in a row of more than 64 bits, either way, with a rounding or two after them, and sometimes taps."""
    while True:
        entry = Format(source.random() < 0.8, source.randint(16, 40), source.randint(0, 30))
        factor = source.randint(8, 60)
        up, down = source.choice(((1, factor), (1, factor), (factor, 1)))
        draft = Cic(source.randint(3, 7), up, down, source.randint(1, 3), Format(True, 2, entry.fraction))
        bits = narrowest_signed(*draft.span(entry))
        if 64 < bits <= 110:
            break
    stage = replace(draft, accumulator=Format(True, bits, entry.fraction))
    fraction = entry.fraction - source.choice((1, 20, bits - 40, bits - 24, bits - 12, 64, 65))
    stages: list[Stage] = [
        stage,
        Requantize(stage.accumulator, Format(True, source.randint(20, 60), fraction), **_ends(source)),
    ]
    if source.random() < 0.4:
        stages.append(Requantize(stages[-1].result, Format(True, 16, fraction - 2), **_ends(source)))
        taps = TapSum((3, -5, 7, 2), Format(True, 5, 3), Format(True, 2, 0), down=source.choice((1, 2)))
        stages.append(replace(taps, accumulator=needed_accumulator(taps, stages[-1].result)))
    return Realization("sums", 1.0, "direct", entry, stages[-1].result, tuple(stages))


def random_wide(source: random.Random) -> Realization:
    """Some stage whose sum takes more than 64 bits."""
    while True:
        entry = Format(True, source.randint(28, 36), 31)
        stages = source.choice((wide_section, wide_network, wide_taps))(source, entry)
        first = stages[0]
        sums = [node.accumulator for node in first.nodes] if isinstance(first, Network) else [first.accumulator]  # type: ignore[union-attr]
        if max(each.bits for each in sums) > 64:
            result = stages[-1].target if isinstance(stages[-1], Requantize) else first.result  # type: ignore[union-attr]
            return Realization("wide", 1.0, first.form, entry, result, stages)  # type: ignore[union-attr]


@unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
class Wide(unittest.TestCase):
    def checked(self, made: Realization, samples: NDArray[np.int64] | None = None) -> None:
        """The delivered check, built both ways; what it expects are the fractions of a stranger."""
        given = vectors(made, 200) if samples is None else samples
        stranger = (
            (lambda one, some: by_the_book(one.stages, some))
            if made.changes_rate
            else lambda one, some: plain_run(realization_document(one), some)
        )
        self.assertEqual(simulate(made, given).tolist(), stranger(made, given.tolist()))
        with mock.patch("combe.delivery.c.writer.vectors", lambda *_: given):
            package = c_package(made, "sum")
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            for kind in ([], ["-DSUM_PAIRS"]):
                words = ["gcc", *STRICT, *SANITIZERS, *kind, "-o", "check", "sum.c", "sum_check.c"]
                for command in (words, ["./check"]):
                    done = subprocess.run(command, cwd=place, capture_output=True, text=True, check=False)
                    self.assertEqual(done.returncode, 0, (kind, made, (done.stdout + done.stderr)[:900]))

    def test_random_wide_sums_are_the_same_both_ways(self) -> None:
        source = random.Random(3)
        for index in some(range(150), 4):
            with self.subTest(index=index):
                self.checked(random_wide(source))

    def test_ties_are_rounded_as_asked_beyond_64_bits(self) -> None:
        """Products that lie halfway, on either side of zero, at both ends of the range; a last tap of 1 keeps all bits in use."""
        entry = Format(True, 36, 35)
        taps = TapSum((1 << 34, 0, 1 << 33, 0, 0, 0, 1), Format(True, 36, 35), Format(True, 2, 0))
        taps = replace(taps, accumulator=replace(needed_accumulator(taps, entry), bits=71))
        for rounding in some(ROUNDINGS, 2):
            for overflow in some(("saturate", "wrap"), 1):
                after = Requantize(taps.accumulator, Format(True, 20, 35), rounding, overflow)
                made = Realization("ties", 1.0, "direct", entry, after.target, (taps, after))
                alone = [x for each in (1, -1, 2, -2, 3, -3, 5, -5, 6, -6) for x in (each, *[0] * 6)]
                samples = [*alone, *range(-9, 10), entry.least, entry.most, entry.least, 2, 0, entry.most, -2, 0]
                self.checked(made, np.array(samples))

    def test_sums_in_a_row_are_the_same_both_ways(self) -> None:
        source = random.Random(4)
        for index in some(range(60), 3):
            made = wide_sums(source)
            count = 40 * max(stage.down for stage in made.stages if isinstance(stage, Cic)) + source.randint(0, 99)
            ends = (made.input.least, made.input.most, source.randint(made.input.least, made.input.most))
            with self.subTest(index=index):
                self.checked(made, np.array([source.choice(ends) for _ in range(min(count, 4000))]))

    def test_six_sums_over_512_samples_of_24_bits_are_exact(self) -> None:
        """78 bits; sums that have gone round many times, each output as its weights at once say."""
        entry = Format(True, 24, 23)
        draft = Cic(6, 1, 256, 2, Format(True, 2, 23))
        stage = replace(draft, accumulator=Format(True, 78, 23))
        after = Requantize(stage.accumulator, Format(True, 40, -15), "floor", "wrap")
        made = Realization("six", 1.0, "direct", entry, after.target, (stage, after))
        random_ends = np.random.default_rng(6).random(60_000)
        samples = np.where(random_ends < 0.7, entry.least, entry.most)
        samples[:4000] = entry.least
        weights = np.ones(1, dtype=object)
        for _ in range(6):
            weights = np.convolve(weights, np.ones(512, dtype=object))
        given = samples.astype(object)
        wanted = []
        for m in range(-(-len(samples) // 256)):
            seen = given[max(m * 256 - len(weights) + 1, 0) : m * 256 + 1][::-1]
            wanted.append(int(np.sum(weights[: len(seen)].astype(object) * seen)) >> 38)
        self.assertEqual([int(each) for each in simulate(made, samples)], wanted)
        with mock.patch("combe.delivery.c.writer.vectors", lambda *_: samples):
            package = c_package(made, "sum")
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            for kind in ([], ["-DSUM_PAIRS"]):
                for command in (
                    ["gcc", *STRICT, *SANITIZERS, *kind, "-o", "check", "sum.c", "sum_check.c"],
                    ["./check"],
                ):
                    done = subprocess.run(command, cwd=place, capture_output=True, text=True, check=False)
                    self.assertEqual(done.returncode, 0, (kind, (done.stdout + done.stderr)[:900]))

    def test_sums_in_a_row_without_a_rounding_to_64_bits_are_refused(self) -> None:
        entry = Format(True, 24, 23)
        stage = Cic(6, 1, 256, 2, Format(True, 78, 23))
        long = Requantize(stage.accumulator, Format(True, 70, 15), "floor", "wrap")
        for stages in ((stage,), (stage, long)):
            made = Realization("six", 1.0, "direct", entry, stages[-1].result, stages)
            with self.assertRaisesRegex(FormatError, "78 bits.*rounding to 64 bits"):
                c_package(made, "sum")

    def test_what_is_too_wide_even_for_two_words_is_refused(self) -> None:
        entry = Format(True, 60, 59)
        taps = TapSum(tuple([(1 << 63) - 1] * 20), Format(True, 64, 63), Format(True, 140, 122))
        made = Realization("huge", 1.0, "direct", entry, Format(True, 32, 31), (taps, Requantize(taps.accumulator, Format(True, 32, 31), "floor", "wrap")))  # fmt: skip
        with self.assertRaisesRegex(FormatError, "wider than the 126"):
            c_package(made, "sum")


if __name__ == "__main__":
    unittest.main()
