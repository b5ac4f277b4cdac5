"""Which architecture suits a filter, with how many multipliers, and what is told where one doesn't."""

from __future__ import annotations

from combe.delivery.hdl.choices import USUAL_CLOCK_HZ, HardwareChoices
from combe.delivery.hdl.circuit import BIT, UNSIGNED, Circuit
from combe.delivery.hdl.ends import arriving, converters
from combe.delivery.hdl.fir_pairs import Pairs, clocks_of_taps, is_paired
from combe.delivery.hdl.fir_polyphase import fewest_lanes
from combe.delivery.hdl.parts import Builder, Stream, inner_width
from combe.delivery.hdl.rate_row import Lanes, changing_taps, lanes_that_keep_up, rate_stages
from combe.delivery.hdl.schedule import clocks_of
from combe.delivery.hdl.walks import walk_of
from combe.errors import FormatError
from combe.realization.stages import Realization, Requantize, TapSum

MOST_STREAMED_TAPS = 2000


def suited(realization: Realization, choices: HardwareChoices) -> str:
    """The smallest architecture that keeps up with the sample rate at the clock (a usual one where none is given)."""
    clock = choices.clock_hz or USUAL_CLOCK_HZ
    budget = clock / realization.sample_rate_hz
    if realization.changes_rate:
        return _suited_to_rates(realization, choices, budget)
    is_known = choices.clock_hz or realization.sample_rate_hz > 2
    taps = only_taps(realization)
    if taps is None:
        program = realization.program
        if is_known and budget >= clocks_of(program, inner_width(realization.input), choices.pipeline):
            return "serial"
        return "parallel"
    if is_known and budget >= len(taps.coefficients) + 1:
        return "serial"
    if is_known and budget >= 8:
        return "semi-parallel"
    return "folded" if taps.symmetry and len(taps.coefficients) > 2 else "transposed"


def _suited_to_rates(realization: Realization, choices: HardwareChoices, budget: float) -> str:
    """One multiplier a stage where that keeps up, or nothing does."""
    own, is_fixed = polyphase_taps(realization), not choices.reloadable
    if not choices.clock_hz and realization.sample_rate_hz <= 2:
        return "serial"
    if own is not None:
        walk = walk_of(own, is_fixed)
        return "semi-parallel" if (fewest_lanes(own, walk, int(budget)) or 1) > 1 else "serial"
    if not changing_taps(realization) or _needed(realization, choices, {}) <= budget:
        return "serial"
    lanes = _planned(realization, choices, budget)
    return "semi-parallel" if _needed(realization, choices, lanes) <= budget else "serial"


def _planned(realization: Realization, choices: HardwareChoices, budget: float) -> Lanes:
    """Multipliers for stages in a row with so many clocks a sample."""
    return lanes_that_keep_up(realization, int(budget), not choices.reloadable)


def _needed(realization: Realization, choices: HardwareChoices, lanes: Lanes) -> int:
    """The clocks between samples that come evenly of stages in a row on so many multipliers each."""
    circuit = Circuit("tried")
    valid = circuit.port("in_valid", 1, True, BIT)
    entry = converters(realization, choices)[0]
    in_kind = "signed" if realization.input.signed and entry is None else UNSIGNED
    data = circuit.port("in_data", entry.bits if entry else realization.input.bits, True, in_kind)
    build = Builder(circuit, choices.pipeline)
    stream = Stream(valid, arriving(build, data, realization.input, entry))
    return rate_stages(build, stream, realization, lanes, choices)[2]


