"""A bench for signals that don't fit the memory: everything goes through piece by piece, and only sums are kept."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.benching.heard import FLOOR_DB, Heard, Input, Tone, at_ends, first_at_end, full_scale, level_db, turn_deg
from combe.benching.levels import Levels
from combe.errors import Stopped
from combe.filters import Filter, Fir
from combe.realization.formats import Format
from combe.realization.stages import Realization
from combe.running.flow import BitTrueFlow, ExactFlow
from combe.signals.figures import Periodograms, Tones, ToneSums, delay_by_correlation, usual_size
from combe.signals.make import Player

Array = NDArray[np.float64]
PIECE = 1 << 18
STRETCH = 1 << 20
"""What is kept of each trace: to be drawn, and to tell the delay."""
SAID_EVERY = 1 << 24


class _Trace:
    """What is known of one column so far."""

    def __init__(self, name: str, entry: Format, rate: float, omegas: Array, settled: int, count: int) -> None:
        self.name, self.entry, self.full = name, entry, full_scale(entry)
        self.energy = self.peak = 0.0
        self.saturated: int | None = None
        self.first_saturated: int | None = None
        self.first = 0
        self.settled = settled
        self.stretch: list[Array] = []
        self.levels = Levels(count)
        self.tones = ToneSums(omegas) if len(omegas) else None
        self.periodograms = Periodograms(min(usual_size(count), count), rate)

    def take(self, values: Array, integers: NDArray[Any] | None = None) -> None:
        self.energy += float(np.sum(values**2))
        self.peak = max(self.peak, float(np.max(np.abs(values), initial=0.0)))
        if integers is not None:
            self.saturated = (self.saturated or 0) + at_ends(integers, self.entry)
            at = first_at_end(integers, self.entry) if self.first_saturated is None else None
            self.first_saturated = self.first + at if at is not None else self.first_saturated
        if self.first < STRETCH:
            self.stretch.append(values[: STRETCH - self.first].copy())
        if self.tones is not None and self.first + len(values) > self.settled:
            skipped = max(self.settled - self.first, 0)
            self.tones.take(values[skipped:], self.first + skipped)
        self.periodograms.take(values)
        self.levels.take(values)
        self.first += len(values)

    @property
    def values(self) -> Array:
        """The first stretch."""
        return np.concatenate(self.stretch) if self.stretch else np.zeros(0)

    @property
    def rms(self) -> float:
        return float(np.sqrt(self.energy / max(self.first, 1)))


class _Compared(_Trace):
    """An output: what is known of it, and of its error against the exact filter."""

    def __init__(self, name: str, entry: Format, rate: float, omegas: Array, settled: int, count: int) -> None:
        super().__init__(name, entry, rate, omegas, settled, count)
        self.error_energy = self.error_peak = 0.0
        self.off = Levels(count)

    def compare(self, values: Array, exact: Array) -> None:
        error = values - exact
        self.off.take(error)
        self.error_energy += float(np.sum(error**2))
        self.error_peak = max(self.error_peak, float(np.max(np.abs(error), initial=0.0)))


Way = Callable[[NDArray[np.int64]], tuple[Array, NDArray[Any] | None]]


class LongBench:
    """A signal's way through runners that need no tool; ``run`` gives the traces piece by piece, then the figures are there.

    Parameters
    ----------
    others
        Other exact filters to compare with, by name: those that are pinned, and moving averages.
    code
        The compiled program, which goes on where the piece before ended.
    """

    def __init__(
        self, realization: Realization, ideal: Filter | None, player: Player, hz: Sequence[float], settled: int,
        through: Sequence[str], others: Sequence[tuple[str, Filter]],
        code: Callable[[NDArray[np.int64]], NDArray[Any]] | None = None,
    ) -> None:  # fmt: skip
        self.realization, self.player, self.hz = realization, player, tuple(hz)
        rate = realization.sample_rate_hz
        omegas = np.array(self.hz) * 2 * np.pi / rate
        self.given = _Trace("input", realization.input, rate, omegas, settled, player.count)
        self.settled = settled
        self.scale = realization.input.step
        exact = exact_filter(realization)
        self.ideal = ExactFlow(ideal if ideal is not None else exact)
        ways: list[tuple[str, Way]] = []
        for name in through:
            if name == "bit-true":
                ways.append((name, self._bit_true))
            elif name == "code":
                ways.append((name, self._code))
            elif name == "rounded":
                ways.append((name, self._exact(ExactFlow(exact))))
            else:
                ways.append((name, self._same))
        ways += [(name, self._exact(ExactFlow(source))) for name, source in others]
        self.ways = [
            (_Compared(name, realization.output, rate, omegas, settled, player.count), way) for name, way in ways
        ]
        self.now = np.zeros(0)
        self.exact_energy = 0.0
        self.true = BitTrueFlow(realization) if {"bit-true", "code"} & set(through) else None
        self.now_true: NDArray[Any] = np.zeros(0, dtype=np.int64)
        self.code, self.is_identical = code, True

    @property
    def names(self) -> tuple[str, ...]:
        """What the columns are called."""
        return ("input", *(trace.name for trace, _ in self.ways))

    def _bit_true(self, _: NDArray[np.int64]) -> tuple[Array, NDArray[Any]]:
        return np.asarray(self.now_true * self.realization.output.step, dtype=np.float64), self.now_true

    def _code(self, raw: NDArray[np.int64]) -> tuple[Array, NDArray[Any]]:
        assert self.code is not None
        found = self.code(raw)
        self.is_identical = self.is_identical and bool(np.array_equal(found, self.now_true))
        return np.asarray(found * self.realization.output.step, dtype=np.float64), found

    def _exact(self, flow: ExactFlow) -> Way:
        return lambda raw: (flow.take(raw.astype(np.float64)) * self.scale, None)

    def _same(self, raw: NDArray[np.int64]) -> tuple[Array, None]:
        """What the exact filter gave for this piece."""
        return self.now, None

    def run(self, say: Callable[[str], None], is_stopped: Callable[[], bool]) -> Iterator[list[Array]]:
        """Columns of the traces, piece by piece."""
        done, told = 0, 0
        for raw in self.player.pieces(PIECE):
            if is_stopped():
                raise Stopped
            values: Array = np.asarray(raw * self.scale, dtype=np.float64)
            self.now = self.ideal.take(raw.astype(np.float64)) * self.scale
            self.exact_energy += float(np.sum(self.now**2))
            if self.true is not None:
                self.now_true = self.true.take(raw)
            self.given.take(values)
            columns = [values]
            for trace, way in self.ways:
                heard, integers = way(raw)
                trace.take(heard, integers)
                trace.compare(heard, self.now)
                columns.append(heard)
            yield columns
            done += len(raw)
            if done - told >= SAID_EVERY:
                told = done
                say(f"{done:,} of {self.player.count:,} samples")

    def input(self) -> tuple[Input, Tones | None]:
        """The figures of the input."""
        given = self.given
        tones = given.tones.solved() if given.tones is not None and given.tones.is_enough else None
        hz = self.hz if tones is not None else ()
        known = Input(
            given.values,
            given.full,
            hz,
            tones,
            self.scale,
            given.rms,
            given.peak,
            given.levels,
            None,
            given.periodograms.found(),
        )
        return known, tones

    def heard(self) -> tuple[Heard, ...]:
        """The figures of the outputs."""
        for levels in (self.given.levels, *(each for trace, _ in self.ways for each in (trace.levels, trace.off))):
            levels.make_ready()
        known, tones = self.input()
        return tuple(self._heard(trace, known, tones, self.exact_energy) for trace, _ in self.ways)

    def _heard(self, trace: _Compared, known: Input, played: Tones | None, energy: float) -> Heard:
        count = max(trace.first, 1)
        error = trace.error_energy
        ratio = float(10 * np.log10(energy / error)) if error > 0 and energy > 0 else None
        values = trace.values
        delay = delay_by_correlation(known.values[self.settled :], values[self.settled :], max(2 * self.settled, 16))
        found: list[Tone] = []
        is_sure = True
        if played is not None and trace.tones is not None:
            fitted = trace.tones.solved()
            is_sure = fitted.is_sure
            for k, hz in enumerate(self.hz):
                one, other = float(played.amplitudes[k]), float(fitted.amplitudes[k])
                gain = level_db(other, one) if one > 0 else FLOOR_DB
                found.append(Tone(hz, level_db(other, trace.full), gain, turn_deg(fitted, played, k)))
        return Heard(
            trace.name, values, trace.full, trace.saturated, self.is_identical if trace.name == "code" else None, tuple(found), is_sure, float(np.sqrt(error / count)),
            trace.error_peak, ratio, delay, None, (), trace.rms, trace.peak, trace.levels, trace.off, None, trace.first_saturated,
            trace.periodograms.found(),
        )  # fmt: skip


def averages(lengths: Sequence[int]) -> list[tuple[str, Filter]]:
    """Moving averages by their names."""
    return [(f"moving-average:{length}", Fir((1.0 / length,) * length)) for length in lengths]
