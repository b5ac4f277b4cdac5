"""Changes of rate at full speed as circuits: several multipliers, samples taken while an output is worked out."""

from __future__ import annotations

import random
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

import numpy as np

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.fir_polyphase import clocks_a_sample, fewest_lanes
from combe.delivery.hdl.suiting import suited
from combe.delivery.hdl.walks import walk_of
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.errors import FormatError
from combe.proof.hdl import prove_hdl
from combe.proof.translated import as_verilog
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.running.simulate import simulate
from combe.values import replace
from tests.rate_cases import rounded
from tests.support import fewer_vectors, some

setUpModule = fewer_vectors

TOOLS = {"verilog": "iverilog", "vhdl": "ghdl"}


def one_way(source: random.Random, most: int = 9, longest: int = 40) -> Realization:
    """Taps that go down or up, with a rounding after them or without."""
    entry = Format(source.random() < 0.8, source.choice((6, 8, 12, 16)), source.randint(0, 15))
    up, down = source.choice(((1, source.randint(2, most)), (source.randint(2, most), 1)))
    coefficient = Format(source.random() < 0.9, source.randint(3, 16), source.randint(0, 16))
    values = tuple(source.randint(coefficient.least, coefficient.most) for _ in range(source.randint(1, longest)))
    taps = TapSum(values, coefficient, Format(True, 64, entry.fraction + coefficient.fraction), "direct", 1, up, down)
    taps = replace(taps, accumulator=needed_accumulator(taps, entry))
    stages: tuple[Stage, ...] = (taps,)
    if source.random() < 0.7:
        stages = (taps, rounded(source, taps.result, 20))
    return Realization("one way", 1.0, "direct", entry, stages[-1].result, stages)


def taps_of(made: Realization) -> TapSum:
    stage = made.stages[0]
    assert isinstance(stage, TapSum)
    return stage


def plain(count: int, up: int, down: int, rate: float = 1e6) -> Realization:
    """So many taps of 12 bits for samples of 12 bits."""
    entry = Format(True, 12, 11)
    taps = TapSum(tuple(k * 37 % 199 - 99 for k in range(count)), Format(True, 9, 8), entry, "direct", 1, up, down)
    taps = replace(taps, accumulator=Format(True, 64, 19))
    taps = replace(taps, accumulator=needed_accumulator(taps, entry))
    after = Requantize(taps.accumulator, entry, "nearest-even", "saturate")
    return Realization("plain", rate, "direct", entry, entry, (taps, after))


