"""The generated text, file by file, lightly coloured."""

from __future__ import annotations

import re
from collections.abc import Callable
from difflib import unified_diff
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QFont, QSyntaxHighlighter, QTextCharFormat, QTextDocument
from PyQt6.QtWidgets import (
    QButtonGroup,
    QCheckBox,
    QHBoxLayout,
    QPlainTextEdit,
    QStackedWidget,
    QToolButton,
    QWidget,
)

from combe.app.plots.budget import BudgetPage
from combe.app.plots.circuit import CostPage, PathPage, WavesPage
from combe.app.plots.measured import MeasuredPage
from combe.app.theme.palette import THEME, mono
from combe.app.widgets.parts import Panel
from combe.app.widgets.recipe_page import RecipePage
from combe.delivery.package import Package

OF_PROCESSORS, OF_CIRCUITS = ("Table", "Measured", "Budget"), ("Table", "Data path", "Cost", "Waves")
KEYWORDS = r"\b(static|const|return|if|for|else|while|typedef|struct|void|size_t|extern|unsigned|long|char|u?int(8|16|32|64)_t|\w+_t)\b"

HDL_WORDS = (
    r"\b(module|endmodule|input|output|wire|reg|signed|unsigned|localparam|assign|always|posedge|begin|end|if|else|case|endcase|"
    r"default|initial|entity|architecture|port|is|in|out|of|signal|constant|type|array|process|rising_edge|then|elsif|when|"
    r"downto|std_logic|std_logic_vector|function|return|boolean|library|use|all)\b"
)


class Colored(QSyntaxHighlighter):
    """Comments quiet, words of the language strong, directives and numbers tinted; in a difference, lines by their mark."""

    is_difference = False
    is_circuit = False

    def highlightBlock(self, text: str | None) -> None:
        """One line."""
        text = text or ""
        for pattern, role, bold in (
            (HDL_WORDS if self.is_circuit else KEYWORDS, "river", False),
            (r"\b(0x[0-9a-f]+|\d+)u?\b", "ochre", False),
            (r"^\s*#\w+", "heather", False),
        ):
            shape = QTextCharFormat()
            shape.setForeground(THEME.color(role))
            if bold:
                shape.setFontWeight(QFont.Weight.DemiBold)
            for match in re.finditer(pattern, text):
                self.setFormat(match.start(), match.end() - match.start(), shape)
        self._comments(text)
        for mark, role in (("+", "moss"), ("-", "clay")):
            if text.startswith(mark) and self.is_difference:
                shape = QTextCharFormat()
                shape.setForeground(THEME.color(role))
                self.setFormat(0, len(text), shape)

    def _comments(self, text: str) -> None:
        shape = QTextCharFormat()
        shape.setForeground(THEME.color("muted"))
        mark = re.search(r"//|--", text) if self.is_circuit else None
        if mark:
            self.setFormat(mark.start(), len(text) - mark.start(), shape)
            return
        start = 0 if self.previousBlockState() == 1 else text.find("/*")
        self.setCurrentBlockState(0)
        while start >= 0:
            end = text.find("*/", start)
            if end < 0:
                self.setCurrentBlockState(1)
                end = len(text)
            else:
                end += 2
            self.setFormat(start, end - start, shape)
            start = text.find("/*", end)