def row_lanes(realization: Realization, architecture: str, choices: HardwareChoices) -> Lanes | None:
    """Multipliers of each stage where stages in a row change the rate; None for everything else."""
    if not realization.changes_rate or architecture not in ("serial", "semi-parallel"):
        return None
    if polyphase_taps(realization) is not None:
        return None
    if architecture == "serial":
        return dict.fromkeys(changing_taps(realization), 1)
    most = {
        index: walk_of(stage, not choices.reloadable).longest() for index, stage in changing_taps(realization).items()
    }
    if choices.multipliers:
        if choices.multipliers > max(most.values()):
            what = f"{choices.multipliers} multipliers a stage for {max(most.values())} taps a phase"
            raise FormatError(what, "multipliers", f"{max(most.values())} are enough")
        return {index: min(choices.multipliers, count) for index, count in most.items()}
    if not choices.clock_hz and realization.sample_rate_hz <= 2:
        return {index: min(4, count) for index, count in most.items()}
    return _planned(realization, choices, (choices.clock_hz or USUAL_CLOCK_HZ) / realization.sample_rate_hz)


def lanes_of(realization: Realization, architecture: str, choices: HardwareChoices) -> int:
    """Multipliers of the sequenced architectures."""
    taps = only_taps(realization)
    if architecture == "serial":
        return 1
    if architecture != "semi-parallel" or taps is None:
        return 0
    is_fixed = not choices.reloadable
    walk = walk_of(taps, is_fixed) if realization.changes_rate else None
    count = walk.longest() if walk is not None else clocks_of_taps(taps, 1, is_fixed)
    if choices.multipliers:
        if choices.multipliers > (count if walk is not None else len(taps.coefficients)):
            what = "pairs of taps" if walk is None and is_paired(taps, is_fixed) else "taps"
            raise FormatError(
                f"{choices.multipliers} multipliers for {count} {what}{' a phase' if taps.up > 1 else ''}",
                "multipliers",
                f"{count} are enough",
            )
        lanes = choices.multipliers
    elif walk is not None:
        clock = choices.clock_hz or USUAL_CLOCK_HZ
        is_told = choices.clock_hz or realization.sample_rate_hz > 2
        lanes = fewest_lanes(taps, walk, int(clock / realization.sample_rate_hz)) or count if is_told else min(4, count)
    else:
        lanes = _lanes_for(realization, choices, count)
    # Of pairs some lanes may be left without any.
    return Pairs.of(taps, min(lanes, count)).lanes if walk is None and is_paired(taps, is_fixed) else lanes


