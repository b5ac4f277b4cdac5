"""The generated text, file by file, in quiet colours; beside its tabs the pages of the register that belong to code."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from difflib import unified_diff
from functools import partial
from pathlib import Path

from PyQt6.QtCore import Qt, pyqtSignal
from PyQt6.QtGui import QResizeEvent, QSyntaxHighlighter, QTextCharFormat, QTextDocument
from PyQt6.QtWidgets import QButtonGroup, QCheckBox, QPlainTextEdit, QStackedWidget, QToolButton, QWidget

from combe.app.pages.page import Page, Scene
from combe.app.pages.register import BY_NAME, CODE, placed
from combe.app.theme.palette import THEME, mono
from combe.app.widgets.flow import Flow
from combe.app.widgets.parts import Panel
from combe.delivery.coloring import Span
from combe.delivery.languages import PROCESSORS
from combe.delivery.package import Package
from combe.project.folders import found_beside

ROLES = {
    "comment": "muted", "keyword": "river", "number": "ochre", "directive": "heather", "string": "moss", "+": "moss",
    "-": "clay",
}  # fmt: skip
EMPTY = "The code appears here once a filter keeps its integers."


class Colored(QSyntaxHighlighter):
    """Colours the lines it is told to, by stretches worked out elsewhere: a thousand lines at once would be felt."""

    def __init__(self, document: QTextDocument) -> None:
        super().__init__(document)
        self.lines: Sequence[Sequence[Span]] = ()
        self.done: set[int] = set()

    def take(self, lines: Sequence[Sequence[Span]]) -> None:
        """Other stretches, none of them coloured yet."""
        self.lines, self.done = lines, set()

    def highlightBlock(self, text: str | None) -> None:
        """One line, if its turn has come."""
        number = self.currentBlock().blockNumber()
        if number not in self.done or number >= len(self.lines):
            return
        for start, length, kind in self.lines[number]:
            shape = QTextCharFormat()
            shape.setForeground(THEME.color(ROLES[kind]))
            self.setFormat(start, length, shape)


class CodeText(QPlainTextEdit):
    """Text that is coloured where it is seen."""

    def __init__(self) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setFont(mono())
        self.setLineWrapMode(QPlainTextEdit.LineWrapMode.NoWrap)
        self.setTextInteractionFlags(
            Qt.TextInteractionFlag.TextSelectableByMouse | Qt.TextInteractionFlag.TextSelectableByKeyboard
        )
        self.setAccessibleName("generated code")
        self.colors = Colored(self.document() or QTextDocument())
        bar = self.verticalScrollBar()
        if bar is not None:
            bar.valueChanged.connect(lambda _: self.color_seen())

    def show_text(self, text: str, lines: Sequence[Sequence[Span]]) -> None:
        """Other text, the place in it kept; or other colours for the same."""
        if text != self.toPlainText():
            bar = self.verticalScrollBar()
            place = bar.value() if bar is not None else 0
            self.colors.take(())
            self.setPlainText(text)
            if bar is not None:
                bar.setValue(place)
        if lines is not self.colors.lines:
            self.colors.take(lines)
            self.color_seen()

    def color_seen(self) -> None:
        """Colour the lines on screen that aren't yet."""
        block = self.firstVisibleBlock()
        view = self.viewport()
        bottom = view.height() if view is not None else 0
        while block.isValid() and self.blockBoundingGeometry(block).translated(self.contentOffset()).top() <= bottom:
            number = block.blockNumber()
            if number not in self.colors.done:
                self.colors.done.add(number)
                if number < len(self.colors.lines) and self.colors.lines[number]:
                    self.colors.rehighlightBlock(block)
            block = block.next()

    def dress(self) -> None:
        """The theme's colours, where they are seen."""
        self.colors.done = set()
        self.color_seen()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """More lines are seen."""
        super().resizeEvent(event)
        self.color_seen()


