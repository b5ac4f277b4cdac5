"""The small processor that takes every structure: what its program may read, how deep its stages are, and its clock once placed."""

from __future__ import annotations

import random
import shutil
import unittest
from collections import Counter

from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.schedule import clocks_of, depth_of, lines_of, pieces, places_of, plan_of, word_of
from combe.delivery.hdl.writer import hdl_package
from combe.designing.methods import design
from combe.proof.hdl import prove_hdl
from combe.proof.synthesis import synthesized
from combe.realization.program import Program
from combe.realization.stages import Realization
from combe.rounding.realize import Choices, realize
from tests.support import IS_CAMPAIGN, asked, fewer_vectors, in_campaign, some
from tests.test_networks import random_network

setUpModule = fewer_vectors

LOW = asked(48_000, (0, 6000, -0.1, 0.1), (6800, 24_000, -70))


def four_sections(
    bits: int = 20, entry: str = "s16f15", result: str = "s16f15", structure: str = "direct-1", **more: object
) -> Realization:
    choices = Choices(bits, structure, input=entry, output=result, **more)  # type: ignore[arg-type]
    return realize(design(LOW, "elliptic", 8).filter, 48_000, choices)


class Schedule(unittest.TestCase):
    """Held against the clocks at which a memory that reads what stood there before the edge has a word."""

    def _followed(self, program: Program, pipeline: int) -> None:
        word = word_of(program, 16)
        plan = plan_of(program)
        depth = depth_of(plan, word, pipeline)
        places, _ = places_of(program)
        lines = lines_of(program, plan, places, depth)
        # A line's address goes out in the clock after its own; a result is written so many clocks after its line.
        slots = {place: key for key, place in places.items()}
        written: dict[int, int] = {places[0, False]: -1}
        busy: set[int] = set()
        done: Counter[tuple[int, int, int]] = Counter()
        sums: list[Counter[tuple[int, int, int]]] = []
        for clock, line in enumerate(lines):
            if not line.works:
                continue
            key = (line.place + line.age, line.age, line.factor * 2 ** (0, *plan.late)[line.late])
            if line.age == 0:
                self.assertIn(line.place, written, "read before it was ever written")
                self.assertGreater(clock + 1, written[line.place], slots[line.place])
            done[key] += 1
            if line.ends:
                self.assertFalse(lines[clock + 1].works, "the accumulator is cleared on this line")
                sums.append(done)
                done = Counter()
                for offset, target in ((0, line.target), (1, line.rest_target)):
                    if target is None:
                        continue
                    at = clock + depth.written + offset
                    self.assertNotIn(at, busy, "two words in one clock")
                    self.assertLess(at, len(lines), "a sample may be written then")
                    busy.add(at)
                    written[target] = at
        wanted = [
            Counter((places[term.signal, term.is_rest], term.delay, term.coefficient * 2**scale) for term in step.terms)
            or Counter([(places[0, False], 0, 0)])
            for step, scale in zip(program.steps, plan.scales)
        ]
        self.assertEqual(sums, wanted)
        self.assertEqual(clocks_of(program, 16, pipeline), len(lines) + 1)

    def test_nothing_is_read_before_it_is_written(self) -> None:
        source = random.Random(41)
        for index in range(300 if IS_CAMPAIGN else 60):
            with self.subTest(index=index):
                self._followed(random_network(source).program, index % 2)

    def test_sections_hardly_wait(self) -> None:
        """Four sections of five products: between the last product of one and the first of the next that needs it lie the
        others, which need nothing new."""
        made = four_sections()
        for pipeline, most in ((0, 32), (1, 36)):
            self.assertLessEqual(clocks_of(made.program, 16, pipeline), most)

    def test_parts_of_a_word_fit_a_block(self) -> None:
        for width in range(1, 70):
            count = pieces(width)
            highest = width - 15 * (count - 1)
            self.assertTrue(1 <= highest <= 16, width)


