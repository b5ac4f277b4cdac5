"""Counts of synthesis are kept by what they were counted of, and by nothing else."""

from __future__ import annotations

import os
import shutil
import tempfile
import unittest
from pathlib import Path
from unittest import mock

from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package, SourceFile
from combe.filters import Fir
from combe.project.chain import Rounded
from combe.project.document import Project
from combe.project.proving import MEASURED_DEVICES, measured_circuits
from combe.project.results import News, Results
from combe.proof import kept_costs, synthesis
from combe.proof.synthesis import Synthesized
from combe.rounding.realize import Choices, realize
from combe.values import replace
from tests.support import LOWPASS, application_for, fewer_vectors

setUpModule = fewer_vectors


def circuit(taps: tuple[float, ...] = (0.25, 0.5, 0.25), name: str = "f") -> Package:
    made = realize(Fir(taps), 48_000.0, Choices(8, "", "s8f7", "s8f7"))
    return hdl_package(made, "verilog", name, choices=HardwareChoices("transposed"))


def with_text(package: Package, old: str, new: str) -> Package:
    first = package.files[0]
    assert old in first.text
    return replace(package, files=(SourceFile(first.name, first.text.replace(old, new, 1)), *package.files[1:]))


@unittest.skipUnless(shutil.which("yosys"), "yosys is not on this machine")
class Kept(unittest.TestCase):
    def setUp(self) -> None:
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.shelf = Path(holder.name) / "costs"
        for patched in (
            mock.patch.object(kept_costs, "shelf", lambda: self.shelf),
            mock.patch.object(synthesis, "_counted", wraps=synthesis._counted),
        ):
            patched.start()
            self.addCleanup(patched.stop)

    def counts(self, package: Package, device: str = "generic") -> int:
        """How often tools ran for it."""
        before = synthesis._counted.call_count  # type: ignore[attr-defined]
        self.found = synthesis.synthesized(package, device)
        return int(synthesis._counted.call_count) - before  # type: ignore[attr-defined]

    def test_the_same_is_counted_once(self) -> None:
        self.assertEqual(self.counts(circuit()), 1)
        first = self.found
        self.assertGreater(first.registers, 10)
        self.assertEqual(self.counts(circuit()), 0)
        self.assertEqual(self.found, first)
        told = with_text(circuit(), "\n", "\n// another story\n")
        self.assertEqual(self.counts(told), 0, "comments are no circuit")
        self.assertEqual(self.counts(circuit((0.25, 0.5, 0.3))), 1)
        self.assertEqual(self.counts(circuit(name="g")), 1)
        self.assertEqual(self.counts(circuit(), "ecp5"), 1)
        with mock.patch.object(kept_costs, "version", lambda tool: "another"):
            self.assertEqual(self.counts(circuit()), 1)

    def test_damage_strangers_and_failures_are_not_believed(self) -> None:
        self.counts(circuit())
        good = self.found
        path = next(self.shelf.iterdir())
        for content in (b"", b"{", b"[1]", b'{"device": 3}', b"x" * 10_000):
            path.write_bytes(content)
            self.assertEqual((self.counts(circuit()), self.found), (1, good), content[:20])
        path.chmod(0o666)
        self.assertEqual(self.counts(circuit()), 1, "others may have written to it")
        path.chmod(0o600)
        self.shelf.chmod(0o777)
        self.assertEqual(self.counts(circuit()), 1)
        self.shelf.chmod(0o700)
        broken = with_text(circuit(), "module", "modul")
        self.assertEqual([self.counts(broken) for _ in range(2)], [1, 1])
        self.assertTrue(self.found.failure)

    def test_only_so_many_are_kept(self) -> None:
        self.counts(circuit())
        for k in range(8):
            other = self.shelf / f"{k}.json"
            other.write_bytes(b"{}")
            os.utime(other, (k, k))
        with mock.patch.object(kept_costs, "MOST_KEPT", 4):
            self.counts(circuit((0.5, 0.25)))
        left = {path.name for path in self.shelf.iterdir()}
        self.assertEqual(len(left), 4)
        self.assertFalse({"0.json", "1.json"} & left)

    def test_a_disk_that_takes_nothing_is_no_fault(self) -> None:
        with mock.patch.object(kept_costs, "write_files", side_effect=OSError("full")):
            self.assertEqual([self.counts(circuit()) for _ in range(2)], [1, 1])
        self.assertFalse(self.found.failure)

    def test_the_one_in_force_is_counted_and_what_is_known_of_others_told(self) -> None:
        taps = Fir((0.25, 0.5, 0.25))
        made = realize(taps, 48_000.0, Choices(8, "", "s8f7", "s8f7"))
        rounded = Rounded(made, (), LOWPASS)
        project = Project("three", LOWPASS, arithmetic=Choices(8), hardware=HardwareChoices(architecture="transposed"))
        counted: list[str] = []

        def count(package: Package, device: str, _: object) -> synthesis.Synthesized:
            counted.append(device)
            return synthesis.Synthesized(device, 7, 11)

        def told(is_all: bool) -> list[News]:
            counted.clear()
            return [
                news
                for news in measured_circuits(rounded, project, is_all, lambda: False)
                if isinstance(news, News) and news.name == "synthesized"
            ]

        with mock.patch.object(synthesis, "_counted", count):
            first = told(False)
            self.assertEqual(first[0].value, {})
            self.assertEqual(counted, list(MEASURED_DEVICES))
            self.assertEqual(list(first[-1].value), ["transposed"])
            self.assertEqual([cost.device for cost in first[-1].value["transposed"]], list(MEASURED_DEVICES))
            self.assertEqual([news.is_whole for news in first], [False] * (len(first) - 1) + [True])
            every = told(True)
            self.assertEqual(list(every[0].value), ["transposed"], "known at once")
            self.assertGreater(len(every[-1].value), 3)
            self.assertEqual(len(counted), 2 * (len(every[-1].value) - 1))
            again = told(False)
            self.assertEqual((again[0].value, counted), (every[-1].value, []))


