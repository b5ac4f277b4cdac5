"""Stages that change the rate, in integers and on the command line."""

from __future__ import annotations

import json
import random
import subprocess
import sys
import tempfile
import unittest
from math import ceil, prod
from pathlib import Path

import numpy as np

from combe.analysis.bounds import bounds
from combe.analysis.measured import Measured, measured_noise
from combe.analysis.noise import predicted_noise
from combe.designing.rates.chain import planned
from combe.designing.task import DesignChoice, Task
from combe.errors import DesignError
from combe.ledger import meets
from combe.realization.cic import Cic
from combe.realization.formats import Format
from combe.realization.stages import Realization, Requantize, TapSum
from combe.requirement import requirement_document
from combe.rounding.choices import Choices
from combe.rounding.holding import stages_that_hold
from combe.rounding.rates import fewest_bits_of_stages, rate_lines, realize_stages
from combe.running.simulate import simulate
from combe.signals.noise_run import SIGNALS, listen
from combe.values import replace
from tests.rate_cases import (
    DOWN,
    RATIO,
    SLOWER,
    UP,
    random_rates,
)
from tests.support import IS_CAMPAIGN, examples, fewer_vectors, some

setUpModule = fewer_vectors


class InIntegers(unittest.TestCase):
    def test_fewest_bits_keep_every_limit(self) -> None:
        for brief, plan in some(
            ((DOWN, "single"), (DOWN, "2x2x2"), (UP, "2x2"), (DOWN, "cic4x2"), (UP, "2xcic2"), (SLOWER, "5/6x2")), 4
        ):
            found = planned(brief, plan)
            made = fewest_bits_of_stages(found, Choices(16, better=IS_CAMPAIGN))
            taps = prototype_by_hand(made)
            grid = np.linspace(0, 0.5, 20_001)
            gains = np.abs(np.fft.rfft(taps, 40_000))
            for band in brief.passbands:
                inside = (grid * brief.sample_rate_hz >= band.start_hz) & (grid * brief.sample_rate_hz <= band.stop_hz)
                assert band.lower is not None
                self.assertLessEqual(np.max(gains[inside]), 10 ** (band.upper.first_db / 20) + 1e-9)
                self.assertGreaterEqual(np.min(gains[inside]), 10 ** (band.lower.first_db / 20) - 1e-9)

    def test_stages_hold_with_few_bits_or_that_is_said(self) -> None:
        """What is found for a width keeps every limit in integers of that width, where plain rounding doesn't."""
        self.assertFalse(meets(rate_lines(realize_stages(planned(DOWN), Choices(14)), DOWN)))
        task = Task(DOWN, DOWN.sample_rate_hz, DesignChoice("equiripple"))
        found = stages_that_hold(task, 14)
        made = realize_stages(found, Choices(14))
        gains = np.abs(np.fft.rfft(prototype_by_hand(made), 40_000))
        hz = np.linspace(0, DOWN.nyquist_hz, 20_001)
        self.assertLessEqual(np.max(np.abs(20 * np.log10(gains[hz <= 12_000]))), 0.1 + 1e-6)
        for k in range(1, 5):
            self.assertLessEqual(np.max(gains[np.abs(hz - k * 31_250) <= 12_000]), 10 ** (-70 / 20) + 1e-9)
        with self.assertRaisesRegex(DesignError, "11-bit"):
            stages_that_hold(task, 11)

    def test_noise_is_what_was_predicted(self) -> None:
        for brief, plan in some(((DOWN, "2x2x2"), (DOWN, "cic4x2"), (UP, "2x2"), (RATIO, "single")), 3):
            for bits, output in ((None, "s16f15"), (17, "s16f15")):
                made = realize_stages(planned(brief, plan), Choices(16, output=output, state_bits=bits))
                told, heard = predicted_noise(made).power, measured_noise(made, 1 << 17, 0.3).power
                self.assertLess(abs(told / heard - 1), 0.1, (plan, bits, told, heard))

    def test_few_outputs_are_listened_to_as_well(self) -> None:
        """Behind a large drop of rate a recording leaves a handful of outputs, or none that has settled."""
        for count in (0, 1, 2, 15, 16, 17, 31, 33):
            omega, power = Measured(np.ones(count), 1.0, ()).density()
            self.assertEqual((len(omega), bool(np.all(np.isfinite(power)))), (len(power), True))
        entry = Format(True, 12, 11)
        for down in (500, 1500, 4096):
            taps = TapSum((3, 5), Format(True, 4, 3), Format(True, 16, 14), "direct", 1, 1, down)
            rounding = Requantize(taps.result, Format(True, 8, 7), "nearest-even", "saturate")
            made = Realization("few", 250_000.0, "direct", entry, rounding.target, (taps, rounding))
            for name in SIGNALS:
                heard = listen(made, DOWN, name)
                self.assertEqual(len(heard.hz), len(heard.heard_db))
                self.assertTrue(heard.sentences())

    def test_no_input_leaves_the_bounds(self) -> None:
        """Each phase driven by the signs of its own taps, and random inputs at the ends of the range."""
        source = random.Random(48)
        for _ in range(examples(40)):
            made = random_rates(source, 20, 5)
            wide = replace_last(made)
            told = bounds(wide)[-1]
            for _ in range(6):
                samples = [source.choice((made.input.least, made.input.most)) for _ in range(150)]
                found = simulate(wide, np.array(samples, dtype=np.int64))
                if any(b.stage < len(wide.stages) - 1 and not b.is_safe for b in bounds(wide)):
                    continue
                self.assertGreaterEqual(int(min(found)), told.least)
                self.assertLessEqual(int(max(found)), told.most)


