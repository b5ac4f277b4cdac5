"""Every action in one table: its menu, its name, its keys, what it does."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtGui import QAction, QActionGroup, QKeySequence
from PyQt6.QtWidgets import QApplication, QLineEdit, QMenu, QPlainTextEdit

from combe.app.pages.magnitude import BELOW
from combe.app.pages.register import CODE, PLOTS, STEP, placed
from combe.app.sound import Sound
from combe.app.widgets.action_palette import ActionPalette
from combe.requirement.presets import SHAPES

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from combe.app.window import MainWindow

COUNT_NAMES = {
    "hz": "Frequencies in Hz", "fs": "Frequencies as shares of the sample rate",
    "fn": "Frequencies as shares of half the sample rate",
}  # fmt: skip


class Actions:
    """Builds the menus and keeps their state right."""

    def __init__(self, window: MainWindow) -> None:
        self.window = window
        self.menus: dict[str, QMenu] = {}
        self.all: list[QAction] = []
        self.sound = Sound(window)
        self.sound.told.connect(window.tell)
        dialogs, session = window.dialogs, window.session
        self._add("Project", "New", "Ctrl+N", dialogs.new)
        self._add("Project", "Open…", "Ctrl+O", dialogs.open)
        self.recent = QMenu("Open recent", window)
        self._menu("Project").addMenu(self.recent)
        self._add("Project", "Open the demo", "", dialogs.open_demo)
        self._part("Project")
        self._add("Project", "Save", "Ctrl+S", dialogs.save)
        self._add("Project", "Save as…", "Ctrl+Shift+S", dialogs.save_as)
        self._part("Project")
        self._add("Project", "Export code…", "Ctrl+E", dialogs.export)
        self._add("Project", "Save this view as a figure…", "Ctrl+G", dialogs.figure)
        self._part("Project")
        self._add("Project", "Quit", "Ctrl+Q", window.close)
        self.undo = self._add("Edit", "Undo", "Ctrl+Z", session.undo)
        self.redo = self._add("Edit", "Redo", "Ctrl+Shift+Z", session.redo)
        self._part("Edit")
        self._add("Edit", "Copy", "Ctrl+C", self._copy)
        self._add("Edit", "Copy coefficients", "Ctrl+Shift+C", self._copy_coefficients)
        self._add("Edit", "Copy ledger", "", window.ledger.copy_text)
        self._part("Edit")
        self._add("Edit", "Rename…", "F2", dialogs.rename)
        self._add("Edit", "Add a band", "Ctrl+B", window.brief.add_band)
        self._add("Edit", "Turn the brief: keep what is blocked", "Ctrl+T", window.turn_brief)
        self._add("Edit", "Preferences…", "Ctrl+,", dialogs.preferences)
        self._add("Edit", "Coefficients by hand…", "Ctrl+H", dialogs.by_hand)
        for name in SHAPES:
            self._add("Edit", f"Start from a {name}", "", partial(window._on_shape, name))
        for words, keys, run in window.filters.entries():
            if words and callable(run):
                self._add("Filter", words, keys, run)
            else:
                self._part("Filter")
        self._part("Filter")
        self._add("Filter", "Next filter", "Ctrl+PgDown", partial(window.path_bar.step, 1))
        self._add("Filter", "Previous filter", "Ctrl+PgUp", partial(window.path_bar.step, -1))
        self._add("Filter", "Read the path aloud", "", window.filters.read_aloud)
        for number, entry in enumerate(placed(STEP), 1):
            self._add("View/Steps", entry.title, f"Ctrl+{number}", partial(window.open_step, entry.name))
        for number, entry in enumerate(placed(PLOTS), 1):
            keys = f"Alt+{number}" if number < 10 else ""
            self._add("View/Plots", f"Plot {entry.title.lower()}", keys, partial(self._open_plot, entry.name))
        for number, entry in enumerate(placed(CODE), 1):
            words = f"Code: {entry.title.lower()}"
            self._add("View/Pages of the code", words, f"Alt+Shift+{number}", partial(self._open_code, entry.name))
        for words in BELOW:
            self._add("View/Second view", f"Magnitude with {words}", "", partial(self._below, words))
        self._part("View")
        self._add("View", "Pin this filter", "Ctrl+J", window.pin)
        for number in range(1, 10):
            self._add("View/Pins", f"Show or hide pin {number}", str(number), partial(window.toggle_pin, number - 1))
        self._add("View/Pins", "Unpin all", "", window.unpin)
        self._add("View/Cursors", "First cursor to the next −3 dB point", "F6", partial(self._jump, "half power"))
        self._add("View/Cursors", "First cursor to the next −6 dB point", "F7", partial(self._jump, "quarter power"))
        self._add("View/Cursors", "First cursor to the next extreme", "F8", partial(self._jump, "extreme"))
        self._add("View/Cursors", "Second cursor to where the first is", "F9", partial(self._jump, "second"))
        self._add("View/Cursors", "Clear the cursors", "", partial(self._jump, "clear"))
        self._add("View", "Show the whole plot", "Ctrl+0", window.plots.go_home)
        self._add("View", "Go to the worst point", "Ctrl+W", self._worst)
        self._part("View")
        self.counts = QActionGroup(window)
        for count, name in COUNT_NAMES.items():
            action = self._add("View/Frequencies", name, "", partial(self._count, count))
            action.setCheckable(True)
            action.setChecked(window.settings.counted == count)
            self.counts.addAction(action)
        self._add("View/Frequencies", "Count frequencies the next way", "Ctrl+F", self._next_count)
        self.log = self._add("View", "Logarithmic frequency axis", "Ctrl+R", self._toggle_log)
        self.log.setCheckable(True)
        self.dark = self._add("View", "Dark theme", "Ctrl+D", self._toggle_dark)
        self.dark.setCheckable(True)
        self.dark.setChecked(window.settings.theme == "dark")
        self._add("Run", "Prove the code", "Ctrl+P", self._prove)
        self._add("Run", "Align the bench's outputs by their delay", "Ctrl+Shift+A", self._align)
        self._add("Run/Play", "Play what goes into the bench", "Ctrl+Shift+I", partial(self._play, True))
        self._add("Run/Play", "Play what comes out of the bench", "Ctrl+Shift+U", partial(self._play, False))
        self._add("Run/Play", "Stop playing", "Ctrl+Shift+Y", lambda: window.tell(self.sound.stop()))
        self._add("Run", "Take the fewest coefficient bits that hold", "Ctrl+L", window.rounded.fewest.click)
        self._add("Help", "All actions", "Ctrl+K", self.open_palette)
        self._add("Help", "About Combe", "", dialogs.about)
        self.refresh()

    def refresh(self) -> None:
        """Names and states that follow the project."""
        history = self.window.session.history
        for action, word, name in ((self.undo, "Undo", history.undo_name), (self.redo, "Redo", history.redo_name)):
            action.setEnabled(bool(name))
            action.setText(f"{word}: {name}" if name else word)
        self.recent.clear()
        for path in self.window.settings.recent:
            self.recent.addAction(path, partial(self.window.dialogs.open_path, Path(path)))
        self.recent.setEnabled(bool(self.window.settings.recent))

    def named(self, name: str) -> QAction:
        """An action by its name."""
        return next(action for action in self.all if action.text() == name)

    def open_palette(self) -> ActionPalette:
        """All actions, to be typed."""
        palette = ActionPalette(self.all, self.window)
        place = self.window.geometry().center()
        palette.move(place.x() - palette.width() // 2, self.window.geometry().top() + 110)
        palette.show()
        return palette

    def _menu(self, name: str) -> QMenu:
        """A menu by its name, ``A/B`` for one within another."""
        if name not in self.menus:
            above, _, title = name.rpartition("/")
            parent = self._menu(above) if above else self.window.menuBar()
            assert parent is not None
            menu = parent.addMenu(title)
            assert menu is not None
            self.menus[name] = menu
        return self.menus[name]

    def _add(self, menu: str, name: str, keys: str, run: Callable[..., object]) -> QAction:
        action = QAction(name, self.window)
        if keys:
            action.setShortcut(QKeySequence(keys))
        action.triggered.connect(lambda _: run())
        self._menu(menu).addAction(action)
        self.all.append(action)
        return action

    def _part(self, menu: str) -> None:
        self._menu(menu).addSeparator()

    def _open_plot(self, tab: str) -> None:
        if self.window.step == "code":
            self.window.open_step("ideal")
        self.window.plots.open_tab(tab)

    def _open_code(self, name: str) -> None:
        self.window.open_step("code")
        if name in self.window.code_view.offered:
            self.window.code_view.open_page(name)
        else:
            self.window.tell("this page belongs to another kind of language")

    def _below(self, words: str) -> None:
        self._open_plot("magnitude")
        self.window.plots.show_below(words)

    def _jump(self, kind: str) -> None:
        if kind == "clear" and self.window.step == "bench":
            self.window.bench_page.clear_cursors()
            return
        self._open_plot("magnitude")
        self.window.plots.magnitude.jump(kind)

    def _worst(self) -> None:
        window = self.window
        lines = {"rounded": window.session.results.rounded, "ideal": window.session.results.ideal}.get(
            window.step, window.session.results.ideal
        )
        gains = [line for line in lines.lines if line.at_hz is not None] if lines else []
        if gains:
            window.plots.point_at(min(gains, key=lambda line: line.margin))

    def _prove(self) -> None:
        self.window.open_step("code")
        self.window.session.prove()

    def _align(self) -> None:
        self.window.open_step("bench")
        self.window.bench_page.align()

    def _play(self, is_input: bool) -> None:
        """The input, or the output that is looked at: the one in the spectrogram, else the last that is the filter's own."""
        # Imported late: the window opens without the bench.
        from combe.app.pages.bench import BenchPage

        bench, page = self.window.session.results.bench, self.window.bench_page
        assert isinstance(page, BenchPage)
        if bench is None:
            self.window.open_step("bench")
            self.window.tell("the bench has to run first")
            return
        if is_input:
            given = bench.input
            self._play_values("the input", given.values, given.full, bench.sample_rate_hz)
            return
        heard = page.view.below.chosen_output(bench)
        rate = heard.sample_rate_hz or bench.sample_rate_hz
        self._play_values(heard.name, heard.values, heard.full, rate)

    def _play_values(self, name: str, values: NDArray[np.float64], full: float, rate_hz: float) -> None:
        why = self.sound.play(name, values, full, rate_hz)
        if why:
            self.window.tell(why)

    def _count(self, count: str) -> None:
        self.named(COUNT_NAMES[count]).setChecked(True)
        self.window.set_counted(count)

    def _next_count(self) -> None:
        order = list(COUNT_NAMES)
        self._count(order[(order.index(self.window.settings.counted) + 1) % len(order)])

    def _toggle_log(self) -> None:
        self.window.plots.set_log(self.log.isChecked())

    def _toggle_dark(self) -> None:
        self.window.dress("dark" if self.dark.isChecked() else "light")

    def _copy(self) -> None:
        focus = QApplication.focusWidget()
        if isinstance(focus, (QLineEdit, QPlainTextEdit)):
            focus.copy()
        elif focus is self.window.ledger:
            self.window.ledger.copy_text()
        elif self.window.step == "code":
            self.window.tell(self.window.code_view.copy())
        elif self.window.step == "bench":
            self.window.tell(self.window.bench_page.copy())
        else:
            self.window.tell(self.window.plots.current_page.copy())

    def _copy_coefficients(self) -> None:
        rounded, ideal = self.window.session.results.rounded, self.window.session.results.ideal
        clipboard = QApplication.clipboard()
        if clipboard is None or ideal is None:
            return
        if self.window.step in ("brief", "ideal") or rounded is None:
            words = [repr(tap) for tap in getattr(ideal.design.filter, "taps", ())]
        else:
            words = [str(k) for stage in rounded.realization.stages for k in getattr(stage, "coefficients", ())]
        clipboard.setText("\n".join(words))
        self.window.tell(f"{len(words)} coefficients are on the clipboard")