def _lanes_for(realization: Realization, choices: HardwareChoices, count: int) -> int:
    """As few multipliers as clock and sample rate allow, each with its share of so many taps or pairs."""
    clock = choices.clock_hz or USUAL_CLOCK_HZ
    clocks = int(clock / realization.sample_rate_hz) - 1
    if clocks < 1 or (realization.sample_rate_hz <= 2 and not choices.clock_hz):
        return max(1, min(4, count))
    # One would be serial.
    return max(min(2, count), min(count, -(-count // clocks)))


def only_taps(realization: Realization) -> TapSum | None:
    """The sum of taps, where that and roundings are all there is."""
    found = [stage for stage in realization.stages if not isinstance(stage, Requantize)]
    return found[0] if len(found) == 1 and isinstance(found[0], TapSum) and realization.stages[0] is found[0] else None


def polyphase_taps(realization: Realization) -> TapSum | None:
    """The sum of taps, where that and roundings are all there is and the rate goes either down or up."""
    taps = only_taps(realization)
    return taps if taps is not None and (taps.up == 1) != (taps.down == 1) else None


def check_fits(realization: Realization, architecture: str, choices: HardwareChoices) -> None:
    """Refuse what an architecture can't hold.

    Raises
    ------
    FormatError
        With the architectures that can.
    """
    if realization.changes_rate:
        _check_rate_architecture(realization, architecture, choices)
    taps = only_taps(realization)
    sums = [stage for stage in realization.stages if isinstance(stage, TapSum)]
    if realization.is_recursive and architecture in ("transposed", "folded", "semi-parallel"):
        what = f"{architecture} is built of taps, and this filter feeds its output back"
        raise FormatError(what, "architecture", "parallel, serial and multiplierless take it")
    if architecture == "folded" and any(not stage.symmetry for stage in sums):
        raise FormatError("folded needs symmetric taps", "architecture", "transposed takes any")
    if architecture == "semi-parallel" and taps is None and not realization.changes_rate:
        raise FormatError("semi-parallel takes one sum of taps", "architecture", "serial or parallel takes this one")
    if choices.reloadable and (taps is None or architecture == "multiplierless"):
        what = "coefficients can be replaced in one sum of taps with multipliers"
        raise FormatError(what, "reloadable", "leave it out, or take transposed taps")
    if choices.double_buffer and not choices.reloadable:
        raise FormatError("two banks go with replaceable coefficients", "double_buffer", "ask for both, or for neither")
    if architecture not in ("serial", "semi-parallel") and sum(len(s.coefficients) for s in sums) > MOST_STREAMED_TAPS:
        raise FormatError(
            f"{architecture} is written for {MOST_STREAMED_TAPS} taps at most", "architecture", "serial takes more"
        )


def _check_rate_architecture(realization: Realization, architecture: str, choices: HardwareChoices) -> None:
    """Where the rate changes: serial takes everything, semi-parallel whatever has taps where it does, the others one sum of taps that
    goes down."""
    taps = only_taps(realization)
    if architecture == "serial" or (architecture == "semi-parallel" and changing_taps(realization)):
        return
    if taps is None or taps.up > 1 or architecture == "semi-parallel":
        what = f"{architecture} doesn't take this change of rate"
        raise FormatError(what, "architecture", "serial does, with a multiplier for each stage")


def check_rate(realization: Realization, architecture: str, clocks: int, choices: HardwareChoices) -> None:
    """Refuse a clock that samples of so many clocks each don't keep up with.

    Raises
    ------
    FormatError
        With what would.
    """
    if choices.clock_hz and choices.clock_hz < clocks * realization.sample_rate_hz:
        rate = choices.clock_hz / clocks
        what = f"{architecture} takes {clocks} clocks a sample: {rate:.6g} samples a second at {choices.clock_hz:.6g} Hz, not {realization.sample_rate_hz:.6g}"
        if clocks == 1:
            raise FormatError(what, "clock", f"a clock of {realization.sample_rate_hz:.6g} Hz at least")
        taps = only_taps(realization)
        budget = int(choices.clock_hz / realization.sample_rate_hz)
        own = polyphase_taps(realization)
        if own is not None:
            lanes = fewest_lanes(own, walk_of(own, not choices.reloadable), budget)
            least = realization.sample_rate_hz * own.up
            instead = (
                f"semi-parallel with {lanes} multiplier{'s keep' if lanes > 1 else ' keeps'} up"
                if lanes
                else f"a clock of {least:.6g} Hz at least"
            )
            raise FormatError(what, "architecture" if lanes else "clock", instead)
        if realization.changes_rate and changing_taps(realization):
            raise FormatError(what, "architecture", _quicker(realization, choices, architecture, budget))
        if taps is not None and not realization.changes_rate and budget >= 2:
            lanes = -(-clocks_of_taps(taps, 1, not choices.reloadable) // (budget - 1))
            raise FormatError(what, "architecture", f"semi-parallel with {lanes} multipliers keeps up")
        instead = "parallel keeps up" if taps is None else "transposed keeps up"
        raise FormatError(
            what, "architecture", instead if budget >= 1 else f"a clock of {realization.sample_rate_hz:.6g} Hz at least"
        )


def _quicker(realization: Realization, choices: HardwareChoices, architecture: str, budget: int) -> str:
    """What would keep up instead where stages in a row change the rate."""
    lanes = _planned(realization, choices, budget)
    needed = _needed(realization, choices, lanes)
    if needed <= budget:
        return f"semi-parallel keeps up, with {sum(lanes.values())} multipliers in all"
    return f"a clock of {needed * realization.sample_rate_hz:.6g} Hz at least{'' if architecture == 'semi-parallel' else ', with semi-parallel'}"
