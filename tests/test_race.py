"""The race in a target's currency: whatever is listed keeps its limits with its integers, and stands where its cost puts it."""

from __future__ import annotations

import json
import shutil
import sys
import types
import unittest
from typing import Any
from unittest import mock

import numpy as np

from combe.designing.methods import METHODS, design, design_task
from combe.designing.task import DesignChoice, Task
from combe.errors import FormatError, ToolError
from combe.ledger import meets
from combe.proof.synthesis import Synthesized
from combe.racing import race as racing
from combe.racing.race import Wanted, race
from combe.racing.spread import spread_over
from combe.racing.targets import coefficient_bits, target_named
from combe.rounding.rates import rate_lines
from combe.running.simulate import simulate
from combe.values import replace
from tests.rate_cases import asked as changing
from tests.support import IS_CAMPAIGN, asked
from tests.test_cli import InFolder, call

LOW = asked(48_000, (0, 4000, -1, 1), (12_000, 24_000, -40))
HAS_ARM = shutil.which("arm-none-eabi-gcc") is not None and shutil.which("qemu-system-arm") is not None


def setUpModule() -> None:
    fewer = tuple(method for method in METHODS if IS_CAMPAIGN or method.name in ("equiripple", "elliptic"))
    patched = mock.patch("combe.designing.contenders.METHODS", fewer)
    for each in (patched, mock.patch("combe.racing.race.MORE", 1)):
        each.start()
        unittest.addModuleCleanup(each.stop)


