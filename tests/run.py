"""Runs every test, says a line for each module as it ends, ends with ``N passed, N failed``."""

from __future__ import annotations

import contextlib
import gc
import importlib
import os
import re
import sys
import tempfile
import time
import traceback
import unittest
from collections.abc import Iterator
from pathlib import Path
from typing import NoReturn

sys.path.insert(0, str(Path(__file__).resolve().parent.parent))
from tests import turns
from tests.screens import has_windows

# As the command line does: modules run side by side, and threads of one small matrix only get in their way.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
# The processors are busy with other modules: races stay in the process that runs them.
os.environ.setdefault("COMBE_WORKER", "1")
# A process of its own for each module, and many for the command line: read once what they all read.
os.environ.pop("PYTHONDONTWRITEBYTECODE", None)
sys.dont_write_bytecode = False


def processor_time() -> float:
    """Seconds of processors this process and its ended children have used."""
    return sum(os.times()[:4])


class Spoken(unittest.TestResult):
    """One line a test: its class and name in words, and the time of processors it took, its children's included:
    what a clock shows depends on the modules beside."""

    def __init__(self) -> None:
        super().__init__()
        self.passed = 0
        self._started = 0.0
        self._group = ""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self._started = processor_time()
        group = type(test).__name__
        if group != self._group:
            self._group = group
            print(f"\n{test.__class__.__module__.removeprefix('tests.')}: {group}")

    def _say(self, test: unittest.TestCase, mark: str) -> None:
        name = str(getattr(test, "_testMethodName", test)).removeprefix("test_").replace("_", " ")
        print(f"  {mark} {name}  ({processor_time() - self._started:.2f} s)", flush=True)

    def addSuccess(self, test: unittest.TestCase) -> None:
        self.passed += 1
        self._say(test, "ok  ")

    def addSkip(self, test: unittest.TestCase, reason: str) -> None:
        super().addSkip(test, reason)
        self._say(test, f"skip ({reason})")

    def skip_module(self, name: str, reason: str) -> None:
        """A module of which nothing can be run here."""
        self.skipped.append((unittest.TestCase(), reason))
        print(f"  skip ({reason}) {name}", flush=True)

    def addFailure(self, test: unittest.TestCase, err: object) -> None:
        super().addFailure(test, err)  # type: ignore[arg-type]
        self._say(test, "FAIL")

    def addError(self, test: unittest.TestCase, err: tuple[type, BaseException, object]) -> None:
        if isinstance(err[1], ImportError) and not has_windows():
            self.addSkip(test, f"Qt can't be loaded: {err[1]}")
            return
        super().addError(test, err)  # type: ignore[arg-type]
        self._say(test, "FAIL")

    def addSubTest(self, test: unittest.TestCase, subtest: unittest.TestCase, err: object) -> None:
        super().addSubTest(test, subtest, err)  # type: ignore[arg-type]
        if err is not None:
            self._say(subtest, "FAIL")
            print(f"       {subtest}")


LONG_FIRST = (
    "test_circuits", "test_half_band_stages", "test_app", "test_saving", "test_rates", "test_rate_designs", "test_cli", "test_polynomials", "test_code_choices",
    "test_target", "test_views", "test_workers", "test_path", "test_networks", "test_design_panel", "test_bench_step",
    "test_certified", "test_report", "test_path_window", "test_sizes", "test_rows", "test_strokes", "test_rate_rows",
    "test_equiripple", "test_rate_streams", "test_budget", "test_contenders", "test_delivery", "test_runners", "test_results",
)  # fmt: skip
"""Modules that take longest, so that they don't come last."""
LOADED = (
    "numpy", "scipy.optimize", "scipy.linalg", "scipy.special", "scipy.sparse", "scipy.fft", "hypothesis", "mpmath",
    "numba", "PyQt6.QtWidgets", "PyQt6.QtTest", "pyqtgraph", "unittest.mock", "matplotlib.figure",
    "matplotlib.backends.backend_svg", "matplotlib.backends.backend_pdf", "jinja2", "pygments.lexers", "typer.testing",
)  # fmt: skip
"""Imported before the modules begin."""
SLOWEST = int(os.environ.get("COMBE_SLOWEST", "10"))
"""So many tests are named with their times at the end."""


