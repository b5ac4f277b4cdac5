"""What a filter costs a processor: instructions counted on the emulator, turned into shares of its clock."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

from msgspec import Struct

from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.ledger.cycles import CYCLES_PER_INSTRUCTION
from combe.proof.cores import TargetProof, prove_on_target
from combe.proof.process import stoppable
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.requirement.quantities import frequency_text
from combe.values import replace

VARIANTS = ("integer", "intrinsics", "converter codes", "single")
MOST_BUDGET_TAPS = 1024
MOST_COUNTED = 128
_counted: dict[tuple[str, Realization, str, str], TargetProof] = {}
"""What was counted last."""


class Calibration(Struct, frozen=True):
    """A core's clock, and how many cycles an instruction takes on it: typical, typed in, or from a measured timer count."""

    core: str
    clock_hz: float
    cycles_per_instruction: float
    is_measured: bool = False

    @staticmethod
    def usual(core: str, clock_hz: float) -> Calibration:
        """Typical for the core."""
        return Calibration(core, clock_hz, CYCLES_PER_INSTRUCTION[core])


class BudgetRow(Struct, frozen=True):
    """One variant in one block length. ``taps`` is 0 where the filter is the one in hand."""

    variant: str
    block: int
    taps: int
    instructions: float
    cycles: float
    share: float
    highest_rate_hz: float
    cycles_left: float

    def document(self) -> dict[str, Any]:
        """As ``--json`` prints it."""
        return {
            "variant": self.variant, "block": self.block, "taps": self.taps, "instructions_per_sample": self.instructions,
            "cycles_per_sample_estimated": self.cycles, "share": self.share, "highest_rate_hz": self.highest_rate_hz,
            "cycles_left_per_second": self.cycles_left,
        }  # fmt: skip


def budget(
    realization: Realization,
    calibration: Calibration,
    lengths: tuple[int, ...] = (),
    variants: tuple[str, ...] = VARIANTS,
    is_stopped: Callable[[], bool] = lambda: False,
) -> Iterator[BudgetRow | str]:
    """Rows as they are measured, sentences for what could not be; for the filter itself, then for other lengths of taps."""
    for taps in (0, *lengths):
        made = with_taps(realization, taps) if taps else realization
        for variant in variants:
            if is_stopped():
                return
            choices = variant_choices(variant, made)
            if choices is None:
                continue
            try:
                package = c_package(made, "filter_in_budget", choices=choices)
            except FormatError as error:
                yield f"{variant}: {error.sentence()}"
                continue
            with stoppable(is_stopped):
                proof = _proved(package, made, calibration.core, variant)
            if not proof.holds:
                yield f"{variant}: {proof.sentence()}"
                continue
            for block, instructions in proof.instructions.items():
                yield budget_row(variant, block, taps, instructions, realization.sample_rate_hz, calibration)


def _proved(package: Package, made: Realization, core: str, variant: str) -> TargetProof:
    """The proof of a variant on a core: the same text isn't counted again because a clock is another."""
    key = (package.checksum, made, core, variant)
    found = _counted.get(key)
    if found is None:
        found = prove_on_target(package, made, core, variant != "intrinsics", with_codes=variant == "converter codes")
        if found.holds:
            while len(_counted) >= MOST_COUNTED:
                _counted.pop(next(iter(_counted)))
            _counted[key] = found
    return found


class Share(Struct, frozen=True):
    """What one filter of a device takes of the clock they all share; without figures where it can't be counted, and why."""

    name: str
    sample_rate_hz: float
    cycles: float | None = None
    share: float | None = None
    failure: str = ""

    def document(self) -> dict[str, Any]:
        """As ``--json`` prints it."""
        return {
            "name": self.name, "sample_rate_hz": self.sample_rate_hz, "cycles_per_sample_estimated": self.cycles,
            "share": self.share, "failure": self.failure,
        }  # fmt: skip


