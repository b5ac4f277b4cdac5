"""Changes of rate, made up and by the book, and briefs that ask for them."""

from __future__ import annotations

import itertools
import random
import unittest
from collections.abc import Sequence
from fractions import Fraction
from math import ceil
from typing import Any

from combe.delivery.c import c_package
from combe.designing.designed import Design
from combe.designing.methods import design_task
from combe.designing.rates.chain import planned
from combe.designing.task import DesignChoice, Task
from combe.proof.cores import prove_on_target
from combe.realization.cic import Cic
from combe.realization.formats import Format, narrowest_signed
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.requirement import Requirement, requirement_from
from combe.rounding.choices import Choices
from combe.rounding.rates import realize_stages
from combe.rounding.realize import realize
from combe.values import replace
from tests.independent import brought_parts, in_parts, times, whole
from tests.support import IS_CAMPAIGN, document

SANITIZERS = ["-fsanitize=address,undefined", "-fno-sanitize-recover=all", *([] if IS_CAMPAIGN else ["-O0"])]


def asked(rate: float, bands: tuple[tuple[Any, ...], ...], **change: Any) -> Requirement:
    return requirement_from(document(rate, *bands) | {"rate": change})


DOWN = asked(250_000, ((0, 12_000, -0.1, 0.1),), up=1, down=8, alias_db=-70)
UP = asked(31_250, ((0, 12_000, -0.1, 0.1),), up=4, down=1, image_db=-70)
SLOWER = asked(48_000, ((0, 8000, -0.1, 0.1),), up=5, down=12, alias_db=-70, image_db=-70)
FASTER = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=12, down=5, alias_db=-70, image_db=-70)
RATIO = asked(48_000, ((0, 15_000, -0.1, 0.1),), up=3, down=2, image_db=-70, alias_db=-60)
STRICT = asked(250_000, ((0, 12_000, -0.1, 0.1), (100_000, 125_000, -90)), down=8, alias_db=-60, protect="everything")


def design_of(brief: Requirement, plan: str = "single") -> Design:
    return planned(brief, plan)


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
