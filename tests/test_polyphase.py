"""Changes of rate at full speed as circuits: several multipliers, samples taken while an output is worked out."""

from __future__ import annotations

import random
import re
import shutil
import unittest

from combe.delivery.hdl.build import build_circuit, suited
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.fir_polyphase import clocks_a_sample, fewest_lanes
from combe.delivery.hdl.writer import hdl_package
from combe.errors import FormatError
from combe.proof.hdl import prove_hdl
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, Stage, TapSum, needed_accumulator
from combe.values import replace
from tests.support import fewer_vectors, some
from tests.test_rates import rounded

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
            depth = -(-len(taps_of(made).coefficients) // taps_of(made).up)
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
            lanes = fewest_lanes(stage, clocks)
            if lanes is None:
                self.assertGreater(stage.up, clocks)
                continue
            self.assertLessEqual(clocks_a_sample(stage, lanes), clocks)
            if lanes > 1:
                self.assertGreater(clocks_a_sample(stage, lanes - 1), clocks)

    def test_what_suits_a_rate_keeps_up_with_it(self) -> None:
        """One multiplier where it does, several where it doesn't; what is too slow names what isn't."""
        self.assertEqual(suited(plain(64, 1, 8, 250e3), HardwareChoices(clock_hz=48e6)), "serial")
        quick = plain(64, 1, 8, 6e6)
        built = build_circuit(quick, "f", HardwareChoices(clock_hz=48e6))
        self.assertEqual((built.architecture, built.multipliers_asked), ("semi-parallel", 1))
        quicker = build_circuit(replace(quick, sample_rate_hz=48e6), "f", HardwareChoices(clock_hz=48e6))
        self.assertEqual((quicker.multipliers_asked, quicker.clocks), (8, 1))
        for architecture, words in (
            ("serial", "semi-parallel with 1 multiplier keeps up"),
            ("semi-parallel", "semi-parallel with 8 multipliers keep up"),
        ):
            rate = 6e6 if architecture == "serial" else 48e6
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

    def test_a_change_both_ways_is_left_to_serial(self) -> None:
        both = plain(40, 3, 2)
        with self.assertRaises(FormatError):
            build_circuit(both, "f", HardwareChoices("semi-parallel"))
        self.assertEqual(build_circuit(both, "f", HardwareChoices()).architecture, "serial")

    def test_only_so_many_multipliers_stand_in_the_text(self) -> None:
        text = (
            hdl_package(plain(64, 1, 8), "verilog", "f", choices=HardwareChoices("semi-parallel", 0, 5)).files[0].text
        )
        self.assertEqual(len(re.findall(r"<= coefficient_\d+ \* ", text)), 5)


if __name__ == "__main__":
    unittest.main()
