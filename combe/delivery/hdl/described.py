"""Descriptions of the core, so that other build systems and tools take the circuit in: CAPI2 (a YAML file)
and IP-XACT (IEEE 1685-2014, an XML file)."""

from __future__ import annotations

import json
from typing import Any

from msgspec import Struct

from combe.delivery.hdl.build import Built
from combe.delivery.story import OWNERSHIP
from combe.templates import rendered

VENDOR, LIBRARY, VERSION = "local", "filters", "1.0.0"
"""Whoever takes the core in puts their own in their place."""
KINDS = {"verilog": "verilogSource-2001", "vhdl": "vhdlSource-93"}
"""Names of both standards for the languages the text keeps to."""
STREAM = {"vendor": "amba.com", "library": "AMBA4", "type": "AXI4Stream", "version": "r0p0_1"}


class Outside(Struct, frozen=True):
    """A port as others see it."""

    name: str
    direction: str
    width: int
    is_vector: bool = False


def core_files(
    built: Built, language: str, rtl: list[str], data: list[str], told: str, values: dict[str, Any]
) -> dict[str, str]:
    """The texts of ``NAME.core`` and ``NAME.xml``, by name.

    Parameters
    ----------
    rtl, data
        File names: of the circuit, the innermost first, and of what its bench plays.
    told
        The filter in a line.
    values
        Those that the wrapper's template takes, and the board or None.
    """
    name = built.circuit.name
    top = f"{name}_axi" if values["axi"] else name
    ports = _stream_ports(values) if values["axi"] else _own_ports(built)
    kind, ending = KINDS[language], rtl[0].rpartition(".")[2]
    sets: list[tuple[str, list[tuple[str, str]]]] = [
        ("rtl", [(file, kind) for file in rtl]),
        ("bench", [(f"{name}_tb.{ending}", kind), *((file, "user") for file in data)]),
    ]
    shared = values | {
        "ending": ending, "kind": kind, "rtl": rtl, "data": data, "top": top, "ownership": OWNERSHIP,
        "vlnv": f"{VENDOR}:{LIBRARY}:{name}:{VERSION}",
    }  # fmt: skip
    core = rendered("delivery/hdl", "core.j2", shared | {"told": json.dumps(told)})
    more = {
        "vendor": VENDOR, "library": LIBRARY, "version": VERSION, "ports": ports, "sets": sets, "told": told,
        "buses": _buses(values["changes_rate"]) if values["axi"] else [],
    }  # fmt: skip
    return {f"{name}.core": core, f"{name}.xml": rendered("delivery/hdl", "ipxact.j2", shared | more)}


def _own_ports(built: Built) -> list[Outside]:
    return [
        Outside(
            port.signal.name, "in" if port.is_input else "out", port.signal.width, port.signal.name in ("in_data", "out_data")
        )
        for port in built.circuit.ports
    ]  # fmt: skip


def _stream_ports(values: dict[str, Any]) -> list[Outside]:
    """Of the wrapper, in its order."""
    return [
        Outside("aclk", "in", 1), Outside("aresetn", "in", 1), Outside("s_axis_tvalid", "in", 1),
        Outside("s_axis_tready", "out", 1), Outside("s_axis_tdata", "in", values["in_bytes"], True),
        Outside("m_axis_tvalid", "out", 1), Outside("m_axis_tready", "in", 1),
        *(Outside(f"{side}_axis_tlast", way, 1) for side, way in (("s", "in"), ("m", "out")) if not values["changes_rate"]),
        *(Outside(port.name, "in", port.width) for port in values["extra"]),
        Outside("m_axis_tdata", "out", values["out_bytes"], True),
    ]  # fmt: skip


def _buses(changes_rate: bool) -> list[dict[str, Any]]:
    """Both streams; Arm's document names their signals (IHI 0051A)."""
    return [
        STREAM
        | {
            "name": f"{side}_axis", "mode": mode,
            "maps": [
                (f"T{word}", f"{side}_axis_t{word.lower()}") for word in ("VALID", "READY", "DATA", *(() if changes_rate else ("LAST",)))
            ],
        }
        for side, mode in (("s", "slave"), ("m", "master"))
    ]  # fmt: skip
