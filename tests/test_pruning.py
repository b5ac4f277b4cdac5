"""Registers of sums in a row that leave out low bits: in the model, their noise and bounds, in every language and in the window."""

from __future__ import annotations

import json
import random
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from math import comb, floor, log2, log10
from pathlib import Path

import numpy as np

import combe
from combe.analysis.bounds import bounds
from combe.analysis.facts import facts
from combe.analysis.noise import predicted_noise
from combe.delivery.c import c_package
from combe.delivery.code_choices import CodeChoices
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.rust import rust_package
from combe.designing.file import design_document
from combe.designing.task import DesignChoice
from combe.errors import FormatError
from combe.ledger import meets
from combe.project.demo import demo_project
from combe.project.edits import take_plan
from combe.proof.c import prove_c
from combe.proof.hdl import prove_hdl
from combe.proof.rust import proved
from combe.realization.cic import Cic, with_pruned_registers
from combe.realization.formats import Format, narrowest_signed
from combe.realization.pruning import error_limits, error_powers, paths, pruned, reaches
from combe.realization.reading import realization_document, realization_from
from combe.realization.stages import Realization, Requantize
from combe.rounding.choices import Choices
from combe.rounding.rates import rate_lines, realize_stages
from combe.running.simulate import simulate
from combe.values import replace
from tests import memory
from tests.rate_cases import DOWN, SANITIZERS, by_the_book, cut_on_the_way, design_of, random_input
from tests.support import IS_CAMPAIGN, application_for, fewer_vectors, some

setUpModule = fewer_vectors

ENTRY = Format(True, 16, 15)


def sums(order: int, factor: int, delay: int, entry: Format = ENTRY, goes_up: bool = False) -> Cic:
    """Whole registers."""
    up, down = (factor, 1) if goes_up else (1, factor)
    draft = Cic(order, up, down, delay, Format(True, 2, entry.fraction))
    return replace(draft, accumulator=Format(True, narrowest_signed(*draft.span(entry)), entry.fraction))


def program(stage: Cic, bits: int = 16, entry: Format = ENTRY) -> Realization:
    """Sums in a row and the rounding behind them, which leaves so many bits."""
    target = Format(True, bits, stage.accumulator.fraction - stage.accumulator.bits + bits)
    after = Requantize(stage.accumulator, target, "nearest-even", "saturate")
    return Realization("sums", 1e6, "direct", entry, target, (stage, after))


def random_program(source: random.Random, is_wide: bool = False, goes_up: bool = False) -> Realization:
    """Cuts anywhere, as nobody would choose them."""
    while True:
        entry = Format(source.random() < 0.9, source.choice((6, 12, 16, 24)), source.randint(0, 15))
        order, factor = (
            (source.randint(5, 8), source.randint(20, 300))
            if is_wide
            else (source.randint(1, 6), source.randint(2, 30))
        )
        stage = sums(order, factor, source.randint(1, 3), entry, goes_up)
        bits = stage.accumulator.bits
        if not goes_up:
            most = source.randint(1, bits - 2)
            stage = replace(stage, discarded=tuple(sorted(source.randint(0, most) for _ in range(2 * order))))
            bits = max(bits, narrowest_signed(*stage.span(entry)))
            stage = replace(stage, accumulator=Format(True, bits, entry.fraction))
        if max(stage.shifts) < 64 and (64 < bits <= 120 if is_wide else bits <= 64):
            return program(stage, source.randint(4, min(24, bits)), entry)