class CodeView(Panel):
    """Tabs for files, then for pages; the text below, or what changed since the last export."""

    page_made = pyqtSignal(object)
    page_opened = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.scene: Scene | None = None
        self.package: Package | None = None
        self.group = QButtonGroup(self)
        self.buttons: list[QToolButton] = []
        head = QWidget()
        self.tabs = Flow(head, 2)
        self.column.addWidget(head)
        self.changes = QCheckBox("changes since the last export")
        self.changes.setToolTip("Lines that differ from the file in the folder exported to last")
        self.changes.clicked.connect(lambda _: self._show())
        self.column.addWidget(self.changes)
        self.text = CodeText()
        self.made: dict[str, Page] = {}
        self.stack = QStackedWidget()
        self.stack.addWidget(self.text)
        self.column.addWidget(self.stack, 1)
        self._file = 0
        self._language = ""
        self._page = ""
        self._tabs: tuple[object, ...] = ()

    @property
    def offered(self) -> list[str]:
        """Names of the pages that go with the language."""
        kind = self.package.written_in.kind if self.package is not None else PROCESSORS
        return [entry.name for entry in placed(CODE) if entry.is_for(kind)]

    @property
    def open_name(self) -> str:
        """The page that is open; empty for a file."""
        return self._page

    def page(self, name: str) -> Page:
        """A page by its name, made if it wasn't yet."""
        if name not in self.made:
            self.made[name] = BY_NAME[name].make()
            self.stack.addWidget(self.made[name])
            self.page_made.emit(self.made[name])
        return self.made[name]

    def dress(self) -> None:
        """The theme's colours."""
        self.text.dress()
        for page in self.made.values():
            page.dress()

    def show_scene(self, scene: Scene) -> None:
        """Another scene, the same file or page staying open."""
        self.scene, self.package = scene, scene.results.package
        names = [file.name for file in self.package.files] if self.package else []
        if self.package is not None and self.package.language != self._language:
            # Each language has other files: the one to be read first is opened.
            self._language = self.package.language
            self._file = names.index(self.package.main.name)
        offered = self.offered
        if (names, offered) != self._tabs:
            self._tabs = names, offered
            if self._page not in offered:
                self._page = ""
            self._make_tabs(names, offered)
        self._show()

    def _make_tabs(self, names: list[str], offered: list[str]) -> None:
        for button in self.buttons:
            self.group.removeButton(button)
            self.tabs.removeWidget(button)
            button.hide()
            button.setParent(None)
            button.deleteLater()
        self.buttons = []
        self._file = min(self._file, max(len(names) - 1, 0))
        for index, name in enumerate(names):
            self._add_tab(name, index == self._file and not self._page, partial(self.open_file, index))
        for name in offered:
            self._add_tab(BY_NAME[name].title, name == self._page, partial(self.open_page, name))

    def _add_tab(self, name: str, is_open: bool, opened: Callable[[], None]) -> None:
        button = QToolButton()
        button.setObjectName("tab")
        button.setCheckable(True)
        button.setText(self.fontMetrics().elidedText(name, Qt.TextElideMode.ElideMiddle, LONGEST_TAB))
        button.setToolTip(name if button.text() != name else "")
        button.setAccessibleName(name)
        button.setChecked(is_open)
        button.clicked.connect(lambda _: opened())
        self.group.addButton(button)
        self.tabs.addWidget(button)
        self.buttons.append(button)

    def open_file(self, index: int) -> None:
        """Show another file."""
        self._file, self._page = index, ""
        self._opened()

    def open_page(self, name: str) -> None:
        """Show another page."""
        self._page = name
        for button in self.buttons:
            if button.accessibleName() == BY_NAME[name].title:
                button.setChecked(True)
        self._opened()

    def _opened(self) -> None:
        """Whoever has a newer scene shows it now."""
        before = self.scene
        self.page_opened.emit(self._page)
        if self.scene is before:
            self._show()

    def copy(self) -> str:
        """The open file or page."""
        if self._page:
            return self.page(self._page).copy()
        self.text.selectAll()
        self.text.copy()
        return "the text is on the clipboard"

    def _show(self) -> None:
        scene = self.scene
        if scene is None:
            return
        folder = scene.project.export_folder
        self.changes.setVisible(not self._page and bool(folder) and self.package is not None)
        if self._page:
            page = self.page(self._page)
            self.stack.setCurrentWidget(page)
            page.show_scene(scene)
            return
        self.stack.setCurrentWidget(self.text)
        if self.package is None:
            self.text.show_text(scene.trouble("package") or EMPTY, ())
            return
        file = self.package.files[min(self._file, len(self.package.files) - 1)]
        if self.changes.isVisibleTo(self) and self.changes.isChecked():
            text = changed_lines(found_beside(folder, scene.folder) / file.name, file.text)
            self.text.show_text(text, [_marked(line) for line in text.split("\n")])
        else:
            self.text.show_text(file.text, scene.results.colored.get(file.name, ()))


LONGEST_TAB = 200


def _marked(line: str) -> tuple[Span, ...]:
    return ((0, len(line), line[0]),) if line[:1] in ("+", "-") else ()


def changed_lines(path: Path, text: str) -> str:
    """What differs between a file on disk and a text, in hunks of a few lines."""
    try:
        before = path.read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError):
        return f"{path} isn't there any more, or can't be read."
    rows = list(unified_diff(before.splitlines(), text.splitlines(), "exported", "now", n=2, lineterm=""))
    return "\n".join(rows) if rows else "Nothing has changed since the last export."
