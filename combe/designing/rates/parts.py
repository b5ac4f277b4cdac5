"""A change of rate taken apart: what each stage works at, its share of the work, and its taps by phase."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from msgspec import Struct

from combe.designing.rates.stages import MOST_PROTOTYPE, RateStage, ratio_of
from combe.errors import DesignError
from combe.filters import Fir
from combe.ledger.goodness import Table
from combe.requirement.quantities import short

PADDED = "·"
"""Stands where a phase has no tap left."""
ROW_WORDS = {"allpass": "allpass", "farrow": "power"}
"""What a row of the table is where it is no phase."""


class StagePart(Struct, frozen=True):
    """One stage of a row: the rates it takes and gives, multiplies and adds per sample that comes into the whole row, words of memory,
    and its share of all operations (between 0 and 1)."""

    stage: RateStage
    rate_in_hz: float
    rate_out_hz: float
    multiplies: float
    adds: float
    words: float
    share: float


def stage_parts(stages: Sequence[RateStage], input_rate_hz: float) -> tuple[StagePart, ...]:
    """Every stage with what it does."""
    found, rate = [], 1.0
    for stage in stages:
        multiplies, adds, words = stage.cost()
        after = rate * stage.up / stage.down
        found.append((stage, rate * input_rate_hz, after * input_rate_hz, rate * multiplies, rate * adds, words))
        rate = after
    total = sum(row[3] + row[4] for row in found) or 1.0
    return tuple(StagePart(*row, (row[3] + row[4]) / total) for row in found)


def before_folding(stages: Sequence[RateStage]) -> tuple[Fir, ...]:
    """Each stage alone on the axis of the whole, nothing folded: its taps as far apart as its own rate lies below the highest. The
    product of all is ``prototype_of`` them.

    Raises
    ------
    DesignError
        If one of them is too long to be looked at so, or goes up behind one that goes down.
    """
    total = ratio_of(stages)[0]
    up = down = 1
    found = []
    for stage in stages:
        up *= stage.up
        stretch = total * down // up
        own = stage.prototype()
        if total * down % up or (down > 1 and stage.up > 1):
            raise DesignError("a stage that goes up stands behind one that goes down", "parts", "put it first")
        if (len(own) - 1) * stretch >= MOST_PROTOTYPE:
            raise DesignError("the stages are too long to be looked at one by one", "parts", "take smaller factors")
        wide = np.zeros((len(own) - 1) * stretch + 1)
        wide[::stretch] = own
        found.append(Fir(tuple(wide)))
        down *= stage.down
    return tuple(found)


def phases_of(stage: RateStage) -> dict[int, tuple[int, ...]]:
    """Places of the taps that meet in one sum, by phase.

    Of an interpolator phase p holds taps p, p + up, …: what one output needs; of L/M the phases stand in the order in which outputs
    take them, (m·M) mod L. Of a decimator phase p holds taps p, p + down, …: what every down-th input meets (Bellanger, Bonnerot and
    Coudreuse 1976). Of two allpasses those of each, of polynomials those of each power. None of sums in a row, which have no taps.
    """
    if stage.kind == "farrow":
        samples = len(stage.branches[0])
        return {power: tuple(range(power * samples, (power + 1) * samples)) for power in range(len(stage.branches))}
    if stage.kind == "allpass":
        return {0: tuple(range(len(stage.even))), 1: tuple(range(len(stage.even), len(stage.coefficients)))}
    count = len(stage.taps)
    if not count:
        return {}
    step = stage.up if stage.up > 1 else stage.down
    order = [m * stage.down % stage.up for m in range(stage.up)] if stage.up > 1 else range(stage.down)
    return {phase: tuple(range(phase, count, step)) for phase in order}


def padding_of(stage: RateStage) -> int:
    """Places that are empty where all phases are as long as the longest."""
    if stage.kind in ROW_WORDS:
        return 0
    rows = phases_of(stage).values()
    return sum(max(map(len, rows)) - len(row) for row in rows) if rows else 0


def phase_table(stages: Sequence[RateStage], integers: Sequence[Sequence[int]] = ()) -> Table:
    """Taps by stage and phase, as integers where these are given (one row of them for each stage; empty for sums in a row)."""
    rows: list[tuple[str, ...]] = []
    widest = 0
    for index, stage in enumerate(stages):
        phases = phases_of(stage)
        values = (
            [str(value) for value in integers[index]] if integers else [short(tap, 6) for tap in stage.coefficients]
        )
        longest = max(map(len, phases.values()), default=0)
        widest = max(widest, longest)
        before = f"stage {index + 1}, " if len(stages) > 1 else ""
        for phase, places in phases.items():
            cells = [values[place] for place in places] + [PADDED] * (longest - len(places))
            rows.append((f"{before}{ROW_WORDS.get(stage.kind, 'phase')} {phase}", *cells))
    return Table(tuple(str(k) for k in range(widest)), tuple((*row, *[""] * (widest + 1 - len(row))) for row in rows))
