"""The made-up board against a slow one that goes from event to event, and against what its parts are known to do."""

from __future__ import annotations

import heapq
import json
import random
import unittest

import numpy as np
from numpy.typing import NDArray

import combe
from combe.benching.board.run import THROUGH, BoardRun, run_board
from combe.benching.board.schedule import Pace, schedule
from combe.delivery.c.codes import codes_through
from combe.delivery.code_choices import CodeChoices
from combe.designing.designed import Design
from combe.errors import CombeError
from combe.filters import Cascade, Fir
from combe.project import edits
from combe.project.demo import demo_project
from combe.project.document import DesignChoice
from combe.project.file import project_document, project_from
from combe.proof.runners import BitTrue
from combe.realization.stages import Realization
from combe.signals.spec import signal_from_sentence
from tests.support import in_campaign, some
from tests.test_cli import InFolder, call
from tests.test_delivery import HAS_GCC
from tests.window_case import WindowCase

RATE = 48_000.0


def taps(*values: float, **more: str) -> Realization:
    formats = {"input": "s12f11", "output": "s12f11"} | more
    return combe.realize(Design("given", Fir(values), RATE), 16, **formats).realization  # type: ignore[arg-type]


def slow_board(pace: Pace, codes: list[int], zero: int) -> tuple[list[int], list[int], list[int]]:
    """Event by event: a sample comes, a half is full, a place is read, a place is written, a place is played. The filter
    hands its inputs on. Outputs, the places of the inputs that were read, the blocks that were served."""
    block, rate = pace.block, pace.sample_rate_hz
    memory, results = [0] * (2 * block), [zero] * (2 * block)
    flags: list[float | None] = [None, None]
    newest = [0, 0]
    events: list[tuple[float, int, int, int, int]] = []
    # At the same time: what is played goes first to nobody's loss, then what comes, then the processor.
    for n in range(len(codes)):
        heapq.heappush(events, (n / rate, 2, n, 0, 0))
        heapq.heappush(events, ((n + 1) / rate, 1, n, 0, 0))
    free, outputs, read, served = 0.0, [0] * len(codes), [], []
    busy = False

    def begin(now: float) -> None:
        nonlocal busy, free
        ready = [(at, half) for half, at in enumerate(flags) if at is not None]
        if busy or not ready:
            return
        _, half = min(ready)
        flags[half] = None
        busy = True
        served.append(newest[half])
        for k in range(block):
            at = now + (pace.cycles_per_interrupt + k * pace.cycles_per_sample) / pace.clock_hz
            heapq.heappush(events, (at, 3, half, k, 0))
        stop = now + pace.work_s
        heapq.heappush(events, (stop, 5, 0, 0, 0))

    while events:
        now, kind, a, b, value = heapq.heappop(events)
        if kind == 2:
            outputs[a] = results[a % (2 * block)]
        elif kind == 1:
            memory[a % (2 * block)] = a
            if (a + 1) % block == 0:
                half = (a // block) % 2
                newest[half] = a // block
                flags[half] = now if flags[half] is None else flags[half]
                begin(now)
        elif kind == 3:
            found = memory[a * block + b]
            read.append(found)
            heapq.heappush(events, (now + pace.cycles_per_sample / pace.clock_hz, 0, a, b, codes[found]))
        elif kind == 0:
            results[a * block + b] = value
        else:
            busy = False
            begin(now)
    return outputs, read, served


class Echo:
    """A filter that hands on what it takes, and remembers it."""

    name = "echo"

    def run(self, samples: NDArray[np.int64], /) -> NDArray[np.int64]:
        self.taken = samples
        return samples


def board(made: Realization, sentence: str, pace: Pace, count: int, **more: str) -> BoardRun:
    return run_board(made, signal_from_sentence(sentence, RATE, count, 3), pace, BitTrue(made), **more)  # type: ignore[arg-type]


class Clocked(unittest.TestCase):
    def test_every_output_is_the_slow_boards(self) -> None:
        """Loads from a hundredth to four times the clock; times are kept off each other by an odd clock."""
        source = random.Random(8)
        made = taps(1.0)
        for number in some(range(120), 15):
            block = source.choice((1, 2, 5, 16, 33))
            pace = Pace(RATE, block, 1.0e6 * source.uniform(1, 30), source.uniform(1, 60), source.uniform(0.5, 90))
            if source.random() < 0.5:
                load = source.uniform(0.8, 1.3)
                cycles = (load * block / RATE * pace.clock_hz - pace.cycles_per_interrupt) / block
                pace = Pace(RATE, block, pace.clock_hz, max(cycles, 0.1), pace.cycles_per_interrupt)
            count = block * source.randint(3, 40) + source.randint(0, block - 1)
            runner = Echo()
            signal = signal_from_sentence("white -12 dB", RATE, count, number)
            found = run_board(made, signal, pace, runner)
            outputs, read, served = slow_board(pace, found.inputs.tolist(), 2048)
            with self.subTest(number=number, pace=pace):
                self.assertEqual([each.block for each in found.schedule.served], served)
                self.assertEqual((runner.taken + 2048).tolist(), found.inputs[read].tolist())
                self.assertEqual(found.outputs.tolist(), outputs)

    def test_nothing_is_late_while_there_is_time_and_all_of_it_is_when_there_is_not(self) -> None:
        for load in (0.05, 0.5, 0.99):
            found = board(taps(0.5, 0.5), "white -12 dB", Pace(RATE, 64, 48e6, 1000 * load, 0.0), 64 * 200)
            self.assertEqual((found.late, found.schedule.lost, found.stale, found.overwritten), ((), (), 0, 0))
            # The last sample of a block is there when 64 + 63 sample times have passed less its own work.
            self.assertAlmostEqual(found.slack_s, (64 - 64 * load + 0) / RATE, delta=64 * load / RATE + 1e-9)
            self.assertEqual(found.remedies, ())
        found = board(taps(0.5, 0.5), "white -12 dB", Pace(RATE, 64, 48e6, 2500, 0.0), 64 * 200)
        self.assertGreater(len(found.late), 150)
        self.assertLess(found.slack_s, 0)
        self.assertIn("250 % of the clock is asked for; 120 MHz would do it", found.remedies[0])
        plan = schedule(Pace(RATE, 64, 48e6, 2500, 0.0), 200)
        self.assertEqual(sorted([*plan.lost, *(each.block for each in plan.served)]), list(range(200)))

    def test_short_blocks_are_told_to_be_longer(self) -> None:
        found = board(taps(0.5, 0.5), "white -12 dB", Pace(RATE, 1, 10e6, 50, 400), 4000)
        self.assertIn("longer blocks", found.remedies[0])
        self.assertEqual(board(taps(0.5, 0.5), "white -12 dB", Pace(RATE, 16, 10e6, 50, 400), 4000).remedies, ())


class Samples(unittest.TestCase):
    CALM = Pace(RATE, 32, 80e6, 20, 100)

    def test_outputs_are_the_filters_two_halves_later(self) -> None:
        made = taps(0.25, 0.5, 0.25)
        found = board(made, "sine 700 Hz -3 dB + white -40 dB", self.CALM, 32 * 50)
        codes = codes_through(made, CodeChoices(converter_in="12", converter_out="12"), found.inputs)
        self.assertEqual(found.outputs[64:].tolist(), codes[: 32 * 48].tolist())
        self.assertEqual(set(found.outputs[:64].tolist()), {2048})
        self.assertEqual(found.delay_samples, 64)

    def test_a_forgotten_offset_cuts_half_of_what_has_no_mean(self) -> None:
        """A difference of neighbours has no mean; around code 0 its lower half is gone."""
        made = taps(0.5, -0.5)
        bad = board(made, "sine 9 kHz -6 dB", self.CALM, 32 * 100, converter_out="12@0")
        self.assertAlmostEqual(np.mean(bad.outputs[64:] == 0), 0.5, delta=0.05)
        self.assertIn("write 12@2048", bad.remedies[0])
        right = CodeChoices(converter_in="12", converter_out="12")
        self.assertEqual(bad.clipped_outputs, np.count_nonzero(codes_through(made, right, bad.inputs) < 2048))
        good = board(made, "sine 9 kHz -6 dB", self.CALM, 32 * 100)
        self.assertEqual((good.clipped_outputs, good.remedies), (0, ()))

    def test_too_loud_a_signal_is_told(self) -> None:
        found = board(taps(1.0), "sine 700 Hz 6 dB", self.CALM, 3200)
        self.assertGreater(found.clipped_inputs, 1000)
        self.assertIn("lower the signal", " ".join(found.remedies))

    @unittest.skipUnless(HAS_GCC, "gcc is not on this machine")
    def test_the_compiled_filter_gives_what_the_model_gives(self) -> None:
        made = taps(0.1, -0.4, 0.7, -0.4, 0.1)
        found = [combe.board(made, "white -9 dB", samples=3000, cycles_per_sample=30, through=name) for name in THROUGH]
        self.assertEqual(found[0].outputs.tolist(), found[1].outputs.tolist())
        self.assertIn("gcc", found[0].runner)


class Changed(unittest.TestCase):
    def changed(self, before: Realization, after: Realization, fade: int = 0) -> BoardRun:
        return combe.board(
            before, "sine 300 Hz -6 dB", samples=4000, cycles_per_sample=30, through="bit-true", change_to=after,
            change_at=1000, fade=fade,
        )  # fmt: skip

    def test_a_change_of_sign_clicks_and_a_fade_does_not(self) -> None:
        """At −6 dB a sine of 300 Hz moves 40 steps a sample at most; sample 1000 is at its top, where a sign is 2052 steps."""
        found = self.changed(taps(1.0), taps(-1.0))
        assert found.click is not None
        self.assertAlmostEqual(found.click.usual, 1026 * 2 * np.pi * 300 / RATE, delta=2)
        self.assertAlmostEqual(found.click.step, 2 * 1026, delta=60)
        self.assertTrue(found.click.is_heard)
        self.assertIn("a click", found.remedies[0])
        soft = self.changed(taps(1.0), taps(-1.0), 400)
        assert soft.click is not None
        self.assertFalse(soft.click.is_heard)
        self.assertEqual(soft.remedies, ())
        self.assertEqual(soft.outputs[64 * 4 :][:500].tolist(), found.outputs[64 * 4 :][:500].tolist())
        self.assertEqual(soft.outputs[-500:].tolist(), found.outputs[-500:].tolist())

    def test_the_same_filter_makes_no_click(self) -> None:
        found = self.changed(taps(0.5, 0.5), taps(0.5, 0.5))
        assert found.click is not None
        self.assertFalse(found.click.is_heard)

    def test_what_cannot_be_changed_is_refused(self) -> None:
        sections = combe.realize(
            Design("given", Cascade(((1.0, 0.0, 0.0, -0.5, 0.0),), 0.5), RATE), 16, input="s12f11", output="s12f11"
        ).realization
        for before, after, words in (
            (taps(1.0), sections, "taps only"), (sections, taps(1.0), "taps only"),
            (taps(1.0), taps(1.0, output="s16f15"), "s16f15"),
        ):  # fmt: skip
            with self.subTest(words=words), self.assertRaises(CombeError) as caught:
                self.changed(before, after)
            self.assertIn(words, caught.exception.sentence())


class CommandLine(InFolder):
    def test_from_a_file_to_files(self) -> None:
        made = self.folder / "r.json"
        call(
            "realize", self.put("t.txt", "0.25\n0.5\n0.25\n"), "--out", made, "--input", "s12f11", "--output", "s12f11"
        )
        words = (
            "board",
            made,
            "--signal",
            "sine 0.01 -6 dB",
            "--samples",
            "2000",
            "--through",
            "bit-true",
            "--cycles",
            "30",
        )
        status, out, err = call(*words, "--to", self.folder / "out", "--json", "--clock", "1k", "--interrupt", "400000")
        found = json.loads(out)
        self.assertEqual((status, found["late_blocks"] != []), (1, True), err)
        status, out, err = call(*words, "--to", self.folder / "out", "--json")
        found = json.loads(out)
        self.assertEqual(
            (status, found["format"], found["late_blocks"], found["delay_samples"]), (0, "combe-board-run", [], 256)
        )
        self.assertEqual(json.loads((self.folder / "out" / "board.json").read_text()), found)
        rows = (self.folder / "out" / "codes.csv").read_text().splitlines()
        self.assertEqual((rows[0], len(rows)), ("time_s,input,output", 2001))
        self.assertEqual(
            len((self.folder / "out" / "interrupts.csv").read_text().splitlines()), found["interrupts"] + 1
        )
        status, out, _ = call(*words, "--change-to", made, "--change-at", "500")
        self.assertEqual(status, 0)
        self.assertIn("at the change neighbours differ", out)
        for wrong, said in (
            (("--block", "0"), "1 to 65,536"), (("--converter-in", "x"), "converter"), (("--core", "abacus"), "abacus"),
            (("--through", "air"), "code, bit-true"), (("--fade", "3"), "--change-to"), (("--converter-in", "20"), "too narrow"),
            (("--cycles", "-1"), "cycles"), (("--interrupt", "-1"), "interrupt"),
        ):  # fmt: skip
            with self.subTest(wrong=wrong):
                self.assertIn(said, self.refused(*words, *wrong))


class OnThePage(WindowCase):
    def setUp(self) -> None:
        super().setUp()
        self.window.open_step("code")
        self.window.code_view.open_page("board")
        self.page = self.window.code_view.page("board")
        self.settle()

    def test_it_opens_on_a_calm_board_and_shows_what_comes_too_late(self) -> None:
        page = self.page
        assert page.found is not None
        self.assertEqual((page.found.late, page.block.text()), ((), "128"))
        self.assertIn("none too late", page.words.text())
        self.assertTrue(page.trouble.isHidden())
        page.block.setText("7")
        page.block.editingFinished.emit()
        self.settle()
        self.assertEqual((page.found.pace.block, self.session.project.processor.block), (7, 7))
        self.session.edit(edits.choose_processor("cortex-m4", 20e6, ""))
        self.settle()
        self.assertGreater(len(page.found.late), 100)
        self.assertIn("come too late", page.trouble.text())
        self.assertEqual(page.timeline.first, max(page.found.late[0] - 2, 0))
        self.assertFalse(self.window.grab().isNull())
        self.session.undo()
        self.session.undo()
        self.settle()
        self.assertEqual((page.block.text(), page.found.late), ("128", ()))

    def test_a_forgotten_offset_is_told_and_mended(self) -> None:
        page = self.page
        page.result.setText("12@0")
        page.result.editingFinished.emit()
        self.settle()
        self.assertEqual(self.session.project.code.converter_in, "12")
        self.assertIn("write 12@2048", page.trouble.text().lower())
        page.result.setText("12@2048")
        page.result.editingFinished.emit()
        self.settle()
        self.assertTrue(page.trouble.isHidden())
        for box, text in ((page.block, "many"), (page.block, "0"), (page.entry, "99")):
            before = self.session.project
            box.setText(text)
            box.editingFinished.emit()
            self.assertEqual(self.session.project, before, text)

    @in_campaign
    def test_a_pinned_filter_takes_over_in_the_middle(self) -> None:
        page = self.page
        self.assertFalse(page.then.isEnabled())
        self.window.pin()
        self.session.edit(edits.choose_design(DesignChoice("equiripple", order=60)))
        self.settle()
        page.then.setCurrentIndex(1)
        page.then.activated.emit(1)
        self.settle()
        assert page.found is not None and page.found.click is not None
        at = page.found.click.at
        self.assertIn("neighbours differ by", page.words.text())
        self.assertEqual(page.timeline.first, at // 128 - 2)
        before = page.found.outputs
        page.fade.setText("200")
        page.fade.editingFinished.emit()
        self.settle()
        changed = np.flatnonzero(page.found.outputs != before)
        self.assertGreaterEqual(changed.min(), at + 256)
        self.assertLess(changed.max(), at + 256 + 201)
        page.fade.setText("soon")
        page.fade.editingFinished.emit()
        self.settle()
        self.assertIsNotNone(page.found.click)
        self.session.edit(edits.unpin_all())
        self.settle()
        self.assertIsNone(page.found.click)
        self.assertEqual(page.then.currentText(), "no other filter")

    def test_a_block_is_kept_in_the_file(self) -> None:
        self.session.edit(edits.choose_block(48))
        document = project_document(self.session.project)
        self.assertEqual(document["filters"][0]["processor"]["block"], 48)
        self.assertEqual(project_from(document).processor.block, 48)
        self.assertNotIn("processor", project_document(demo_project())["filters"][0])


if __name__ == "__main__":
    unittest.main()
