"""A wrapper with AXI4-Stream ports (Arm IHI 0051A): words padded to bytes, outputs kept until they are taken."""

from __future__ import annotations

from combe.delivery.hdl.build import Built
from combe.delivery.hdl.circuit import bits_for


def axi_values(built: Built, ratio: tuple[int, int]) -> dict[str, int]:
    """Widths of the wrapper's ports, and of the memory that holds what is on its way: as many samples as the circuit works
    on at a time, and three, so that it never stands still while outputs are taken as they come. Where the rate changes it has
    ``room`` for as many again as may still come of the samples that were taken."""
    if ratio == (1, 1):
        depth, room = 1 << bits_for(-(-built.latency // built.clocks) + 3), 0
    else:
        owed = still_to_come(built, ratio)
        depth, room = 1 << bits_for(owed + 2), owed
    return {
        "room": depth - room,
        "in_bytes": 8 * -(-built.input_bits // 8), "out_bytes": 8 * -(-built.output_bits // 8), "depth": depth,
        "bits": bits_for(depth), "in_bits": built.input_bits, "out_bits": built.output_bits,
    }  # fmt: skip


def still_to_come(built: Built, ratio: tuple[int, int]) -> int:
    """No fewer than the outputs that may follow once no sample is taken any more: those of ``latency`` clocks, and of as many as
    the samples take over which clocks are measured; of stages in a row what the model of their flags has counted."""
    if built.owed:
        return built.owed
    up, down = ratio
    clocks = built.latency + max(built.clocks, built.timed)
    most = -(-(clocks + 1) * up // down) + 2
    if built.architecture == "serial":
        apart = max(built.clocks // -(-up // down), 1)
        most = min(most, -(-clocks // apart) + 2)
    return most
