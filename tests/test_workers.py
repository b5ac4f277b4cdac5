"""Designs in processes of their own: the same as here, whatever becomes of the processes."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import threading
import time
import unittest
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any
from unittest import mock

from combe.designing import forked, workers
from combe.designing.contenders import contenders, tried
from combe.designing.task import DesignChoice
from combe.designing.workers import WORKERS, Worker, WorkerGoneError, Workers, apart, side_by_side
from combe.errors import DesignError, Stopped
from combe.project import following, looking
from combe.project.chain import ideal_of
from combe.project.demo import demo_project, recorder_project
from combe.project.results import Failure, Results
from combe.values import replace
from tests.support import LOWPASS, asked, few_methods, some

ROOT = Path(__file__).resolve().parent.parent
HARD = asked(1, (0, 0.1, -0.001, 0.001), (0.1018, 0.5, -90))
"""Some thousand taps: whoever works on it is at it for a while."""


@apart
def counting(most: int, is_stopped: Callable[[], bool]) -> Iterator[tuple[int, int]]:
    """One number after another, each with the process it comes from; until the most, or for ever where that is negative."""
    number = 0
    while number != most and not is_stopped():
        yield os.getpid(), number
        number += 1
    if most == 901:
        raise DesignError("too many", "most", "fewer")


@apart
def deaf(is_stopped: Callable[[], bool]) -> Iterator[int]:
    """As a long step of a library: whoever asks it to stop isn't heard."""
    yield os.getpid()
    time.sleep(60)


class Ready:
    """Something like a process with nothing to do."""

    is_ready = True
    process = mock.Mock(poll=lambda: None)


def ready(worker: Worker) -> Worker:
    """Once it has everything loaded."""
    ends = time.monotonic() + 30
    while not worker.is_ready and time.monotonic() < ends:
        time.sleep(0.01)
    return worker


def is_there(pid: int) -> bool:
    try:
        return "Z" not in Path(f"/proc/{pid}/stat").read_text().rsplit(")", 1)[1].split()[0]
    except OSError:
        return False