class Polyphase(unittest.TestCase):
    def test_any_number_of_multipliers_gives_the_same_with_stalls_and_resets(self) -> None:
        """Both languages; latency and clocks are those told, over a whole output where samples don't all take the same."""
        source = random.Random(71)
        for index in some(range(60), 6):
            made = one_way(source)
            depth = walk_of(taps_of(made)).longest()
            lanes = source.choice((1, depth, source.randint(1, depth)))
            for turn, (language, tool) in enumerate(TOOLS.items()):
                if shutil.which(tool) is None or index % 2 != turn:
                    continue
                choices = HardwareChoices(architecture="semi-parallel", multipliers=lanes, pipeline=index % 3)
                proof = prove_hdl(hdl_package(made, language, "f", choices=choices), made, simulators=(tool,))
                self.assertTrue(proof.holds, (index, language, lanes, made, proof.sentence()))

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_every_clock_takes_a_sample_or_gives_one(self) -> None:
        """64 taps down by 8 on 8 multipliers take a sample each clock; 40 taps up by 4 on 10 give an output each clock."""
        for made, lanes, clocks in ((plain(64, 1, 8), 8, 1), (plain(40, 4, 1), 10, 4)):
            choices = HardwareChoices(architecture="semi-parallel", multipliers=lanes)
            built = build_circuit(made, "f", choices)
            self.assertEqual(built.clocks, clocks)
            package = hdl_package(made, "verilog", "f", choices=choices)
            proof = prove_hdl(package, made, simulators=("iverilog",))
            self.assertTrue(proof.holds, proof.sentence())
            if taps_of(made).down > 1:
                bench = next(file.text for file in package.files if file.name == "f_tb.v")
                self.assertIn("SPAN = 8, TIMED = 8;", bench)

    def test_the_fewest_multipliers_keep_up_and_one_less_does_not(self) -> None:
        source = random.Random(72)
        for _ in range(400):
            stage = taps_of(one_way(source, 12, 300))
            clocks = source.randint(1, 60)
            walk = walk_of(stage)
            lanes = fewest_lanes(stage, walk, clocks)
            if lanes is None:
                self.assertGreater(stage.up, clocks)
                continue
            self.assertLessEqual(clocks_a_sample(stage, walk, lanes), clocks)
            if lanes > 1:
                self.assertGreater(clocks_a_sample(stage, walk, lanes - 1), clocks)

    def test_what_suits_a_rate_keeps_up_with_it(self) -> None:
        """One multiplier where it does, several where it doesn't; what is too slow names what isn't."""
        self.assertEqual(suited(plain(64, 1, 8, 250e3), HardwareChoices(clock_hz=48e6)), "serial")
        quick = plain(64, 1, 8, 6e6)
        built = build_circuit(quick, "f", HardwareChoices(clock_hz=48e6))
        self.assertEqual((built.architecture, built.multipliers_asked, built.clocks), ("serial", 1, 8))
        twice = build_circuit(replace(quick, sample_rate_hz=12e6), "f", HardwareChoices(clock_hz=48e6))
        self.assertEqual((twice.architecture, twice.multipliers_asked, twice.clocks), ("semi-parallel", 2, 4))
        quicker = build_circuit(replace(quick, sample_rate_hz=48e6), "f", HardwareChoices(clock_hz=48e6))
        self.assertEqual((quicker.multipliers_asked, quicker.clocks), (8, 1))
        for architecture, words in (
            ("serial", "semi-parallel with 2 multipliers keep up"),
            ("semi-parallel", "semi-parallel with 8 multipliers keep up"),
        ):
            rate = 12e6 if architecture == "serial" else 48e6
            with self.assertRaises(FormatError) as caught:
                build_circuit(replace(quick, sample_rate_hz=rate), "f", HardwareChoices(architecture, 48e6, 1))
            self.assertIn(words, str(caught.exception.sentence()))
        with self.assertRaises(FormatError) as caught:
            build_circuit(plain(40, 4, 1, 20e6), "f", HardwareChoices("semi-parallel", 48e6, 0))
        self.assertIn("8e+07", caught.exception.sentence())

    def test_more_multipliers_than_taps_of_a_phase_are_refused(self) -> None:
        with self.assertRaises(FormatError) as caught:
            build_circuit(plain(40, 4, 1), "f", HardwareChoices("semi-parallel", 0, 11))
        self.assertIn("10 are enough", caught.exception.sentence())

    def test_a_change_both_ways_is_serial_while_that_keeps_up(self) -> None:
        both = plain(40, 3, 2)
        self.assertEqual(build_circuit(both, "f", HardwareChoices()).architecture, "serial")
        self.assertEqual(build_circuit(both, "f", HardwareChoices(clock_hz=16e6)).architecture, "semi-parallel")

    def test_only_so_many_multipliers_stand_in_the_text(self) -> None:
        text = (
            hdl_package(plain(64, 1, 8), "verilog", "f", choices=HardwareChoices("semi-parallel", 0, 5)).files[0].text
        )
        self.assertEqual(len(re.findall(r"<= coefficient_\d+ \* ", text)), 5)


BENCH = """module bench;
  reg clk = 0, rst = 1, v = 0, w = 0; reg [15:0] a = 0; reg signed [8:0] d = 0; reg signed [11:0] x = 0;
  wire r, o; wire signed [11:0] y;
  f dut (.clk(clk), .rst(rst), .in_valid(v), .in_ready(r), .in_data(x), .out_valid(o), .out_data(y),
    .coefficient_write(w), .coefficient_address(a[ADDRESS:0]), .coefficient_data(d));
  always #5 clk = ~clk;
  always @(posedge clk) if (o) $display("%0d", y);
  task load(input integer k, input integer value); begin @(negedge clk); w = 1; a = k; d = value; @(negedge clk); w = 0; end endtask
  task play(input integer value); begin while (!r) @(negedge clk); v = 1; x = value; @(negedge clk); v = 0; end endtask
  initial begin
    repeat (3) @(negedge clk); rst = 0;
LOADS
    @(negedge clk);
PLAYS
    repeat (600) @(negedge clk);
    $finish;
  end
endmodule
"""


@unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
class Reloaded(unittest.TestCase):
    def played(self, package: Package, others: tuple[int, ...], samples: list[int]) -> list[int]:
        """Outputs after other taps were written; of VHDL by way of what its synthesis makes of it."""
        text = BENCH.replace("ADDRESS", str(max((len(others) - 1).bit_length(), 1) - 1))
        text = text.replace("LOADS", "\n".join(f"    load({k}, {value});" for k, value in enumerate(others)))
        text = text.replace("PLAYS", "\n".join(f"    play({value});" for value in samples))
        with tempfile.TemporaryDirectory() as place:
            package.write(place)
            (Path(place) / "bench.v").write_text(text)
            circuit = as_verilog(package, Path(place)) if package.language == "vhdl" else "f.v"
            words = ["iverilog", "-o", "bench", circuit, "bench.v"]
            subprocess.run(words, cwd=place, check=True, capture_output=True)
            done = subprocess.run(["vvp", "-n", "bench"], cwd=place, capture_output=True, text=True, check=True)
        return [int(word) for word in done.stdout.split() if word.lstrip("-").isdigit()]

    def test_taps_of_a_change_of_rate_are_replaced(self) -> None:
        """By others before the first sample, in every architecture that takes the change; each tap by its own number."""
        source = random.Random(73)
        cases = [
            (architecture, up, down, lanes)
            for up, down in ((1, 3), (1, 8), (3, 1), (4, 1), (3, 2), (2, 5), (4, 6))
            for architecture, lanes in (
                ("serial", 0),
                ("semi-parallel", 1),
                ("semi-parallel", 3),
                ("parallel", 0),
                ("transposed", 0),
            )
            if architecture == "serial" or (up == 1) or (down == 1 and architecture == "semi-parallel")
        ]
        for index, (architecture, up, down, lanes) in enumerate(some(cases, 5)):
            made = plain(source.choice((16, 17, 23)), up, down)
            stage = taps_of(made)
            others = tuple(source.randint(-60, 60) for _ in stage.coefficients)
            changed = replace(made, stages=(replace(stage, coefficients=others), *made.stages[1:]))
            samples = [source.randint(-2048, 2047) for _ in range(40)]
            wanted = [int(each) for each in simulate(changed, np.array(samples))]
            language = "vhdl" if index % 2 and shutil.which("ghdl") else "verilog"
            choices = HardwareChoices(architecture, multipliers=lanes, reloadable=True)
            package = hdl_package(made, language, "f", choices=choices)
            with self.subTest(architecture=architecture, up=up, down=down, lanes=lanes, language=language):
                self.assertEqual(self.played(package, others, samples), wanted)
                proof = prove_hdl(package, made, simulators=(TOOLS[language],))
                self.assertTrue(proof.holds, proof.sentence())

    def test_a_lane_without_taps_is_never_written(self) -> None:
        """16 taps on 9 multipliers: the last lane's first tap would have the number 16, which an address of 4 bits can't say."""
        made = plain(16, 1, 3)
        others = tuple(range(-8, 8))
        changed = replace(made, stages=(replace(taps_of(made), coefficients=others), *made.stages[1:]))
        samples = [int(each) for each in np.random.default_rng(5).integers(-2048, 2048, 60)]
        package = hdl_package(
            made, "verilog", "f", choices=HardwareChoices("semi-parallel", multipliers=9, reloadable=True)
        )
        self.assertEqual(self.played(package, others, samples), simulate(changed, np.array(samples)).tolist())
        same_rate = replace(made, stages=(replace(taps_of(made), down=1), *made.stages[1:]))
        changed = replace(same_rate, stages=(replace(taps_of(same_rate), coefficients=others), *made.stages[1:]))
        package = hdl_package(
            same_rate, "verilog", "f", choices=HardwareChoices("semi-parallel", multipliers=9, reloadable=True)
        )
        self.assertEqual(self.played(package, others, samples), simulate(changed, np.array(samples)).tolist())

    def test_stages_in_a_row_are_not_replaced(self) -> None:
        made = plain(12, 1, 2)
        two = replace(made, stages=(*made.stages, *made.stages))
        with self.assertRaisesRegex(FormatError, "one sum of taps"):
            build_circuit(two, "f", HardwareChoices("serial", reloadable=True))


if __name__ == "__main__":
    unittest.main()
