"""One stage of a rate change: taps between stuffing and dropping, sums in a row without a single multiply, or two allpasses."""

from __future__ import annotations

from collections.abc import Sequence
from math import comb, prod
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing.rates.branches import Branches, places, taps_of
from combe.designing.rates.half_bands import impulse_response
from combe.errors import DesignError
from combe.filters import Fir
from combe.ledger.cost import Cost

Array = NDArray[np.float64]
MOST_PROTOTYPE = 400_000
WORDS = {"cic": "cic", "allpass": "iir", "farrow": "farrow"}
"""How a plan names stages that aren't taps, before their factor."""


class RateStage(Struct, frozen=True):
    """Output m is Σ taps[i]·u[m·down − i], where u has the stage's input at every ``up``-th place and 0 elsewhere.

    ``taps`` are empty for a ``cic`` stage: ``order`` sums over factor·``delay`` samples in a row (Hogenauer 1981), divided by
    their gain for a constant. An ``allpass`` stage goes up or down by two: ``even`` and ``odd`` are the coefficients of the
    allpasses that make its even and its odd phase. The taps of a ``farrow`` stage follow polynomials: ``branches`` by power and then
    by sample, taken at ``at``, or where that is empty at ``up`` places alike on both sides of the middle.
    """

    kind: str
    up: int
    down: int
    taps: tuple[float, ...] = ()
    order: int = 0
    delay: int = 1
    even: tuple[float, ...] = ()
    odd: tuple[float, ...] = ()
    branches: Branches = ()
    at: tuple[float, ...] = ()

    @property
    def factor(self) -> int:
        """The larger of both."""
        return max(self.up, self.down)

    @property
    def coefficients(self) -> tuple[float, ...]:
        """What it multiplies by: taps, the coefficients of both allpasses, or those of all powers."""
        return self.taps or (*self.even, *self.odd, *(value for branch in self.branches for value in branch))

    @property
    def own_order(self) -> int:
        """Its order at the rate it works at."""
        if self.kind == "allpass":
            return 2 * (len(self.even) + len(self.odd)) + bool(self.odd or self.even)
        if self.kind == "farrow":
            return self.up * len(self.branches[0]) - 1
        return self.order * (self.factor * self.delay - 1) if self.kind == "cic" else max(len(self.taps) - 1, 0)

    @property
    def is_symmetric(self) -> bool:
        """Whether its taps read the same from both ends."""
        if self.kind == "farrow":
            return not self.at and all(
                Fir(branch).symmetry == (-1) ** power for power, branch in enumerate(self.branches) if any(branch)
            )
        return self.kind == "cic" or (self.kind == "taps" and Fir(self.taps).symmetry == 1)

    def prototype(self) -> Array:
        """Taps at the stage's own working rate, with a gain of 1 for a constant from input to output."""
        if self.kind == "cic":
            return np.array(sums_in_a_row(self.order, self.factor * self.delay), dtype=np.float64) / float(
                (self.factor * self.delay) ** self.order
            )
        if self.kind == "allpass":
            return impulse_response(self.even, self.odd)
        if self.kind == "farrow":
            return taps_of(self.branches, np.array(self.at) if self.at else places(self.up)) / self.up
        return np.array(self.taps) / self.up

    def cost(self) -> tuple[float, float, float]:
        """Multiplies and adds per sample that comes in, and words of memory.

        Each tap of an interpolator meets each sample once; a decimator adds symmetric pairs before it multiplies.
        """
        if self.kind == "cic":
            slow = self.order / self.factor
            fast = float(self.order)
            adds = (fast + slow) if self.down > 1 else (fast * self.factor + fast)
            return 0.0, adds, self.order * (1 + self.delay)
        if self.kind == "allpass":
            poles = len(self.even) + len(self.odd)
            adds, words = 2 * poles + (self.down > 1), poles + bool(self.even) + bool(self.odd) + (self.down > 1)
            return poles / self.down, adds / self.down, words
        if self.kind == "farrow":
            return self._cost_of_powers()
        used = sum(1 for tap in self.taps if tap)
        if self.up == 1:
            half = self.taps[: (len(self.taps) + 1) // 2] if Fir(self.taps).symmetry else self.taps
            multiplies = sum(1 for tap in half if tap)
            return multiplies / self.down, max(used - 1, 0) / self.down, len(self.taps) - 1
        return used / self.down, max(used - self.up, 0) / self.down, -(-len(self.taps) // self.up) - 1

    def _cost_of_powers(self) -> tuple[float, float, float]:
        """Of each output: a sum for each power, samples on both sides of the middle added before they share a product, and a product
        with the place for each power but the last."""
        samples, powers, each = len(self.branches[0]), len(self.branches), self.up / self.down
        shares = all(Fir(branch).symmetry == (-1) ** power for power, branch in enumerate(self.branches))
        used = [
            [value for value in (branch[: (samples + 1) // 2] if shares else branch) if value]
            for branch in self.branches
        ]
        products = sum(map(len, used))
        before = min(samples // 2 * 2, samples // 2 * powers) if shares else 0
        adds = before + sum(max(len(own) - 1, 0) for own in used) + powers - 1
        return (products + powers - 1) * each, adds * each, samples - 1

    def document(self) -> dict[str, Any]:
        """As a design file has it."""
        if self.kind == "cic":
            return {"kind": "cic", "order": self.order, "up": self.up, "down": self.down, "delay": self.delay}
        if self.kind == "allpass":
            return {"kind": "allpass", "up": self.up, "down": self.down, "even": list(self.even), "odd": list(self.odd)}
        if self.kind == "farrow":
            return {
                "kind": "farrow",
                "up": self.up,
                "down": self.down,
                "branches": [list(row) for row in self.branches],
            }
        return {"kind": "taps", "up": self.up, "down": self.down, "taps": list(self.taps)}

    @property
    def words(self) -> str:
        """For people: ``cic8``, ``iir2``, ``2``, ``3/2``, ``farrow80/147``."""
        ratio = f"{self.up}/{self.down}" if self.up > 1 and self.down > 1 else str(self.factor)
        return f"{WORDS.get(self.kind, '')}{ratio}"


def sums_in_a_row(order: int, length: int) -> list[int]:
    """(1 + z⁻¹ + … + z^−(length−1))^order, exact: its coefficients by the binomial theorem."""
    count = order * (length - 1) + 1
    return [
        sum((-1) ** j * comb(order, j) * comb(k - j * length + order - 1, order - 1) for j in range(k // length + 1) if j <= order)
        for k in range(count)
    ]  # fmt: skip


def prototype_of(stages: Sequence[RateStage]) -> Fir:
    """All stages as one filter at the highest rate, gain 1 for a constant: each stretched to that rate, then one after another.

    Raises
    ------
    DesignError
        If a stage goes up after one that goes down: no one filter stands for that.
    """
    total = 1
    for stage in stages:
        total *= stage.up
    whole = np.ones(1)
    up, down = 1, 1
    for stage in stages:
        up *= stage.up
        if total * down % up or (down > 1 and stage.up > 1):
            raise DesignError("a stage that goes up stands behind one that goes down", "parts", "put it first")
        stretch = total * down // up
        own = stage.prototype()
        if (len(own) - 1) * stretch + len(whole) > MOST_PROTOTYPE:
            raise DesignError("the stages make a filter too long to be looked at", "parts", "take smaller factors")
        wide = np.zeros((len(own) - 1) * stretch + 1)
        wide[::stretch] = own
        whole = _convolved(whole, wide)
        down *= stage.down
    if all(stage.is_symmetric for stage in stages):
        whole = (whole + whole[::-1]) / 2
    return Fir(tuple(whole.tolist()))


def _convolved(left: Array, right: Array) -> Array:
    """Two polynomials multiplied, the longer one tap of the shorter at a time where that one has few."""
    used = np.flatnonzero(right)
    if len(used) * len(left) > 50_000_000:
        from scipy import fft

        size = fft.next_fast_len(len(left) + len(right) - 1, real=True)
        return np.asarray(fft.irfft(fft.rfft(left, size) * fft.rfft(right, size), size)[: len(left) + len(right) - 1])
    found = np.zeros(len(left) + len(right) - 1)
    for place in used.tolist():
        found[place : place + len(left)] += right[place] * left
    return found


def cost_of_stages(stages: Sequence[RateStage]) -> Cost:
    """Operations per sample of the chain's input, on average, and words of memory."""
    multiplies = adds = delays = 0.0
    rate = 1.0
    for stage in stages:
        own = stage.cost()
        multiplies, adds, delays = multiplies + rate * own[0], adds + rate * own[1], delays + own[2]
        rate *= stage.up / stage.down
    return Cost(_plain(multiplies), _plain(adds), _plain(delays))


def _plain(value: float) -> float:
    """Whole where it is, else to six digits behind the point."""
    return round(value) if abs(value - round(value)) < 1e-9 else round(value, 6)


def plan_words(stages: Sequence[RateStage]) -> str:
    """The plan these stages are, as it is asked for."""
    return "single" if len(stages) == 1 and stages[0].kind == "taps" else "x".join(stage.words for stage in stages)


def ratio_of(stages: Sequence[RateStage]) -> tuple[int, int]:
    """Up and down of all stages."""
    return prod(stage.up for stage in stages), prod(stage.down for stage in stages)
