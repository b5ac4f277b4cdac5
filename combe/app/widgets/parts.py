"""Small parts every panel is made of."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PyQt6.QtCore import QChildEvent, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent
from PyQt6.QtWidgets import (
    QComboBox,
    QDialog,
    QDialogButtonBox,
    QFrame,
    QLabel,
    QLineEdit,
    QScrollArea,
    QSizePolicy,
    QVBoxLayout,
    QWidget,
)

from combe.app.theme.marks import draw_verdict
from combe.app.theme.palette import THEME
from combe.app.theme.wardrobe import dress_late
from combe.ledger import Line

if TYPE_CHECKING:
    _Widget = QWidget
else:
    _Widget = object  # what it stands before is a widget already


def label(text: str, role: str = "", wrap: bool = False) -> QLabel:
    """A text in one of the roles of the style sheet: title, strong, muted, moss, amber, clay."""
    made = QLabel(text)
    made.setTextFormat(Qt.TextFormat.PlainText)
    if role:
        made.setProperty("role", role)
    if wrap:
        made.setWordWrap(True)
        made.setSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Minimum)
    return made


def field(name: str, text: str = "", hint: str = "", width: int = 0) -> QLineEdit:
    """A box to type into; ``hint`` stands in it while it is empty."""
    made = QLineEdit(text)
    made.setObjectName("field")
    made.setAccessibleName(name)
    made.setPlaceholderText(hint)
    if width:
        made.setFixedWidth(width)
    return made


def ok_or_cancel(dialog: QDialog) -> QDialogButtonBox:
    """The two buttons that end a dialog."""
    made = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
    made.accepted.connect(dialog.accept)
    made.rejected.connect(dialog.reject)
    return made


def set_role(target: QLabel, role: str) -> None:
    """Give a label another role."""
    set_look(target, "role", role)


def set_look(target: QWidget, name: str, value: str | bool) -> None:
    """Set a property the style sheet listens to; dressed anew only where it differs, for that takes a millisecond."""
    if target.property(name) != value:
        target.setProperty(name, value)
        style = target.style()
        if style is not None:
            style.unpolish(target)
            style.polish(target)


class Elided(QLabel):
    """One line that gives way: what doesn't fit ends in an ellipsis and is told whole by the tool tip."""

    def __init__(self, text: str, role: str = "") -> None:
        super().__init__("")
        self.whole = ""
        if role:
            self.setProperty("role", role)
        self.setTextFormat(Qt.TextFormat.PlainText)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setText(text)

    def setText(self, text: str | None) -> None:
        """Another text."""
        self.whole = text or ""
        self._fit()

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """More or less of it."""
        super().resizeEvent(event)
        self._fit()

    def _fit(self) -> None:
        shown = self.fontMetrics().elidedText(self.whole, Qt.TextElideMode.ElideRight, self.width())
        super().setText(shown)
        tip = self.whole if shown != self.whole else ""
        if tip != self.toolTip():  # telling it again would have the style look at the label again
            self.setToolTip(tip)


class Bare(QWidget):
    """It draws itself, if anything, and wears no sheet, so that its parts may be dressed one by one."""

    is_bare = True

    def childEvent(self, event: QChildEvent | None) -> None:
        """A part that came later."""
        super().childEvent(event)
        if event is not None and event.polished():
            dress_late(event.child())