class CodeView(Panel):
    """Tabs for files, then for what belongs to them; the text below, or what changed since the last export."""

    page_opened = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.package: Package | None = None
        self.folder = ""
        self.tabs = QHBoxLayout()
        self.tabs.setSpacing(12)
        self.group = QButtonGroup(self)
        self.buttons: list[QToolButton] = []
        head = QWidget()
        head.setLayout(self.tabs)
        self.tabs.setContentsMargins(0, 0, 0, 0)
        self.column.addWidget(head)
        self.changes = QCheckBox("changes since the last export")
        self.changes.setToolTip("Lines that differ from the file in the folder exported to last")
        self.changes.clicked.connect(lambda _: self._show(""))
        self.column.addWidget(self.changes)
        self.text = QPlainTextEdit()
        self.text.setReadOnly(True)
        self.text.setFont(mono())
        self.text.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.text.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.text.setAccessibleName("generated code")
        self.colors = Colored(self.text.document() or QTextDocument())
        self.table, self.measured, self.budget = RecipePage(), MeasuredPage(), BudgetPage()
        self.path, self.cost, self.waves = PathPage(), CostPage(), WavesPage()
        self.every: dict[str, QWidget] = {
            "Table": self.table, "Measured": self.measured, "Budget": self.budget, "Data path": self.path,
            "Cost": self.cost, "Waves": self.waves,
        }  # fmt: skip
        self.offered: tuple[str, ...] = OF_PROCESSORS
        self.stack = QStackedWidget()
        self.stack.addWidget(self.text)
        for page in self.every.values():
            self.stack.addWidget(page)
        self.stack.setMinimumWidth(360)  # what a page would like must not widen the window
        self.column.addWidget(self.stack, 1)
        self._current = 1
        self._page = ""
        self._names: list[str] = []

    @property
    def pages(self) -> dict[str, QWidget]:
        """The pages that are offered."""
        return {name: self.every[name] for name in self.offered}

    @property
    def page(self) -> str:
        """The page that is open; empty for a file."""
        return self._page

    def dress(self) -> None:
        """The theme's colours."""
        self.colors.rehighlight()
        for page in (self.measured, self.budget, self.path, self.cost, self.waves):
            page.dress()

    def show_package(self, package: Package | None, trouble: str = "", folder: str = "") -> None:
        """Other text, the same file staying open."""
        self.package, self.folder = package, folder or self.folder
        names = [file.name for file in package.files] if package else []
        offered = self.offered
        if package is not None:
            offered = OF_CIRCUITS if package.hardware is not None else OF_PROCESSORS
        if names != self._names or offered != self.offered:
            self._names, self.offered = names, offered
            if self._page and self._page not in offered:
                self._page = ""
            self._make_tabs(names)
        self._show(trouble)

    def _make_tabs(self, names: list[str]) -> None:
        for button in self.buttons:
            self.group.removeButton(button)
            self.tabs.removeWidget(button)
            button.deleteLater()
        while self.tabs.count():
            self.tabs.takeAt(0)
        self.buttons = []
        self._current = min(self._current, max(len(names) - 1, 0))
        for index, name in enumerate(names):
            self._add_tab(name, index == self._current and not self._page, partial(self.open_file, index))
        self.tabs.addStretch(1)
        for name in self.offered:
            self._add_tab(name, name == self._page, partial(self.open_page, name))

    def _add_tab(self, name: str, is_open: bool, opened: Callable[[], None]) -> None:
        button = QToolButton()
        button.setObjectName("tab")
        button.setCheckable(True)
        button.setText(name)
        button.setChecked(is_open)
        button.clicked.connect(lambda _: opened())
        self.group.addButton(button)
        self.tabs.addWidget(button)
        self.buttons.append(button)

    def open_file(self, index: int) -> None:
        """Show another file."""
        self._current, self._page = index, ""
        self._show("")
        self.page_opened.emit("")

    def open_page(self, name: str) -> None:
        """Show another page."""
        self._page = name
        for button in self.buttons:
            if button.text() == name:
                button.setChecked(True)
        self._show("")
        self.page_opened.emit(name)

    def _show(self, trouble: str) -> None:
        self.stack.setCurrentWidget(self.every.get(self._page, self.text))
        self.changes.setVisible(not self._page and bool(self.folder) and self.package is not None)
        if self.package is None:
            self.text.setPlainText(trouble or "The code appears here once a filter keeps its integers.")
            return
        file = self.package.files[min(self._current, len(self.package.files) - 1)]
        text = file.text
        self.colors.is_circuit = file.name.endswith((".v", ".vhd"))
        self.colors.is_difference = False
        if self.changes.isVisibleTo(self) and self.changes.isChecked():
            self.colors.is_difference = True
            text = changed_lines(Path(self.folder) / file.name, file.text)
        if text != self.text.toPlainText():
            bar = self.text.verticalScrollBar()
            place = bar.value() if bar is not None else 0
            self.text.setPlainText(text)
            if bar is not None:
                bar.setValue(place)


def changed_lines(path: Path, text: str) -> str:
    """What differs between a file on disk and a text, in hunks of a few lines."""
    try:
        before = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return f"{path} isn't there any more, or can't be read."
    rows = list(unified_diff(before.splitlines(), text.splitlines(), "exported", "now", n=2, lineterm=""))
    return "\n".join(rows) if rows else "Nothing has changed since the last export."
