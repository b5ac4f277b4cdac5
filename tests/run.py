"""Runs every test, says a line for each module as it ends, ends with ``N passed, N failed``."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import tempfile
import time
import unittest
from concurrent.futures import ThreadPoolExecutor, as_completed
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# As the command line does: modules run side by side, and threads of one small matrix only get in their way.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# The processors are busy with other modules: races stay in the process that runs them.
os.environ.setdefault("COMBE_WORKER", "1")
# A process of its own for each module, and many for the command line: read once what they all read.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False


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


LONG_FIRST = (
    "test_app", "test_views", "test_circuits", "test_cli", "test_delivery", "test_design_panel", "test_target",
    "test_code_choices", "test_sizes", "test_results", "test_contenders", "test_runners",
)  # fmt: skip
"""Modules that take longest, so that they don't come last."""
SLOW = (
    "test_circuits", "test_target", "test_code_choices", "test_delivery", "test_runners", "test_views", "test_app",
    "test_sizes", "test_cli", "test_design_panel", "test_results", "test_contenders", "test_networks", "test_certified",
    "test_sections", "test_equiripple", "test_report", "test_budget", "test_seeing",
)  # fmt: skip
"""What ``--quick`` leaves out: windows driven by hand, compilers, emulators, simulators and long races."""


def main() -> int:
    """All modules, each in a process of its own, as many at a time as there are processors; or those named; with
    ``--quick`` without the slow ones."""
    root = Path(__file__).resolve().parent.parent
    names = [word for word in sys.argv[1:] if word != "--quick"]
    if names:
        return run_here(names, root)
    modules = sorted(path.stem for path in (root / "tests").glob("test_*.py"))
    if "--quick" in sys.argv:
        modules = [name for name in modules if name not in SLOW]
        print(f"without {', '.join(SLOW)}", flush=True)
    modules.sort(key=lambda name: LONG_FIRST.index(name) if name in LONG_FIRST else len(LONG_FIRST))
    counts = [0, 0, 0]
    with (
        tempfile.TemporaryDirectory(prefix="combe-tests-") as folder,
        ThreadPoolExecutor(max(1, min((os.cpu_count() or 1) + 1, 4))) as pool,
    ):
        os.environ["COMBE_TEST_MEMORY"] = folder
        for done in as_completed([pool.submit(run_apart, name, root) for name in modules]):
            module, output, seconds = done.result()
            found = re.search(r"(\d+) passed, (\d+) failed(?:, (\d+) skipped)?\s*$", output)
            own = [int(part or 0) for part in found.groups()] if found else [0, 1, 0]
            counts = [total + part for total, part in zip(counts, own)]
            words = ", ".join(f"{n} {word}" for n, word in zip(own, ("passed", "failed", "skipped")) if n)
            print(f"{'FAIL' if own[1] else 'ok  '} {module}: {words}, {seconds:.1f} s", flush=True)
            if own[1]:
                print(output if found else f"{output}\n{module} ended before its last test", flush=True)
    skipped = f", {counts[2]} skipped" if counts[2] else ""
    print(f"\n{counts[0]} passed, {counts[1]} failed{skipped}")
    return 1 if counts[1] or not counts[0] else 0


def run_apart(module: str, root: Path) -> tuple[str, str, float]:
    """One module in a process of its own, all it said, and how long it took."""
    started = time.perf_counter()
    done = subprocess.run(
        [sys.executable, str(Path(__file__).resolve()), f"tests.{module}"], cwd=root, stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT, text=True, errors="replace", check=False,
    )  # fmt: skip
    return module, done.stdout.rstrip(), time.perf_counter() - started


def run_here(names: list[str], root: Path) -> int:
    """Modules, classes or tests by name, in this process."""
    sys.path.insert(0, str(root))
    suite = unittest.TestLoader().loadTestsFromNames(names)
    result = Spoken()
    suite.run(result)
    for test, trace in result.failures + result.errors:
        print(f"\n{test}\n{trace}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"\n{result.passed} passed, {failed} failed{skipped}", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
