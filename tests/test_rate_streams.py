"""AXI4-Stream ports around a change of rate: both sides wait as they like, and no output is lost, doubled or late for ever."""

from __future__ import annotations

import contextlib
import math
import random
import shutil
import subprocess
import tempfile
import unittest
from collections.abc import Callable
from fractions import Fraction
from pathlib import Path
from unittest.mock import patch

import numpy as np

from combe.delivery.hdl.build import Built, build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.rate_pace import Row
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.proof.hdl import prove_hdl
from combe.proof.translated import as_verilog
from combe.realization.cic import Cic
from combe.realization.stages import Realization
from combe.running.simulate import simulate
from tests import test_half_band_stages, test_polynomials
from tests.rate_cases import random_input, random_rates
from tests.support import IS_CAMPAIGN, fewer_vectors
from tests.test_polyphase import one_way
from tests.test_zero_taps import in_a_row

setUpModule = fewer_vectors
WAYS = {"eager": ("1'b1", "1'b1"), "seldom taken": ("1'b1", "noise[3:0] == 0"), "both wait": ("noise[0]", "noise[4:2] == 0"),
        "held up": ("1'b1", "(turn & 10'h3ff) < 40"), "seldom given": ("noise[4:0] == 0", "1'b1")}  # fmt: skip
"""When a sample is offered and when an output is taken, of a shift register and a counter of clocks."""

DRAWN: tuple[Callable[[random.Random], Realization], ...] = (
    lambda source: random_rates(source, 20, 5), lambda source: random_rates(source, 20, 5),
    lambda source: in_a_row(source, 30, 12), lambda source: test_half_band_stages.drawn(source, True), test_polynomials.drawn,
)  # fmt: skip
"""Taps and sums in a row, taps with zeros, networks, and such as are computed for each output."""
TRIED = 1500 if IS_CAMPAIGN else 300
"""Samples that come evenly."""


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


def build_row(made: Realization, choices: HardwareChoices) -> Row | None:
    """The model of the stages that change the rate, where there are several."""
    with patch.object(Row, "always_offered", autospec=True, side_effect=Row.always_offered) as asked:
        build_circuit(made, "f", choices)
    return asked.call_args.args[0] if asked.called else None


def taken(package: Package, made: Realization, samples: int, clocks: int) -> tuple[list[int], int, int]:
    """The clocks at which the circuit itself takes samples where one is always there, from the first on; and how many come evenly, one
    in ``clocks`` and one in a clock less, until one isn't taken at once, or all that are tried are."""
    text = f"""module one #(parameter APART = 0, MOST = {samples}) (input clk, input rst, output reg ended);
  wire r, o; wire [{made.output.bits - 1}:0] y; integer k = 0, now = 0;
  wire v = !rst && !ended && (APART == 0 || now % APART == 0);
  f dut (.clk(clk), .rst(rst), .in_valid(v), .in_ready(r), .in_data({made.input.bits}'d1), .out_valid(o), .out_data(y));
  initial ended = 0;
  always @(posedge clk) if (!rst && !ended) begin
    if (v && r && APART == 0) $display("%0d", now);
    if (v && r) k = k + 1;
    now = now + 1;
    if (k >= MOST || (v && !r && APART != 0)) begin ended <= 1; if (APART != 0) $display("after %0d %0d", APART, k); end
  end
endmodule
module bench;
  reg clk = 0, rst = 1; wire a, b, c;
  one always_there (.clk(clk), .rst(rst), .ended(a));
  one #(.APART({clocks}), .MOST({TRIED})) even (.clk(clk), .rst(rst), .ended(b));
  one #(.APART({max(clocks - 1, 1)}), .MOST({TRIED})) closer (.clk(clk), .rst(rst), .ended(c));
  always #5 clk = ~clk;
  initial #42 rst = 0;
  always @(posedge clk) if (a && b && c) $finish;
endmodule
"""
    with tempfile.TemporaryDirectory() as place:
        package.write(place)
        (Path(place) / "bench.v").write_text(text)
        for words in (["iverilog", "-g2005", "-s", "bench", "-o", "out", "f.v", "bench.v"], ["vvp", "-n", "out"]):
            done = subprocess.run(words, cwd=place, capture_output=True, text=True, check=False)
            assert done.returncode == 0, done.stdout + done.stderr
    at = [int(line) for line in done.stdout.split("\n") if line.isdigit()]
    after = {
        int(words[1]): int(words[2]) for words in map(str.split, done.stdout.split("\n")) if words[:1] == ["after"]
    }
    return [clock - at[0] for clock in at], after[clocks], after[max(clocks - 1, 1)]


@unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
class Clocks(unittest.TestCase):
    def case(self, source: random.Random) -> tuple[Realization, HardwareChoices, Built]:
        """Stages in a row or one, on a multiplier each or several."""
        while True:
            made = source.choice(DRAWN)(source)
            choices = HardwareChoices("serial")
            if source.random() < 0.4:
                choices = HardwareChoices("semi-parallel", multipliers=source.choice((2, 3)))
            with contextlib.suppress(FormatError):
                built = build_circuit(made, "f", choices)
                # Of what takes a sample each clock nothing can be seen.
                if built.clocks > 1 and source.random() < (1 if len(built.row) > 1 else 0.3):
                    return made, choices, built

    def test_samples_that_come_evenly_at_the_clocks_told_are_taken_at_once(self) -> None:
        """None has to wait, and a clock closer some have to; and where one is always there they are taken when they are told to be."""
        source, closest, several = random.Random(64), 0, 0
        for index in range(120 if IS_CAMPAIGN else 10):
            made, choices, built = self.case(source)
            package = hdl_package(made, "verilog", "f", choices=choices)
            told = build_row(made, choices)
            wanted = told.always_offered().taken if told is not None else []
            clocks, even, closer = taken(package, made, max(len(wanted), built.span + 1), built.clocks)
            self.assertEqual(even, TRIED, (index, choices, made))
            self.assertLess(closer, TRIED, (index, choices, made))
            closest += closer > 20
            several += len(built.row) > 1
            self.assertEqual(clocks[built.span], built.timed or built.clocks)
            if told is None:
                continue
            self.assertEqual(clocks, [clock - wanted[0] for clock in wanted], (index, choices, made))
        self.assertGreater(closest, 0, "one that waits only after many")
        self.assertGreater(several, 2)

    def test_a_row_is_as_quick_as_its_busiest_stage(self) -> None:
        """Whatever its stages wait for each other: what the busiest works for a sample, or a clock more where that isn't whole. Sums that
        go up comb one value at a time."""
        source, rows = random.Random(66), 0
        for _ in range(400 if IS_CAMPAIGN else 60):
            made = random_rates(source, 40, 5)
            row = build_row(made, HardwareChoices("serial"))
            if row is None or len(row.paces) < 2:
                continue
            rows += 1
            rate, busiest = Fraction(1), Fraction(1)
            for pace in row.paces:
                stage = pace.stage
                works = max(pace.turn, sum(pace.counts))
                if isinstance(stage, Cic):
                    works = max(stage.up, stage.order + 1) if stage.up > 1 else 1
                busiest = max(busiest, rate * works / stage.down)
                rate *= Fraction(stage.up, stage.down)
            self.assertLessEqual(row.clocks_a_sample(), max(math.ceil(busiest), 1) + 1, made)
            self.assertGreaterEqual(row.clocks_a_sample(), busiest)
        self.assertGreater(rows, 20)

    def test_a_proof_tells_what_samples_take_and_what_they_need(self) -> None:
        source, spoken = random.Random(65), set[bool]()
        while len(spoken) < 2:
            made, choices, built = self.case(source)
            average = -(-(built.timed or built.clocks) // built.span)
            if (average < built.clocks) in spoken or built.span == 1 or built.timed > 300:
                continue
            spoken.add(average < built.clocks)
            package = hdl_package(made, "verilog", "f", choices=choices)
            said = prove_hdl(package, made, simulators=("iverilog",)).simulated[0].sentence()
            if average < built.clocks:
                self.assertIn(f"{average} clocks a sample on average ({built.clocks} where they come evenly)", said)
            else:
                self.assertTrue(said.endswith(f"{average} clocks a sample"), said)


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
