"""The ledger: a row for each limit, a column for each step, the worst figure and where it lies."""

from __future__ import annotations

from PyQt6.QtCore import QAbstractTableModel, QModelIndex, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QGuiApplication, QKeyEvent, QKeySequence, QPainter
from PyQt6.QtWidgets import (
    QAbstractItemView,
    QHeaderView,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QWidget,
)

from combe.app.plots.frame import InTurn
from combe.app.theme.marks import VERDICT_COLORS, draw_seal, draw_verdict
from combe.app.theme.palette import BODY, SMALL, THEME, font
from combe.app.widgets.parts import verdict_of
from combe.files import cell
from combe.ledger import Line
from combe.ledger.words import figure_text, limit_name, signed_margin
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text, level_text, short

COLUMNS = ("Limit", "Asked", "Ideal", "Rounded", "Arithmetic", "Code")
STEP_COLUMNS = {"ideal": 2, "rounded": 3, "arithmetic": 4, "code": 5}
ROW_HEIGHT = 26
LEAST_ROWS = 2


class LedgerModel(QAbstractTableModel):
    """Lines by step."""

    def __init__(self) -> None:
        super().__init__()
        self.requirement: Requirement | None = None
        self.counted = "hz"
        self.lines: dict[str, tuple[Line, ...]] = {}

    def show_lines(self, requirement: Requirement, lines: dict[str, tuple[Line, ...]], counted: str) -> None:
        """Other lines. Where the table keeps its rows only columns that have changed are painted anew."""
        before, known = self.rows, self.lines
        now, was = requirement.sample_rate_hz, self.requirement.sample_rate_hz if self.requirement is not None else None
        is_another = (now, counted) != (was, self.counted)
        rows = (*(lines.get("ideal") or ()), *(lines.get("bench") or ()))
        if is_another or [_head(line) for line in before] != [_head(line) for line in rows]:
            self.beginResetModel()
            self.requirement, self.lines, self.counted = requirement, lines, counted
            self.endResetModel()
            return
        self.requirement, self.lines, self.counted = requirement, lines, counted
        for step, column in STEP_COLUMNS.items():
            if known.get(step) != lines.get(step) or (
                step == "arithmetic" and known.get("bench") != lines.get("bench")
            ):
                self.dataChanged.emit(self.index(0, column), self.index(len(rows) - 1, column))

    @property
    def rows(self) -> tuple[Line, ...]:
        """The lines that name the rows."""
        return (*(self.lines.get("ideal") or ()), *(self.lines.get("bench") or ()))

    def rowCount(self, parent: QModelIndex | None = None) -> int:
        """A row a limit."""
        return len(self.rows)

    def columnCount(self, parent: QModelIndex | None = None) -> int:
        """Limit, asked, four steps."""
        return len(COLUMNS)

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """Names of the columns."""
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return COLUMNS[section]
        if role == Qt.ItemDataRole.TextAlignmentRole:
            return Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter
        return None

    def line(self, row: int, column: int) -> Line | None:
        """The line of a cell."""
        step = next((name for name, at in STEP_COLUMNS.items() if at == column), "")
        lines = self.lines.get(step) or ()
        before = len(self.lines.get("ideal") or ())
        if row >= before:
            # What the bench must show is heard in the bit-true run.
            return self.rows[row] if step == "arithmetic" else None
        return lines[row] if row < len(lines) else None

    def data(self, index: QModelIndex, role: int = Qt.ItemDataRole.DisplayRole) -> object:
        """The words of a cell."""
        if role == Qt.ItemDataRole.DisplayRole:
            return " ".join(part for part in self.words(index.row(), index.column()) if part)
        if role == Qt.ItemDataRole.ToolTipRole:
            line = self.line(index.row(), index.column())
            if line is not None and line.unit == "db":
                proved = (
                    "" if line.within_db is None else f"; proved over the whole band, to {short(line.within_db, 3)} dB"
                )
                return f"margin {level_text(line.margin, 5)}{proved}"
        return None

    def words(self, row: int, column: int) -> tuple[str, str, str]:
        """Figure, place and margin of a cell."""
        head = self.rows[row]
        if column == 0:
            return limit_name(head), "", ""
        if column == 1:
            side = "≥ " if head.limit.startswith("min_") else "≤ "
            return side + figure_text(head, head.asked), "", ""
        line = self.line(row, column)
        if line is None:
            return "", "", ""
        place = ""
        if line.at_hz is not None and self.requirement is not None:
            place = frequency_text(float(f"{line.at_hz:.5g}"), self.requirement.sample_rate_hz, self.counted)
        margin = signed_margin(line.margin) if line.unit == "db" else ""
        return figure_text(line, line.reached), f"at {place}" if place else "", margin


def _head(line: Line) -> tuple[object, ...]:
    """What the first two columns tell of a row."""
    return limit_name(line), line.limit, line.asked, line.unit