class Processes(unittest.TestCase):
    def setUp(self) -> None:
        environment = {key: value for key, value in os.environ.items() if key != workers.IN_WORKER}
        for patched in (
            mock.patch.dict(os.environ, environment, clear=True),
            mock.patch.object(workers, "count", lambda: 2),
            mock.patch.object(workers, "can_fork", lambda: False),
        ):
            patched.start()
            self.addCleanup(patched.stop)
        self.addCleanup(WORKERS.end)

    @few_methods()
    def test_a_race_ends_with_the_same_filters_wherever_it_runs(self) -> None:
        with mock.patch.object(workers, "count", lambda: 0):
            alone = {found.method: found.design and found.design.filter for found in contenders(LOWPASS)}
        WORKERS.start()
        self.assertEqual({found.method: found.design and found.design.filter for found in contenders(LOWPASS)}, alone)
        threads: list[dict[str, object]] = []

        def again() -> None:
            threads.append({found.method: found.design and found.design.filter for found in contenders(LOWPASS)})

        both = [threading.Thread(target=again) for _ in range(2)]
        for each in both:
            each.start()
        for each in both:
            each.join()
        self.assertEqual(threads, [alone, alone], "two races at a time")

    def test_a_command_races_beside_a_copy_of_itself_that_ends_with_it(self) -> None:
        code = (
            "import time, sys, os; from combe.designing import workers; workers.count = lambda: 2\n"
            "from combe.designing.contenders import contenders; from tests.support import LOWPASS\n"
            "os.environ.pop(workers.IN_WORKER, None); print('held', end='')\n"
            "found = [each.method for each in contenders(LOWPASS)]\n"
            "assert workers.WORKERS._has_copies and workers.WORKERS.most == 1\n"
            "while not workers.WORKERS._free: time.sleep(0.01)\n"
            "pids = [each.process.pid for each in workers.WORKERS._free]\n"
            "print('', *pids, len(found), flush=True); {}"
        )
        for way, status in some((("os.kill(os.getpid(), 9)", -9), ("", 0), ("sys.exit(3)", 3)), 1):
            with self.subTest(way):
                done = subprocess.run(
                    [sys.executable, "-c", code.format(way)], cwd=ROOT, capture_output=True, text=True, check=False
                )
                self.assertEqual(done.returncode, status, done.stderr)
                word, pid, found = done.stdout.split()
                self.assertEqual(word, "held", "what we had not yet written is written once")
                self.assertGreater(int(found), 20)
                ends = time.monotonic() + 10
                while is_there(int(pid)) and time.monotonic() < ends:
                    time.sleep(0.02)
                self.assertFalse(is_there(int(pid)))

    def test_no_copy_is_made_of_a_process_with_threads_or_a_window(self) -> None:
        self.assertEqual(forked.can_fork(), threading.active_count() == 1 and "PyQt6.QtCore" not in sys.modules)
        with mock.patch.dict(sys.modules, {"PyQt6.QtCore": mock.Mock()}):
            self.assertFalse(forked.can_fork())
        waiting = threading.Event()
        thread = threading.Thread(target=waiting.wait)
        thread.start()
        self.addCleanup(thread.join)
        self.addCleanup(waiting.set)
        with mock.patch.dict(sys.modules):
            sys.modules.pop("PyQt6.QtCore", None)
            self.assertFalse(forked.can_fork())

    def test_a_task_is_stopped_and_the_process_goes_on(self) -> None:
        worker = ready(Worker())
        self.addCleanup(worker.end)
        with self.assertRaises(Stopped):
            worker.call(tried, (HARD, DesignChoice("equiripple")), lambda: True)
        found = worker.call(tried, (LOWPASS, DesignChoice("equiripple")), lambda: False)
        self.assertEqual(found.design.filter, tried(LOWPASS, DesignChoice("equiripple"), lambda: False).design.filter)  # type: ignore[union-attr]

    def test_a_process_that_dies_loses_nothing(self) -> None:
        worker = ready(Worker())
        threading.Timer(0.2, lambda: os.kill(worker.process.pid, signal.SIGKILL)).start()
        with self.assertRaises(WorkerGoneError):
            worker.call(tried, (HARD, DesignChoice("equiripple")), lambda: False)
        worker.end()
        WORKERS.start()
        busy = [ready(each) for each in WORKERS._free]
        long = asked(1, (0, 0.1, -0.001, 0.001), (0.104, 0.5, -90))
        ends = time.monotonic() + 90
        tasks = [
            (LOWPASS, DesignChoice("equiripple")),
            *[(long, DesignChoice("equiripple", order)) for order in (1201, 1202, 1203)],
        ]
        race = side_by_side(tried, tasks, lambda: time.monotonic() > ends)
        orders = [next(race).order]
        self.assertEqual(WORKERS._free, [], "both are at a long one")
        os.kill(busy[0].process.pid, signal.SIGKILL)
        orders += [each.order for each in race]
        self.assertEqual(len(orders), 4)
        self.assertEqual(sorted(orders)[1:], [1201, 1202, 1203])

    def test_a_consumer_that_leaves_stops_everybody(self) -> None:
        WORKERS.start()
        for each in WORKERS._free:
            ready(each)
        race = side_by_side(tried, [(LOWPASS, DesignChoice("equiripple")), *[(HARD, DesignChoice("equiripple"))] * 9],
                            lambda: False)  # fmt: skip
        next(race)
        self.assertEqual(WORKERS._free, [])
        race.close()  # type: ignore[attr-defined]
        ends = time.monotonic() + 15
        while len(WORKERS._free) < 2 and time.monotonic() < ends:
            time.sleep(0.02)
        self.assertEqual(len(WORKERS._free), 2, "both are free again")

    def test_nobody_is_left_when_we_are_killed(self) -> None:
        code = (
            "import sys, time; from combe.designing import workers; workers.count = lambda: 2; workers.WORKERS.start();"
            "print(*[each.process.pid for each in workers.WORKERS._free], flush=True); time.sleep(60)"
        )
        with subprocess.Popen([sys.executable, "-c", code], cwd=ROOT, stdout=subprocess.PIPE, text=True) as child:
            assert child.stdout is not None
            pids = [int(word) for word in child.stdout.readline().split()]
            child.kill()
        ends = time.monotonic() + 20
        while any(map(is_there, pids)) and time.monotonic() < ends:
            time.sleep(0.05)
        self.assertEqual([pid for pid in pids if is_there(pid)], [])

    @few_methods()
    def test_where_none_can_start_the_race_is_run_here_and_few_are_tried(self) -> None:
        made = Workers()
        started: list[Worker] = []

        class Stillborn(Worker):
            def __init__(self, *words: Any) -> None:
                super().__init__(*words)
                started.append(self)

        with (
            mock.patch.object(workers, "Worker", Stillborn), mock.patch.object(workers, "WORKERS", made),
            mock.patch.object(workers.sys, "executable", "/bin/false"), mock.patch.object(workers, "ALONE_S", 0.0),
        ):  # fmt: skip
            found = [each.method for each in contenders(LOWPASS)]
        with mock.patch.object(workers, "count", lambda: 0):
            self.assertEqual(sorted(found), sorted(each.method for each in contenders(LOWPASS)))
        self.assertTrue(2 <= len(started) <= workers.MOST_STILLBORN + 2, len(started))

    def window(self) -> list[Worker]:
        """The processes of a window, ready."""
        made = Workers()
        patched = mock.patch.object(workers, "WORKERS", made)
        patched.start()
        self.addCleanup(patched.stop)
        self.addCleanup(made.end)
        made.serve_window()
        for count in range(1, 4):  # one after another
            ready(made._free[-1])
            ends = time.monotonic() + 5
            while len(made._free) < min(count + 1, 3) and time.monotonic() < ends:
                self.assertEqual(len(made._free), count)
                time.sleep(0.001)
        return list(made._free)

    def test_work_of_a_window_is_reported_from_elsewhere_as_it_comes(self) -> None:
        self.assertEqual([pid for pid, _ in counting(2, lambda: False)], [os.getpid()] * 2, "without a window, here")
        own = self.window()
        self.assertEqual(len(own), 3, "one more than there are processors")
        found = list(counting(500, lambda: False))
        self.assertEqual([number for _, number in found], list(range(500)))
        self.assertEqual(len({pid for pid, _ in found} & {each.process.pid for each in own}), 1)
        with self.assertRaises(DesignError) as caught:
            list(counting(901, lambda: False))
        self.assertEqual(caught.exception.where, "most")

    def test_whoever_leaves_or_stops_gets_the_process_back(self) -> None:
        self.window()
        pool = workers.WORKERS
        listening = counting(-1, lambda: False)
        next(listening)
        self.assertEqual(len(pool._free), 2)
        listening.close()  # type: ignore[attr-defined]
        asked = time.monotonic() + 0.3
        with self.assertRaises(Stopped):
            for _ in counting(-1, lambda: time.monotonic() > asked):
                pass
        ends = time.monotonic() + 15
        while len(pool._free) < 3 and time.monotonic() < ends:
            time.sleep(0.02)
        self.assertEqual(len(pool._free), 3)
        self.assertEqual(len(list(counting(7, lambda: False))), 7, "and it still answers")

    def test_one_that_does_not_stop_makes_place_for_a_fresh_one(self) -> None:
        self.window()
        pool = workers.WORKERS
        listening = deaf(lambda: False)
        pid = next(listening)
        listening.close()  # type: ignore[attr-defined]
        self.assertTrue(is_there(pid), "a while to stop in")
        ends = time.monotonic() + 30
        while (is_there(pid) or len(pool._free) < 3) and time.monotonic() < ends:
            time.sleep(0.02)
        self.assertFalse(is_there(pid))
        self.assertEqual(len(pool._free), 3)
        ready(pool._free[-1])
        self.assertEqual(len(list(counting(3, lambda: False))), 3)

    def test_one_that_has_grown_makes_place_for_a_fresh_one(self) -> None:
        own = {each.process.pid for each in self.window()}
        pool = workers.WORKERS
        with mock.patch.object(workers, "MOST_MEMORY", 1):
            ((pid, _),) = counting(1, lambda: False)
            ends = time.monotonic() + 15
            while len(pool._free) < 3 and time.monotonic() < ends:
                time.sleep(0.02)
        self.assertFalse(is_there(pid))
        fresh = {each.process.pid for each in pool._free} - own
        self.assertEqual(len(fresh), 1)
        self.assertEqual(len(list(counting(3, lambda: False))), 3)

    def test_the_first_of_a_window_are_waited_for(self) -> None:
        made = Workers()
        self.addCleanup(made.end)
        with mock.patch.object(workers, "WORKERS", made):
            made.serve_window()
            ((pid, _),) = counting(1, lambda: False)
        self.assertNotEqual(pid, os.getpid())

    def test_one_is_kept_free_for_what_a_hand_waits_for(self) -> None:
        """Of those that a window has the last is only taken by what is urgent; where there is only one, by whoever comes; where
        there is none, nobody gets any and nothing breaks."""

        for there in range(4):
            for spare in (0, 1):
                pool = Workers()
                pool.serves_window = True
                pool._free = [Ready() for _ in range(there)]  # type: ignore[misc]
                pool._count = there
                with self.subTest(there=there, spare=spare):
                    taken = sum(pool.take(spare) is not None for _ in range(5))
                    self.assertEqual(taken, there if not spare or there == 1 else max(there - 1, 0))
        busy = Workers()
        busy.serves_window, busy._count = True, 2
        with mock.patch.object(workers, "QUEUED_S", 0.2), mock.patch.object(workers, "URGENT_S", 0.1):
            for haste, least in (("", 0.2), (workers.URGENT, 0.1), (workers.SOON, 0.1)):
                begun = time.monotonic()
                self.assertIsNone(busy.awaited(haste, lambda: False))
                self.assertGreaterEqual(time.monotonic() - begun, least)

    def test_until_the_first_is_loaded_only_what_is_urgent_is_done_here(self) -> None:
        class Loading(Ready):
            is_ready = False

        pool = Workers()
        pool.serves_window, pool._count, pool._free = True, 1, [Loading()]  # type: ignore[list-item]
        with mock.patch.object(workers, "PATIENT_S", 0.2):
            for haste, least, most in ((workers.URGENT, 0.0, 0.1), (workers.SOON, 0.2, 5.0), ("", 0.2, 5.0)):
                begun = time.monotonic()
                self.assertIsNone(pool.awaited(haste, lambda: False))
                self.assertTrue(least <= time.monotonic() - begun < most)

    def test_where_the_process_dies_the_work_is_done_here(self) -> None:
        own = self.window()
        listening = counting(30_000, lambda: False)
        pid, _ = next(listening)
        os.kill(pid, signal.SIGKILL)
        self.assertEqual(list(listening)[-1], (os.getpid(), 29_999))
        self.assertIn(pid, {each.process.pid for each in own})

    def test_all_that_a_session_sends_can_be_sent(self) -> None:
        """Every generator function of the chain that runs apart, found by its name in a fresh process."""
        self.window()
        project = replace(demo_project(), requirement=LOWPASS)
        with mock.patch.object(workers, "count", lambda: 1):  # a race is not what this is about
            known = [tried(project.requirement, DesignChoice("equiripple"), lambda: False)]
        ideal = ideal_of(project)
        assert known[0] is not None
        for work, words in (
            (following.side, (project, ideal, known)),
            (looking.compared_states, (project,)),
            (following.standings, (recorder_project(), [1])),
            (following.chain, (replace(project, arithmetic=replace(project.arithmetic, better=True)), None, True, Results())),
        ):  # fmt: skip
            with (
                self.subTest(work.__name__),
                mock.patch.object(workers.WORKERS, "reports", wraps=workers.WORKERS.reports) as sent,
            ):
                found = list(work(*words, lambda: False))  # type: ignore[operator]
                self.assertTrue(found)
                self.assertTrue(sent.called)
                self.assertTrue(all(not isinstance(each, Failure) for each in found), found)

    def test_a_reason_comes_through_whole(self) -> None:
        def refuse(*_: object) -> None:
            raise DesignError("no", "bands", "say yes")

        with mock.patch.object(workers, "count", lambda: 0), self.assertRaises(DesignError):
            list(side_by_side(refuse, [(1,), (2,)], lambda: False))
        with self.assertRaises(DesignError) as caught:
            list(side_by_side(refuse, [(1,), (2,)], lambda: False))
        self.assertEqual((caught.exception.where, caught.exception.instead), ("bands", "say yes"))


if __name__ == "__main__":
    unittest.main()
