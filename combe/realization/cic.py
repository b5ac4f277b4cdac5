"""Sums over a window in a row, many of them, without a multiply: integrators and combs in whole numbers."""

from __future__ import annotations

from functools import lru_cache

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.formats import Format, narrowest_signed
from combe.realization.network import Network, Node
from combe.realization.pruning import error_limits, pruned, reaches, windows
from combe.values import replace

MOST_ORDER, MOST_DELAY = 16, 4
MOST_CUT = 63
"""Bits that are cut off at one place at most."""


class Cic(Struct, frozen=True):
    """Output m is Σ h[i]·u[m·down − i] with h = (1 + z⁻¹ + … )^order over ``factor``·``delay`` samples, u the input at every
    ``up``-th place and 0 elsewhere; one of ``up`` and ``down`` is 1.

    Built of ``order`` integrators at the higher rate and as many combs at the lower (Hogenauer 1981). They count modulo
    2^bits and come out exact, for the accumulator holds every possible output.

    ``discarded``, where the rate goes down, says how many low bits each register leaves out, integrators first (see
    ``pruning``): what arrives is cut there, towards minus infinity. The output keeps the accumulator's format, its own last
    ``discarded`` bits zero, and comes out with the errors of these cuts.
    """

    order: int
    up: int
    down: int
    delay: int
    accumulator: Format
    discarded: tuple[int, ...] = ()
    form: str = "cic"

    @property
    def factor(self) -> int:
        """The change of rate."""
        return max(self.up, self.down)

    @property
    def gain(self) -> int:
        """For a constant, once settled, from input to output."""
        whole: int = (self.factor * self.delay) ** self.order
        return whole // self.up if self.up > 1 else whole

    @property
    def result(self) -> Format:
        """The whole sum is handed on."""
        return self.accumulator

    @property
    def is_recursive(self) -> bool:
        """What the integrators keep is taken back by the combs: it forgets after order·factor·delay samples."""
        return False

    @property
    def overflow(self) -> str:
        """The output never overflows."""
        return "saturate"

    @property
    def accumulators(self) -> tuple[Format, ...]:
        """Of its sums, all of one width."""
        return (self.accumulator,)

    @property
    def coefficient_formats(self) -> tuple[Format, ...]:
        """It multiplies by nothing."""
        return ()

    def network(self, _: Format) -> Network:
        """There is none at one rate."""
        raise FormatError("sums that change the rate have no network at one rate", "stages")

    def title(self, index: int, node: Node) -> str:
        """Its name for people."""
        return "the sums in a row"

    def span(self, source: Format) -> tuple[int, int]:
        """The least and the largest output any input can cause, cuts included: all weights are positive, and where the rate
        goes up an output meets those of one phase."""
        most = max(phase_sums(self.order, self.factor * self.delay, self.up))
        low, high = error_limits(self.discarded, self.order, self.factor, self.delay) if self.discarded else (0, 0)
        return most * source.least + low, most * source.most + high

    @property
    def shifts(self) -> tuple[int, ...]:
        """Bits cut off in front of each register."""
        kept = self.discarded or (0,) * (2 * self.order)
        return tuple(now - before for before, now in zip((0, *kept), kept))

    def register_bits(self, source: Format) -> tuple[int, ...]:
        """How wide each register has to be, in signal order: where the rate goes down as wide as the output less what is
        dropped; where it goes up as what it can hold."""
        if self.up == 1:
            return tuple(self.accumulator.bits - low for low in self.discarded or (0,) * (2 * self.order))
        return tuple(
            min(narrowest_signed(up * source.least - down * source.most, up * source.most - down * source.least), self.accumulator.bits)
            for up, down in reaches(self.order, self.factor, self.delay)
        )  # fmt: skip


def with_pruned_registers(stage: Cic, source: Format, target: Format) -> Cic:
    """The same with registers that leave out low bits, where the rate goes down and a rounding to ``target`` cuts its output.

    What is cut off on the way can take the output a little beyond what it reaches exactly, and then every register is a bit
    wider on top. Where that takes more than is left out, the stage stays as it is.
    """
    if stage.up > 1:
        return stage
    discarded = pruned(stage.order, stage.factor, stage.delay, stage.accumulator.fraction - target.fraction)
    draft = replace(stage, discarded=discarded)
    made = replace(draft, accumulator=Format(True, narrowest_signed(*draft.span(source)), source.fraction))
    return made if sum(made.register_bits(source)) < sum(stage.register_bits(source)) else stage


@lru_cache(maxsize=64)
def phase_sums(order: int, length: int, up: int) -> tuple[int, ...]:
    """Σ h[p + k·up] for every phase p of (1 + z⁻¹ + … + z^−(length−1))^order."""
    weights = windows(order, length)[-1]
    return tuple(sum(weights[phase::up]) for phase in range(up))


def check_cic(stage: Cic, source: Format, where: str) -> None:
    """Raise ``FormatError`` where the sums can't be what they say."""
    if not 1 <= stage.order <= MOST_ORDER:
        raise FormatError(f"{stage.order} sums in a row are out of reach", f"{where}.order", f"take 1 to {MOST_ORDER}")
    if not 1 <= stage.delay <= MOST_DELAY:
        raise FormatError(f"a delay of {stage.delay} is out of reach", f"{where}.delay", f"take 1 to {MOST_DELAY}")
    if min(stage.up, stage.down) != 1 or stage.factor < 2:
        raise FormatError(
            f"up {stage.up} and down {stage.down} don't make a cic",
            f"{where}.up",
            "one of them is 1, the other 2 or more",
        )
    if stage.accumulator.fraction != source.fraction:
        what = f"{stage.accumulator} has its binary point in the wrong place"
        raise FormatError(what, f"{where}.accumulator", f"whole sums keep the input's {source.fraction} fraction bits")
    if stage.discarded:
        _check_discarded(stage, where)
    least, most = stage.span(source)
    if not (stage.accumulator.holds(least) and stage.accumulator.holds(most)):
        what = f"{stage.accumulator} can't hold every output, which run from {least} to {most}"
        needed = Format(True, narrowest_signed(least, most), source.fraction)
        raise FormatError(what, f"{where}.accumulator", f"{needed} is enough")


def _check_discarded(stage: Cic, where: str) -> None:
    """Raise ``FormatError`` where registers can't leave out these bits."""
    place, bits, count = f"{where}.discarded", list(stage.discarded), 2 * stage.order
    if stage.up > 1:
        what = "where the rate goes up the integrators would add up for ever what is cut off before them"
        raise FormatError(what, place, "leave it out")
    if len(bits) != count:
        raise FormatError(f"{len(bits)} counts of bits for {count} registers", place, f"give {count}")
    if bits != sorted(bits) or bits[0] < 0:
        raise FormatError(f"{bits} go down on the way", place, "give counts from 0 on that never fall")
    if max(stage.shifts) > MOST_CUT:
        raise FormatError(
            f"{max(stage.shifts)} bits are cut off at once", place, f"take {MOST_CUT} or fewer at one register"
        )
    if bits[-1] > stage.accumulator.bits - 2:
        most = stage.accumulator.bits - 2
        raise FormatError(f"{bits[-1]} of {stage.accumulator.bits} bits leave nothing", place, f"take {most} or fewer")
