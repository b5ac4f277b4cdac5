"""A day at the window in minutes: random gestures on the real thing, memory, the log and the longest waits watched.

    tools/soak.py [MINUTES] [--seed N]      what make soak runs: ten minutes

Typing, dragging, steps, pages, modes, methods, widths, pins, undo, themes, languages, the bench, other projects, proofs and counts that
are stopped half way. Fails where the log has a line, a gesture holds the interface thread for more than half a second, or memory
grows after the first quarter. Time in which the machine itself stood still isn't the gesture's, and is told apart.
"""

from __future__ import annotations

import contextlib
import faulthandler
import os
import random
import re
import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
HOME = tempfile.mkdtemp(prefix="combe-soak-")
os.environ["XDG_STATE_HOME"] = os.environ["XDG_CONFIG_HOME"] = HOME
sys.path.insert(0, str(Path(__file__).parent.parent))

from PyQt6.QtCore import Qt, QTimer, qInstallMessageHandler  # noqa: E402
from PyQt6.QtTest import QTest  # noqa: E402

from combe.app.ahead import Ahead  # noqa: E402
from combe.app.pages.register import CODE, PLOTS, placed  # noqa: E402
from combe.app.session import Session  # noqa: E402
from combe.app.settings import Settings  # noqa: E402
from combe.app.window import MainWindow  # noqa: E402
from combe.designing.methods import METHODS  # noqa: E402
from combe.designing.task import DesignChoice  # noqa: E402
from combe.errors import CombeError  # noqa: E402
from combe.log import log_path  # noqa: E402
from combe.project import edits, tree_edits, variant_edits  # noqa: E402
from combe.project.demo import demo_project, fresh_project, recorder_project, wake_up_project  # noqa: E402
from combe.project.document import INPUT, STEPS  # noqa: E402
from tools.hand import Clocked, application, as_the_application  # noqa: E402
from tools.stalls import Stalls  # noqa: E402

LONGEST_S, GROWTH_MB = 0.5, 60.0
FIGURES = ("12k", "0.1fs", "-55", "0.2 dB", "18 kHz", "1 %", "banana", "1e9", "", "110k", "25k", "-80")


