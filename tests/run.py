"""Runs every test, says what it does as it goes, ends with ``N passed, N failed``."""

from __future__ import annotations

import os
import sys
import time
import unittest
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")


class Spoken(unittest.TestResult):
    """One line a test: its class and name in words, its time."""

    def __init__(self) -> None:
        super().__init__()
        self.passed = 0
        self._started = 0.0
        self._group = ""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self._started = time.perf_counter()
        group = type(test).__name__
        if group != self._group:
            self._group = group
            print(f"\n{test.__class__.__module__.removeprefix('tests.')}: {group}")

    def _say(self, test: unittest.TestCase, mark: str) -> None:
        name = str(getattr(test, "_testMethodName", test)).removeprefix("test_").replace("_", " ")
        print(f"  {mark} {name}  ({time.perf_counter() - self._started:.2f} s)", flush=True)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        self._say(test, "ok  ")

    def addSkip(self, test: unittest.TestCase, reason: str) -> None:
        super().addSkip(test, reason)
        self._say(test, f"skip ({reason})")

    def addFailure(self, test: unittest.TestCase, err: object) -> None:
        super().addFailure(test, err)  # type: ignore[arg-type]
        self._say(test, "FAIL")

    def addError(self, test: unittest.TestCase, err: object) -> None:
        super().addError(test, err)  # type: ignore[arg-type]
        self._say(test, "FAIL")

    def addSubTest(self, test: unittest.TestCase, subtest: unittest.TestCase, err: object) -> None:
        super().addSubTest(test, subtest, err)  # type: ignore[arg-type]
        if err is not None:
            self._say(subtest, "FAIL")
            print(f"       {subtest}")


def main() -> int:
    """Run all, or the modules named on the command line."""
    root = Path(__file__).resolve().parent.parent
    sys.path.insert(0, str(root))
    loader = unittest.TestLoader()
    names = sys.argv[1:]
    suite = loader.loadTestsFromNames(names) if names else loader.discover(str(root / "tests"), top_level_dir=str(root))
    result = Spoken()
    suite.run(result)
    for test, trace in result.failures + result.errors:
        print(f"\n{test}\n{trace}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"\n{result.passed} passed, {failed} failed{skipped}")
    return 1 if failed or not result.passed else 0


if __name__ == "__main__":
    sys.exit(main())
