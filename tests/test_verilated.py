"""The simulator's own library is compiled once and kept, and never taken from where others could have put it."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from combe.errors import ToolError
from combe.proof import verilated
from tests.support import IS_CAMPAIGN

CLASSES = "VM_TIMING = 0\nVM_TRACE = 0\n"


class Kept(unittest.TestCase):
    """A build as the tools would do it: what is not in the folder is compiled, damaged objects don't link."""

    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.home = Path(holder.name)
        self.shelf = self.home / "shelf"
        self.root = self.home / "root"
        (self.root / "include").mkdir(parents=True)
        (self.root / "include" / "verilated.cpp").write_text("int library;")
        self.compiled: list[str] = []
        self.switches = CLASSES
        self.read = self.included = 0
        self.said = "tool 1"
        for name, fake in (
            ("shelf", lambda: self.shelf), ("run", self.run_tool), ("find", lambda tool: tool),
            ("version", lambda tool: self.said),
        ):  # fmt: skip
            patched = mock.patch.object(verilated, name, fake)
            patched.start()
            self.addCleanup(patched.stop)

    def run_tool(self, command: list[str], folder: Path, **_: object) -> bytes:
        objects = folder / "obj_dir"
        if command[0] == "verilator":
            objects.mkdir()
            (objects / "Vtop.mk").write_text(f"VERILATOR_ROOT = {self.root}\n")
            (objects / "Vtop_classes.mk").write_text(self.switches)
            return b""
        for name in ("verilated.o", "verilated_threads.o"):
            if not (objects / name).exists():
                self.compiled.append(name)
                (objects / name).write_text(f"object {name}")
            elif (objects / name).read_text() != f"object {name}":
                raise ToolError("make failed", "proof")
        if verilated.HEADER in command:
            (objects / verilated.HEADER).write_text("headers")
            self.read += 1
        if any("-include" in word for word in command):
            if (objects / verilated.HEADER).read_text() != "headers":
                raise ToolError("make failed", "proof")
            self.included += 1
        (objects / "Vtop").write_text("program")
        return b""

    def build(self) -> int:
        """How many objects a build had to compile."""
        self.compiled.clear()
        with tempfile.TemporaryDirectory(dir=self.home) as place:
            program = verilated.build(Path(place), "top", ["--cc"], ["top.v"])
            self.assertEqual(program.read_text(), "program")
        return len(self.compiled)

    def test_a_second_build_compiles_none_of_it(self) -> None:
        self.assertEqual([self.build(), self.build(), self.build()], [2, 0, 0])

    def test_headers_are_read_once(self) -> None:
        for _ in range(3):
            self.build()
        self.assertEqual((self.read, self.included), (1, 2))
        (kept,) = self.shelf.iterdir()
        (kept / verilated.HEADER).write_text("rubbish")
        self.assertEqual([self.build(), self.build()], [2, 0])
        self.assertEqual((self.read, self.included), (2, 3))
        (kept / verilated.HEADER).unlink()
        self.assertEqual(self.build(), 0)
        self.assertEqual((self.read, self.included), (2, 3), "objects alone are enough")

    def test_another_tool_library_or_switch_is_another_set(self) -> None:
        self.build()
        self.said = "tool 2"
        self.assertEqual(self.build(), 2)
        self.switches = CLASSES.replace("TIMING = 0", "TIMING = 1")
        self.assertEqual(self.build(), 2)
        (self.root / "include" / "verilated.cpp").write_text("int other;")
        self.assertEqual([self.build(), self.build()], [2, 0])
        self.assertEqual(len(list(self.shelf.iterdir())), 4)

    def test_damaged_objects_are_made_anew(self) -> None:
        self.build()
        (kept,) = self.shelf.iterdir()
        (kept / "verilated.o").write_text("rubbish")
        self.assertEqual([self.build(), self.build()], [2, 0])
        (kept / "verilated_threads.o").unlink()
        self.assertEqual([self.build(), self.build()], [1, 0])

    def test_what_others_can_write_is_not_taken(self) -> None:
        self.build()
        (kept,) = self.shelf.iterdir()
        kept.chmod(0o777)
        self.assertEqual(self.build(), 2)

    def test_a_place_that_cannot_be_written_costs_only_time(self) -> None:
        (self.home / "file").write_text("")
        self.shelf = self.home / "file" / "shelf"
        self.assertEqual([self.build(), self.build()], [2, 2])

    def test_the_oldest_go(self) -> None:
        for number in range(verilated.MOST_KEPT + 3):
            self.said = f"tool {number}"
            self.build()
            (newest,) = [place for place in self.shelf.iterdir() if place.stat().st_mtime > number + 100]
            os.utime(newest, (number, number))
        self.assertEqual(len(list(self.shelf.iterdir())), verilated.MOST_KEPT)
        self.assertEqual(self.build(), 0)
        self.said = "tool 0"
        self.assertEqual(self.build(), 2)


@unittest.skipUnless(IS_CAMPAIGN and shutil.which("verilator"), "built from nothing in a campaign only")
class Real(unittest.TestCase):
    def test_a_program_from_kept_objects_says_the_same(self) -> None:
        text = 'module top; initial begin $display("%0d", 6 * 7); $finish; end endmodule\n'
        with tempfile.TemporaryDirectory() as home, mock.patch.object(verilated, "shelf", lambda: Path(home) / "shelf"):
            said = []
            for number in range(4):
                folder = Path(home) / str(number)
                folder.mkdir()
                (folder / "top.v").write_text(text)
                program = verilated.build(folder, "top", ["--cc", "--exe", "--main", "--timing"], ["top.v"])
                said.append(verilated.run([str(program)], folder).splitlines()[0])
                if number == 1:
                    (kept,) = (Path(home) / "shelf").iterdir()
                    (kept / "verilated.o").write_bytes(b"rubbish")
                if number == 2:
                    (kept / verilated.HEADER).write_bytes((kept / verilated.HEADER).read_bytes()[:9000])
            self.assertEqual(said, [b"42"] * 4)


if __name__ == "__main__":
    unittest.main()
