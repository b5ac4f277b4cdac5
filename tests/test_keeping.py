"""Files whole or not at all, real pipes, links, full disks and kills; copies of unsaved work."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import stat
import subprocess
import sys
import tempfile
import threading
import time
import unittest
from pathlib import Path

from combe.delivery.package import Package, SourceFile
from combe.errors import FileError
from combe.files import cell, read_text, write_bytes, write_text
from combe.placing import write_files
from combe.project.demo import demo_project
from combe.project.unsaved import Keeper, Opened, drop, left_behind
from tests.support import some
from tests.test_cli import call

ROOT = Path(__file__).parent.parent
WRITER = """
import sys
from pathlib import Path
from combe.placing import write_files
folder, size = Path(sys.argv[1]), int(sys.argv[2])
print("ready", flush=True)
for turn in range(100000):
    text = (f"{turn}\\n" * (size // len(f"{turn}\\n") + 1)).encode()
    write_files([(folder / f"part{k}.txt", text) for k in range(6)])
"""

ENDED = """
import os, sys
from pathlib import Path
from combe.placing import write_files
left = int(sys.argv[2])
def ending(call):
    def counted(*given, **more):
        global left
        left -= 1
        if left == 0:
            os._exit(9)
        return call(*given, **more)
    return counted
for name in ("open", "write", "link", "fsync", "fchmod", "fchown", "close", "replace", "rename"):
    setattr(os, name, ending(getattr(os, name)))
write_files([(Path(sys.argv[1]) / f"part{k}.txt", b"new" * 9000) for k in range(4)])
"""
"""Ends at the given one of its calls of the system."""


def _heeding() -> None:
    """Whoever starts the tests in the background may have told them not to heed Ctrl+C."""
    for number in (signal.SIGINT, signal.SIGTERM, signal.SIGHUP):
        signal.signal(number, signal.SIG_DFL)


class InPlace(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(tempfile.mkdtemp(prefix="combe-test-"))
        self.addCleanup(shutil.rmtree, self.folder)

    def names(self) -> set[str]:
        return {path.name for path in self.folder.iterdir()}


class Targets(InPlace):
    def test_a_pipe_is_written_through(self) -> None:
        pipe = self.folder / "pipe"
        os.mkfifo(pipe)
        heard: list[bytes] = []
        reader = threading.Thread(target=lambda: heard.append(pipe.read_bytes()))
        reader.start()
        write_text(pipe, "twelve bats\n")
        reader.join(5)
        self.assertEqual(heard, [b"twelve bats\n"])
        self.assertTrue(stat.S_ISFIFO(pipe.stat().st_mode))

    def test_a_device_stays_a_device(self) -> None:
        null, full = self.folder / "null", self.folder / "full"
        try:
            os.mknod(null, stat.S_IFCHR | 0o666, os.makedev(1, 3))
            os.mknod(full, stat.S_IFCHR | 0o666, os.makedev(1, 7))
            null.write_bytes(b"")
        except OSError as error:
            self.skipTest(f"no nodes can be made here ({error})")
        write_text(null, "gone")
        with self.assertRaises(FileError) as caught:
            write_text(full, "no room")
        self.assertIn("No space left", caught.exception.sentence())
        self.assertTrue(all(stat.S_ISCHR(path.stat().st_mode) for path in (null, full)))
        self.assertEqual(self.names(), {"null", "full"})

    def test_links_are_followed_and_kept(self) -> None:
        target, soft, hard = (self.folder / name for name in ("target", "soft", "hard"))
        target.write_text("old")
        soft.symlink_to(target)
        os.link(target, hard)
        number = target.stat().st_ino
        write_text(soft, "new")
        self.assertTrue(soft.is_symlink())
        self.assertEqual([path.read_text() for path in (target, soft, hard)], ["new"] * 3)
        self.assertEqual(hard.stat().st_ino, number)
        dangling = self.folder / "dangling"
        dangling.symlink_to(self.folder / "made")
        write_text(dangling, "there now")
        self.assertEqual((self.folder / "made").read_text(), "there now")
        self.assertTrue(dangling.is_symlink())

    def test_rights_are_kept_and_read_only_files_refused(self) -> None:
        path = self.folder / "mine"
        path.write_text("old")
        path.chmod(0o640)
        write_text(path, "new")
        self.assertEqual(stat.S_IMODE(path.stat().st_mode), 0o640)
        if os.geteuid():
            path.chmod(0o440)
            self.assertRaises(FileError, write_text, path, "newer")
        for wrong in (self.folder, self.folder / "none" / "x", self.folder / "mine" / "x"):
            with self.assertRaises(FileError) as caught:
                write_text(wrong, "x")
            self.assertIn(str(wrong), caught.exception.sentence())
        self.assertEqual(self.names(), {"mine"})

    def test_what_half_a_character_cannot_be_written_as_is_told(self) -> None:
        with self.assertRaises(FileError) as caught:
            write_text(self.folder / "x", "bat \ud800")
        self.assertIn("half a character", caught.exception.sentence())
        self.assertEqual(self.names(), set())

    def test_too_much_is_refused_before_it_is_read(self) -> None:
        path = self.folder / "huge"
        with path.open("wb") as stream:
            stream.truncate(1 << 33)
        with self.assertRaises(FileError) as caught:
            read_text(path)
        self.assertIn("8192 MB", caught.exception.sentence())
        pipe = self.folder / "endless"
        os.mkfifo(pipe)
        feeder = subprocess.Popen(["/bin/sh", "-c", f"exec cat /dev/zero > {pipe}"])
        self.addCleanup(feeder.wait)
        self.addCleanup(feeder.kill)
        self.assertRaises(FileError, read_text, pipe)


class Together(InPlace):
    def test_a_file_that_cannot_be_written_leaves_all_the_others_as_they_were(self) -> None:
        for name in "ab":
            (self.folder / name).write_text("old")
        (self.folder / "c").mkdir()
        with self.assertRaises(FileError):
            write_files([(self.folder / name, b"new") for name in "abc"])
        self.assertEqual([(self.folder / name).read_text() for name in "ab"], ["old", "old"])
        self.assertEqual(self.names(), {"a", "b", "c"})

    def test_a_full_disk_leaves_what_was_there(self) -> None:
        disk = self.folder / "disk"
        disk.mkdir()
        if (
            os.geteuid()
            or subprocess.run(
                ["mount", "-t", "tmpfs", "-o", "size=96k", "none", str(disk)], capture_output=True
            ).returncode
        ):
            self.skipTest("no file system can be mounted here")
        try:
            write_files([(disk / f"part{k}", b"old" * 1000) for k in range(4)])
            with self.assertRaises(FileError) as caught:
                write_files([(disk / f"part{k}", bytes(24_000)) for k in range(4)])
            self.assertIn("No space left", caught.exception.sentence())
            self.assertEqual({path.name for path in disk.iterdir()}, {f"part{k}" for k in range(4)})
            self.assertTrue(all(path.read_bytes() == b"old" * 1000 for path in disk.iterdir()))
        finally:
            subprocess.run(["umount", "-l", str(disk)], check=True)

    def test_whatever_ends_us_files_are_whole_and_only_a_few_renames_lie_between_old_and_new(self) -> None:
        """The process ends at each of its steps in turn, at once, as a kill would end it."""
        names = {f"part{k}.txt" for k in range(4)}
        mixed = named = 0
        for step in range(1, 200):
            place = self.folder / str(step)
            place.mkdir()
            for name in names:
                (place / name).write_text("old" * 500)
            done = subprocess.run([sys.executable, "-c", ENDED, str(place), str(step)], cwd=ROOT, check=False)
            held = {path.name: path.read_text() for path in place.iterdir()}
            self.assertLessEqual(
                set(held.values()), {"old" * 500, "new" * 9000}, f"a file is half written at step {step}"
            )
            strange = set(held) - names
            values = {held[name] for name in names}
            mixed += len(values) > 1
            named += bool(strange)
            if done.returncode == 0:
                self.assertEqual((values, strange), ({"new" * 9000}, set()))
                break
        else:
            self.fail("it never came to its end")
        self.assertLessEqual(mixed, len(names) - 1, "more than the renames lie between all old and all new")
        self.assertLessEqual(named, 2 * len(names))

    def test_a_kill_leaves_no_file_half_written(self) -> None:
        for seed in some(range(200), 5):
            place = self.folder / str(seed)
            place.mkdir()
            child = subprocess.Popen(
                [sys.executable, "-c", WRITER, str(place), "60000"], stdout=subprocess.PIPE, cwd=ROOT
            )
            assert child.stdout is not None
            child.stdout.readline()
            time.sleep(0.03 + random.Random(seed).random() * 0.1)
            child.send_signal(signal.SIGKILL)
            child.wait()
            child.stdout.close()
            for path in place.iterdir():
                self.assertGreaterEqual(path.stat().st_size, 60_000)

    def test_a_makefile_of_someone_else_stays(self) -> None:
        def package(name: str, body: str) -> Package:
            rows = f"# make check builds {name}\nSOURCES = {name}.c\n"
            return Package("c", name, (SourceFile(f"{name}.c", body), SourceFile("Makefile", rows)))

        package("one", "1").write(self.folder)
        self.assertEqual([path.name for path in package("two", "2").write(self.folder)], ["two.c", "two.mk"])
        package("one", "1b").write(self.folder)
        self.assertIn("one.c", (self.folder / "Makefile").read_text())
        self.assertEqual(self.names(), {"one.c", "two.c", "two.mk", "Makefile"})
        (self.folder / "Makefile").write_text("all:\n\techo mine\n")
        package("one", "1c").write(self.folder)
        self.assertEqual((self.folder / "Makefile").read_text(), "all:\n\techo mine\n")


class Unsaved(InPlace):
    def test_copies_of_windows_that_are_gone_are_listed_newest_first(self) -> None:
        script = (
            "import sys, time\nfrom pathlib import Path\nfrom combe.project.unsaved import Keeper\n"
            "from combe.project.demo import demo_project\nfrom combe.values import replace\n"
            "keeper, project = Keeper(Path(sys.argv[1])), demo_project()\n"
            "for turn in range(100000):\n"
            "    keeper.keep(replace(project, name=f'{sys.argv[2]} {turn}'), '/tmp/x.combe', ('drag', f'rename {turn}'))\n"
            "    print(turn, flush=True)\n"
        )
        for name in ("first", "second"):
            child = subprocess.Popen(
                [sys.executable, "-c", script, str(self.folder), name], stdout=subprocess.PIPE, cwd=ROOT
            )
            assert child.stdout is not None
            told = [child.stdout.readline() for _ in range(5)]
            self.assertEqual([copy for copy in left_behind(self.folder) if copy.name.startswith(name)], [])
            child.kill()
            child.wait()
            told += child.stdout.readlines()
            child.stdout.close()
            copy = left_behind(self.folder)[0]
            self.assertTrue(copy.name.startswith(name))
            self.assertGreaterEqual(int(copy.name.split()[1]), len([row for row in told if row.endswith(b"\n")]) - 1)
            self.assertIn("/tmp/x.combe", copy.sentence())
            self.assertIn("rename", copy.sentence())
        copies = left_behind(self.folder)
        self.assertEqual([copy.name.split()[0] for copy in copies], ["second", "first"])
        drop(copies[0])
        self.assertEqual(len(left_behind(self.folder)), 1)

    def test_a_copy_that_cannot_be_read_is_kept_and_told(self) -> None:
        for name, text, words in (
            ("1-a.json", "{", "not valid JSON"), ("2-b.json", '{"format": "combe-unsaved", "version": 9}', "newer version"),
            ("3-c.json", "{}", "no copy"), ("4-d.json", '{"format": "combe-unsaved", "version": 1, "project": 5}', "can't be read"),
        ):  # fmt: skip
            (self.folder / name).write_text(text)
            copy = next(copy for copy in left_behind(self.folder) if copy.path.name == name)
            self.assertIsNone(copy.project)
            self.assertIn(words, copy.sentence())
            self.assertEqual((self.folder / name).read_text(), text)

    def test_a_file_that_another_window_has_open_is_known(self) -> None:
        first, second, file = Opened(self.folder), Opened(self.folder), self.folder / "p.combe"
        self.assertTrue(first.take(file))
        self.assertFalse(second.take(file))
        self.assertTrue(second.take(self.folder / "q.combe"))
        self.assertTrue(first.take(None))
        self.assertTrue(second.take(file))
        for each in (first, second):
            each.take(None)

    def test_a_folder_that_cannot_be_written_says_so(self) -> None:
        (self.folder / "file").write_text("x")
        self.assertRaises(FileError, Keeper(self.folder / "file" / "state").keep, demo_project(), "", ())


class Streams(InPlace):
    def run_combe(self, *words: str, **more: object) -> subprocess.CompletedProcess[bytes]:
        command = [sys.executable, "-m", "combe", *words]
        return subprocess.run(command, cwd=ROOT, capture_output=True, timeout=60, check=False, **more)  # type: ignore[call-overload,no-any-return]

    def test_readers_that_leave_and_full_disks_end_in_order(self) -> None:
        shell = f"{sys.executable} -m combe methods"
        for tail, status, words in (
            (" | head -1 >/dev/null; exit ${PIPESTATUS[0]}", 0, ""),
            (" > /dev/full", 2, "No space left"),
        ):
            done = subprocess.run(
                ["bash", "-c", shell + tail], cwd=ROOT, capture_output=True, text=True, timeout=60, check=False
            )
            self.assertEqual(done.returncode, status, tail)
            self.assertEqual(done.stderr.count("\n"), 1 if words else 0, done.stderr)
            self.assertIn(words, done.stderr)
            self.assertNotIn("fault", done.stderr)

    def test_other_alphabets_and_names_do_no_harm(self) -> None:
        environment = os.environ | {"PYTHONIOENCODING": "ascii", "PYTHONUTF8": "0"}
        done = self.run_combe("methods", "--json", env=environment)
        self.assertEqual(done.returncode, 0)
        self.assertGreater(len(json.loads(done.stdout.decode("ascii"))), 30)
        done = subprocess.run(
            [sys.executable, "-m", "combe", "examine", b"/tmp/\xff\xfe.json"],
            cwd=ROOT,
            capture_output=True,
            check=False,
        )
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"no such file", done.stderr)
        done = self.run_combe("examine", "-", input=b"\xef\xbb\xbf0.5\n0.5\n")
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_asked_to_stop_it_says_interrupted_and_leaves_nothing(self) -> None:
        asked = self.folder / "r.json"
        bands = [{"name": "a", "start_hz": 0, "stop_hz": 0.1, "min_db": -0.01, "max_db": 0.01},
                 {"name": "b", "start_hz": 0.101, "stop_hz": 0.5, "max_db": -80}]  # fmt: skip
        asked.write_text(
            json.dumps({"format": "combe-requirement", "version": 1, "name": "x", "sample_rate_hz": 1, "bands": bands})
        )
        for number in some((signal.SIGINT, signal.SIGTERM, signal.SIGHUP), 2):
            child = subprocess.Popen(
                [sys.executable, "-m", "combe", "contenders", str(asked)],
                cwd=ROOT,
                stdout=subprocess.PIPE,
                stderr=subprocess.PIPE,
                preexec_fn=_heeding,
            )
            time.sleep(1.5)
            child.send_signal(number)
            _, said = child.communicate(timeout=60)
            self.assertEqual((child.returncode, said), (130, b"combe: interrupted\n"), number)

    def test_being_asked_while_a_library_loads_its_parts_is_no_fault(self) -> None:
        """It prints what it can't pass on, and fails in its own words: as numba does in the middle of being imported."""
        code = """
import os, signal, sys
import combe.cli as cli
cli._stop_in_order()

def torn(words):
    try:
        os.kill(os.getpid(), signal.SIGTERM)
        for _ in range(10000): pass
    except BaseException:
        sys.excepthook(*sys.exc_info())
    raise ImportError("a part failed to import")

import combe.cli.root
class Torn:
    def main(self, **_):
        torn(None)
combe.cli.root.command = lambda: Torn()
sys.exit(cli.run_verb(["methods"]))
"""
        done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, timeout=60, check=False)
        self.assertEqual((done.returncode, done.stderr), (130, b"combe: interrupted\n"))

    def test_being_asked_inside_a_callback_of_a_library_is_no_news(self) -> None:
        code = """
import ctypes, os, signal, sys, time
from combe.cli import _stop_in_order
_stop_in_order()
compare = ctypes.CFUNCTYPE(ctypes.c_int, ctypes.c_void_p, ctypes.c_void_p)

def stopped(a, b):
    os.kill(os.getpid(), signal.SIGTERM)
    for _ in range(10000): pass
    return 0

numbers = (ctypes.c_int * 2)(2, 1)
ctypes.CDLL(None).qsort(numbers, 2, 4, compare(stopped))
time.sleep(20)
"""
        done = subprocess.run([sys.executable, "-c", code], cwd=ROOT, capture_output=True, timeout=60, check=False)
        self.assertEqual((done.returncode, done.stderr), (130, b"combe: interrupted\n"))


class Cells(unittest.TestCase):
    def test_a_spreadsheet_runs_nothing_that_a_name_says(self) -> None:
        for name in ("=1+1", "@sum(a)", "+cmd|calc", "-2+3", "=HYPERLINK(x)", "\t=1"):
            self.assertTrue(cell(name).startswith("'"), name)
        for plain in ("wind not above", "-60 dB", "−0.1 dB", "+0.405", "-0.3", ""):
            self.assertEqual(cell(plain), plain)


class Bytes(InPlace):
    def test_bytes_go_in_whole(self) -> None:
        write_bytes(self.folder / "x", bytes(range(256)) * 4096)
        self.assertEqual((self.folder / "x").stat().st_size, 1 << 20)
        self.assertEqual(
            call(
                "design",
                "--method",
                "moving-average",
                "--order",
                "3",
                "--sample-rate",
                "1",
                "--out",
                self.folder / "none" / "d.json",
            )[0],
            2,
        )
