"""The path above the chain: where samples come from, each filter with its verdict, what branches off. Hidden with one filter."""

from __future__ import annotations

from functools import partial

from PyQt6.QtCore import QPoint, QPointF, QRectF, QSize, Qt, pyqtSignal
from PyQt6.QtGui import QKeyEvent, QMouseEvent, QPainter, QPaintEvent, QPen, QPolygonF, QResizeEvent, QWheelEvent
from PyQt6.QtWidgets import QMenu, QPushButton, QSizePolicy, QWidget

from combe.app.theme.marks import draw_verdict
from combe.app.theme.palette import SMALL, THEME, font
from combe.project.document import INPUT, Member, Project
from combe.project.sources import Mismatch, mismatches, walk
from combe.requirement.quantities import rate_text

HEIGHT, GAP, ARROW, LONGEST, PADDING = 26, 4, 22, 190, 10
MARK = 11


class Chip(QWidget):
    """One filter: its verdict and its name; a click opens it."""

    picked = pyqtSignal(int)
    menu_wanted = pyqtSignal(int, object)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.place, self.name, self.verdict, self.is_open, self.remark = 0, "", "unknown", False, ""
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setCursor(Qt.CursorShape.PointingHandCursor)
        self.setFont(font(SMALL))

    def show_filter(self, place: int, name: str, verdict: str, is_open: bool, remark: str) -> None:
        """What it stands for now; ``remark`` is what doesn't fit at its joint."""
        if (place, name, verdict, is_open, remark) != (self.place, self.name, self.verdict, self.is_open, self.remark):
            self.place, self.name, self.verdict, self.is_open, self.remark = place, name, verdict, is_open, remark
            self.setAccessibleName(f"filter {name}: {verdict}{', ' + remark if remark else ''}")
            self.setToolTip(f"{name}: {remark}" if remark else name)
            self.update()

    def sizeHint(self) -> QSize:
        """As wide as its name, up to a limit."""
        width = self.fontMetrics().horizontalAdvance(self.name) + MARK + 3 * PADDING // 2 + PADDING
        return QSize(min(width, LONGEST), HEIGHT - 2)

    def mouseReleaseEvent(self, event: QMouseEvent | None) -> None:
        """Open, or ask what is to be done with it."""
        if event is None:
            return
        if event.button() == Qt.MouseButton.LeftButton:
            self.picked.emit(self.place)
        elif event.button() == Qt.MouseButton.RightButton:
            self.menu_wanted.emit(self.place, event.globalPosition().toPoint())

    def keyPressEvent(self, event: QKeyEvent | None) -> None:
        """Open with Enter or space."""
        if event is not None and event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter, Qt.Key.Key_Space):
            self.picked.emit(self.place)
            return
        super().keyPressEvent(event)

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """A pill; the open one is lit, one that doesn't fit its source has an amber edge."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        box = QRectF(self.rect()).adjusted(0.5, 0.5, -0.5, -0.5)
        edge = "amber" if self.remark else "river" if self.is_open or self.hasFocus() else "line"
        painter.setPen(QPen(THEME.color(edge), 1.5 if self.is_open or self.remark else 1))
        painter.setBrush(THEME.color("raised" if self.is_open else "card"))
        painter.drawRoundedRect(box, box.height() / 2, box.height() / 2)
        draw_verdict(painter, self.verdict, QRectF(PADDING, (self.height() - MARK) / 2, MARK, MARK))
        painter.setPen(THEME.color("ink"))
        painter.setFont(self.font())
        left = PADDING + MARK + PADDING / 2
        room = self.width() - left - PADDING
        words = painter.fontMetrics().elidedText(self.name, Qt.TextElideMode.ElideRight, int(room) + 1)
        painter.drawText(QRectF(left, 0, room + 2, self.height()), Qt.AlignmentFlag.AlignVCenter, words)


class PathBar(QWidget):
    """``opened`` carries a filter's place in the project; ``menu_wanted`` a place and where on the screen."""

    opened = pyqtSignal(int)
    menu_wanted = pyqtSignal(int, object)
    mend_wanted = pyqtSignal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setFixedHeight(HEIGHT)
        self.mend = QPushButton(self)
        self.mend.setFlat(True)
        self.mend.setCursor(Qt.CursorShape.PointingHandCursor)
        self.mend.clicked.connect(lambda: self.mend_wanted.emit(self._broken))
        self.mend.hide()
        self._broken = ""
        self.setFont(font(SMALL))
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        self.chips: list[Chip] = []
        self._source = ""
        self._branches: list[tuple[int, str]] = []
        self._left = 0
        self._project: Project | None = None
        self.hide()

    def show_path(self, project: Project, verdicts: list[str]) -> None:
        """The project's tree, each filter with its verdict."""
        members = project.members
        self.setVisible(len(members) > 1)
        if len(members) < 2:
            return
        self._source = _entry(members[0])
        remarks: dict[str, list[str]] = {}
        joints = mismatches(members)
        for joint in joints:
            remarks.setdefault(joint.name, []).append(joint.sentence)
        self._show_mend(next((joint for joint in joints if joint.input), None))
        order = walk(members)
        while len(self.chips) > len(order):
            gone = self.chips.pop()
            gone.hide()
            gone.setParent(None)
            gone.deleteLater()
        while len(self.chips) < len(order):
            chip = Chip(self)
            chip.picked.connect(self.opened)
            chip.menu_wanted.connect(self.menu_wanted)
            chip.show()
            self.chips.append(chip)
        self._branches = []
        before = INPUT
        for chip, place in zip(self.chips, order):
            member = members[place]
            words = "; ".join(remarks.get(member.code_name, ()))
            chip.show_filter(place, member.code_name, verdicts[place], place == project.place, words)
            is_next = member.source == before and (before != INPUT or place == order[0])
            other = _entry(member) if _entry(member) != self._source else INPUT
            self._branches.append((place, "" if is_next else other if member.source == INPUT else member.source))
            before = member.code_name
        self._lay_out()

    def _show_mend(self, joint: Mismatch | None) -> None:
        """The first joint whose formats differ, with what would mend it; a click does."""
        self._broken = joint.name if joint is not None else ""
        self.mend.setVisible(joint is not None)
        if joint is not None:
            self.mend.setText(joint.remedy)
            self.mend.setToolTip(f"{joint.sentence}; {joint.remedy}")

    @property
    def _room(self) -> int:
        """What chips may fill."""
        return self.width() - (min(self.mend.sizeHint().width(), LONGEST) + ARROW if self._broken else 0)

    def _lay_out(self) -> None:
        """One after the other; what doesn't fit is moved so that the open one is seen."""
        if self._broken:
            width = min(self.mend.sizeHint().width(), LONGEST)
            self.mend.setGeometry(self.width() - width, 0, width, HEIGHT)
            self.mend.raise_()
        at = self.fontMetrics().horizontalAdvance(self._source) + 2
        ends = []
        for chip, (_, branch) in zip(self.chips, self._branches):
            at += ARROW + (self._width(branch) + ARROW if branch else 0)
            size = chip.sizeHint()
            ends.append((at, at + size.width()))
            at += size.width()
        open_end = next((end for chip, end in zip(self.chips, ends) if chip.is_open), (0, 0))
        most = max(at - self._room, 0)
        left = min(self._left, most)
        if open_end[1] - left > self._room - ARROW:
            left = min(open_end[1] - self._room + 3 * ARROW, most)
        if open_end[0] - left < ARROW:
            left = max(open_end[0] - 3 * ARROW, 0)
        self._left = max(left, 0)
        for chip, (start, end) in zip(self.chips, ends):
            chip.setGeometry(start - self._left, 1, end - start, HEIGHT - 2)
        self.update()

    def _width(self, words: str) -> int:
        return min(self.fontMetrics().horizontalAdvance(words), LONGEST) + 2 * GAP

    def resizeEvent(self, event: QResizeEvent | None) -> None:
        """More or less of it."""
        super().resizeEvent(event)
        if self.chips:
            self._lay_out()

    def wheelEvent(self, event: QWheelEvent | None) -> None:
        """Along the path."""
        if event is None or not self.chips:
            return
        end = self.chips[-1].geometry().right() + self._left
        self._left = min(max(self._left - event.angleDelta().y(), 0), max(end - self._room + ARROW, 0))
        left = self._left
        self._lay_out()
        if left != self._left:  # whoever turns the wheel may look away from the open one
            for chip in self.chips:
                chip.move(chip.x() + self._left - left, chip.y())
            self._left = left
            self.update()

    def paintEvent(self, event: QPaintEvent | None) -> None:
        """Where samples come from, and arrows between the filters; a branch says what it branches off."""
        painter = QPainter(self)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(SMALL))
        painter.setPen(THEME.color("muted"))
        middle = HEIGHT / 2
        align = Qt.AlignmentFlag.AlignVCenter
        painter.drawText(QRectF(-self._left, 0, 900, HEIGHT), align, self._source)
        for chip, (_, branch) in zip(self.chips, self._branches):
            x = float(chip.x())
            self._arrow(painter, x, middle)
            if branch:
                width = self._width(branch)
                words = painter.fontMetrics().elidedText(branch, Qt.TextElideMode.ElideRight, width)
                painter.setPen(THEME.color("muted"))
                painter.drawText(QRectF(x - ARROW - width, 0, width, HEIGHT), align, words)
                painter.setPen(QPen(THEME.color("line"), 1))
                painter.drawLine(
                    QPointF(x - ARROW - width - ARROW / 2, 7), QPointF(x - ARROW - width - ARROW / 2, HEIGHT - 7)
                )

    def _arrow(self, painter: QPainter, x: float, y: float) -> None:
        painter.setPen(QPen(THEME.color("river", 170), 1.6, cap=Qt.PenCapStyle.RoundCap))
        painter.drawLine(QPointF(x - ARROW + 4, y), QPointF(x - 4, y))
        painter.drawPolyline(QPolygonF([QPointF(x - 8, y - 3.5), QPointF(x - 4, y), QPointF(x - 8, y + 3.5)]))

    def step(self, by: int) -> None:
        """Open the filter so many further along."""
        places = [chip.place for chip in self.chips]
        at = next((k for k, chip in enumerate(self.chips) if chip.is_open), 0)
        if places:
            self.opened.emit(places[(at + by) % len(places)])


def _entry(member: Member) -> str:
    """What a filter takes from the input."""
    return f"{member.arithmetic.input} at {rate_text(member.requirement.sample_rate_hz)}"


def filter_menu(parent: QWidget, entries: list[tuple[str, object]], where: QPoint) -> QMenu:
    """What can be done with a filter, shown where it was asked for."""
    menu = QMenu(parent)
    for words, action in entries:
        if words:
            menu.addAction(words, partial(_run, action))
        else:
            menu.addSeparator()
    menu.popup(where)
    return menu


def _run(action: object) -> None:
    if callable(action):
        action()
