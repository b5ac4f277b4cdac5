"""What real synthesis makes of a circuit: cells counted, and a clock rate where it can be placed."""

from __future__ import annotations

import json
import re
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

from msgspec import Struct

from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.kept_costs import kept, key_of, known
from combe.proof.tools import find, run
from combe.proof.translated import as_verilog

DEVICES = ("generic", "ice40-up5k", "ice40-hx8k", "ecp5")
SECONDS = 300
TOO_LARGE = "it doesn't fit"
SCRIPTS = {
    "generic": "synth -flatten -top {top}; stat -json", "ice40-up5k": "synth_ice40 -dsp -top {top} -json placed.json; stat -json",
    "ice40-hx8k": "synth_ice40 -top {top} -json placed.json; stat -json", "ecp5": "synth_ecp5 -top {top}; stat -json",
}  # fmt: skip
PLACED = {"ice40-up5k": ["--up5k", "--package", "sg48"], "ice40-hx8k": ["--hx8k", "--package", "ct256"]}
PINS = {"ice40-up5k": 39, "ice40-hx8k": 206}
"""That the package has: a circuit with more ports than that is placed between two shift registers."""
BETWEEN = """module few_pins (input wire clk, input wire rst, input wire given, output wire taken);
    reg [{last_in}:0] inputs;
    wire [{last_out}:0] made;
    reg [{last_out}:0] outputs;
    reg gives;
    assign taken = outputs[{last_out}];
    always @(posedge clk) begin
        inputs <= {{inputs, given}};
        gives <= given;
        outputs <= gives ? made : outputs << 1;
    end
    {top} core (.clk(clk), .rst(rst), {ports});
endmodule
"""
KINDS = {
    "registers": r"\$_S?DFF.*|SB_DFF.*|TRELLIS_FF", "luts": r"SB_LUT4|LUT4|\$_(AND|OR|XOR|XNOR|NAND|NOR|MUX|ANDNOT|ORNOT|NOT|AOI3|OAI3|AOI4|OAI4|NMUX)_",
    "carries": r"SB_CARRY|CCU2C", "multipliers": r"SB_MAC16|MULT18X18D|\$mul", "memories": r"SB_RAM40_4K|DP16KD|TRELLIS_DPR16X4|\$mem.*",
}  # fmt: skip


class Synthesized(Struct, frozen=True):
    """Cells of one device; ``clock_hz`` what placement promises, 0 where it wasn't placed, with the reason in ``remark``."""

    device: str
    registers: int = 0
    luts: int = 0
    carries: int = 0
    multipliers: int = 0
    memories: int = 0
    clock_hz: float = 0.0
    remark: str = ""
    failure: str = ""

    def sentence(self) -> str:
        """The cost in words."""
        if self.failure:
            return f"{self.device}: {self.failure}"
        cells = "gates" if self.device == "generic" else "LUTs"
        parts = f"{self.luts} {cells}, {self.registers} registers, {self.carries} carry cells, {self.multipliers} multiplier blocks, {self.memories} memories"
        clock = f", {self.clock_hz / 1e6:.1f} MHz" if self.clock_hz else f" ({self.remark})" if self.remark else ""
        return f"{self.device}: {parts}{clock}"

    def document(self) -> dict[str, Any]:
        """As ``--json`` prints it."""
        return {
            "device": self.device, "luts": self.luts, "registers": self.registers, "carries": self.carries,
            "multipliers": self.multipliers, "memories": self.memories, "clock_hz": self.clock_hz, "remark": self.remark,
            "failure": self.failure, "sentence": self.sentence(),
        }  # fmt: skip


def synthesized(package: Package, device: str, report: Callable[[str], None] = lambda _: None) -> Synthesized:
    """Count the cells of a package's circuit on a device, and place it where that device's placer is there; what was counted
    of the same text by the same tools before is known."""
    try:
        key = _key(package, device)
        return kept(key, Synthesized, lambda: _counted(package, device, report), _is_whole)  # type: ignore[no-any-return]
    except ToolError as error:
        return Synthesized(device, failure=error.sentence().removeprefix("proof: "))


def known_synthesis(package: Package, device: str) -> Synthesized | None:
    """What was counted of the same text by the same tools before; None where nothing was."""
    try:
        found: Synthesized | None = known(_key(package, device), Synthesized)
    except ToolError:
        return None
    return found


def _key(package: Package, device: str) -> str:
    placer = ["nextpnr-ice40"] if device in PLACED and shutil.which("nextpnr-ice40") else []
    tools = [*(["ghdl"] if package.language == "vhdl" else []), "yosys", *placer]
    return key_of(package, tools, (device, SCRIPTS[device], PLACED.get(device), KINDS))