class Page(unittest.TestCase):
    def test_a_page_that_rests_asks_and_one_that_nobody_sees_does_not(self) -> None:
        application = application_for(self)
        from PyQt6.QtTest import QTest

        from combe.app.pages.cost import CostPage
        from combe.app.pages.page import Scene

        self.assertIsNotNone(application)
        made = realize(Fir((0.25, 0.5, 0.25)), 48_000.0, Choices(8, "", "s8f7", "s8f7"))
        rows = tuple(compared(made, HardwareChoices()))
        project = Project("three", LOWPASS, arithmetic=Choices(8))
        page, heard = CostPage(), list[tuple[str, object]]()
        page.rest.setInterval(30)
        page.asked.connect(lambda what, detail: heard.append((what, detail)))
        waiting, known = (
            Results(compared=rows, fresh=frozenset(names)) for names in (("rounded",), ("rounded", "synthesized"))
        )
        page.show_scene(Scene(project, waiting))
        QTest.qWait(60)
        self.assertEqual(heard, [], "nobody looks")
        page.show()
        page.hide()
        QTest.qWait(60)
        self.assertEqual(heard, [], "nobody looks any more")
        page.show()
        page.show_scene(Scene(project, known))
        QTest.qWait(60)
        self.assertEqual(heard, [], "all is known")
        page.show_scene(Scene(project, waiting))
        QTest.qWait(80)
        self.assertEqual(heard, [("synthesize", False)])
        page.measure.click()
        self.assertEqual(heard[1:], [("synthesize", True)])
        cost = Synthesized("ecp5", 7, 11)
        page.show_scene(Scene(project, replace(known, synthesized={"parallel": (cost,)})))
        self.assertEqual(page.table.item(0, 8).text(), "11 LUT, 7 FF")
        self.assertEqual(page.table.item(0, 8).toolTip(), cost.sentence())
        page.close()


if __name__ == "__main__":
    unittest.main()