def by_count(package: Any, device: str, *_: object) -> Synthesized:
    """As if a synthesizer had counted: longer text takes more cells; the multipliers are those the text multiplies with."""
    text = package.text(".v")
    return Synthesized(device, len(text) // 60, len(text) // 30, 0, min(text.count(" * "), 40), 1, 60e6)


def gains_db(document: dict[str, Any], hz: np.ndarray) -> np.ndarray:
    """The response of integers as a realization file has them, by this file's own reading: taps, or sections as networks."""
    z = np.exp(-2j * np.pi * hz / document["sample_rate_hz"])
    total = np.ones(len(hz), complex)
    for stage in document["stages"]:
        if stage["kind"] == "tap-sum":
            fraction = int(stage["coefficient"].split("f")[1])
            taps = np.array(stage["coefficients"], float) / 2.0**fraction
            total *= np.polynomial.polynomial.polyval(z, taps)
        elif stage["kind"] == "section":
            scales = [2.0 ** int(stage[name].split("f")[1]) for name in ("numerator", "denominator")]
            b, a = (np.array(stage[name]) / scale for name, scale in zip(("b", "a"), scales))
            total *= np.polynomial.polynomial.polyval(z, b) / np.polynomial.polynomial.polyval(
                z, np.concatenate([[1.0], a])
            )
    return 20 * np.log10(np.maximum(np.abs(total), 1e-9))


class Listed(InFolder):
    def test_on_a_core(self) -> None:
        requirement = self.put("low.json", json.dumps(REQUIREMENT))
        status, out, _ = call(
            "race", requirement, "--target", "cortex-m4", "--limit", "3", "--out", self.folder / "all", "--json"
        )
        found = json.loads(out)
        self.assertEqual(status, 0)
        self.assertEqual(len(found), 3)
        hz = np.linspace(0, 24_000, 4001)
        read = 0
        for row in found:
            self.assertTrue(row["meets"])
            self.assertGreaterEqual(row["worst"]["margin_db"], 0)
            self.assertEqual(row["is_measured"], HAS_ARM)
            self.assertIsNone(row["architecture"])
            document = json.loads((self.folder / "all" / row["realization"]).read_text())
            if all(stage["kind"] in ("tap-sum", "requantize") for stage in document["stages"]):
                db = gains_db(document, hz)
                self.assertLess(np.abs(db[hz <= 4000]).max(), 1)
                self.assertLess(db[hz >= 12_000].max(), -40)
                read += 1
        self.assertGreater(read, 0)
        cycles = [row["cost"]["cycles_per_sample"] for row in found]
        self.assertEqual(cycles, sorted(cycles))
        if IS_CAMPAIGN:
            again = call("race", requirement, "--target", "cortex-m4", "--limit", "3", "--workers", "2", "--json")[1]
            self.assertEqual([row | {"realization": None} for row in found], json.loads(again))

    def test_what_cannot_keep_up_is_not_listed(self) -> None:
        status, out, _ = call(
            "race", self.put("low.json", json.dumps(REQUIREMENT)), "--target", "cortex-m4", "--clock", "1M", "--json"
        )
        self.assertEqual((status, json.loads(out)), (1, []))

    def test_bad_words_are_refused(self) -> None:
        requirement = self.put("low.json", json.dumps(REQUIREMENT))
        for words in (
            ("--target", "abacus"), ("--target", "cortex-m4", "--limit", "0"), ("--target", "cortex-m4", "--workers", "0"),
            ("--target", "cortex-m4", "--workers", "2", "--cluster", "tcp://nowhere:1"), ("--target", "cortex-m4", "--input", "x"),
            ("--target", "cortex-m4", "--clock", "-3"),
        ):  # fmt: skip
            self.refused("race", requirement, *words)


REQUIREMENT = {
    "format": "combe-requirement", "version": 1, "name": "low", "sample_rate_hz": 48_000,
    "bands": [{"name": "keep", "start_hz": 0, "stop_hz": 4000, "min_db": -1, "max_db": 1},
              {"name": "stop", "start_hz": 12_000, "stop_hz": 24_000, "max_db": -40}],
}  # fmt: skip


class OnADevice(unittest.TestCase):
    def test_the_largest_share_decides_and_what_has_no_room_is_left_out(self) -> None:
        with mock.patch("combe.racing.targets.synthesized", by_count):
            found = race(LOW, "ice40-up5k", limit=3)
        self.assertTrue(found)
        self.assertTrue(all(entry.is_measured for entry in found))
        shares = [entry.way.cost["largest_share"] for entry in found]
        self.assertEqual(shares, sorted(shares))
        self.assertLessEqual(max(shares), 1)
        for entry in found:
            cost = entry.way.cost
            largest = max(cost["luts"] / 5280, cost["registers"] / 5280, cost["multipliers"] / 8, cost["memories"] / 30)
            self.assertAlmostEqual(cost["largest_share"], largest, places=5)
            self.assertAlmostEqual(cost["needed_mhz"], cost["clocks_per_sample"] * 0.048)

    def test_where_nothing_can_measure_estimates_stand(self) -> None:
        absent = Synthesized("ice40-up5k", failure="yosys is not on this machine")
        with mock.patch("combe.racing.targets.synthesized", lambda *_: absent):
            found = race(LOW, "ice40-hx8k", limit=3)
        self.assertEqual([entry.is_measured for entry in found], [False] * 3)
        # It has no multiplier blocks at all.
        self.assertEqual({entry.way.cost["multipliers"] for entry in found}, {0})

    def test_too_slow_once_placed_is_out(self) -> None:
        slow = lambda package, device, *_: replace(by_count(package, device), clock_hz=1e3)  # noqa: E731
        with mock.patch("combe.racing.targets.synthesized", slow):
            found = race(LOW, "ice40-up5k", limit=3)
        self.assertFalse(any(entry.is_measured for entry in found))


class AnotherRate(unittest.TestCase):
    def test_a_stage_a_little_longer_needs_so_few_bits_that_it_is_the_cheapest(self) -> None:
        """The shortest stage keeps its limits with words of 20 bits and more, which no core multiplies two at a time."""
        brief = changing(250_000, ((0, 12_000, -0.1, 0.1),), up=1, down=8, alias_db=-70)
        shortest = design_task(Task(brief, brief.sample_rate_hz, DesignChoice("equiripple")))
        place = target_named("cortex-m4")
        found = {
            rule: racing.entries_of(brief, shortest, "", rule, place, Wanted(), lambda: False)
            for _, rule in racing._forms(shortest, place)
        }
        held, fewest = found[racing.HELD_BY_BLOCK][0], found[racing.FEWEST][0]
        self.assertLessEqual(coefficient_bits(held.realization), 16)
        self.assertGreater(coefficient_bits(fewest.realization), 16)
        self.assertGreater(held.design.order, shortest.order)
        self.assertLess(held.way.order, 0.7 * fewest.way.order)
        for entry in (held, fewest):
            self.assertTrue(meets(rate_lines(entry.realization, brief)))


class Ratio(unittest.TestCase):
    def test_a_wanted_ratio_is_reached_by_a_run(self) -> None:
        """White samples at half scale through the program and through the exact filter with the same integers."""
        place = target_named("cortex-m4")
        wanted = 88.0
        entries = racing.entries_of(
            LOW,
            design(LOW, "elliptic"),
            "direct-1",
            racing.FEWEST,
            place,
            Wanted("s16f15", "s16f15", wanted),
            lambda: False,
        )
        self.assertTrue(entries)
        made = entries[0].realization
        raw = np.random.default_rng(5).integers(-16384, 16384, 1 << 15)
        exact = made
        from combe.analysis.exact import exact_filter
        from combe.running.simulate import ideal_run

        ideal = ideal_run(exact_filter(exact), made, raw)
        error = simulate(made, raw) - ideal
        ratio = 20 * np.log10(32767.5 / np.sqrt(2) / np.sqrt(np.mean(error**2)))
        self.assertGreaterEqual(ratio, wanted - 0.5)
        none = racing.entries_of(
            LOW,
            design(LOW, "elliptic"),
            "direct-1",
            racing.FEWEST,
            place,
            Wanted("s16f15", "s16f15", 140.0),
            lambda: False,
        )
        self.assertEqual(none, [])


class Spreading(unittest.TestCase):
    def test_tasks_come_back_from_processes_and_from_a_cluster(self) -> None:
        tasks = [(k, 2) for k in range(7)]
        self.assertEqual(sorted(spread_over(2, "")(power, tasks, lambda: False)), [k**2 for k in range(7)])
        self.assertEqual(list(spread_over(1, "")(power, tasks, lambda: False)), [k**2 for k in range(7)])

        class Client:
            def __init__(self, address: str, timeout: float) -> None:
                if "nowhere" in address:
                    raise OSError("refused")

            def submit(self, function: Any, *words: Any, pure: bool) -> Any:
                return mock.Mock(result=lambda: function(*words))

        fake = types.ModuleType("dask.distributed")
        fake.Client, fake.as_completed = Client, iter  # type: ignore[attr-defined]
        with mock.patch.dict(sys.modules, {"dask": types.ModuleType("dask"), "dask.distributed": fake}):
            self.assertEqual(
                list(spread_over(None, "tcp://here:1")(power, tasks, lambda: False)), [k**2 for k in range(7)]
            )
            with self.assertRaisesRegex(ToolError, "no cluster answers"):
                spread_over(None, "tcp://nowhere:1")
        with (
            mock.patch.dict(sys.modules, {"dask.distributed": None}),
            self.assertRaisesRegex(ToolError, "isn't installed"),
        ):
            spread_over(None, "tcp://here:1")
        with self.assertRaises(FormatError):
            spread_over(2, "tcp://here:1")

    def test_it_stops(self) -> None:
        self.assertEqual(list(spread_over(1, "")(power, [(1, 1)], lambda: True)), [])


def power(base: int, exponent: int, is_stopped: Any) -> int:
    return base**exponent


if __name__ == "__main__":
    unittest.main()