class Circuits(unittest.TestCase):
    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_wide_words_are_multiplied_and_summed_part_by_part(self) -> None:
        """Up to nine parts of a product, sums in two halves, what roundings cut off, each rounding and both overflows."""
        for bits, entry, result, structure, more in some((
            (20, "s24f23", "s24f20", "direct-1", {"error_feedback": True}),
            (24, "s24f23", "s8f7", "direct-2", {"rounding": "floor"}),
            (32, "s24f23", "u30f28", "coupled", {"rounding": "nearest-up", "overflow": "wrap"}),
            (17, "u18f18", "s31f28", "transposed-2", {"rounding": "toward-zero"}),
            (26, "s30f29", "s20f18", "lattice", {}),
        ), 1):  # fmt: skip
            made = four_sections(bits, entry, result, structure, **more)
            package = hdl_package(made, "verilog", "calls", choices=HardwareChoices("serial"))
            with self.subTest(structure=structure):
                self.assertRegex(
                    package.text(".v"), r"wire signed \[\d+:0\] accumulator = |assign accumulator = \{upper,"
                )
                proof = prove_hdl(package, made, simulators=("iverilog",))
                self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_zeros_at_the_end_of_a_factor_take_no_block(self) -> None:
        """Formats that lie apart fill factors up with zeros: these are put back behind the multiplier, one shift or several."""
        shifts = set()
        for structure, bits, pipeline in (("direct-2", 14, 1), ("transposed-2", 16, 1), ("coupled", 14, 0)):
            made = four_sections(bits, "s16f15", "s16f15", structure)
            plan, choices = plan_of(made.program), HardwareChoices("serial", pipeline=pipeline)
            shifts.add(len(plan.late))
            if pipeline:
                parts = pieces(word_of(made.program, 16))
                self.assertEqual(build_circuit(made, "calls", choices).count.multipliers, parts)
            proof = prove_hdl(hdl_package(made, "verilog", "calls", choices=choices), made, simulators=("iverilog",))
            self.assertTrue(proof.holds, (structure, proof.sentence()))
        self.assertTrue(min(shifts) > 0 and len(shifts) > 1, shifts)

    @unittest.skipUnless(shutil.which("iverilog"), "iverilog is not on this machine")
    def test_what_roundings_cut_off_of_smaller_steps_is_kept_as_it_is(self) -> None:
        """Sums that aren't cut off as far as others are not brought to their point where the rest is used."""
        source, found = random.Random(8), 0
        while found < (6 if IS_CAMPAIGN else 1):
            made = random_network(source)
            steps = made.program.steps
            rests = {term.signal - 1 for step in steps for term in step.terms if term.is_rest}
            highest = max(step.shift for step in steps)
            if not any(0 < steps[index].shift < highest for index in rests):
                continue
            found += 1
            proof = prove_hdl(
                hdl_package(made, "verilog", "calls", choices=HardwareChoices("serial")), made, simulators=("iverilog",)
            )
            self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(shutil.which("ghdl"), "ghdl is not on this machine")
    @in_campaign
    def test_so_they_are_in_the_other_language(self) -> None:
        made = four_sections(20, "s24f23", "s24f20", error_feedback=True)
        package = hdl_package(made, "vhdl", "calls", choices=HardwareChoices("serial"))
        proof = prove_hdl(package, made, simulators=("ghdl",))
        self.assertTrue(proof.holds, proof.sentence())

    @unittest.skipUnless(shutil.which("nextpnr-ice40") and shutil.which("yosys"), "no placer on this machine")
    @unittest.skipUnless(IS_CAMPAIGN, "in a campaign")
    def test_four_sections_are_placed_at_48_mhz(self) -> None:
        """24-bit state on the smallest device with multipliers, and what is wider still as well."""
        for made in some(
            (four_sections(), four_sections(24, "s24f23", "s8f7"), four_sections(18, structure="lattice")), 1
        ):
            package = hdl_package(made, "verilog", "calls", choices=HardwareChoices("serial"))
            cost = synthesized(package, "ice40-up5k")
            with self.subTest(cost=cost.sentence()):
                self.assertGreaterEqual(cost.clock_hz, 48e6)

    def test_without_a_pipeline_nothing_is_added(self) -> None:
        made = four_sections()
        plain, deep = (build_circuit(made, "calls", HardwareChoices("serial", pipeline=k)) for k in (0, 1))
        self.assertLess(plain.clocks, deep.clocks)
        self.assertLess(plain.count.registers, deep.count.registers)


if __name__ == "__main__":
    unittest.main()
