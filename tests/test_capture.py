"""What a circuit on a board heard of itself: as a stranger sends it, simulated, on the command line and in the window."""

from __future__ import annotations

import json
import random
import shutil
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

import combe
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.selftest import self_test
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.designing.designed import Design
from combe.errors import CombeError, FormatError
from combe.filters import Fir
from combe.project.edits import choose_language
from combe.proof.captured import capture_from, simulated_capture
from combe.realization.stages import Realization
from combe.running.simulate import simulate
from combe.values import replace
from tests.rate_cases import random_rates
from tests.support import some
from tests.test_cli import InFolder, call
from tests.window_case import WindowCase

HAS_ICARUS = shutil.which("iverilog") is not None


def made(output: str = "s16f15", entry: str = "s12f11") -> Realization:
    found = Design("given", Fir((0.25, -0.5, 0.3, 0.125)), 48_000.0)
    return combe.realize(found, 12, input=entry, output=output).realization


def sent(values: list[int], bits: int) -> bytes:
    """As a board's line carries them: a word's highest byte first, its sign carried on."""
    width = -(-bits // 8)
    return b"".join((value % (1 << 8 * width)).to_bytes(width, "big") for value in values)


class Heard(unittest.TestCase):
    def test_words_of_any_width_are_read_as_they_are_sent(self) -> None:
        for output in ("s16f15", "s12f11", "s24f23", "s7f6", "u10f11", "s8f7", "s33f32"):
            realization = made(output)
            outputs = simulate(realization, self_test(realization).samples)[:256].tolist()
            found = capture_from(realization, sent(outputs, realization.output.bits), "chip.bin")
            self.assertTrue(found.holds, (output, found.sentence()))
            self.assertEqual(found.heard.tolist(), outputs)
            outputs[7] ^= 1
            wrong = capture_from(realization, sent(outputs, realization.output.bits), "chip.bin")
            self.assertEqual((wrong.holds, wrong.differing), (False, [7]))
            self.assertIn(f"1 of 256 words differ: {outputs[7]} instead of {outputs[7] ^ 1} at 7", wrong.sentence())

    def test_too_few_and_too_many_bytes_are_refused(self) -> None:
        for count in (0, 511, 513, 1024):
            with self.assertRaises(FormatError) as caught:
                capture_from(made(), bytes(count), "chip.bin")
            self.assertIn(
                f"chip.bin has {count:,} bytes, and a board sends 256 words of 2: 512", caught.exception.sentence()
            )

    def test_the_answer_to_the_impulse_is_the_filter(self) -> None:
        """Its taps, each rounded as outputs are."""
        realization = made()
        outputs = simulate(realization, self_test(realization).samples)[:256].tolist()
        answer = capture_from(realization, sent(outputs, 16), "chip.bin").answer()
        assert answer is not None
        taps = np.zeros(256)
        taps[:4] = (0.25, -0.5, 0.3, 0.125)
        self.assertLess(float(np.max(np.abs(np.array(answer.taps) - taps))), 2.0**-11)
        self.assertIsNone(capture_from(realization, bytes(512), "silent.bin").answer())

    @unittest.skipUnless(HAS_ICARUS, "there is no simulator on this machine")
    def test_a_simulated_board_hears_what_the_model_gives(self) -> None:
        source = random.Random(61)
        rates = [random_rates(source) for _ in range(40)]
        cases = [
            (made(), "serial"),
            (made("u10f9"), "transposed"),
            *((each, "serial") for each in rates if each.output.bits <= 40),
        ]
        for realization, architecture in some(cases, 2):
            found = simulated_capture(realization, HardwareChoices(architecture, board="alder-node"))
            self.assertTrue(found.holds, (realization, found.sentence()))
            self.assertIn("alder-node simulated", found.sentence())
            self.assertEqual(found.answer() is None, realization.changes_rate or not np.any(found.heard))

    @unittest.skipUnless(HAS_ICARUS, "there is no simulator on this machine")
    def test_a_wrong_circuit_is_heard(self) -> None:
        def changed(*words: object, **more: object) -> Package:
            package = hdl_package(*words, **more)  # type: ignore[arg-type]
            text = package.files[0].text.replace("'sd1024", "'sd1025")
            assert text != package.files[0].text
            return replace(package, files=(replace(package.files[0], text=text), *package.files[1:]))

        with mock.patch("combe.proof.captured.hdl_package", changed):
            found = simulated_capture(made("s24f23"), HardwareChoices("serial", board="alder-node"))
        self.assertFalse(found.holds)
        self.assertIn("its self-test failed", found.sentence())

    def test_what_cannot_be_had_is_refused(self) -> None:
        for choices in (HardwareChoices(), HardwareChoices(board="nowhere"), HardwareChoices("x", board="alder-node")):
            with self.assertRaises(CombeError):
                simulated_capture(made(), choices)
        with mock.patch("shutil.which", return_value=None), self.assertRaisesRegex(CombeError, "iverilog"):
            simulated_capture(made(), HardwareChoices(board="alder-node"))


class OnTheCommandLine(InFolder):
    def test_a_file_and_a_simulation(self) -> None:
        taps = self.put("taps.txt", "0.25\n0.5\n0.25\n")
        call("realize", taps, "--input", "s12f11", "--output", "s12f11", "--out", self.folder / "r.json")
        realization = combe.load(self.folder / "r.json").realization  # type: ignore[union-attr]
        outputs = simulate(realization, self_test(realization).samples)[:256].tolist()
        (self.folder / "chip.bin").write_bytes(sent(outputs, 12))
        words = ("capture", self.folder / "r.json")
        status, out, _ = call(*words, "--heard", self.folder / "chip.bin", "--json", "--to", self.folder / "c.json")
        self.assertEqual((status, json.loads(out)["holds"], json.loads(out)["heard"]), (0, True, outputs))
        self.assertEqual(json.loads((self.folder / "c.json").read_text()), json.loads(out))
        (self.folder / "chip.bin").write_bytes(sent([*outputs[:-1], outputs[-1] + 1], 12))
        status, out, _ = call(*words, "--heard", self.folder / "chip.bin")
        self.assertEqual((status, "1 of 256 words differ" in out), (1, True))
        self.refused(*words, "--heard", self.folder / "nothing.bin")
        self.refused(*words, "--heard", self.folder / "r.json")
        self.refused(*words, "--heard", self.folder / "chip.bin", "--board", "alder-node")
        self.refused(*words, "--board", "nowhere")
        if HAS_ICARUS:
            status, out, _ = call(*words, "--architecture", "transposed")
            self.assertEqual((status, "all 256 words" in out), (0, True))


@unittest.skipUnless(HAS_ICARUS, "there is no simulator on this machine")
class InTheWindow(WindowCase):
    def test_a_board_is_simulated_and_a_file_read(self) -> None:
        self.session.edit(choose_language("vhdl"))
        self.settle()
        self.window.open_step("code")
        self.window.code_view.open_page("capture")
        self.settle()
        page = self.window.code_view.page("capture")
        self.assertFalse(page.heard.isVisible())
        page.simulate.click()
        self.assertFalse(page.simulate.isEnabled())
        self.settle()
        self.assertTrue(page.simulate.isEnabled())
        self.assertIn("all 256 words are the model's", page.words.text())
        captured = self.session.results.captured
        assert captured is not None
        outputs = captured.heard.tolist()
        self.assertEqual(len(page.heard.x), 256)
        file = Path(self.folder) / "chip.bin"
        file.write_bytes(sent([outputs[0] + 1, *outputs[1:]], captured.output.bits))
        page.read_file(str(file))
        self.settle()
        self.assertIn("chip.bin: 1 of 256 words differ", page.words.text())
        self.assertEqual(len(page.wrong.points()), 1)
        file.write_bytes(b"12")
        page.read_file(str(file))
        self.settle()
        self.assertIn("chip.bin has 2 bytes", page.words.text())
        page.read_file(str(file) + ".not")
        self.session.edit(choose_language("c"))
        self.settle()


if __name__ == "__main__":
    unittest.main()