def main() -> int:
    """All modules, each in a process of its own, two more at a time than there are processors; or those named; with
    ``--quick`` without the tests that take long."""
    root = Path(__file__).resolve().parent.parent
    names = [word for word in sys.argv[1:] if word != "--quick"]
    if names:
        return run_here(names)
    modules = sorted(path.stem for path in (root / "tests").glob("test_*.py"))
    modules.sort(key=lambda name: LONG_FIRST.index(name) if name in LONG_FIRST else len(LONG_FIRST))
    waiting, words = turns.left_out(root, "--quick" in sys.argv)
    if words:
        print(words, flush=True)
    counts = [0, 0, 0]
    slowest: list[tuple[float, str]] = []
    load()
    with tempfile.TemporaryDirectory(prefix="combe-tests-") as folder:
        os.environ["COMBE_TEST_MEMORY"] = folder
        os.environ["XDG_CACHE_HOME"] = f"{folder}/cache"
        for module, output, seconds, busy in run_apart(modules, waiting, Path(folder), root):
            found = re.search(r"(\d+) passed, (\d+) failed(?:, (\d+) skipped)?\s*$", output)
            own = [int(part or 0) for part in found.groups()] if found else [0, 1, 0]
            lines = re.findall(r"^  ok   (.*)  \(([\d.]+) s\)$", output, re.M)
            slowest = sorted([*slowest, *((float(took), f"{module}: {test}") for test, took in lines)])[-SLOWEST:]
            counts = [total + part for total, part in zip(counts, own)]
            words = ", ".join(f"{n} {word}" for n, word in zip(own, ("passed", "failed", "skipped")) if n)
            print(
                f"{'FAIL' if own[1] else 'ok  '} {module}: {words}, {seconds:.1f} s, {busy:.1f} s of processors",
                flush=True,
            )
            if own[1]:
                print(output if found else f"{output}\n{module} ended before its last test", flush=True)
    print("\nthe slowest, by the processor's time:")
    for took, test in reversed(slowest):
        print(f"  {took:5.1f} s  {test}")
    skipped = f", {counts[2]} skipped" if counts[2] else ""
    print(f"\n{counts[0]} passed, {counts[1]} failed{skipped}")
    return 1 if counts[1] or not counts[0] else 0


def load() -> None:
    """Import what nearly all modules need, once: they begin as copies of this process.

    Nothing here may start a thread, or an application of Qt; what isn't there is told by the module that needs it.
    """
    root = Path(__file__).resolve().parent.parent
    own = [".".join(path.relative_to(root).with_suffix("").parts) for path in sorted(root.glob("combe/**/*.py"))]
    for name in (*LOADED, *(name for name in own if not name.endswith("__"))):
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
    _warm()
    # All that stands now lives to the end: collectors of the copies needn't go through it, nor write to its pages.
    gc.set_threshold(20_000, 20, 100)
    gc.freeze()


def _warm() -> None:
    """Go once through the loops that are compiled, so that no two modules compile them side by side; read the templates."""
    from jinja2 import TemplateError

    import combe
    from combe import templates
    from combe.analysis.measured import measured_noise
    from combe.designing.equiripple.exchange import make_ready
    from combe.requirement import requirement_from

    bands = [{"name": "low", "start_hz": 0, "stop_hz": 6000, "min_db": -0.5, "max_db": 0.5},
             {"name": "high", "start_hz": 9000, "stop_hz": 24_000, "max_db": -50}]  # fmt: skip
    head = {"format": "combe-requirement", "version": 1, "name": "warm", "sample_rate_hz": 48_000, "bands": bands}
    make_ready()
    _warm_rarer_loops()
    _warm_hypothesis()
    for folder in templates.FOLDERS:
        for name in templates.templates(folder).list_templates(("j2",)):
            with contextlib.suppress(TemplateError):
                templates.templates(folder).get_template(name)
    for method, more in (
        ("equiripple", {}),
        ("elliptic", {"structure": "direct-1"}),
        ("elliptic", {"structure": "lattice"}),
    ):
        measured_noise(combe.realize(combe.design(requirement_from(head), method=method), **more).realization)