class Exactly(unittest.TestCase):
    def test_the_model_cuts_on_the_way_however_wide(self) -> None:
        source = random.Random(3)
        for index in range(40):
            made = random_program(source, is_wide=index % 3 == 0)
            samples = random_input(source, made.input, source.randint(0, 700))
            found = simulate(made, np.array(samples, dtype=np.int64))
            self.assertEqual([int(x) for x in found], by_the_book(made.stages, samples), index)
            self.assertEqual(realization_from(json.loads(json.dumps(realization_document(made)))).realization, made)

    def test_paths_are_what_a_unit_at_each_register_does(self) -> None:
        """A unit added at an adder, at every time between two outputs: what comes out, gathered."""
        for order, factor, delay in ((1, 3, 1), (3, 4, 1), (2, 5, 2), (4, 2, 3)):
            count = order * factor * delay * 2 + 2 * factor
            for place, path in enumerate(paths(order, factor, delay)):
                seen: list[int] = []
                for at in range(factor if place < order else 1):
                    signal = [int(k == at) for k in range(count if place < order else count // factor)]
                    for number in range(place, 2 * order):
                        if number == order and place < order:
                            signal = signal[::factor]
                        if number < order:
                            signal = [int(x) for x in np.cumsum(signal)]
                        else:
                            signal = [x - (signal[k - delay] if k >= delay else 0) for k, x in enumerate(signal)]
                    seen += signal
                self.assertEqual(path.positive, sum(x for x in seen if x > 0), (order, factor, delay, place))
                self.assertEqual(path.negative, -sum(x for x in seen if x < 0))
                self.assertEqual(path.energy, sum(x * x for x in seen))

    def test_a_register_that_goes_up_holds_what_it_must_and_no_bit_more(self) -> None:
        """Against inputs that drive each weight to the end it likes."""
        for order, factor, delay in ((1, 4, 1), (3, 4, 1), (4, 8, 2), (2, 3, 3)):
            stage = sums(order, factor, delay, goes_up=True)
            for place, (most, least) in enumerate(reaches(order, factor, delay)):
                weights = np.array([1], dtype=object)
                for number in range(place + 1):
                    if number < order:
                        step = np.zeros((factor if place >= order else 1) * delay + 1, dtype=object)
                        step[0], step[-1] = 1, -1
                    else:
                        step = np.ones(order * factor * delay + factor, dtype=object)
                    weights = np.convolve(weights, step)[: order * factor * delay + factor]
                phases = [weights[k::factor] for k in range(factor)] if place >= order else [weights]
                self.assertEqual(most, max(int(sum(x for x in phase if x > 0)) for phase in phases))
                self.assertEqual(least, max(-int(sum(x for x in phase if x < 0)) for phase in phases))
            widths = stage.register_bits(ENTRY)
            self.assertEqual(widths[0], min(17, stage.accumulator.bits))
            self.assertLessEqual(widths[-1], stage.accumulator.bits)

    def test_cuts_are_those_of_the_published_rule(self) -> None:
        """Hogenauer 1981: floor(−log2 F + log2 σ + ½ log2(6/N)), F of combs from binomials; the first register cuts less, for its
        mean reaches the output."""
        order, factor, dropped = 4, 25, 19
        weights = [np.array([1.0])]
        for _ in range(order):
            weights.append(np.convolve(weights[-1], np.ones(factor)))
        energies = []
        for place in range(order):
            row = weights[order - place]
            for _ in range(place):
                row = np.convolve(row, np.r_[1.0, np.zeros(factor - 1), -1.0])
            energies.append(float(np.sum(row**2)))
        energies += [float(comb(2 * left, left)) for left in range(order, 0, -1)]
        sigma = 2.0**dropped / 12**0.5
        rule = [floor(-log2(e) / 2 + log2(sigma) + log2(6 / order) / 2 + 1e-12) for e in energies]
        found = pruned(order, factor, 1, dropped)
        self.assertEqual(list(found[1:]), rule[1:])
        self.assertLessEqual(found[0], rule[0])
        self.assertEqual(pruned(order, factor, 1, 0), ())

    def test_errors_are_as_large_and_as_loud_as_told(self) -> None:
        """Of what comes out less what comes out exactly, over many random samples."""
        source = np.random.default_rng(5)
        for order, factor, delay, left in ((1, 8, 1, 10), (3, 8, 1, 14), (4, 16, 1, 16), (5, 6, 2, 12)):
            whole = sums(order, factor, delay)
            dropped = whole.accumulator.bits - left
            cuts = pruned(order, factor, delay, dropped)
            # As chosen, and with more cut at the first register than its mean allows.
            for kept in (cuts, tuple(max(cut, 3) for cut in cuts)):
                made = replace(
                    whole, discarded=kept, accumulator=replace(whole.accumulator, bits=whole.accumulator.bits + 2)
                )
                signal = [int(x) for x in source.integers(ENTRY.least, ENTRY.most + 1, 20_000)]
                exact = by_the_book((whole,), signal[:2000])
                low, high = error_limits(kept, order, factor, delay)
                short = [a - b for a, b in zip(cut_on_the_way(made, signal[:2000]), exact)]
                self.assertTrue(low <= min(short) and max(short) <= high, (order, kept))
                errors = np.array(cut_on_the_way(made, signal), dtype=float) - np.array(
                    cut_on_the_way(replace(made, discarded=(0,) * len(kept)), signal), dtype=float
                )
                parts = error_powers(kept, order, factor, delay)
                power, mean = sum(one for one, _ in parts), sum(one for _, one in parts)
                self.assertAlmostEqual(float(np.var(errors)) / power, 1.0, delta=0.15, msg=str((order, kept)))
                self.assertAlmostEqual(
                    float(np.mean(errors)), mean, delta=5 * (power * order * delay / len(errors)) ** 0.5 + 1e-9
                )
            share = 4.0**dropped / 12
            parts = error_powers(cuts, order, factor, delay)
            self.assertLessEqual(sum(power + mean**2 for power, mean in parts), share * 1.0000001)

    def test_the_worst_input_stays_inside(self) -> None:
        """Constants at both ends, and signs that follow the weights' ends: nothing wraps."""
        made = program(with_pruned_registers(sums(4, 16, 1), ENTRY, Format(True, 20, 3)))
        stage = made.stages[0]
        assert isinstance(stage, Cic)
        for raw in (ENTRY.least, ENTRY.most):
            found = cut_on_the_way(stage, [raw] * 300)
            self.assertTrue(all(stage.accumulator.holds(value) for value in found))
            self.assertEqual([int(x) for x in simulate(made, np.full(300, raw))], by_the_book(made.stages, [raw] * 300))
        least, most = stage.span(ENTRY)
        self.assertTrue(stage.accumulator.holds(least) and stage.accumulator.holds(most))
        first = bounds(made)[0]
        self.assertTrue(first.least <= least and first.most >= most, "bounds know of the cuts")
        with self.assertRaisesRegex(FormatError, "can't hold every output"):
            program(replace(stage, accumulator=replace(stage.accumulator, bits=32)))


class Chosen(unittest.TestCase):
    def test_registers_are_narrower_and_every_limit_is_kept(self) -> None:
        found = design_of(DOWN, "cic4x2")
        plain, less = (realize_stages(found, replace(Choices(16), pruned=choice)) for choice in (False, True))
        before, after = plain.stages[0], less.stages[0]
        assert isinstance(before, Cic) and isinstance(after, Cic)
        self.assertLess(sum(after.register_bits(ENTRY)), sum(before.register_bits(ENTRY)))
        self.assertTrue(meets(rate_lines(less, DOWN)))
        noise, quiet = predicted_noise(less), predicted_noise(plain)
        self.assertGreater(noise.fluctuating, quiet.fluctuating)
        self.assertLess(noise.power, 1.3 * quiet.power)
        said = [fact.sentence for fact in facts(less) if "Registers of sums" in fact.sentence]
        self.assertEqual(len(said), 1)
        told = float(said[0].split("add ")[1].split(" dB")[0])
        self.assertAlmostEqual(told, 10 * log10(noise.fluctuating / quiet.fluctuating), delta=0.006)
        remedies = [fact.remedy for fact in facts(plain) if "Registers of sums" in fact.sentence]
        self.assertEqual([remedy.changes for remedy in remedies if remedy], [{"pruned": True}])
        self.assertNotEqual(
            combe.realize(found, 16).realization, combe.realize(found, 16, pruned=True).realization, "it is asked for"
        )

    def test_what_cannot_be_is_refused(self) -> None:
        stage = sums(3, 8, 1)
        for wrong, words in (
            (replace(stage, discarded=(0, 1, 2)), "3 counts of bits for 6 registers"),
            (replace(stage, discarded=(0, 2, 1, 3, 3, 3)), "go down on the way"),
            (replace(stage, discarded=(-1, 0, 0, 0, 0, 0)), "go down on the way"),
            (replace(stage, discarded=(0, 0, 0, 0, 0, 24)), "leave nothing"),
            (replace(sums(3, 8, 1, goes_up=True), discarded=(0, 0, 0, 0, 0, 1)), "add up for ever"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                program(wrong)
        with self.assertRaisesRegex(FormatError, "no sums in a row"):
            combe.realize(design_of(DOWN, "2x2x2"), 16, pruned=True)

    def test_from_the_command_line(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            Path(place, "d.json").write_text(json.dumps(design_document(design_of(DOWN, "cic4x2"))))

            def run(*words: str) -> subprocess.CompletedProcess[str]:
                command = [sys.executable, "-m", "combe", *words]
                return subprocess.run(command, cwd=place, capture_output=True, text=True, check=False)

            done = run("realize", "d.json", "--prune", "--out", "r.json")
            self.assertIn("registers of", done.stdout, done.stderr)
            stage = json.loads(Path(place, "r.json").read_text())["stages"][0]
            self.assertEqual(len(stage["discarded"]), 2 * stage["order"])
            Path(place, "x.txt").write_text("1000\n" * 64)
            heard = run("simulate", "r.json", "--input", "x.txt", "--output", "-")
            self.assertEqual(len(heard.stdout.split()), 8, heard.stderr)


class Code(unittest.TestCase):
    @unittest.skipUnless(shutil.which("gcc"), "there is no compiler on this machine")
    def test_c_in_one_word_and_in_two(self) -> None:
        source = random.Random(11)
        for index in range(60 if IS_CAMPAIGN else 2):
            made = random_program(source, is_wide=index % 2 == 1)
            package = c_package(made, "f", choices=CodeChoices(source.choice(("c", "c", "c++"))))
            proof = prove_c(package, made, (), SANITIZERS)
            self.assertTrue(proof.holds, (index, made.stages, proof.sentence()))

    @unittest.skipUnless(shutil.which("rustc"), "there is no compiler on this machine")
    def test_rust(self) -> None:
        source = random.Random(12)
        for index in range(20 if IS_CAMPAIGN else 1):
            made = random_program(source, is_wide=index % 2 == 1)
            proof = proved(rust_package(made, "f"), made, (), None, lambda _: None, lambda: False)
            self.assertTrue(proof.holds, (index, made.stages, proof.sentence()))

    def test_circuits_in_both_languages(self) -> None:
        """Going down with bits left out, going up with registers as wide as what they hold; stalls and resets."""
        source = random.Random(13)
        for index in some(range(60), 4):
            language, tool = (("verilog", "iverilog"), ("vhdl", "ghdl"))[index % 2]
            if shutil.which(tool) is None:
                continue
            made = random_program(source, goes_up=index % 3 == 0)
            proof = prove_hdl(hdl_package(made, language, "f"), made, simulators=(tool,))
            self.assertTrue(proof.holds, (index, language, made.stages, proof.sentence()))

    def test_registers_of_a_circuit_are_as_wide_as_told(self) -> None:
        for goes_up in (False, True):
            stage = sums(4, 16, 1, goes_up=goes_up)
            stage = with_pruned_registers(
                stage, ENTRY, Format(True, 16, stage.accumulator.fraction - stage.accumulator.bits + 16)
            )
            text = hdl_package(program(stage), "verilog", "f").text(".v")
            widths: dict[str, list[int]] = {"total": [], "comb": []}
            for wide, names in re.findall(r"reg signed \[(\d+):0\] ([\w, ]+)", text):
                for name in names.split(", "):
                    kind = name.split("_")[0]
                    if kind in widths:
                        widths[kind].append(int(wide) + 1)
            told = list(stage.register_bits(ENTRY))
            first, second = (told[4:], told[:4]) if goes_up else (told[:4], told[4:])
            self.assertEqual((widths["total"], widths["comb"]), (first, second))


class InTheWindow(unittest.TestCase):
    def test_registers_are_pruned_by_a_tick_and_by_a_remedy(self) -> None:
        application = application_for(self)
        from combe.app.picture import settle
        from combe.app.session import Session
        from combe.app.settings import Settings
        from combe.app.window import MainWindow

        self.assertIsNotNone(application)
        project = demo_project()
        memory.remember_all(self, project.requirement)
        session = Session(
            replace(project, requirement=DOWN, design=DesignChoice("equiripple", plan="cic4x2"), arithmetic=Choices(16))
        )
        with tempfile.TemporaryDirectory() as place:
            window = MainWindow(session, Settings(path=Path(place, "settings.json")))
            window.show()
            session.start()
            settle(session)
            window.open_step("arithmetic")
            panel = window.arithmetic
            self.assertTrue(panel.form.isRowVisible(panel.pruning))

            def kept() -> tuple[int, ...]:
                settle(session)
                assert session.results.rounded is not None
                stage = session.results.rounded.realization.stages[0]
                assert isinstance(stage, Cic)
                return stage.discarded

            self.assertEqual(kept(), ())
            panel.pruning.click()
            self.assertTrue(kept())
            panel.pruning.click()
            self.assertEqual(kept(), ())
            remedies = [
                fact.remedy for fact in session.results.facts if fact.remedy and "pruned" in fact.remedy.changes
            ]
            panel.remedy_wanted.emit(remedies[0].changes, remedies[0].words)
            self.assertTrue(kept())
            self.assertTrue(panel.pruning.isChecked())
            session.edit(take_plan("2x2x2"))
            settle(session)
            self.assertFalse(panel.form.isRowVisible(panel.pruning))
            session.saved = session.project
            window.close()


if __name__ == "__main__":
    unittest.main()