class LedgerDelegate(QStyledItemDelegate):
    """Mark, figure, place and margin, each in its own place so that figures stand in columns."""

    def paint(self, painter: QPainter | None, option: QStyleOptionViewItem, index: QModelIndex) -> None:
        """One cell."""
        model = index.model()
        if painter is None or not isinstance(model, LedgerModel):
            return
        # The option lives on Qt's stack: its parts, once asked for, would keep it in Python's hands. Ask the table.
        table = self.parent()
        assert isinstance(table, LedgerTable)
        painter.save()
        box = QRectF(table.visualRect(index))
        if index == table.currentIndex() and table.hasFocus():
            painter.fillRect(box, THEME.color("shade"))
        painter.setPen(THEME.color("line"))
        painter.drawLine(box.bottomLeft(), box.bottomRight())
        figure, place, margin = model.words(index.row(), index.column())
        line = model.line(index.row(), index.column())
        align = Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignLeft
        painter.setFont(font(BODY))
        painter.setPen(THEME.color("ink"))
        left = box.left() + 8
        if line is not None:
            verdict = verdict_of(line)
            draw_verdict(painter, verdict, QRectF(left, box.center().y() - 5, 10, 10))
            if line.within_db is not None:
                draw_seal(painter, verdict, QRectF(left, box.center().y() - 5, 10, 10))
            left += 18
            if verdict == "missed":
                painter.setPen(THEME.color("clay"))
        elif index.column() > 1:
            painter.setPen(THEME.color("muted"))
            figure = "–"
        painter.drawText(QRectF(left, box.top(), box.right() - left, box.height()), align, figure)
        used = left + painter.fontMetrics().horizontalAdvance(figure) + 6
        painter.setFont(font(SMALL))
        metrics = painter.fontMetrics()
        if line is not None and margin:
            width = metrics.horizontalAdvance(margin)
            painter.setPen(THEME.color(VERDICT_COLORS[verdict_of(line)]))
            painter.drawText(QRectF(box.right() - width - 12, box.top(), width + 4, box.height()), align, margin)
            room = box.right() - width - 18 - used
            painter.setPen(THEME.color("muted"))
            if metrics.horizontalAdvance(place) <= room:
                painter.drawText(QRectF(used, box.top(), room, box.height()), align, place)
        painter.restore()

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex) -> QSize:
        """One height for all."""
        return QSize(120, ROW_HEIGHT)


class LedgerTable(InTurn, QTableView):
    """The table. ``line_picked`` carries a line and the step it belongs to."""

    line_picked = pyqtSignal(object, str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.ledger = LedgerModel()
        self.setModel(self.ledger)
        self.setItemDelegate(LedgerDelegate(self))
        self.take_turns()
        self.setShowGrid(False)
        self.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.setVerticalScrollMode(QAbstractItemView.ScrollMode.ScrollPerPixel)
        self.setAccessibleName("ledger")
        rows = self.verticalHeader()
        columns = self.horizontalHeader()
        assert rows is not None and columns is not None
        rows.hide()
        rows.setDefaultSectionSize(ROW_HEIGHT)
        columns.setSectionResizeMode(QHeaderView.ResizeMode.Stretch)
        columns.setHighlightSections(False)
        columns.setFixedHeight(ROW_HEIGHT)
        self.setMinimumHeight(self.height_of(LEAST_ROWS))
        for narrow, width in ((0, 150), (1, 92)):
            columns.setSectionResizeMode(narrow, QHeaderView.ResizeMode.Fixed)
            self.setColumnWidth(narrow, width)
        self.clicked.connect(self._on_clicked)
        self.activated.connect(self._on_clicked)

    def height_of(self, rows: int) -> int:
        """The height that shows so many rows."""
        return (rows + 1) * ROW_HEIGHT + 2 * self.frameWidth()

    def show_lines(self, requirement: Requirement, lines: dict[str, tuple[Line, ...]], counted: str) -> None:
        """Other lines, the selection staying where it was."""
        place = self.currentIndex()
        self.ledger.show_lines(requirement, lines, counted)
        if place.isValid() and place.row() < self.ledger.rowCount():
            self.setCurrentIndex(self.ledger.index(place.row(), place.column()))

    def _on_clicked(self, index: QModelIndex) -> None:
        column = max(index.column(), 2)
        step = next(name for name, at in STEP_COLUMNS.items() if at == column)
        line = self.ledger.line(index.row(), column) or self.ledger.line(index.row(), 2)
        if line is not None:
            self.line_picked.emit(line, step)

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Copy with the usual keys."""
        if event is not None and event.matches(QKeySequence.StandardKey.Copy):
            self.copy_text()
            return
        super().keyPressEvent(event)

    def copy_text(self) -> None:
        """The whole table on the clipboard, columns parted by tabs."""
        rows = ["\t".join(COLUMNS)]
        for row in range(self.ledger.rowCount()):
            cells = [
                " ".join(part for part in self.ledger.words(row, column) if part) for column in range(len(COLUMNS))
            ]
            rows.append("\t".join(map(cell, cells)))
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setText("\n".join(rows))