def shared(filters: Sequence[tuple[str, Realization]], calibration: Calibration, block: int) -> Iterator[Share]:
    """All filters of a device on one core, each at its own rate, in blocks nearest to a length: intrinsics where the core has
    them."""
    for name, made in filters:
        rows: list[BudgetRow] = []
        failure = ""
        for each in budget(made, calibration, (), ("intrinsics",)):
            if isinstance(each, BudgetRow):
                rows.append(each)
            else:
                failure = each
        if not rows:
            yield Share(name, made.sample_rate_hz, failure=failure or "nothing was counted")
            continue
        row = min(rows, key=lambda row: abs(row.block - block))
        yield Share(name, made.sample_rate_hz, row.cycles, row.share)


def budget_row(
    variant: str, block: int, taps: int, instructions: float, rate_hz: float, calibration: Calibration
) -> BudgetRow:  # fmt: skip
    """Shares and rates that follow from instructions a sample."""
    cycles = instructions * calibration.cycles_per_instruction
    share = cycles * rate_hz / calibration.clock_hz
    left = calibration.clock_hz - cycles * rate_hz
    return BudgetRow(variant, block, taps, instructions, cycles, share, calibration.clock_hz / cycles, left)


def variant_choices(variant: str, made: Realization) -> CodeChoices | None:
    """How a variant is generated; nothing where it would be the same as another."""
    if variant == "intrinsics":
        return CodeChoices()
    if variant == "converter codes":
        bits = min(12, made.input.bits)
        return CodeChoices(converter_in=str(bits), converter_out=str(bits)) if made.input.signed and bits > 1 else None
    return CodeChoices(number="single") if variant == "single" else CodeChoices()


def with_taps(realization: Realization, count: int) -> Realization:
    """The same arithmetic with another number of taps: the coefficients repeated or cut, the accumulator made to fit.

    Raises
    ------
    FormatError
        If it has no taps, or the number is out of reach.
    """
    if not 1 <= count <= MOST_BUDGET_TAPS:
        raise FormatError(f"{count} taps are out of reach", "taps", f"1 to {MOST_BUDGET_TAPS}")
    stage = realization.stages[0]
    if not isinstance(stage, TapSum):
        raise FormatError("other lengths go with taps", "taps", "leave them out for sections")
    values = (stage.coefficients * -(-count // len(stage.coefficients)))[:count]
    changed = replace(stage, coefficients=values, form="direct", branches=1)
    changed = replace(changed, accumulator=needed_accumulator(changed, realization.input))
    after = [replace(each, source=changed.accumulator) if k == 0 and isinstance(each, Requantize) else each
             for k, each in enumerate(realization.stages[1:])]  # fmt: skip
    output = realization.output if after else changed.accumulator
    return replace(realization, output=output, stages=(changed, *after))


def calibrated(core: str, clock_hz: float, typed: str, instructions: float | None = None) -> Calibration:
    """A calibration from what was typed: nothing (typical), ``1.4`` cycles an instruction, or a timer's ``cycles/samples``
    for a run whose instructions a sample are known.

    Raises
    ------
    FormatError
        If it's none of these.
    """
    if core not in CYCLES_PER_INSTRUCTION:
        known = ", ".join(CYCLES_PER_INSTRUCTION)
        raise FormatError(f'"{core}" is not a processor Combe builds for', "core", f"known are {known}")
    if not 1e3 <= clock_hz <= 1e11:
        raise FormatError(
            f"a clock of {frequency_text(clock_hz)} is out of reach", "clock", "it runs from 1 kHz to 100 GHz"
        )
    text = typed.strip()
    if not text:
        return Calibration.usual(core, clock_hz)
    try:
        if "/" in text:
            cycles, samples = (float(part) for part in text.split("/"))
            factor = cycles / samples / (instructions or float("nan"))
        else:
            factor = float(text)
    except (ValueError, ZeroDivisionError):
        factor = float("nan")
    if not 0.05 <= factor <= 50:
        what = f"{typed!r} gives no cycles an instruction"
        raise FormatError(what, "measured", "type a number such as 1.3, or a timer's count as cycles/samples")
    return Calibration(core, clock_hz, factor, True)


__all__ = ["BudgetRow", "Calibration", "budget", "budget_row", "calibrated", "variant_choices", "with_taps"]
