"""How stages in a row that change the rate move, clock by clock: a model of their flags, from which the clocks they take follow.

A stage takes a sample where it is idle and begins an output where one is due and the next stage has room for it. Only clocks at
which something can happen are looked at.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from bisect import bisect_left
from math import ceil, gcd, prod

from msgspec import Struct

from combe.realization.cic import Cic
from combe.realization.network import Network
from combe.realization.stages import TapSum

MOST_SAMPLES = 4000
"""That are followed, where the flags don't come back to what they were before, to see whether one waits."""
MOST_QUEUED = 8
"""Values that a stage has room for."""
ENDLESS = 1 << 20
"""Room for all that may come."""
MOST_OFFERED = 400
"""Where one is always offered, so many."""
MOST_CLOCKS = 20_000
"""After which no more are, but the first two."""
MARGIN = 4
"""Outputs that a burst which begins elsewhere in the cycle of phases may bring on top of those of one after a reset, and those in the
registers behind the last stage."""


class Pace(Struct, frozen=True):
    """How a stage moves: what it is, clocks from the start of an output (of the first phase) until it arrives at the next, clocks
    that taps are gone through by phase, and those of a network's turn."""

    stage: TapSum | Cic | Network
    clocks: int
    counts: tuple[int, ...] = ()
    turn: int = 0
    queue: int = 0
    """Values for which it has room, with those on their way; none where it takes what comes from outside at once."""

    @property
    def before(self) -> int:
        """Clocks from a sample until an output begins."""
        if isinstance(self.stage, Cic):
            return 0 if self.stage.down > 1 else self.stage.order + 1
        return self.turn if isinstance(self.stage, Network) else 1

    def interval(self) -> int:
        """Clocks from output to output, at least."""
        if self.turn:
            return 1 if self.stage.up > 1 and not self.is_phased else self.turn
        return min(self.counts, default=self.stage.down)

    @property
    def is_phased(self) -> bool:
        """Whether each output is computed by itself."""
        return isinstance(self.stage, Network) and self.stage.phase is not None

    def wanted_queue(self, clocks: int, interval: int) -> int:
        """Values to have room for so that none has to be begun late: those on their way for so many clocks, one in ``interval`` or as
        they are taken in, and those that wait, which a network takes together."""
        up, down = self.stage.up, self.stage.down
        if self.counts:
            apart = sum(self.counts) // down
        else:
            apart = (self.turn * up if self.is_phased else max(self.turn, up)) // down
        together = -(-down // up) if self.turn else 1
        return min(together + (ceil((clocks + 1) / max(interval, apart, 1)) if clocks else 0), MOST_QUEUED)


class Offered(Struct, frozen=True):
    """What happens after a reset where a sample is always offered."""

    taken: list[int]
    """The clocks at which samples are taken."""
    owed: int
    """No fewer than the outputs that may follow once no sample is taken any more."""


class Row(Struct, frozen=True):
    """Stages in a row; ``before`` are the clocks that each sample takes to the first of them, where something stands there."""

    paces: tuple[Pace, ...]
    before: int
    has_before: bool

    @property
    def cycle(self) -> int:
        """Samples after which every stage is at the phase it began with."""
        return prod(pace.stage.down // gcd(pace.stage.up, pace.stage.down) for pace in self.paces)

    @property
    def _samples(self) -> int:
        """All phases of all stages twice over, and then some."""
        return min(2 * self.cycle + 4 * len(self.paces) + 8, MOST_OFFERED)

    def always_offered(self) -> Offered:
        """Followed through all phases of all stages."""
        run = _Run(self)
        run.through(self._samples)
        return Offered(run.taken, run.most_owed + MARGIN)

    def keeps_up(self, apart: int) -> bool:
        """Whether samples that come evenly, one in so many clocks, are all taken at once: until all flags are again what they were."""
        run, cycle = _Run(self, apart), self.cycle
        state: tuple[object, ...] = ()
        for count in range(cycle, max(MOST_SAMPLES, 2 * cycle) + 1, cycle):
            if not run.through(count):
                return False
            before, state = state, run.state()
            if state == before:
                break
        return True

    def clocks_a_sample(self) -> int:
        """The fewest clocks from sample to sample that come evenly such that none waits."""
        enough = 1
        while not self.keeps_up(enough):
            enough *= 2
        return bisect_left(range(enough), True, lo=enough // 2 + 1, key=self.keeps_up) if enough > 1 else 1


class _Moving(ABC):
    """A stage as it stands at a clock."""

    def __init__(self, pace: Pace) -> None:
        self.pace = pace
        self.on_the_way = 0
        """Values that were sent here and aren't taken."""
        self.waiting = 0
        """Of these, such as have come."""
        self.is_due = False
        self.ready_at = 0
        """From this clock on an output that is due may begin."""
        self.phase = 0
        self.to_wait = 0
        """Samples until one begins an output."""

    def is_idle(self, clock: int, is_free: bool) -> bool:
        """Whether a sample would be taken."""
        return not self.is_due

    def state(self, clock: int) -> tuple[int, ...]:
        """All that the future depends on."""
        return self.on_the_way, self.waiting, self.is_due, max(self.ready_at - clock, 0), self.phase, self.to_wait

    def next_at(self, clock: int) -> list[int]:
        """Clocks to come at which something may happen by itself."""
        return [self.ready_at] if self.is_due and self.ready_at > clock else []

    def begins(self, clock: int, arrives: bool, is_free: bool) -> bool:
        """Whether an output begins."""
        return self.is_due and clock >= self.ready_at and is_free

    def more(self) -> int:
        """Clocks that the output takes besides those of one of the first phase."""
        return 0

    @abstractmethod
    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        """On to the next clock."""


class _Taps(_Moving):
    def is_idle(self, clock: int, is_free: bool) -> bool:
        """Also where the last output before another sample begins."""
        stage = self.pace.stage
        return not self.is_due or (self.begins(clock, False, is_free) and self.phase + stage.down >= stage.up)

    def more(self) -> int:
        return self.pace.counts[self.phase] - self.pace.counts[0]

    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        stage = self.pace.stage
        if begins:
            self.ready_at = clock + self.pace.counts[self.phase]
            ahead, self.phase = divmod(self.phase + stage.down, stage.up)
            self.is_due, self.to_wait = ahead == 0, max(ahead - 1, 0)
        if arrives:
            self.is_due, self.to_wait = self.to_wait == 0, max(self.to_wait - 1, 0)
            self.ready_at = max(self.ready_at, clock + 1)


class _SumsDown(_Moving):
    def is_idle(self, clock: int, is_free: bool) -> bool:
        return self.to_wait != 0 or is_free

    def begins(self, clock: int, arrives: bool, is_free: bool) -> bool:
        return arrives and self.to_wait == 0

    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        if arrives:
            self.to_wait = (self.to_wait or self.pace.stage.down) - 1


class _SumsUp(_Moving):
    """A value goes through the combs and waits there while the one before is taken ``up`` times."""

    def __init__(self, pace: Pace) -> None:
        super().__init__(pace)
        self.combed_at = -1
        """The clock at which the value that is waited for is through the combs; -1 where none is."""

    def is_idle(self, clock: int, is_free: bool) -> bool:
        return self.combed_at < 0

    def state(self, clock: int) -> tuple[int, ...]:
        return *super().state(clock), max(self.combed_at - clock, 0) if self.combed_at >= 0 else -1

    def next_at(self, clock: int) -> list[int]:
        return [*super().next_at(clock), *([self.combed_at] if self.combed_at > clock else [])]

    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        stage = self.pace.stage
        assert isinstance(stage, Cic)
        if begins:
            self.phase += 1
            self.is_due = self.phase < stage.up
        if 0 <= self.combed_at <= clock and not self.is_due:
            self.is_due, self.ready_at, self.phase, self.combed_at = True, clock + 1, 0, -1
        if arrives:
            self.combed_at = clock + stage.order


class _Turns(_Moving):
    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        stage = self.pace.stage
        if arrives and self.to_wait == 0:
            self.is_due, self.ready_at, self.phase = True, clock + self.pace.turn, 0
        if arrives:
            self.to_wait = (self.to_wait or stage.down) - 1
        if begins:
            self.phase += 1
            self.is_due = self.phase < stage.up


class _Phased(_Moving):
    """Outputs are due at a sample, or at once after the one before; ``phase`` counts parts of a sample."""

    def move(self, clock: int, arrives: bool, begins: bool) -> None:
        stage = self.pace.stage
        if arrives and self.to_wait == 0:
            self.is_due, self.ready_at = True, clock + self.pace.turn
        elif arrives:
            self.to_wait -= 1
        if begins:
            ahead, self.phase = divmod(self.phase + stage.down, stage.up)
            self.is_due, self.ready_at = ahead == 0, clock + self.pace.turn
            self.to_wait = max(ahead - 1, 0)


def _moving(pace: Pace) -> _Moving:
    if isinstance(pace.stage, Network):
        return _Turns(pace) if pace.stage.phase is None else _Phased(pace)
    if isinstance(pace.stage, Cic):
        return _SumsDown(pace) if pace.stage.down > 1 else _SumsUp(pace)
    return _Taps(pace)


class _Run:
    """From a reset on; ``taken`` are the clocks at which samples were, always offered or one in ``apart`` clocks."""

    def __init__(self, row: Row, apart: int = 0) -> None:
        self._row = row
        self._apart = apart
        self._stages = [_moving(pace) for pace in row.paces]
        self._arriving: list[tuple[int, int]] = []
        self._given = 0
        self._clock = 0
        self.taken: list[int] = []
        self.most_owed = 0

    def through(self, samples: int) -> bool:
        """On until so many samples are taken; whether they are, each at once where they come evenly."""
        apart = self._apart
        while len(self.taken) < samples:
            clock = self._clock
            if not apart and clock > MOST_CLOCKS and len(self.taken) > 1:
                return False
            is_offered = clock == len(self.taken) * apart if apart else True
            is_taken = is_offered and self._has_room(0)
            if apart and is_offered and not is_taken:
                return False
            if is_taken:
                self.taken.append(clock)
                self._arriving.append((clock + self._row.before, 0))
            has_moved = self._step(clock, is_taken)
            self._clock = clock + 1 if has_moved else max(clock + 1, self._next(clock))
        return True

    def state(self) -> tuple[object, ...]:
        """All that the future depends on."""
        clock = self._clock
        return *(one.state(clock) for one in self._stages), *((at - clock, k) for at, k in self._arriving)

    def _has_room(self, k: int) -> bool:
        """Whether a value for the stage may be begun; for the first, whether a sample is taken."""
        if k == len(self._stages):
            return True
        stage = self._stages[k]
        if stage.pace.queue:
            return stage.on_the_way < stage.pace.queue
        is_direct = k == 0 and not self._row.has_before
        return stage.is_idle(self._clock, self._has_room(k + 1)) and (is_direct or not stage.on_the_way)

    def _step(self, clock: int, is_taken: bool) -> bool:
        """All stages at a clock; whether anything happened."""
        arrived = [k for at, k in self._arriving if at == clock]
        self._arriving = [one for one in self._arriving if one[0] > clock]
        self._given += arrived.count(len(self._stages))
        has_room = [self._has_room(k + 1) for k in range(len(self._stages))]
        launched = is_taken
        has_moved = is_taken or bool(arrived)
        for k, (stage, is_free) in enumerate(zip(self._stages, has_room)):
            arrives = k in arrived
            accepts = arrives
            if stage.pace.queue:
                accepts = (arrives or stage.waiting > 0) and stage.is_idle(clock, is_free)
            begins = stage.begins(clock, accepts, is_free)
            stage.waiting += arrives - accepts
            stage.on_the_way += launched - accepts
            if begins:
                self._arriving.append((clock + stage.pace.clocks + stage.more(), k + 1))
            stage.move(clock, accepts, begins)
            launched = begins
            has_moved = has_moved or begins or accepts
        self.most_owed = max(self.most_owed, self._outputs(len(self.taken)) - self._given)
        return has_moved

    def _outputs(self, count: int) -> int:
        for pace in self._row.paces:
            count = -(-count * pace.stage.up // pace.stage.down)
        return count

    def _next(self, clock: int) -> int:
        """The next clock at which something can happen."""
        times = [at for at, _ in self._arriving]
        times += [at for stage in self._stages for at in stage.next_at(clock)]
        if self._apart:
            times.append(len(self.taken) * self._apart)
        return min(times, default=clock + 1)