class Panel(Bare):
    """A card with a margin on the grid."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setContentsMargins(1, 1, 1, 1)
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(12, 12, 12, 12)
        self.column.setSpacing(8)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The card."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(THEME.color("line"), 1))
        painter.setBrush(THEME.color("card"))
        painter.drawRoundedRect(QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5), 6, 6)


class Verdict(QWidget):
    """A verdict's mark."""

    def __init__(self, size: int = 12, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.verdict = "unknown"
        self.setFixedSize(QSize(size, size))

    def show_verdict(self, verdict: str) -> None:
        """Another verdict."""
        self.verdict = verdict
        self.setAccessibleName(verdict)
        self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Draw it."""
        painter = QPainter(self)
        draw_verdict(painter, self.verdict, QRectF(self.rect()).adjusted(1, 1, -1, -1))


class Choice(QComboBox):
    """A box of choices with an arrow of the family."""

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """The box, then the arrow."""
        super().paintEvent(event)
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(QPen(THEME.color("muted"), 1.6, cap=Qt.PenCapStyle.RoundCap))
        x, y = self.width() - 13.0, self.height() / 2
        painter.drawPolyline(QPolygonF([QPointF(x - 4, y - 2), QPointF(x, y + 2), QPointF(x + 4, y - 2)]))


class Pickable(_Widget):
    """Can be picked with mouse or keyboard; stands before the kind of widget it is, which has a signal ``picked``."""

    picked: pyqtSignal

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """A click picks."""
        super().mouseReleaseEvent(event)
        is_left = event is not None and event.button() == Qt.MouseButton.LeftButton
        if is_left and self.rect().contains(event.position().toPoint()):  # type: ignore[union-attr]
            self.picked.emit()

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Enter and space pick."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.picked.emit()
        else:
            super().keyPressEvent(event)


class Row(Pickable, QFrame):
    """A card inside a panel that can be picked with mouse or keyboard."""

    picked = pyqtSignal()

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("row")
        self.column = QVBoxLayout(self)
        self.column.setContentsMargins(8, 6, 8, 6)
        self.column.setSpacing(1)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)


class Scroller(QScrollArea):
    """A column that scrolls when it's longer than the panel; ``right`` keeps room beside it for the bar, which
    ``keeps_bar`` says is there for good: where rows come and go, each time it came all words would be wrapped anew."""

    def __init__(self, parent: QWidget | None = None, right: int = 4, keeps_bar: bool = False) -> None:
        super().__init__(parent)
        bar = self.verticalScrollBar()
        if keeps_bar and bar is not None:
            self.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOn)
            bar.setEnabled(False)  # nothing of it is to be seen then
            bar.rangeChanged.connect(lambda low, high: bar.setEnabled(high > low))
        inside = Bare()
        self.column = QVBoxLayout(inside)
        self.column.setContentsMargins(0, 0, right, 0)
        self.column.setSpacing(8)
        self.column.setAlignment(Qt.AlignmentFlag.AlignTop)
        self.setWidget(inside)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.setFocusPolicy(Qt.FocusPolicy.NoFocus)


def verdict_of(line: Line) -> str:
    """``kept``, ``close`` (less than a twentieth of the limit's own room left) or ``missed``."""
    if line.margin < 0:
        return "missed"
    return "close" if line.margin < close_below(line) else "kept"


def close_below(line: Line) -> float:
    """The margin under which a kept limit counts as close."""
    if line.unit == "db":
        return min(0.05 * abs(line.asked), 0.3) if line.asked else 0.01
    return 0.02 * abs(line.asked)


def worst_verdict(lines: tuple[Line, ...]) -> str:
    """The verdict over all lines."""
    found = {verdict_of(line) for line in lines}
    return next((verdict for verdict in ("missed", "close", "kept") if verdict in found), "unknown")


def line_up(column: QVBoxLayout, widgets: list[QWidget]) -> None:
    """Make a column hold just these in this order; those already in place aren't touched, those not named are taken down."""
    stay = set(widgets)
    for place in reversed(range(column.count())):
        item = column.itemAt(place)
        widget = item.widget() if item is not None else None
        if widget is not None and widget not in stay:
            column.takeAt(place)
            widget.hide()  # and not made a window of its own first: its style would be worked out anew
            widget.deleteLater()
    for place, widget in enumerate(widgets):
        item = column.itemAt(place)
        if item is None or item.widget() is not widget:
            column.removeWidget(widget)
            column.insertWidget(place, widget)


def clear_layout(column: QVBoxLayout) -> None:
    """Remove and delete every widget of a column."""
    while column.count():
        item = column.takeAt(0)
        widget = item.widget() if item is not None else None
        if widget is not None:
            widget.hide()
            widget.setParent(None)  # gone for whoever looks for it, though Qt takes it down later
            widget.deleteLater()
