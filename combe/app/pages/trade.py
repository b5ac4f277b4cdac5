"""Taps against bits as a map: orders across, widths upward, the margin in each cell; a click takes a cell."""

from __future__ import annotations

from collections.abc import Sequence

from PyQt6.QtCore import QPointF, QRectF, Qt, pyqtSignal
from PyQt6.QtGui import QHelpEvent, QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen
from PyQt6.QtWidgets import QApplication, QToolTip, QVBoxLayout, QWidget

from combe.app.pages.page import Page, Scene
from combe.app.plots.curve import Curve
from combe.app.theme.palette import BODY, SMALL, THEME, font
from combe.app.widgets.parts import label
from combe.project import edits
from combe.rounding.trade import Cell, unbeaten

LEFT, BOTTOM = 62, 30
WIDEST, HIGHEST = 150.0, 48.0


class TradeMap(QWidget):
    """``taken`` carries the cell that was clicked, or entered by the keyboard."""

    taken = pyqtSignal(object)
    pointed = pyqtSignal(object)

    def __init__(self) -> None:
        super().__init__()
        self.cells: dict[tuple[int, int], Cell] = {}
        self.orders: list[int] = []
        """From left to right."""
        self.widths: list[int] = []
        """From the top down: the widest first."""
        self._columns: dict[int, int] = {}
        self._rows: dict[int, int] = {}
        self._best: set[tuple[int, int]] = set()
        self.chosen: tuple[int, int] | None = None
        self.at: tuple[int, int] | None = None
        self.word = "order"
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setAccessibleName("margin of every order at every coefficient width")

    def show_cells(self, cells: Sequence[Cell], chosen: tuple[int, int], word: str) -> None:
        """Other cells, or more of them; ``chosen`` is the order and width in force."""
        self.cells = {(cell.order, cell.bits): cell for cell in cells}
        self.orders = sorted({order for order, _ in self.cells})
        self.widths = sorted({bits for _, bits in self.cells}, reverse=True)
        self._columns = {order: place for place, order in enumerate(self.orders)}
        self._rows = {bits: place for place, bits in enumerate(self.widths)}
        self._best = {(cell.order, cell.bits) for cell in unbeaten(cells)}
        self.chosen, self.word = chosen, word
        if self.at not in self.cells:
            self.at = None
        self.update()

    def box(self, order: int, bits: int) -> QRectF:
        """Where a cell is drawn."""
        wide = min(max(self.width() - LEFT - 8, 1) / max(len(self.orders), 1), WIDEST)
        high = min(max(self.height() - BOTTOM - 4, 1) / max(len(self.widths), 1), HIGHEST)
        x, y = LEFT + self._columns[order] * wide, 4 + self._rows[bits] * high
        return QRectF(x, y, wide, high)

    def cell_at(self, place: QPointF) -> tuple[int, int] | None:
        """Which cell lies under a point."""
        return next((key for key in self.cells if self.box(*key).contains(place)), None)

    def mouseMoveEvent(self, event: QMouseEvent | None) -> None:
        """Tell of the cell under the pointer."""
        if event is not None:
            self._point(self.cell_at(event.position()))

    def leaveEvent(self, event: object) -> None:
        """Nothing is pointed at."""
        self._point(None)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click takes a cell."""
        if event is not None and event.button() == Qt.MouseButton.LeftButton:
            key = self.cell_at(event.position())
            if key is not None:
                self.taken.emit(self.cells[key])

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Arrows walk over the map, Enter takes the cell."""
        if event is None or not self.cells:
            return
        orders, widths = self.orders, self.widths
        start = self.at or (self.chosen if self.chosen in self.cells else (orders[0], widths[0]))
        assert start is not None
        step = {
            Qt.Key.Key_Left: (-1, 0), Qt.Key.Key_Right: (1, 0), Qt.Key.Key_Up: (0, -1), Qt.Key.Key_Down: (0, 1),
        }.get(Qt.Key(event.key()))  # fmt: skip
        if step is not None:
            across = min(max(orders.index(start[0]) + step[0], 0), len(orders) - 1)
            down = min(max(widths.index(start[1]) + step[1], 0), len(widths) - 1)
            key = (orders[across], widths[down])
            self._point(key if key in self.cells else start)
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter) and self.at is not None:
            self.taken.emit(self.cells[self.at])
        else:
            super().keyPressEvent(event)

    def event(self, event: object) -> bool:
        """A tip tells a cell in full."""
        if isinstance(event, QHelpEvent):
            key = self.cell_at(QPointF(event.pos()))
            QToolTip.showText(event.globalPos(), cell_words(self.cells[key]) if key is not None else "", self)
            return True
        return super().event(event)  # type: ignore[arg-type]

    def _point(self, key: tuple[int, int] | None) -> None:
        if key != self.at:
            self.at = key
            self.pointed.emit(self.cells[key] if key is not None else None)
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Kept cells are filled, the more the wider their margin; those that nothing beats have a bar at their foot."""
        if not self.cells:
            return
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL))
        most = max((cell.margin_db for cell in self.cells.values() if cell.meets), default=1.0) or 1.0
        for key, cell in self.cells.items():
            self._paint_cell(painter, self.box(*key).adjusted(1, 1, -1, -1), cell, most)
        for ringed, color, width in ((self.chosen, "river", 2.0), (self.at, "ink", 1.0)):
            if ringed is not None and ringed in self.cells:
                painter.setBrush(Qt.BrushStyle.NoBrush)
                painter.setPen(QPen(THEME.color(color), width))
                painter.drawRoundedRect(self.box(*ringed).adjusted(1, 1, -1, -1), 3, 3)
        self._paint_axes(painter)

    def _paint_cell(self, painter: QPainter, box: QRectF, cell: Cell, most: float) -> None:
        if cell.meets:
            strength = 40 + round(110 * min(max(cell.margin_db / most, 0.0), 1.0))
            painter.setPen(Qt.PenStyle.NoPen)
            painter.setBrush(THEME.color("moss", strength))
            painter.drawRoundedRect(box, 3, 3)
            if (cell.order, cell.bits) in self._best:
                painter.fillRect(QRectF(box.left() + 5, box.bottom() - 4, box.width() - 10, 2.5), THEME.color("ink"))
        painter.setPen(THEME.color("ink" if cell.meets else "clay"))
        words = f"{'+' if cell.margin_db >= 0 else '−'}{abs(cell.margin_db):.3f}"
        if abs(cell.margin_db) >= 10:
            words = f"−{abs(cell.margin_db):.1f}" if cell.margin_db < 0 else words
        painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words + ("  ◆" if cell.is_better else ""))

    def _paint_axes(self, painter: QPainter) -> None:
        painter.setFont(font(BODY))
        painter.setPen(THEME.color("muted"))
        orders, widths = self.orders, self.widths
        for bits in widths:
            row = self.box(orders[0], bits)
            side = QRectF(0, row.top(), LEFT - 10, row.height())
            painter.drawText(side, Qt.AlignmentFlag.AlignVCenter | Qt.AlignmentFlag.AlignRight, f"{bits} bits")
        foot = self.box(orders[0], widths[-1]).bottom() + 2
        for order in orders:
            column = self.box(order, widths[-1])
            taps = next((cell.taps for (one, _), cell in self.cells.items() if one == order), None)
            count = order if taps is None else taps
            painter.drawText(QRectF(column.left(), foot, column.width(), 20), Qt.AlignmentFlag.AlignCenter, f"{count}")
        painter.drawText(QRectF(0, foot, LEFT - 10, 20), Qt.AlignmentFlag.AlignRight, self.word)


class TradePage(Page):
    """A taken cell becomes the order, the width and, where it needs them, better integers."""

    def __init__(self) -> None:
        super().__init__()
        self.cells: Sequence[Cell] = ()
        self.words = label("", "muted", wrap=True)
        self.under = label("", "", wrap=True)
        self.map = TradeMap()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.addWidget(self.words)
        column.addWidget(self.map, 1)
        column.addWidget(self.under)
        self.map.taken.connect(self.take)
        self.map.pointed.connect(self._on_pointed)

    def show_scene(self, scene: Scene) -> None:
        """Other cells, or more of them."""
        results, project = scene.results, scene.project
        self.cells = results.trade
        design = results.ideal.design if results.ideal is not None else None
        chosen = (design.order if design is not None else -1, project.arithmetic.coefficient_bits)
        is_fir = design is None or design.kind == "fir"
        self.map.show_cells(self.cells, chosen, "taps" if is_fir else "order")
        trouble = scene.trouble("trade")
        is_done = "trade" in results.fresh
        meaning = (
            "Least margin of all limits in dB, rounded. ◆ takes better integers; a bar marks what no other cell beats in "
            "both. A click takes a cell."
        )
        self.words.setText(trouble or (meaning if is_done else f"Still rounding… {meaning}"))
        self._on_pointed(None)

    def take(self, cell: Cell) -> None:
        """A cell was clicked."""
        self.edited.emit(edits.take_cell(cell.order, cell.bits, cell.is_better))

    def _on_pointed(self, cell: Cell | None) -> None:
        if cell is not None:
            self.under.setText(cell_words(cell))
            return
        best = sorted(unbeaten(self.cells), key=lambda each: each.order)
        self.under.setText("Nothing beats " + "; ".join(short_words(each) for each in best) + "." if best else "")

    def legend(self) -> Sequence[Curve]:
        """It has no strokes."""
        return ()

    def copy(self) -> str:
        """The map as a table."""
        orders, widths = self.map.orders, self.map.widths
        rows = ["bits\t" + "\t".join(f"order {order}" for order in orders)]
        for bits in widths:
            cells = (self.map.cells.get((order, bits)) for order in orders)
            rows.append(f"{bits}\t" + "\t".join("" if cell is None else f"{cell.margin_db:.6g}" for cell in cells))
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText("\n".join(rows) + "\n")
        return "the map is on the clipboard"


def short_words(cell: Cell) -> str:
    """A cell that nothing beats, with its cost, in a few words."""
    size = f"{cell.taps} taps" if cell.taps is not None else f"order {cell.order}"
    return f"{size} at {cell.bits} bits ({cell.multiplies} multiplies, {cell.memory_bits} bits of coefficients)"


def cell_words(cell: Cell) -> str:
    """A cell in full."""
    size = f"{cell.taps} taps" if cell.taps is not None else f"order {cell.order}"
    how = "with better integers" if cell.is_better else "rounded plainly"
    verdict = (
        f"keeps every limit, {cell.margin_db:.4f} dB to spare" if cell.meets else f"misses by {-cell.margin_db:.3f} dB"
    )
    if not cell.meets and cell.margin_db >= 0:
        verdict = "misses a limit other than gain"
    return (
        f"{size} at {cell.bits} bits, {how}: {verdict}; {cell.multiplies} multiplies, {cell.multiplier_blocks} blocks of "
        f"18 × 18 bits, {cell.memory_bits} bits of coefficients."
    )