def resident_mb() -> float:
    """Memory in use by this process."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * os.sysconf("SC_PAGE_SIZE") / (1 << 20)


class Watch(threading.Thread):
    """Looks where the interface thread is when it has been at one thing for long."""

    def __init__(self) -> None:
        super().__init__(daemon=True)
        self.main = threading.get_ident()
        self.since = 0.0
        self.seen = ""
        self.beat = time.perf_counter()

    def run(self) -> None:
        """Forever."""
        while True:
            time.sleep(0.05)
            now = time.perf_counter()
            if now - self.beat > 0.3 and not self.seen:
                stacks = _stacks()
                others = [_where(lines, 2) for place, lines in stacks.items() if place != self.main]
                beside = " | ".join(each for each in others if each and "jobs._work:" not in each.split(" < ")[0])
                self.seen = _where(stacks.get(self.main, []), 7) + (f"  beside {beside}" if beside else "")


def _stacks() -> dict[int, list[str]]:
    """The lines of each thread's stack, innermost first.

    As text: a frame taken from another thread would be kept past its end, with the painter in it, and Qt doesn't survive that.
    """
    with tempfile.TemporaryFile() as file:
        faulthandler.dump_traceback(file, all_threads=True)
        file.seek(0)
        said = file.read().decode()
    found: dict[int, list[str]] = {}
    for part in re.split(r"^(?=(?:Current thread|Thread) 0x)", said, flags=re.M):
        head = re.match(r"(?:Current thread|Thread) (0x[0-9a-f]+)", part)
        if head:
            found[int(head[1], 16)] = part.splitlines()[1:]
    return found


def _where(lines: list[str], most: int) -> str:
    """Our innermost functions of a thread."""
    names = []
    for line in lines:
        place = re.search(r'File ".*combe/.*?([^/]+)\.py", line (\d+) in (.*)', line)
        if place:
            names.append(f"{place[1]}.{place[3]}:{place[2]}")
    return " < ".join(names[:most])


class Soak:
    """One window and what a hand may do with it."""

    def __init__(self, seed: int, stalls: Stalls) -> None:
        self.stalls = stalls
        self.app = application(Clocked)
        assert isinstance(self.app, Clocked)
        self.draw = random.Random(seed)
        self.session = Session(recorder_project())
        self.window = MainWindow(self.session, Settings(path=Path(HOME) / "settings.json"))
        Ahead(self.window)
        self.window.resize(1280, 800)
        self.window.show()
        self.session.start()
        as_the_application()
        self.slow: list[str] = []
        self.beside_stalls: list[str] = []
        self.longest_move = 0.0
        self.watch = Watch()
        self.watch.start()
        self.beat = QTimer()
        self.beat.timeout.connect(self._beat)
        self.beat.start(20)

    def _beat(self) -> None:
        self.watch.beat = time.perf_counter()

    def type_over(self) -> None:
        """A figure of the brief."""
        rows = self.window.brief.rows
        if not rows:
            return
        figure = self.draw.choice(list(self.draw.choice(rows).figures.values()))
        figure.setFocus()
        figure.selectAll()
        QTest.keyClicks(figure, self.draw.choice(FIGURES))
        QTest.keyClick(figure, Qt.Key.Key_Return)

    def drag(self) -> None:
        """An edge of a band, a few moves."""
        project = self.session.project
        index = self.draw.randrange(len(project.requirement.bands))
        kind = self.draw.choice(("start", "stop"))
        band = project.requirement.bands[index]
        hz = band.start_hz if kind == "start" else band.stop_hz
        for _ in range(self.draw.randint(1, 8)):
            hz += self.draw.uniform(-0.01, 0.01) * project.requirement.sample_rate_hz
            place = hz
            began = time.perf_counter()
            self.window.drag(lambda now, place=place: edits.move_edge(now, index, kind, place))  # type: ignore[misc]
            self.longest_move = max(self.longest_move, time.perf_counter() - began)
            QTest.qWait(5)
        self.session.end_gesture()

    def look(self) -> None:
        """A step, a page, a way of looking."""
        step = self.draw.choice(STEPS)
        self.window.open_step(step)
        if step == "code":
            kind = self.session.project.code.written_in.kind
            pages = [entry.name for entry in placed(CODE) if entry.is_for(kind)]
            self.window.code_view.open_page(self.draw.choice(pages))
        elif step != "bench":
            self.window.plots.open_tab(self.draw.choice(placed(PLOTS)).name)
            modes = self.window.plots.current_page.modes()
            if modes:
                self.window.plots.current_page.set_mode(self.draw.choice(list(modes)))

    def choose(self) -> None:
        """A method, a width, a language, a signal."""
        draw, session = self.draw, self.session
        bits = draw.randint(6, 24)
        method = draw.choice([each.name for each in METHODS if each.races])
        every = (
            edits.choose_design(DesignChoice(method)), edits.coefficient_bits(bits), edits.better_integers(draw.random() < 0.2),
            edits.choose_language(draw.choice(("c", "c++", "verilog", "vhdl"))), edits.hold_with_integers(), edits.turn_brief(),
            edits.start_from(draw.choice(("lowpass", "highpass", "bandpass", "bandstop"))), edits.unpin_all(),
        )  # fmt: skip
        session.edit(draw.choice(every))

    def pin(self) -> None:
        """The design as it stands, at most a dozen of them."""
        ideal = self.session.results.ideal
        if ideal is not None and len(self.session.project.pins) < 12:
            self.session.edit(edits.pin(ideal.design))

    def back(self) -> None:
        """Undo and redo, many at once."""
        for _ in range(self.draw.randint(1, 12)):
            self.draw.choice((self.session.undo, self.session.undo, self.session.redo))()

    def work(self) -> None:
        """A proof or a count, which the next change stops half way."""
        self.draw.choice((self.session.prove, self.session.count))()

    def walk(self) -> None:
        """Another filter of the project, or a change of the tree."""
        draw, session = self.draw, self.session
        members = session.project.members
        name = draw.choice([INPUT, *(member.code_name for member in members)])
        every = (
            tree_edits.duplicate_filter(), tree_edits.remove_filter(), tree_edits.move_filter(draw.choice((-1, 1))), tree_edits.feed_from(name),
            tree_edits.mend_joint(name), variant_edits.keep_variant(draw.choice(("a", "b", "c"))), variant_edits.drop_variant("b"), variant_edits.take_variant("a"),
        )  # fmt: skip
        if len(members) < 12 and draw.random() < 0.3:
            session.edit(tree_edits.add_filter(name))
        draw.choice((
            lambda: session.turn_to(draw.randrange(len(members))), lambda: session.turn_to(draw.randrange(len(members))),
            lambda: session.edit(draw.choice(every)), lambda: session.return_to(draw.randrange(len(session.history.steps))),
        ))()  # fmt: skip

    def other(self) -> None:
        """Another project, another theme, another size."""
        draw = self.draw
        made = draw.choice((demo_project, fresh_project, wake_up_project, recorder_project, recorder_project))
        draw.choice((
            lambda: self.window.replace_project(made(), None), lambda: self.window.dress(draw.choice(("light", "dark"))),
            lambda: self.window.resize(draw.randint(1180, 1900), draw.randint(700, 1100)),
        ))()  # fmt: skip

    def gesture(self) -> None:
        """One of them, and the events that follow."""
        app = self.app
        assert isinstance(app, Clocked)
        acts: tuple[Callable[[], None], ...] = (
            self.type_over, self.type_over, self.drag, self.drag, self.look, self.look, self.look, self.walk, self.walk, self.choose, self.choose, self.pin,
            self.back, self.work, self.other,
        )  # fmt: skip
        act = self.draw.choice(acts)
        app.longest = self.longest_move = 0.0
        started = time.perf_counter()
        self.watch.since = started
        with contextlib.suppress(CombeError):  # told in a sentence, as a widget would
            act()
        spent = time.perf_counter() - started
        self.watch.since = 0.0
        QTest.qWait(self.draw.choice((0, 5, 20, 100, 400)))
        longest = max(self.longest_move if act == self.drag else spent, app.longest)  # a drag waits between its moves
        if longest > LONGEST_S:
            still = self.stalls.between(started, time.perf_counter())
            told = f"{act.__name__}: {longest * 1e3:.0f} ms {app.worst} {self.watch.seen}"
            if longest - still > LONGEST_S:
                self.slow.append(told)
            else:
                self.beside_stalls.append(f"{told}  the machine stood still for {still * 1e3:.0f} ms of it")
        self.watch.seen = ""


def listened_to() -> list[str]:
    """What Qt complains of from now on; that this platform knows no hints about sizes is no complaint."""
    said: list[str] = []

    def hear(_: object, __: object, words: str | None) -> None:
        if words and "propagateSizeHints" not in words:
            said.append(words)

    qInstallMessageHandler(hear)
    return said


def main(stalls: Stalls) -> int:
    """Gestures for some minutes, then the verdict."""
    said = listened_to()
    words = [word for word in sys.argv[1:] if not word.startswith("--")]
    minutes = float(words[0]) if words else 10.0
    seed = int(sys.argv[sys.argv.index("--seed") + 1]) if "--seed" in sys.argv else int(time.time())
    before = log_path().stat().st_size if log_path().exists() else 0
    soak = Soak(seed, stalls)
    start, count, told = time.monotonic(), 0, 0.0
    memory: list[tuple[float, float]] = []
    while time.monotonic() - start < 60 * minutes:
        soak.gesture()
        count += 1
        if time.monotonic() - told > 15:
            told = time.monotonic()
            memory.append((told - start, resident_mb()))
            print(
                f"{told - start:5.0f} s  {count:6d} gestures  {memory[-1][1]:6.0f} MB  {len(soak.slow)} slow",
                flush=True,
            )
    soak.session.saved = soak.session.project
    soak.window.close()
    late = [mb for at, mb in memory if at >= 15 * minutes]
    halves = late[: len(late) // 2], late[len(late) // 2 :]
    # The middle of each half: what one run of a bench holds for seconds is no growth.
    growth = statistics.median(halves[1]) - statistics.median(halves[0]) if all(halves) else 0.0
    after = log_path().stat().st_size if log_path().exists() else 0
    lines = log_path().read_bytes()[before:].decode("utf-8", "replace") if after > before else ""
    lines += "\n".join(said)
    print(
        f"{count} gestures of seed {seed}; after the first quarter memory grew by {growth:.0f} MB from half to half, "
        f"{max(late, default=0.0):.0f} at most; {len(soak.slow)} slow gestures"
    )
    for each in (*soak.slow[:20], *soak.beside_stalls[:20]):
        print(f"  {each}")
    if lines:
        print(f"the log says:\n{lines[-3000:]}")
    return 1 if lines or growth > GROWTH_MB or soak.slow else 0


if __name__ == "__main__":
    with Stalls() as stalls:
        status = main(stalls)
    sys.stdout.flush()
    os._exit(status)