def replace_last(made: Realization) -> Realization:
    """The same with the last rounding so wide that it limits nothing."""
    last = made.stages[-1]
    assert isinstance(last, Requantize)
    wide = Format(True, 60, last.target.fraction)
    return replace(made, output=wide, stages=(*made.stages[:-1], replace(last, target=wide)))


def prototype_by_hand(made: Realization) -> np.ndarray:
    """All stages as one filter with a gain of 1, from the integers alone."""
    total = prod(stage.up for stage in made.stages if isinstance(stage, (TapSum, Cic)))
    whole, up, down = np.ones(1), 1, 1
    for stage in made.stages:
        if not isinstance(stage, (TapSum, Cic)):
            continue
        up *= stage.up
        if isinstance(stage, TapSum):
            own = np.array(stage.coefficients, dtype=float) * 2.0**-stage.coefficient.fraction / stage.up
        else:
            own = np.ones(1)
            for _ in range(stage.order):
                own = np.convolve(own, np.ones(stage.factor * stage.delay))
            own = own / stage.up
        stretch = total * down // up
        wide = np.zeros((len(own) - 1) * stretch + 1)
        wide[::stretch] = own
        whole = np.convolve(whole, wide)
        down *= stage.down
    return whole


class OnTheCommandLine(unittest.TestCase):
    def test_from_a_brief_to_proved_code(self) -> None:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            (folder / "r.json").write_text(json.dumps(requirement_document(DOWN)), encoding="utf-8")
            (folder / "in.txt").write_text(
                "".join(f"{(k * 7919) % 60000 - 30000}\n" for k in range(1001)), encoding="utf-8"
            )

            def run(*words: str) -> subprocess.CompletedProcess[str]:
                return subprocess.run(
                    [sys.executable, "-m", "combe", *words], cwd=place, capture_output=True, text=True, check=False
                )

            self.assertEqual(run("design", "r.json", "--plan", "cic4x2", "--out", "d.json").returncode, 0)
            told = json.loads((folder / "d.json").read_text())
            self.assertEqual(told["sample_rate_hz"], 250_000)
            self.assertEqual([part["kind"] for part in told["parts"]], ["cic", "taps"])
            self.assertEqual([line["band"] for line in told["lines"]], ["b0", "b0", "aliases of b0"])
            self.assertEqual(run("realize", "d.json", "--coefficient-bits", "fewest", "--out", "p.json").returncode, 0)
            self.assertEqual(run("simulate", "p.json", "--input", "in.txt", "--output", "out.txt").returncode, 0)
            self.assertEqual(len((folder / "out.txt").read_text().split()), ceil(1001 / 8))
            self.assertEqual(
                run("simulate", "p.json", "--input", "in.txt", "--output", "i.txt", "--ideal").returncode, 0
            )
            pairs = zip((folder / "out.txt").read_text().split(), (folder / "i.txt").read_text().split())
            self.assertLess(max(abs(int(a) - float(b)) for a, b in pairs), 40)
            done = run("deliver", "p.json", "--language", "c", "--name", "calls", "--to", "c", "--prove")
            self.assertEqual(done.returncode, 0, done.stdout + done.stderr)
            self.assertIn("CALLS_OUT_MAX(count)", (folder / "c" / "calls.h").read_text())
            self.assertEqual(run("examine", "p.json", "--json").returncode, 0)
            refused = run("design", "r.json", "--plan", "2x3")
            self.assertEqual(refused.returncode, 2)
            self.assertEqual(refused.stderr.count("\n"), 1)


if __name__ == "__main__":
    unittest.main()
