"""The search for a length: filters of one requirement, each settled by an exchange started near the one before."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial

import numpy as np

from combe.designing.designed import Design
from combe.designing.equiripple.exchange import LEVELLED, Approximation, drafted, drafted_taps, exchange
from combe.designing.equiripple.problem import (
    Problem,
    caps_of,
    check_precision,
    fits_symmetry,
    pieces_of,
    transition_cap_db,
)
from combe.designing.equiripple.taps import taps_of
from combe.designing.equiripple.too_long import too_long
from combe.designing.estimates import DB_PER_TAP, estimated_taps
from combe.errors import DesignError
from combe.filters import Fir
from combe.requirement import Band, Limit, Requirement
from combe.requirement.quantities import frequency_text
from combe.responses import stays_below, worst_points
from combe.values import replace

MAXIMUM_TAPS = 5000
WELL_USED = 0.8
CERTAIN = 1e-9
"""How far above 1 a bound has to lie to be sure in spite of rounding."""
DRAFTED = 1e-3
"""How far a draft's ripples may differ from each other, as a share of themselves: less than a pixel shows."""
GUESSED = 2e-3
"""The same for the first length of a search: a tap or two in the next guess."""
DRAFTED_DB = 0.1
"""How far a draft's cap may be from where it belongs: a third of a pixel, and ripples a hundredth off."""
LARGEST_FRESH_START = 120
"""Up to this many unknowns an exchange starts from nothing, above from a filter half as long."""
Stop = Callable[[], bool]


