"""All filters of a project on one core, or all their circuits on one device: one row a filter, one share for each thing they share."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator

from msgspec import Struct

from combe.proof.budget import Calibration, Share, shared
from combe.proof.device_budget import CAPACITY, PARTS, Circuit, CircuitShare, shared_device
from combe.requirement.quantities import frequency_text, short


class Taker(Struct, frozen=True):
    """What one filter takes: amounts in words and as shares of what there is, in the order of the parts; how it is built;
    ``failure`` why it has none, or doesn't keep up with its samples."""

    name: str
    sample_rate_hz: float
    how: str = ""
    amounts: tuple[str, ...] = ()
    shares: tuple[float, ...] = ()
    failure: str = ""


class Together(Struct, frozen=True):
    """``place`` is what all stand on, ``parts`` the things they share, ``count`` how many filters there are in all."""

    place: str = ""
    parts: tuple[str, ...] = ()
    takers: tuple[Taker, ...] = ()
    count: int = 0
    clock_hz: float = 0.0
    """Of a core; the circuits of a device have their own."""

    @property
    def totals(self) -> tuple[float, ...]:
        """What all take together, as shares."""
        return tuple(sum(each.shares[k] for each in self.takers if each.shares) for k in range(len(self.parts)))

    @property
    def is_whole(self) -> bool:
        """Whether every filter has its row."""
        return bool(self.count) and len(self.takers) == self.count

    @property
    def fits(self) -> bool:
        """Whether all are there, keep up with their samples and find room."""
        return self.is_whole and all(share <= 1 for share in self.totals) and not any(t.failure for t in self.takers)

    def sentence(self) -> str:
        """The verdict."""
        if not self.is_whole:
            return f"{len(self.takers)} of {self.count} filters on {self.place}"
        tightest = max(zip(self.totals, self.parts), default=(0.0, ""))
        if self.fits:
            return f"All {self.count} filters find room on {self.place}: {percent(tightest[0])} of the {tightest[1]}, the tightest."
        failed = [each.name for each in self.takers if each.failure]
        reasons = [f"{percent(share)} of the {part}" for share, part in zip(self.totals, self.parts) if share > 1]
        if self.clock_hz and self.totals[0] > 1:
            enough = frequency_text(float(f"{self.totals[0] * self.clock_hz:.3g}"))
            reasons = [f"{reasons[0]}, {enough} would do"]
        reasons += [f"{', '.join(failed)} can't be had or doesn't keep up"] if failed else []
        return f"They don't find room on {self.place}: {'; '.join(reasons)}."


NAMES = tuple({"luts": "LUTs"}.get(part, part) for part in PARTS)

Candidate = Circuit | Taker
"""A filter to be built or counted; or one that can't be, with its reason."""


def percent(share: float) -> str:
    """A share in words; more than there can be where there is none at all."""
    return "more than there are" if math.isinf(share) else f"{short(float(f'{100 * share:.3g}'), 4)} %"


def on_device(filters: Iterable[Candidate], device: str, count: int) -> Iterator[Together]:
    """Each circuit synthesized, as it is done.

    Raises
    ------
    FormatError
        If what the device holds isn't known.
    """
    found: list[Taker] = []
    for each in filters:
        if isinstance(each, Taker):
            found.append(each)
        else:
            found += [_built(share, device) for share in shared_device([each], device)]
        yield Together(device, NAMES, tuple(found), count)


def _built(each: CircuitShare, device: str) -> Taker:
    cells = each.cells
    if cells is None or cells.failure:
        return Taker(each.name, each.sample_rate_hz, failure=each.failure)
    amounts = [getattr(cells, part) for part in PARTS]
    shares = tuple(_share(amount, CAPACITY[device][part]) for amount, part in zip(amounts, PARTS))
    clock = f", placed at {frequency_text(float(f'{cells.clock_hz:.3g}'))}" if cells.clock_hz else ""
    needed = frequency_text(float(f"{each.needed_hz:.3g}"))
    how = f"{each.architecture}, {each.clocks} clocks a sample: needs {needed}{clock}"
    return Taker(each.name, each.sample_rate_hz, how, tuple(str(amount) for amount in amounts), shares, each.failure)


def _share(amount: int, room: int) -> float:
    return amount / room if room else math.inf if amount else 0.0


def on_core(
    filters: Iterable[Candidate], calibration: Calibration, core: str, block: int, count: int
) -> Iterator[Together]:  # fmt: skip
    """Each filter's instructions counted, as it is done."""
    place = f"{core} at {frequency_text(calibration.clock_hz)}"
    found: list[Taker] = []
    for each in filters:
        if isinstance(each, Taker):
            found.append(each)
        else:
            found += [_counted(share) for share in shared([(each.name, each.realization)], calibration, block)]
        yield Together(place, ("clock",), tuple(found), count, calibration.clock_hz)


def _counted(each: Share) -> Taker:
    if each.cycles is None or each.share is None:
        return Taker(each.name, each.sample_rate_hz, failure=each.failure)
    return Taker(each.name, each.sample_rate_hz, "", (f"{each.cycles:.1f} cycles a sample",), (each.share,))
