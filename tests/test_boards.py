"""Circuits on boards: the self-test they carry, the netlist after synthesis, the file the device is loaded with."""

from __future__ import annotations

import json
import random
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from combe.delivery.hdl.board import board_from, board_named, shipped
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.selftest import SEED, STRETCH, self_test
from combe.delivery.hdl.writer import hdl_package
from combe.errors import CombeError
from combe.proof.hdl import prove_hdl
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum, needed_accumulator
from combe.running.simulate import simulate
from combe.values import replace
from tests.rate_cases import random_rates
from tests.support import IS_CAMPAIGN, fewer_vectors, some

setUpModule = fewer_vectors

TOOLS = {"verilog": ("iverilog",), "vhdl": ("ghdl",)}
PINS = {"clk": "35", "passed": "39", "failed": "40", "tx": "14"}
BOARD = {
    "format": "combe-board", "version": 1, "name": "other", "device": "ice40-hx8k", "package": "ct256", "clock_hz": 2.5e7,
    "pins": {"clk": "J3", "passed": "B5", "failed": "B4", "tx": "B12", "reset": "N3"},
}  # fmt: skip


WORD = Format(True, 12, 11)


def small(entry: Format = WORD, output: Format = WORD) -> Realization:
    taps = TapSum((3, -5, 7, 20, 7, -5, 3), Format(True, 6, 5), Format(True, 60, entry.fraction + 5))
    taps = replace(taps, accumulator=needed_accumulator(taps, entry))
    return Realization(
        "small",
        48_000.0,
        "direct",
        entry,
        output,
        (taps, Requantize(taps.accumulator, output, "nearest-even", "saturate")),
    )


def on_board(made: Realization, language: str, place: Path, board: str = "alder-node", **more: str) -> Path:
    hdl_package(made, language, "f", choices=HardwareChoices(board=board, **more)).write(place)  # type: ignore[arg-type]
    return place


