"""Sums over a window in a row, many of them, without a multiply: integrators and combs in whole numbers."""

from __future__ import annotations

from functools import lru_cache

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.formats import Format, narrowest_signed
from combe.realization.network import Network, Node

MOST_ORDER, MOST_DELAY = 16, 4


class Cic(Struct, frozen=True):
    """Output m is Σ h[i]·u[m·down − i] with h = (1 + z⁻¹ + … )^order over ``factor``·``delay`` samples, u the input at every
    ``up``-th place and 0 elsewhere; one of ``up`` and ``down`` is 1.

    Built of ``order`` integrators at the higher rate and as many combs at the lower (Hogenauer 1981). They count modulo
    2^bits and come out exact, for the accumulator holds every possible output.
    """

    order: int
    up: int
    down: int
    delay: int
    accumulator: Format
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
        """The least and the largest output any input can cause: all weights are positive, and where the rate goes up an
        output meets those of one phase."""
        most = max(phase_sums(self.order, self.factor * self.delay, self.up))
        return most * source.least, most * source.most


@lru_cache(maxsize=64)
def phase_sums(order: int, length: int, up: int) -> tuple[int, ...]:
    """Σ h[p + k·up] for every phase p of (1 + z⁻¹ + … + z^−(length−1))^order."""
    weights = [1]
    for _ in range(order):
        total, found = 0, []
        for k in range(len(weights) + length - 1):
            total += (weights[k] if k < len(weights) else 0) - (weights[k - length] if k >= length else 0)
            found.append(total)
        weights = found
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
    least, most = stage.span(source)
    if not (stage.accumulator.holds(least) and stage.accumulator.holds(most)):
        what = f"{stage.accumulator} can't hold every output, which run from {least} to {most}"
        needed = Format(True, narrowest_signed(least, most), source.fraction)
        raise FormatError(what, f"{where}.accumulator", f"{needed} is enough")
