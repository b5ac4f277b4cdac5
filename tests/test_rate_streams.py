"""AXI4-Stream ports around a change of rate: both sides wait as they like, and no output is lost, doubled or late for ever."""

from __future__ import annotations

import random
import shutil
import subprocess
import tempfile
import unittest
from itertools import pairwise
from pathlib import Path

import numpy as np

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.proof.hdl import prove_hdl
from combe.proof.translated import as_verilog
from combe.realization.stages import Realization, Requantize, TapSum
from combe.running.simulate import simulate
from tests.support import IS_CAMPAIGN, fewer_vectors
from tests.test_polyphase import one_way
from tests.test_rates import random_input, random_rates

setUpModule = fewer_vectors
WAYS = {"eager": ("1'b1", "1'b1"), "seldom taken": ("1'b1", "noise[3:0] == 0"), "both wait": ("noise[0]", "noise[4:2] == 0"),
        "held up": ("1'b1", "(turn & 10'h3ff) < 40"), "seldom given": ("noise[4:0] == 0", "1'b1")}  # fmt: skip
"""When a sample is offered and when an output is taken, of a shift register and a counter of clocks."""


def played(package: Package, made: Realization, samples: list[int], way: str, outputs: int) -> tuple[list[int], int]:
    """What the wrapper gives, until all has come or a second's worth of clocks is over; and how many clocks that took."""
    offered, taken = WAYS[way]
    width = 8 * -(-made.input.bits // 8)
    mask = (1 << width) - 1
    rows = "\n".join(f"    words[{k}] = {width}'h{value & mask:x};" for k, value in enumerate(samples))
    sign = "signed " if made.output.signed else ""
    text = f"""module bench;
  reg clk = 0, rstn = 0, v = 0, ready = 0; reg [{width - 1}:0] x = 0; reg [{width - 1}:0] words [0:{len(samples)}];
  reg [7:0] noise = 1; reg [9:0] turn = 0; wire r, o; wire {sign}[{8 * -(-made.output.bits // 8) - 1}:0] y;
  integer k = 0, n = 0, clocks = 0;
  f_axi dut (.aclk(clk), .aresetn(rstn), .s_axis_tvalid(v), .s_axis_tready(r), .s_axis_tdata(x),
    .m_axis_tvalid(o), .m_axis_tready(ready), .m_axis_tdata(y));
  always #5 clk = ~clk;
  initial begin
{rows}
    words[{len(samples)}] = 0;
    #42 rstn = 1;
  end
  always @(negedge clk) begin
    noise = {{noise[6:0], noise[7] ^ noise[5] ^ noise[4] ^ noise[3]}}; turn = turn + 1;
    if (!(v && !r)) v = rstn && k < {len(samples)} && ({offered});
    x = words[k]; ready = {taken};
  end
  always @(posedge clk) if (rstn) begin
    clocks = clocks + 1;
    if (o && ready) begin $display("%0d", y); n = n + 1; end
    if (v && r) k <= k + 1;
    if (clocks > 400000 || (n == {outputs} && k == {len(samples)})) begin $display("clocks %0d", clocks); $finish; end
  end
endmodule
"""
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "bench.v").write_text(text)
        sources = ["f.v", "f_axi.v"] if package.language == "verilog" else [as_verilog(package, Path(place), "f_axi")]
        for words in (["iverilog", "-g2005", "-o", "out", *sources, "bench.v"], ["vvp", "-n", "out"]):
            done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout + done.stderr
    lines = [line for line in done.stdout.splitlines() if "finish" not in line]
    return [int(line) for line in lines if not line.startswith("clocks")], int(lines[-1].split()[-1])


def one_way_taps(made: Realization) -> bool:
    """Whether taps that go down or up, not both, are the only stage but roundings."""
    found = [stage for stage in made.stages if not isinstance(stage, Requantize)]
    return len(found) == 1 and isinstance(found[0], TapSum) and 1 in (found[0].up, found[0].down)


def taken(package: Package, made: Realization, samples: int, apart: int = 1) -> list[int]:
    """The clocks at which the circuit itself takes samples where one is there for a clock in so many, from the first on."""
    text = f"""module bench;
  reg clk = 0, rst = 1; wire r, o; wire [{made.output.bits - 1}:0] y; integer k = 0, clocks = 0;
  wire v = !rst && clocks % {apart} == 0;
  f dut (.clk(clk), .rst(rst), .in_valid(v), .in_ready(r), .in_data({made.input.bits}'d1), .out_valid(o), .out_data(y));
  always #5 clk = ~clk;
  initial #42 rst = 0;
  always @(posedge clk) if (!rst) begin
    if (v && r) begin $display("%0d", clocks); k = k + 1; end
    clocks = clocks + 1;
    if (k > {samples} || clocks > 400000) $finish;
  end
endmodule
"""
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "bench.v").write_text(text)
        for words in (["iverilog", "-g2005", "-o", "out", "f.v", "bench.v"], ["vvp", "-n", "out"]):
            done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout + done.stderr
    clocks = [int(line) for line in done.stdout.split() if line.isdigit()]
    return [clock - clocks[0] for clock in clocks]


@unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
class Clocks(unittest.TestCase):
    def test_no_two_samples_lie_further_apart_than_is_told(self) -> None:
        """Once every stage is at work: the first two samples after a reset may lie closer than any later ones. A single stage that goes
        one way is told for samples that come evenly: each is taken the clock it comes, and a clock closer some aren't."""
        source, later, even, spoken = random.Random(64), 0, 0, 0
        for index in range(150 if IS_CAMPAIGN else 12):
            made = random_rates(source, 20, 5)
            package = hdl_package(made, "verilog", "f", choices=HardwareChoices("serial"))
            built = build_circuit(made, "f", HardwareChoices("serial"))
            if one_way_taps(made):
                even += built.clocks > 1
                self.assertEqual(taken(package, made, 90, built.clocks), [k * built.clocks for k in range(91)], made)
                if built.clocks > 1:
                    closer = taken(package, made, 90, built.clocks - 1)
                    self.assertNotEqual(closer, [k * (built.clocks - 1) for k in range(91)], made)
                continue
            clocks = taken(package, made, 90)
            gaps = [after - one for one, after in pairwise(clocks)]
            self.assertLessEqual(max(gaps), built.clocks, (index, made))
            self.assertIn(built.clocks, gaps, "and some do")
            self.assertEqual(clocks[built.span], built.timed or built.clocks)
            later += max(gaps) > gaps[0]
            if max(gaps) * built.span > clocks[built.span] and spoken < 2:
                spoken += 1
                said = prove_hdl(package, made).simulated[0].sentence()
                average = -(-clocks[built.span] // built.span)
                if average < built.clocks:
                    self.assertIn(f"{average} clocks a sample on average ({built.clocks} at most)", said)
                else:
                    self.assertTrue(said.endswith(f"{average} clocks a sample"), said)
        self.assertGreater(later, 0)
        self.assertEqual(spoken, 2)
        self.assertGreater(even, 0)


@unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
class Streams(unittest.TestCase):
    def case(self, source: random.Random, language: str) -> tuple[Realization, Package]:
        """Every architecture that takes a change of rate, one stage or several."""
        while True:
            chain = source.random() < 0.5
            made = random_rates(source, 16, 4) if chain else one_way(source, 6, 30)
            choices = HardwareChoices(
                "serial" if chain else source.choice(("serial", "semi-parallel", "parallel", "transposed")),
                multipliers=source.choice((0, 2, 3)), axi_stream=True,
            )  # fmt: skip
            if not made.changes_rate or made.input.bits > 32 or made.output.bits > 32:
                continue
            try:
                return made, hdl_package(made, language, "f", choices=choices)
            except FormatError:
                continue  # an architecture that doesn't take this one

    def test_no_output_is_lost_however_both_sides_wait(self) -> None:
        source = random.Random(61)
        languages = ("verilog", "vhdl") if shutil.which("ghdl") else ("verilog",)
        for index in range(200 if IS_CAMPAIGN else 6):
            made, package = self.case(source, languages[index % len(languages)])
            samples = random_input(source, made.input, 90)
            wanted = [int(value) for value in simulate(made, np.array(samples))]
            for way in WAYS if IS_CAMPAIGN else source.sample(sorted(WAYS), 2):
                heard, _ = played(package, made, samples, way, len(wanted))
                self.assertEqual(heard, wanted, (index, way, package.language, package.choices, made))

    def test_it_never_stands_still_while_outputs_are_taken(self) -> None:
        """As many clocks as the circuit takes by itself, a few at the ends aside."""
        source = random.Random(62)
        for _ in range(20 if IS_CAMPAIGN else 3):
            made, package = self.case(source, "verilog")
            samples = random_input(source, made.input, 200)
            heard, clocks = played(package, made, samples, "eager", made.output_count(len(samples)))
            assert isinstance(package.choices, HardwareChoices)
            built = build_circuit(made, "f", package.choices)
            self.assertEqual(len(heard), made.output_count(len(samples)))
            least = len(samples) * built.clocks + 2 * built.latency + 40
            self.assertLessEqual(clocks, least, (package.choices, made))

    def test_it_reads_strictly(self) -> None:
        if not shutil.which("verilator"):
            self.skipTest("verilator is not on this machine")
        source = random.Random(63)
        for _ in range(6):
            _, package = self.case(source, "verilog")
            with tempfile.TemporaryDirectory() as place:
                package.write(place)
                words = ["verilator", "--lint-only", "-Wall", "f.v", "f_axi.v", "--top-module", "f_axi"]
                done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
                self.assertEqual(done.returncode, 0, done.stderr)


if __name__ == "__main__":
    unittest.main()
