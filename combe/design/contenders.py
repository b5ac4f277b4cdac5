"""Alternatives lined up: what each costs, cheapest first."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from combe.design.designed import Design
from combe.design.methods import design
from combe.errors import CombeError
from combe.filters import Fir
from combe.ledger import Cost, DelaySpan, Line, cost_of, delay_over_passbands, lines_of, meets, worst_line
from combe.requirement import Requirement

Stop = Callable[[], bool]
SHORTER, LONGER = (1, 2), (1, 2, 4, 8)


@dataclass(frozen=True, slots=True)
class Contender:
    """One way to answer a requirement, or the reason why there is none."""

    method: str
    symmetry: int
    order: int
    design: Design | None
    lines: tuple[Line, ...] = ()
    cost: Cost | None = None
    delay: DelaySpan | None = None
    reason: str = ""
    is_shortest: bool = False

    @property
    def keeps(self) -> bool:
        """Whether it keeps every limit."""
        return self.design is not None and meets(self.lines)

    @property
    def spare_db(self) -> float | None:
        """The least margin over all gain limits."""
        worst = worst_line(self.lines)
        return None if worst is None else worst.margin

    def document(self) -> dict[str, Any]:
        """The contender as ``combe contenders --json`` lists it."""
        found: dict[str, Any] = {"method": self.method, "order": self.order, "meets": self.keeps}
        if self.symmetry == -1:
            found["symmetry"] = "antisymmetric"
        if self.design is None or self.cost is None or self.delay is None:
            return found | {"reason": self.reason}
        worst = worst_line(self.lines)
        found |= {
            "kind": self.design.kind, "taps": self.order + 1, "phase": "linear", "spare_db": self.spare_db,
            "cost": {"multiplies": self.cost.multiplies, "adds": self.cost.adds, "delays": self.cost.delays},
            "delay_samples": {"mean": self.delay.mean, "least": self.delay.least, "most": self.delay.most},
            "worst": worst.document() if worst else None, "notes": list(self.design.notes),
        }  # fmt: skip
        return found


def contenders(
    requirement: Requirement, is_stopped: Stop = lambda: False, with_antisymmetric: bool = False
) -> Iterator[Contender]:
    """Equiripple lengths around the shortest, as they are finished: first the shortest itself.

    Antisymmetric taps turn the phase by 90 degrees on top of their delay: they are tried only when asked for.
    """
    shortest = _tried(requirement, None, 1, is_stopped)
    yield shortest
    if shortest.design is not None:
        orders = [shortest.order + step for step in LONGER] + [shortest.order - step for step in SHORTER]
        for order in orders:
            if order >= 0:
                found = _tried(requirement, order, 1, is_stopped)
                if found.design is not None:
                    yield found
    first = requirement.bands[0]
    if with_antisymmetric and not (first.is_passband and first.start_hz == 0):
        turned = _tried(requirement, None, -1, is_stopped)
        if turned.design is not None:
            yield turned


def ranked(found: list[Contender]) -> list[Contender]:
    """Those that keep every limit first, then by multiplies, length and margin."""
    return sorted(
        found, key=lambda c: (not c.keeps, c.cost.multiplies if c.cost else 1 << 30, c.order, c.symmetry == -1)
    )


def _tried(requirement: Requirement, order: int | None, symmetry: int, is_stopped: Stop) -> Contender:
    try:
        found = design(requirement, "equiripple", order, symmetry, is_stopped)
    except CombeError as error:
        return Contender("equiripple", symmetry, order or 0, None, reason=error.sentence(), is_shortest=order is None)
    return contender_of(found, requirement, symmetry, order is None)


def contender_of(found: Design, requirement: Requirement, symmetry: int = 1, is_shortest: bool = False) -> Contender:
    """A design with what it costs."""
    assert isinstance(found.filter, Fir)
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
    return Contender(
        found.method, symmetry, found.order, found, lines_of(found.filter, requirement), cost_of(found.filter),
        delay_over_passbands(found.filter, bands, requirement.sample_rate_hz), "", is_shortest,
    )  # fmt: skip
