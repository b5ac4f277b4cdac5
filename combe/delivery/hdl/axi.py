"""A wrapper with AXI4-Stream ports (Arm IHI 0051A): words padded to bytes, outputs kept until they are taken."""

from __future__ import annotations

from combe.delivery.hdl.build import Built
from combe.delivery.hdl.circuit import bits_for


def axi_values(built: Built) -> dict[str, int]:
    """Widths of the wrapper's ports, and of the memory that holds what is on its way: as many samples as the circuit works
    on at a time, and three, so that it never stands still while outputs are taken as they come."""
    in_flight = -(-built.latency // built.clocks)
    depth = 1 << bits_for(in_flight + 3)
    return {
        "in_bytes": 8 * -(-built.input_bits // 8), "out_bytes": 8 * -(-built.output_bits // 8), "depth": depth,
        "bits": bits_for(depth), "in_bits": built.input_bits, "out_bits": built.output_bits,
    }  # fmt: skip