@dataclass(slots=True)
class Search:
    """Designs of one requirement at several lengths, each started from the nearest one before."""

    requirement: Requirement
    symmetry: int
    is_stopped: Stop
    is_draft: bool = False
    is_repeatable: bool = True
    """Whether a draft, too, is the same to the bit whatever has been loaded so far."""
    capped: frozenset[int] = frozenset()
    verdicts: dict[int, float] = field(default_factory=dict)
    bounds: dict[int, float] = field(default_factory=dict)
    references: dict[int, np.ndarray] = field(default_factory=dict)
    first_guess: int | None = None
    settled: dict[int, Approximation] = field(default_factory=dict)
    near_level: float | None = None
    levels: dict[int, float] = field(default_factory=dict)
    levelled: dict[int, float] = field(default_factory=dict)
    """The first errors of a long search, as they are and not only on which side of 1."""
    room: int = 2
    """Taps between a length that keeps the limits and one of its parity that doesn't, where the search ends."""

    def __post_init__(self) -> None:
        check_precision(pieces_of(self.requirement))

    def begin_near(self, near: Design) -> None:
        """Start the search from a length and a reference that were right for a requirement nearby.

        A draft takes over which transitions were capped and at what level, too.
        """
        self.first_guess = near.order + 1
        self.references[near.order + 1] = np.array(near.alternation)
        if self.is_draft and len(self.requirement.transitions()) > max(near.capped, default=-1):
            self.capped, self.near_level = frozenset(near.capped), near.cap_level_db

    def forget_references(self) -> None:
        """From here on nothing depends on the way the search went."""
        self.references.clear()
        self.settled.clear()

    def finished(self, fir: Fir, notes: tuple[str, ...], started: float) -> Design:
        """The design with its story."""
        seconds = time.perf_counter() - started
        rate = self.requirement.sample_rate_hz
        where = tuple(self.settled[len(fir.taps)].reference.tolist())
        level = self.levels.get(len(fir.taps)) if self.capped else None
        return Design(
            "equiripple", fir, rate, self.requirement, notes, seconds, where, capped=tuple(sorted(self.capped)),
            cap_level_db=level,
        )  # fmt: skip

    def allowed(self, taps: int) -> bool:
        """Whether the symmetry lets this length do it."""
        least = 1 if self.symmetry == 1 else 2
        return taps >= least and not fits_symmetry(pieces_of(self.requirement), taps, self.symmetry)

    def next_length(self, taps: int) -> int:
        """The next longer length the symmetry allows; a DesignError if it allows none."""
        for count in range(taps + 1, taps + 4):
            if self.allowed(count):
                return count
        raise DesignError(
            fits_symmetry(pieces_of(self.requirement), taps + 2, self.symmetry), "symmetry", "take symmetric taps"
        )

    def filter(self, taps: int) -> Fir:
        """The settled filter of a length; transitions that bulge are capped, and the filter designed again."""
        fir = self._taps(taps)
        while self.bulges(fir):
            fir = self._taps(taps)
        return fir

    def _taps(self, taps: int) -> Fir:
        found = self.settle(taps)
        if not self.is_draft:
            return taps_of(found)
        quick = None if self.is_repeatable else drafted_taps(found)
        return taps_of(found, 1) if quick is None else Fir(tuple(quick.tolist()))

    def bulges(self, fir: Fir) -> bool:
        """Whether a transition not capped so far rises above the cap; it is capped from now on."""
        cap = transition_cap_db(self.requirement)
        turn = 2 * np.pi / self.requirement.sample_rate_hz
        free = {
            k: (start, stop) for k, (start, stop) in enumerate(self.requirement.transitions())
            if k not in self.capped and not stays_below(fir, start * turn, stop * turn, cap)
        }  # fmt: skip
        asked = tuple((Limit.level(cap, start, stop), 1) for start, stop in free.values())
        peaks = worst_points(fir, self.requirement.sample_rate_hz, asked)
        over = frozenset(index for index, peak in zip(free, peaks) if peak.margin_db(1) < 0)
        if over:
            error = self.settled[len(fir.taps)].error
            self.cap(over)
            if (
                self.is_draft
            ):  # what bulges a little lies nearly where it lay: the cap of the design before is a step away
                self.near_level = cap - 20 * float(np.log10(max(error, 1e-6)))
        return bool(over)

    def cap_notes(self, cost: int | None = None) -> tuple[str, ...]:
        """What the cap on transitions did, as a sentence."""
        if not self.capped:
            return ()
        rows = self.requirement.transitions()
        where = " and ".join(
            f"{frequency_text(rows[k][0])} to {frequency_text(rows[k][1])}" for k in sorted(self.capped)
        )
        price = (
            ""
            if cost is None
            else f", which costs {cost} taps"
            if cost > 1
            else ", which costs one tap"
            if cost
            else ", at no cost in taps"
        )
        return (f"the transition {where} is held below {transition_cap_db(self.requirement):.2f} dB{price}",)

    def problem(self, taps: int, level_db: float | None = None) -> Problem:
        """The approximation problem of one length, its capped transitions at ``level_db``."""
        bare = Problem(pieces_of(self.requirement), taps, self.symmetry)
        level = transition_cap_db(self.requirement) if level_db is None else level_db
        caps = caps_of(self.requirement, self.capped, level, bare.unknowns)
        return replace(bare, pieces=tuple(sorted(bare.pieces + caps, key=lambda piece: piece.start)))

    def settle(self, taps: int) -> Approximation:
        """A converged exchange. Where it can't settle for the gain a free transition takes on, all are capped."""
        if taps not in self.settled:
            try:
                found = self._settled(self.problem(taps, self.near_level), self._start(taps))
            except DesignError:
                if len(self.capped) == len(self.requirement.transitions()):
                    raise
                self.cap(frozenset(range(len(self.requirement.transitions()))))
                found = self._settled(self.problem(taps), self._start(taps))
            self.settled[taps] = self._at_cap(taps, found)
            self.references[taps] = self.settled[taps].reference
        return self.settled[taps]

    def cap(self, transitions: frozenset[int]) -> None:
        """Hold more transitions down from now on; what was found without is forgotten."""
        self.capped |= transitions
        self.near_level = None
        self.verdicts.clear()
        self.levelled.clear()
        self.bounds.clear()
        self.settled.clear()

    def _settled(self, problem: Problem, near: np.ndarray | None) -> Approximation:
        attempts: list[Callable[[], Approximation]] = [partial(self._grown, problem)]
        if near is not None:
            attempts.insert(0, partial(self._exchange, problem, near))
        if problem.unknowns > LARGEST_FRESH_START and not self.is_draft:
            # Of bands narrower than a ripple a shorter filter's reference tells little: at last points spread afresh.
            attempts.append(partial(self._exchange, problem, None))
        best: Approximation | None = None
        for attempt in attempts:
            try:
                found = attempt()
            except DesignError:
                continue
            if best is None or found.error < best.error:
                best = found
            if best.error <= max(best.bound * (1 + (2 * DRAFTED if self.is_draft else 1e-5)), 1e-9):
                return best
        if best is None or best.error > max(best.bound * 1.01, 1e-6):
            what = f"the exchange doesn't settle at {problem.taps} taps: rounding in double precision hides the ripples"
            raise DesignError(what, instead="widen a transition or ask for less attenuation")
        return best

    def _at_cap(self, taps: int, found: Approximation) -> Approximation:
        """Let the cap stand where it is asked while the error shrinks below 1: error times cap level is held.

        The level a cap is designed at and the one it comes to lie at differ by the error; the level where they agree
        is bracketed by ever longer steps, then closed in on by false position.
        """
        if not self.capped:
            return found
        cap = transition_cap_db(self.requirement)
        enough = DRAFTED_DB if self.is_draft else 1e-3
        level = cap if self.near_level is None else self.near_level
        below: tuple[float, float, Approximation] | None = None
        above: tuple[float, float, Approximation] | None = None
        step = 0.0
        for _ in range(24):
            off = float(cap - 20 * np.log10(max(found.error, 1e-6)) - level)
            if off >= 0:
                below = level, off, found
            else:
                above = level, off, found
            if abs(off) < enough or (below is not None and above is not None and above[0] - below[0] < enough / 4):
                break
            if below is None or above is None:
                step = max(abs(off), 2 * step)
                level += step if off > 0 else -step
            else:
                share = min(max(below[1] / (below[1] - above[1]), 0.1), 0.9)
                level = below[0] + share * (above[0] - below[0])
            found = self._settled(self.problem(taps, level), found.reference)
        else:
            # What doesn't come to rest is taken where the transition surely stays below its cap.
            level, _, found = below or (level, 0.0, found)
        self.levels[taps] = level
        return found

    def error(self, taps: int) -> float:
        """The least weighted error of a length where it is above 1, else some error at or below 1."""
        if taps not in self.verdicts:
            problem = self.problem(taps)
            try:
                near = self._start(taps)
                if near is None and problem.unknowns > LARGEST_FRESH_START:
                    near = self._grown(replace(problem, taps=2 * (taps // 4) + taps % 2), DRAFTED).reference
                found = self._drafted(problem, near) or self._judged(problem, near)
            except DesignError:
                found = self.settle(taps)
            if found.error > 1 >= found.bound:
                found = self.settle(taps)
            self.references[taps] = found.reference
            self.bounds[taps] = found.bound
            self.verdicts[taps] = found.error if found.error <= 1 else max(found.bound, 1 + 1e-12)
        return self.verdicts[taps]

    def _judged(self, problem: Problem, near: np.ndarray | None) -> Approximation:
        """An exchange that goes on until it is certain on which side of 1 its error lies. The first two of a long search are
        levelled besides: from their errors, and how fast these fall, the next guess is a good one."""
        if len(self.levelled) < 2 and problem.unknowns > LARGEST_FRESH_START:
            found = exchange(problem, near, False, self.is_stopped, GUESSED)
            self.levelled[problem.taps] = found.error
            near = found.reference
        return exchange(problem, near, True, self.is_stopped)

    def _foreseen(self) -> float | None:
        """The length at which the error comes down to 1, by the two that are known best."""
        if len(self.levelled) < 2:
            return None
        (one, first), (other, second) = sorted(self.levelled.items())
        if not first > second > 0:
            return None
        return float(other + np.log(second) * (other - one) / np.log(first / second))

    def is_least(self, taps: int) -> bool:
        """Whether every shorter length is refuted: the levelled error of a reference bounds the error of its length
        from below (de la Vallée-Poussin 1910), and a length of either parity can do all that its shorter ones can."""
        for shorter in (taps - 1, taps - 2):
            if shorter >= 1 and self.allowed(shorter):
                self.error(shorter)
                if self.bounds[shorter] <= 1 + CERTAIN:
                    return False
        return True

    def least(self, at_least: int = 1) -> int:
        """The least length, of either parity, whose error is at most 1."""
        guess, hardest = estimated_taps(self.requirement)
        if guess > 1.3 * MAXIMUM_TAPS:
            raise too_long(self.requirement, guess, MAXIMUM_TAPS)
        rate = DB_PER_TAP * np.log(10) / 20 * self._width_of(hardest)
        first = max(at_least, round(min(self.first_guess or guess, MAXIMUM_TAPS)))
        first = first if self.allowed(first) else self.next_length(first)
        # A passband close to a frequency where one parity has its zero makes that parity hopeless: don't follow it far.
        taps = self._least_of_parity(first, at_least, rate, min(2 * first + 40, MAXIMUM_TAPS))
        if taps is None and self.allowed(first + 1):
            taps = self._least_of_parity(first + 1, at_least, rate, MAXIMUM_TAPS)
        if taps is None:
            taps = self._least_of_parity(first, at_least, rate, MAXIMUM_TAPS)
        if taps is None:
            raise too_long(self.requirement, float("nan"), MAXIMUM_TAPS)
        # The other parity: its error falls with length too, so that the first of it to fail ends the search.
        other = taps - 1
        while self.room == 2 and other >= at_least and self.allowed(other) and self.error(other) <= 1:
            taps, other = other, other - 2
        return taps

    def least_near(self) -> int:
        """The first guess if it uses its limits up well, or if its neighbor below fails; else searched in full."""
        guess = self.first_guess
        if guess is None or not self.allowed(guess) or self.error(guess) > 1:
            return self.least()
        if self.settle(guess).error > WELL_USED:
            return guess
        if guess > 1 and self.allowed(guess - 1) and self.error(guess - 1) <= 1:
            return self.least()
        return guess

    def _least_of_parity(self, start: int, at_least: int, rate: float, most: int) -> int | None:
        """Bracket the least length that keeps the limits, then close in by the slope of log error.

        None if no length up to ``most`` does.
        """
        floor = at_least + (start - at_least) % 2
        floor = floor if self.allowed(floor) else floor + 2
        low, high = floor - 2, 0
        taps = max(start, floor)
        while not high or high - low > self.room:
            before = high - low
            error = self.error(taps)
            if error <= 1:
                high = taps
                if taps == floor:
                    break
            else:
                low = taps
            reach = max(2, 2 * round(abs(np.log(max(error, 1e-12))) / rate / 2))
            foreseen = self._foreseen()
            if not high:
                top = most - (most - start) % 2
                if low >= top:
                    return None
                if foreseen is not None:
                    # What lies below 1 is only known to: a step of its own where the two have said too little.
                    reach = max(2 * int(np.ceil((foreseen - low) / 2)), self.room)
                taps = min(low + min(reach, 2 * max(low, 16) // 2 * 2), top)
            elif low < floor:
                if foreseen is not None and foreseen < high:
                    reach = max(2 * int((high - foreseen) // 2), self.room)
                taps = max(high - min(reach, max(2, high // 4 * 2)), floor)
            else:
                taps = self._between(low, high)
                if self.room > 2:
                    taps = max(min(taps, high - self.room), low + 2)
                # Half way where the last guess hardly helped, for errors below 1 are only as good as they had to be; unless the
                # next length is likely to be the one.
                if taps > low + 2 and 0 < before < 2 * (high - low):
                    taps = low + max(2, (high - low) // 4 * 2)
        return high

    def _start(self, taps: int) -> np.ndarray | None:
        """The reference of the nearest length designed so far, if near enough to be of use."""
        if not self.references:
            return None
        near = min(self.references, key=lambda count: (abs(count - taps), count % 2 != taps % 2))
        return self.references[near] if abs(near - taps) <= max(8, taps // 4) else None

    def _between(self, low: int, high: int) -> int:
        """The length at which the error would be 1, its logarithm on a line between two lengths of one parity."""
        above, below = np.log(self.verdicts[low]), -np.log(max(self.verdicts[high], 1e-12))
        share = above / (above + below) if above + below > 0 else 0.5
        return int(np.clip(low + 2 * round(share * (high - low) / 2), low + 2, high - 2))

    def _exchange(
        self, problem: Problem, start: np.ndarray | None, levelled: float = LEVELLED
    ) -> Approximation:  # fmt: skip
        quick = self._drafted(problem, start)
        return quick or exchange(problem, start, False, self.is_stopped, DRAFTED if self.is_draft else levelled)

    def _drafted(self, problem: Problem, start: np.ndarray | None) -> Approximation | None:
        if self.is_repeatable or start is None:
            return None
        return drafted(problem, start, DRAFTED)

    def _grown(self, problem: Problem, levelled: float = LEVELLED) -> Approximation:
        """Start from a filter of half the length, settled first, its reference stretched (Filip 2016). A verdict alone
        starts as well from one that is levelled in the rough."""
        if problem.unknowns <= LARGEST_FRESH_START:
            return self._exchange(problem, None, levelled)
        shorter = replace(problem, taps=2 * (problem.taps // 4) + problem.taps % 2)
        return self._exchange(problem, self._grown(shorter, levelled).reference, levelled)

    def _width_of(self, hardest: tuple[Band, Band] | None) -> float:
        """The transition that the length depends on, in cycles per sample; where none is known the narrowest."""
        bands = self.requirement.bands
        pairs = [hardest] if hardest is not None else list(zip(bands, bands[1:]))
        widths = [width for left, right in pairs if (width := right.start_hz - left.stop_hz) > 0]
        return max(min(widths, default=self.requirement.nyquist_hz) / self.requirement.sample_rate_hz, 1e-9)