def _is_whole(found: Synthesized) -> bool:
    """Neither a failure nor a remark but that it doesn't fit: another time it may go otherwise."""
    return not found.failure and found.remark in ("", TOO_LARGE)


def _counted(package: Package, device: str, report: Callable[[str], None]) -> Synthesized:
    try:
        yosys = find("yosys")
        report(f"synthesizing for {device}")
        with tempfile.TemporaryDirectory(prefix="combe-synthesis-") as place:
            folder = Path(place)
            package.write(folder, is_lasting=False)
            text = as_verilog(package, folder)
            script = f"read_verilog {text}; {SCRIPTS[device].format(top=package.name)}"
            said = run([yosys, "-Q", "-p", script], folder, seconds=SECONDS).decode("utf-8", "replace")
            cells = _cells(said)
            counted: dict[str, Any] = {
                kind: sum(n for name, n in cells.items() if re.fullmatch(pattern, name))
                for kind, pattern in KINDS.items()
            }
            clock, remark = 0.0, ""
            if device in PLACED:
                if _between_shifts(device, folder, package.name):
                    between = f"read_verilog {text} few_pins.v; {SCRIPTS[device].format(top='few_pins')}"
                    run([yosys, "-Q", "-p", between], folder, seconds=SECONDS)
                clock, remark = _placed(device, folder)
            return Synthesized(device, **counted, clock_hz=clock, remark=remark)
    except ToolError as error:
        return Synthesized(device, failure=error.sentence().removeprefix("proof: "))


def operators(package: Package) -> dict[str, int]:
    """Word-level cells as a generic reader sees them: $mul, $add, $sub and so on, and bits of registers.

    Raises
    ------
    ToolError
        If the tool isn't there or fails.
    """
    with tempfile.TemporaryDirectory(prefix="combe-synthesis-") as place:
        folder = Path(place)
        package.write(folder, is_lasting=False)
        text = as_verilog(package, folder)
        steps = f"hierarchy -top {package.name}; proc; flatten; opt; wreduce; peepopt; opt_clean; stat -json; simplemap t:$*dff*; opt_clean; stat -json"
        said = run([find("yosys"), "-Q", "-p", f"read_verilog {text}; {steps}"], folder, seconds=SECONDS).decode(
            "utf-8", "replace"
        )
        first, second = (_cells(part) for part in re.findall(r"\{\n.*?\n\}\n", said, re.DOTALL)[:2])
        bits = sum(n for name, n in second.items() if re.fullmatch(r"\$_S?DFF.*", name))
        return first | {"register_bits": bits}


def _cells(said: str) -> dict[str, int]:
    found = re.search(r"\{\n.*\n\}", said, re.DOTALL)
    if found is None:
        raise ToolError("yosys told no statistics", "proof")
    modules = json.loads(found[0])["modules"]
    return dict(next(iter(modules.values()))["num_cells_by_type"])


def _between_shifts(device: str, folder: Path, top: str) -> bool:
    """Whether the circuit has more ports than the package has pins; then a module around it is written whose pins are few."""
    module = json.loads((folder / "placed.json").read_text(encoding="utf-8"))["modules"][top]
    ports = {name: len(port["bits"]) for name, port in module["ports"].items()}
    if sum(ports.values()) <= PINS[device]:
        return False
    widths = {"input": 0, "output": 0}
    rows = []
    for name, port in module["ports"].items():
        if name not in ("clk", "rst"):
            first, kind = widths[port["direction"]], port["direction"]
            widths[kind] += ports[name]
            rows.append(f".{name}({'inputs' if kind == 'input' else 'made'}[{widths[kind] - 1}:{first}])")
    text = BETWEEN.format(
        last_in=widths["input"] - 1, last_out=widths["output"] - 1, top=top, ports=", ".join(rows)
    )  # fmt: skip
    (folder / "few_pins.v").write_text(text, encoding="utf-8")
    return True


def _placed(device: str, folder: Path) -> tuple[float, str]:
    """The clock after placement and routing, or why it could not be placed."""
    try:
        command = [
            find("nextpnr-ice40"),
            *PLACED[device],
            "--json",
            "placed.json",
            "--freq",
            "48",
            "--pcf-allow-unconstrained",
            "--seed",
            "1",
            "--timing-allow-fail",
        ]
        said = run(command, folder, seconds=SECONDS, with_errors=True).decode("utf-8", "replace")
    except ToolError as error:
        words = error.sentence()
        return (
            0.0,
            TOO_LARGE
            if "Unable to place" in words or "no BELs" in words or "failed to place" in words.lower()
            else words.removeprefix("proof: "),
        )
    found = re.findall(r"Max frequency for clock[^:]*: ([\d.]+) MHz", said)
    return (float(found[-1]) * 1e6, "") if found else (0.0, "no clock was told")