def _warm_rarer_loops() -> None:
    """Those that a few modules run."""
    import numpy as np

    from combe.app.plots import seen
    from combe.designing.equiripple import compiled
    from combe.designing.rates.least_worst import LeastWorst

    nodes = np.cos(np.linspace(0.1, 3, 9))
    compiled.barycentric(nodes, nodes, nodes, compiled.node_weights(nodes))
    search = LeastWorst(2)
    search.add(np.column_stack([np.ones(9), nodes]), nodes**2, np.zeros(9, dtype=bool))
    search.solved(1.0)
    with contextlib.suppress(ImportError):
        seen.make_ready()
        seen._ready.clear()


def _warm_hypothesis() -> None:
    """It reads every module once for the figures in it, to try them too."""
    with contextlib.suppress(ImportError):
        from hypothesis import given, settings, strategies

        settings(max_examples=100, database=None)(given(strategies.floats())(lambda _: None))()


def run_apart(
    modules: list[str], left_out: frozenset[str], folder: Path, root: Path
) -> Iterator[tuple[str, str, float, float]]:
    """Each module in a process of its own, all it said, how long it took, and what it took of all processors; as they end."""
    waiting = list(modules)
    running: dict[int, tuple[str, float]] = {}
    while waiting or running:
        # Two more than there are processors: windows and emulators wait for something now and then.
        while waiting and len(running) < min((os.cpu_count() or 1) + 2, 4):
            module = waiting.pop(0)
            sys.stdout.flush()
            child = os.fork()
            if not child:
                _become(module, left_out, folder / module, root)
            running[child] = module, time.perf_counter()
        ended, _, used = os.wait3(0)
        if ended in running:
            module, started = running.pop(ended)
            said = (folder / module).read_text(encoding="utf-8", errors="replace").rstrip()
            yield module, said, time.perf_counter() - started, used.ru_utime + used.ru_stime


def _become(module: str, left_out: frozenset[str], output: Path, root: Path) -> NoReturn:
    """Run a module in this copy of the process, and end with it whatever happens."""
    status = 1
    try:
        file = os.open(output, os.O_WRONLY | os.O_CREAT)
        for stream in (1, 2):
            os.dup2(file, stream)
        os.chdir(root)
        sys.argv[1:] = [f"tests.{module}"]
        status = run_here([f"tests.{module}"], left_out)
    except BaseException:
        traceback.print_exc()
    finally:
        sys.stdout.flush()
        sys.stderr.flush()
        # Not through the ends of the interpreter: a window's remains are not taken apart, and nothing of the parent's is.
        os._exit(status)


def run_here(names: list[str], waiting: frozenset[str] = frozenset()) -> int:
    """Modules, classes or tests by name, in this process, but those that wait for another turn."""
    result = Spoken()
    for name in names:
        try:
            importlib.import_module(".".join(name.split(".")[:2]))
        except ImportError as error:
            if not has_windows():
                result.skip_module(name, f"Qt can't be loaded: {error}")
                continue
        except Exception:
            pass  # told as a failure, when its tests are looked for
        left_of(unittest.TestLoader().loadTestsFromName(name), waiting).run(result)
    for test, trace in result.failures + result.errors:
        print(f"\n{test}\n{trace}")
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
    print(f"\n{result.passed} passed, {failed} failed{skipped}", flush=True)
    return 1 if failed else 0


def left_of(suite: unittest.TestSuite, waiting: frozenset[str]) -> unittest.TestSuite:
    """What is in a suite, in its order and its groups, without what waits."""
    left = unittest.TestSuite()
    for each in suite:
        if isinstance(each, unittest.TestSuite):
            left.addTest(left_of(each, waiting))
        elif turns.spoken(type(each).__module__, str(getattr(each, "_testMethodName", each))) not in waiting:
            left.addTest(each)
    return left


if __name__ == "__main__":
    sys.exit(main())
