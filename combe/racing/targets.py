"""What a realization costs where it is to run: estimated at once, measured by the emulator or by synthesis."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Protocol

from msgspec import Struct

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import ARCHITECTURES, USUAL_CLOCK_HZ, HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.designing.costs import cost_of_design, cycles_of_design
from combe.designing.designed import Design
from combe.errors import CombeError, FormatError
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.proof.budget import BudgetRow, Calibration, budget
from combe.proof.device_budget import CAPACITY, PARTS
from combe.proof.synthesis import synthesized
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, TapSum

USUAL_CORE_HZ = 80e6
BLOCK = 256
WORD_BITS = 16
"""Coefficients up to here cost a core with dual multiplies, and a block of the smallest device, the least."""
BLOCK_BITS = {"ecp5": 18}
LONG_SUMS = 1.1
"""What sums above two words cost an instruction's work, about."""
ALL_SHARES = 1e-3
NONE_THERE = 1e3
"""A share for what a device has nothing of."""


class Way(Struct, frozen=True):
    """One way to build a realization (an architecture; empty on a core), what it costs by an estimate, and the order in which
    it stands by that."""

    architecture: str
    order: float
    cost: dict[str, Any]


class Target(Protocol):
    """A core or a device with its clock."""

    @property
    def coefficient_bits(self) -> int:
        """Up to here a coefficient costs no more."""

    def estimate(self, design: Design) -> float:
        """What a design will about cost, to be compared with others."""

    def ways(self, realization: Realization, design: Design) -> Iterator[Way]:
        """All ways to build it that keep up with its samples."""

    def measured(self, realization: Realization, way: Way) -> Way | None:
        """The same with counted figures; None where the tools aren't there, or can't."""


class Core(Struct, frozen=True):
    """A processor: cycles a sample, by instructions counted on the emulator."""

    name: str
    clock_hz: float

    @property
    def coefficient_bits(self) -> int:
        """Those of a word."""
        return WORD_BITS

    def estimate(self, design: Design) -> float:
        """Cycles a sample."""
        return cycles_of_design(design, self.name)

    def ways(self, realization: Realization, design: Design) -> Iterator[Way]:
        """There is one: C."""
        cycles = self.estimate(design)
        if coefficient_bits(realization) > WORD_BITS:
            cycles *= 2
        elif any(isinstance(stage, TapSum) and stage.accumulator.bits > 2 * WORD_BITS for stage in realization.stages):
            cycles *= LONG_SUMS
        yield from self._way(realization, cycles, {})

    def _way(self, realization: Realization, cycles: float, more: dict[str, Any]) -> Iterator[Way]:
        share = cycles * realization.sample_rate_hz / self.clock_hz
        if share <= 1 or realization.sample_rate_hz <= 2:
            cost = {
                "cycles_per_sample": round(cycles, 3),
                **more,
                "share": round(share, 9),
                "clock_mhz": self.clock_hz / 1e6,
            }
            yield Way("", cycles, cost)

    def measured(self, realization: Realization, way: Way) -> Way | None:
        """Blocks of 256, intrinsics where the core has them."""
        calibration = Calibration(self.name, self.clock_hz, CYCLES_PER_INSTRUCTION[self.name])
        try:
            rows = [row for row in budget(realization, calibration, (), ("intrinsics",)) if isinstance(row, BudgetRow)]
        except CombeError:
            return None
        row = next((row for row in rows if row.block == BLOCK), None)
        if row is None:
            return None
        more = {"instructions_per_sample": round(row.instructions, 3)}
        return next(self._way(realization, row.cycles, more), None)


class Device(Struct, frozen=True):
    """A programmable device: the largest share of what it holds, by synthesis, and the clock by placing."""

    name: str
    clock_hz: float

    @property
    def coefficient_bits(self) -> int:
        """Those of a multiplier block."""
        return BLOCK_BITS.get(self.name, WORD_BITS)

    def estimate(self, design: Design) -> float:
        """Multiplies and words: what any architecture has to do and to keep."""
        cost = cost_of_design(design)
        return cost.multiplies + 0.1 * cost.delays

    def ways(self, realization: Realization, design: Design) -> Iterator[Way]:
        """Every architecture that keeps up at the clock."""
        for architecture in ARCHITECTURES:
            try:
                built = build_circuit(realization, "filter_raced", self._choices(architecture))
            except CombeError:
                continue
            needed = built.clocks * realization.sample_rate_hz
            if needed > self.clock_hz and realization.sample_rate_hz > 2:
                continue
            count = built.count
            # Of a multiplierless circuit adders are all there is; a bit of a register goes into a cell with its adder.
            cells = count.registers + 16 * count.adders
            cost = {"registers": count.registers, "multipliers": count.multipliers, "adders": count.adders}
            amounts = {"luts": cells, "registers": count.registers, "multipliers": count.multipliers, "memories": 0}
            yield Way(architecture, self._order(amounts), cost | self._clocks(built.clocks, needed))

    def _choices(self, architecture: str) -> HardwareChoices:
        return HardwareChoices(architecture, clock_hz=self.clock_hz)

    @staticmethod
    def _clocks(clocks: int, needed_hz: float) -> dict[str, Any]:
        return {"clocks_per_sample": clocks, "needed_mhz": round(needed_hz / 1e6, 6)}

    def _shares(self, amounts: dict[str, int]) -> list[float]:
        room = CAPACITY[self.name]
        return [amounts[part] / room[part] if room[part] else NONE_THERE * bool(amounts[part]) for part in PARTS]

    def _order(self, amounts: dict[str, int]) -> float:
        """The largest share; where that is the same, all of them."""
        shares = self._shares(amounts)
        return max(shares) + ALL_SHARES * sum(shares)

    def measured(self, realization: Realization, way: Way) -> Way | None:
        """Synthesized, and placed where the device's placer is there."""
        choices = self._choices(way.architecture)
        cells = synthesized(hdl_package(realization, "verilog", "filter_raced", choices=choices), self.name)
        if cells.failure:
            return None
        amounts = {part: getattr(cells, part) for part in PARTS}
        share = max(self._shares(amounts))
        if share > 1 or (
            cells.clock_hz and realization.sample_rate_hz > 2 and cells.clock_hz < way.cost["needed_mhz"] * 1e6
        ):
            return Way(way.architecture, float("inf"), {})
        clock = {"clock_mhz": round(cells.clock_hz / 1e6, 3)} if cells.clock_hz else {}
        more = {key: way.cost[key] for key in ("clocks_per_sample", "needed_mhz")}
        return Way(
            way.architecture, self._order(amounts), {**amounts, **clock, **more, "largest_share": round(share, 6)}
        )


def target_named(name: str, clock_hz: float = 0.0) -> Core | Device:
    """A core or device by its name.

    Raises
    ------
    FormatError
        If there is none of that name.
    """
    if name in CYCLES_PER_INSTRUCTION:
        return Core(name, clock_hz or USUAL_CORE_HZ)
    if name in CAPACITY:
        return Device(name, clock_hz or USUAL_CLOCK_HZ)
    known = ", ".join([*CYCLES_PER_INSTRUCTION, *CAPACITY])
    raise FormatError(f'"{name}" is no core or device', "--target", f"known are {known}")


def coefficient_bits(realization: Realization) -> int:
    """The widest coefficient of all."""
    widths = [1]
    for stage in realization.stages:
        if isinstance(stage, TapSum):
            widths.append(stage.coefficient.bits)
        elif isinstance(stage, (Network, Section)):
            widths += [entry.bits for entry in stage.coefficient_formats]
    return max(widths)