def make(place: Path, *words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(["make", *words], cwd=place, capture_output=True, text=True, check=False)


class Described(unittest.TestCase):
    def test_one_ships_and_files_are_read(self) -> None:
        self.assertEqual(shipped(), ["alder-node"])
        board = board_named("alder-node")
        self.assertEqual((board.device, board.package, dict(board.pins)["clk"]), ("ice40-up5k", "sg48", "35"))
        self.assertAlmostEqual(board.divider * board.baud / board.clock_hz, 1, 2)
        self.assertTrue(board_from(BOARD).has_reset)

    def test_mistakes_are_named(self) -> None:
        wrong: list[tuple[dict[str, object], str]] = [
            ({"device": "moon"}, "device"), ({"pins": PINS | {"tx": "35"}}, "pins"), ({"pins": {"clk": "1"}}, "pins"),
            ({"pins": PINS | {"lamp": "3"}}, "pins"), ({"clock_hz": 5}, "clock_hz"), ({"baud": 20_000_000}, "baud"),
            ({"format": "combe-signal"}, "format"), ({"pins": PINS | {"tx": "3;rm"}}, "pins"), ({"package": "../x"}, "package"),
        ]  # fmt: skip
        for change, where in wrong:
            with self.assertRaises(CombeError) as told:
                board_from(BOARD | change)
            self.assertIn(where, told.exception.sentence())
        with self.assertRaises(CombeError):
            board_named("nowhere")


class SelfTests(unittest.TestCase):
    def test_what_it_plays_and_its_signature_are_those_of_the_text(self) -> None:
        """The shift register and the folding, written once more."""
        made = small()
        test = self_test(made)
        state, noise = SEED, []
        for _ in range(STRETCH):
            word = state % 4096
            noise.append(word - 4096 if word >= 2048 else word)
            bit = (state >> 31) ^ (state >> 21) ^ (state >> 1) ^ state
            state = ((state * 2) + bit % 2) % 2**32
        self.assertEqual(test.samples[2 * STRETCH :].tolist(), noise)
        self.assertEqual(test.samples[:3].tolist(), [2047, 0, 0])
        self.assertLessEqual(int(max(abs(test.tones))), 2048)
        self.assertGreater(int(max(test.tones)), 1800)
        folded = 0
        for value in simulate(made, test.samples).tolist():
            folded = ((folded * 2) % 2**32 + folded // 2**31) ^ (value % 4096)
        self.assertEqual(test.signature, folded)

    def test_the_chip_finds_its_own_signature(self) -> None:
        """Simulated from the start on, in both languages, words of several widths, rates that change."""
        source = random.Random(5)
        cases = [
            small(),
            small(Format(False, 10, 10), Format(True, 9, 8)),
            small(Format(True, 36, 35), Format(True, 40, 38)),
            random_rates(source, 8, 3),
        ]
        for made in some(cases, 1):
            for language, tools in TOOLS.items():
                if any(shutil.which(tool) is None for tool in tools):
                    continue
                with tempfile.TemporaryDirectory() as place:
                    done = make(on_board(made, language, Path(place)), "selftest")
                    self.assertEqual(done.returncode, 0, (language, made, done.stdout[-500:], done.stderr[-500:]))

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_a_wrong_chip_lights_the_other_lamp_and_the_capture_is_what_came_out(self) -> None:
        made = small()
        with tempfile.TemporaryDirectory() as place:
            folder = on_board(made, "verilog", Path(place), architecture="transposed")
            self.assertEqual(make(folder, "selftest").returncode, 0)
            kept = [int(word, 2) for word in (folder / "f_capture.txt").read_text().split()]
            wanted = [int(value) % 4096 for value in simulate(made, self_test(made).samples)[: len(kept)]]
            self.assertEqual(kept, wanted)
            text = (folder / "f.v").read_text()
            changed = re.sub(r"6'sd20\b", "6'sd21", text)
            if changed == text:
                changed = text.replace("result <= ", "result <= 12'sd1 + ", 1)
            self.assertNotEqual(changed, text)
            (folder / "f.v").write_text(changed)
            self.assertNotEqual(make(folder, "selftest").returncode, 0)

    @unittest.skipUnless(shutil.which("iverilog"), "there is no simulator on this machine")
    def test_the_serial_line_sends_the_capture(self) -> None:
        """Read as a terminal does: half a bit after the start bit's edge, then bit by bit."""
        made = small()
        with tempfile.TemporaryDirectory() as place:
            folder = on_board(made, "verilog", Path(place), architecture="transposed")
            board = board_named("alder-node")
            listener = f"""
`timescale 1ns / 1ps
module listen;
    reg clk;
    wire passed, failed, tx;
    integer k, n;
    reg [7:0] octet;
    f_top dut (.clk(clk), .passed(passed), .failed(failed), .tx(tx));
    always #5 clk = ~clk;
    initial begin
        clk = 0;
        @(posedge passed);
        for (n = 0; n < 8; n = n + 1) begin
            @(negedge tx);
            #({10 * board.divider * 3 // 2});
            for (k = 0; k < 8; k = k + 1) begin
                octet[k] = tx;
                #({10 * board.divider});
            end
            $display("octet %0d", octet);
        end
        $finish;
    end
endmodule
"""
            (folder / "listen.v").write_text(listener)
            subprocess.run(
                ["iverilog", "-g2001", "-s", "listen", "-o", "l.out", "listen.v", "f_top.v", "f.v"],
                cwd=folder,
                check=True,
            )
            said = subprocess.run(["vvp", "-n", "l.out"], cwd=folder, capture_output=True, text=True, check=True).stdout
            octets = [int(word) for word in re.findall(r"octet (\d+)", said)]
            wanted = []
            for value in simulate(made, self_test(made).samples)[:4].tolist():
                wanted += [(value % 65536) >> 8, value % 256]
            self.assertEqual(octets, wanted)


@unittest.skipUnless(shutil.which("yosys") and shutil.which("iverilog"), "there is no synthesis on this machine")
class Synthesis(unittest.TestCase):
    def test_the_netlist_gives_the_same(self) -> None:
        for language in ("verilog", "vhdl") if IS_CAMPAIGN else ("verilog",):
            package = hdl_package(small(), language, "f", choices=HardwareChoices("transposed", board="alder-node"))
            proof = prove_hdl(package, small(), simulators=TOOLS[language])
            self.assertTrue(proof.holds, proof.sentence())
            self.assertEqual({"gates", "self-test"} & {each.tool for each in proof.simulated}, {"gates", "self-test"})

    @unittest.skipUnless(
        shutil.which("nextpnr-ice40") and shutil.which("icepack") and IS_CAMPAIGN, "takes half a minute"
    )
    def test_a_file_the_device_takes(self) -> None:
        for language in ("verilog", "vhdl"):
            with tempfile.TemporaryDirectory() as place:
                folder = on_board(small(), language, Path(place), architecture="transposed")
                done = make(folder, "bitstream")
                self.assertEqual(done.returncode, 0, done.stderr[-600:])
                found = (folder / "f_top.bin").read_bytes()
                self.assertEqual(found[:1], b"\xff")
                self.assertIn(b"\x7e\xaa\x99\x7e", found[:200])

    def test_constraints_name_every_pin(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            path = Path(place) / "board.json"
            path.write_text(json.dumps(BOARD))
            folder = on_board(small(), "verilog", Path(place) / "out", str(path))
            for kind in ("pcf", "xdc", "lpf"):
                text = (folder / f"f_top.{kind}").read_text()
                for port, pin in BOARD["pins"].items():  # type: ignore[attr-defined]
                    self.assertRegex(text, rf"{port}\b.*\b{pin}\b|{pin}\b.*\b{port}\b")
            self.assertIn("-period 40 ", (folder / "f_top.sdc").read_text())
            self.assertEqual(make(folder, "selftest").returncode, 0)


if __name__ == "__main__":
    unittest.main()
