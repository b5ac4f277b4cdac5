"""Tools on a lead: limits kept, stopped when asked, nothing left when we end."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path
from unittest import mock

from combe.errors import Stopped, ToolError
from combe.proof import process
from combe.proof.process import Limits, be_polite, execute, stoppable
from combe.proof.tools import run

HERE = Path("/")
GRANDCHILD = "import subprocess, sys, time; p = subprocess.Popen([sys.executable, '-c', 'import time; time.sleep(60)']); print(p.pid, flush=True); time.sleep(60)"


def is_running(pid: int) -> bool:
    try:
        return Path(f"/proc/{pid}/stat").read_text(encoding="ascii").split(") ")[1][0] != "Z"
    except OSError:
        return False


def gone(pid: int, seconds: float = 2.0) -> bool:
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if not is_running(pid):
            return True
        time.sleep(0.01)
    return False


class Processes(unittest.TestCase):
    def test_beside_a_window_all_give_way(self) -> None:
        with mock.patch.object(process, "_politeness", 0):
            be_polite(7)
            code = "import os, time; time.sleep(0.2); print(os.getpriority(os.PRIO_PROCESS, 0))"
            self.assertEqual(execute([sys.executable, "-c", code], HERE).output.strip(), b"7")
        self.assertEqual(int(execute([sys.executable, "-c", code], HERE).output), os.nice(0))

    def test_what_goes_in_and_comes_out(self) -> None:
        big = os.urandom(3 << 20)
        self.assertEqual(execute(["/bin/cat"], HERE, big).output, big)
        found = execute([sys.executable, "-c", "import sys; sys.stderr.write('no'); sys.exit(7)"], HERE)
        self.assertEqual((found.status, found.errors), (7, b"no"))

    def test_a_program_with_many_open_files_keeps_its_words_and_its_lead(self) -> None:
        """A plain shell takes a handle of two digits for a word of the command."""
        handles = [os.open("/dev/null", os.O_RDONLY) for _ in range(40)]
        try:
            self.assertEqual(execute(["echo", "a", "b"], HERE).output, b"a b\n")
            ended = threading.Event()
            found: list[int] = []

            def work() -> None:
                with stoppable(ended.is_set), self.assertRaises(Stopped):
                    execute(
                        [sys.executable, "-c", "import os, time; print(os.getpid(), flush=True); time.sleep(60)"], HERE
                    )

            thread = threading.Thread(target=work)
            thread.start()
            time.sleep(0.3)
            found += [
                int(word)
                for word in Path("/proc/self/task").iterdir().__next__().joinpath("children").read_text().split()
            ]
            ended.set()
            thread.join(5)
            self.assertFalse(thread.is_alive())
            self.assertTrue(all(gone(pid) for pid in found))
        finally:
            for handle in handles:
                os.close(handle)

    def test_words_reach_the_command_as_they_are(self) -> None:
        words = ["a b", "$HOME", "`id`", ";", "'", '"', "*"]
        code = "import sys; print(sys.argv[1:])"
        self.assertEqual(run([sys.executable, "-c", code, *words], HERE).decode().strip(), repr(words))

    def test_time_memory_and_output_are_limited(self) -> None:
        for code, limits, said in (
            ("import time; time.sleep(60)", Limits(seconds=0.3), "within 0.3 seconds"),
            ("x = bytearray(600 << 20); import time; time.sleep(60)", Limits(10, 300 << 20), "300 MB of memory"),
            ("import os\nwhile True: os.write(1, b'x' * 65536)", Limits(10, output=8 << 20), "more than 8 MB"),
            ("import os\nwhile True: os.write(2, b'x' * 65536)", Limits(10, output=8 << 20), "more than 8 MB"),
        ):
            with self.subTest(said):
                started = time.monotonic()
                with self.assertRaises(ToolError) as caught:
                    execute([sys.executable, "-c", code], HERE, limits=limits)
                self.assertIn(said, caught.exception.sentence())
                self.assertLess(time.monotonic() - started, 8)

    def test_the_end_is_heard_of_at_once_and_rarely_looked_for(self) -> None:
        with mock.patch.object(process, "LOOK_S", 30.0):
            started = time.monotonic()
            self.assertEqual(execute(["sleep", "0.1"], HERE).status, 0)
            self.assertLess(time.monotonic() - started, 15)
        with mock.patch.object(process, "memory_of", return_value=0) as looks:
            execute(["sleep", "0.4"], HERE)
            self.assertLess(looks.call_count, 20)
        with mock.patch("os.pidfd_open", side_effect=OSError):  # a system that is older
            self.assertEqual(execute(["sh", "-c", "sleep 0.2; exit 3"], HERE).status, 3)

    def test_a_missing_command_is_told(self) -> None:
        with self.assertRaises(ToolError):
            run(["/nowhere/at/all"], HERE)

    def test_stopping_takes_half_a_second_and_children_of_children_with_it(self) -> None:
        with tempfile.TemporaryDirectory() as folder:
            told = Path(folder) / "pid"
            code = GRANDCHILD.replace("print(p.pid, flush=True)", f"open({str(told)!r}, 'w').write(str(p.pid))")
            wanted = threading.Event()
            ended: list[float] = []

            def work() -> None:
                with stoppable(wanted.is_set):
                    try:
                        execute([sys.executable, "-c", code], HERE)
                    except Stopped:
                        ended.append(time.monotonic())

            thread = threading.Thread(target=work)
            thread.start()
            while not told.exists() or not told.read_text():
                time.sleep(0.01)
            pid = int(told.read_text())
            self.assertTrue(is_running(pid))
            asked = time.monotonic()
            wanted.set()
            thread.join(5)
            self.assertLess(ended[0] - asked, 0.5)
            self.assertTrue(gone(pid, 0.5))

    def test_what_a_command_leaves_behind_goes_with_it(self) -> None:
        code = "import subprocess; p = subprocess.Popen(['sleep', '60']); print(p.pid)"
        pid = int(execute([sys.executable, "-c", code], HERE).output)
        self.assertTrue(gone(pid))

    def test_all_is_gone_when_we_are_killed(self) -> None:
        root = Path(__file__).resolve().parent.parent
        with tempfile.TemporaryDirectory() as folder:
            told = Path(folder) / "pid"
            inner = GRANDCHILD.replace("print(p.pid, flush=True)", f"open({str(told)!r}, 'w').write(str(p.pid))")
            code = f"import sys; from pathlib import Path; from combe.proof.process import execute; execute([sys.executable, '-c', {inner!r}], Path('/'))"
            for how in (signal.SIGKILL, signal.SIGTERM):
                told.unlink(missing_ok=True)
                ours = subprocess.Popen([sys.executable, "-c", code], cwd=root)
                while not told.exists() or not told.read_text():
                    time.sleep(0.01)
                pid = int(told.read_text())
                self.assertTrue(is_running(pid))
                ours.send_signal(how)
                ours.wait(5)
                self.assertTrue(gone(pid, 1.0), how)


if __name__ == "__main__":
    unittest.main()
