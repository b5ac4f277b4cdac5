"""What the documents promise has a check behind it, and the figures in them are the program's."""

from __future__ import annotations

import importlib
import sys
import unittest
from pathlib import Path

from combe.delivery.hdl.choices import ARCHITECTURES
from combe.designing.methods import METHODS
from combe.realization.stages import FORMS
from combe.rounding.recursive import SECTION_STRUCTURES

ROOT = Path(__file__).resolve().parent.parent
sys.path.insert(0, str(ROOT / "tools"))
claims = importlib.import_module("claims")
faults = importlib.import_module("fault_table")


class Quotes(unittest.TestCase):
    def test_every_claim_stands_in_its_document_and_every_check_exists(self) -> None:
        for claim in claims.CLAIMS:
            text = (ROOT / claim.document).read_text(encoding="utf-8")
            self.assertEqual(text.count(claim.words), 1, f"{claim.document}: {claim.words}")
            self.assertTrue(claim.checks)
            for check in claim.checks:
                module, case, name = check.split(".")
                source = (ROOT / "tests" / f"test_{module}.py").read_text(encoding="utf-8")
                body = source.partition(f"\nclass {case}(")[2].partition("\nclass ")[0]
                self.assertIn(f"    def test_{name}(", body, check)

    def test_a_claim_that_is_false_is_told(self) -> None:
        found, said = claims.held(claims.Claim("README.md", "does the washing-up", ("claims.Counts.methods",)))
        self.assertEqual((found, said), (False, "not said there"))


class FaultTable(unittest.TestCase):
    def test_every_fault_stands_once_in_its_file_and_names_tests_that_exist(self) -> None:
        for fault in faults.FAULTS:
            text = (ROOT / "combe" / fault.file).read_text(encoding="utf-8")
            self.assertEqual(text.count(fault.old), 1, f"{fault.file}: {fault.what}")
            self.assertNotEqual(fault.old, fault.new, fault.what)
            for name in fault.tests.split():
                module, _, case = name.partition(".")
                source = (ROOT / "tests" / f"{module}.py").read_text(encoding="utf-8")
                self.assertIn(f"\nclass {case}", source, f"{fault.what}: {name}")


class Counts(unittest.TestCase):
    def test_methods(self) -> None:
        self.assertEqual(len(METHODS), 48)

    def test_structures(self) -> None:
        self.assertEqual(len({*FORMS, *SECTION_STRUCTURES}), 12)

    def test_architectures(self) -> None:
        self.assertEqual(len(ARCHITECTURES), 6)


if __name__ == "__main__":
    unittest.main()
