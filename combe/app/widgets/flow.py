"""A layout that sets its items like words of a paragraph."""

from __future__ import annotations

from PyQt6.QtCore import QPoint, QRect, QSize, Qt
from PyQt6.QtWidgets import QLayout, QLayoutItem, QWidget


class Flow(QLayout):
    """Left to right, breaking lines where the width ends; items of a line are centered on it."""

    def __init__(self, parent: QWidget | None = None, gap: int = 4, least: int | None = None) -> None:
        """``least`` is the gap that is taken where all then fit a single line."""
        super().__init__(parent)
        self._gap, self._least = gap, gap if least is None else least
        self._items: list[QLayoutItem] = []
        self._heights: dict[int, int] = {}
        self.setContentsMargins(0, 0, 0, 0)

    def addItem(self, item: QLayoutItem | None) -> None:
        """Append."""
        if item is not None:
            self._items.append(item)

    def count(self) -> int:
        """How many."""
        return len(self._items)

    def itemAt(self, index: int) -> QLayoutItem | None:
        """One of them."""
        return self._items[index] if 0 <= index < len(self._items) else None

    def takeAt(self, index: int) -> QLayoutItem | None:
        """Remove one."""
        return self._items.pop(index) if 0 <= index < len(self._items) else None

    def expandingDirections(self) -> Qt.Orientation:
        """Neither."""
        return Qt.Orientation(0)

    def hasHeightForWidth(self) -> bool:
        """The narrower, the higher."""
        return True

    def heightForWidth(self, width: int) -> int:
        """Lines needed at a width; asked for dozens of times while a window lays itself out."""
        if width not in self._heights:
            self._heights[width] = self._arrange(QRect(0, 0, width, 0), move=False)
        return self._heights[width]

    def invalidate(self) -> None:
        """An item is another, or of another size."""
        self._heights.clear()
        super().invalidate()

    def setGeometry(self, box: QRect) -> None:
        """Put every item in its place."""
        super().setGeometry(box)
        self._arrange(box, move=True)

    def sizeHint(self) -> QSize:
        """As little as possible."""
        return self.minimumSize()

    def minimumSize(self) -> QSize:
        """The widest item."""
        size = QSize()
        for item in self._items:
            size = size.expandedTo(item.minimumSize())
        return size

    def _arrange(self, box: QRect, move: bool) -> int:
        x, y, height = box.x(), box.y(), 0
        gap = self._gap_at(box.width())
        line: list[tuple[QLayoutItem, QRect]] = []
        for item in self._items:
            if item.isEmpty():
                continue
            size = item.sizeHint()
            if x + size.width() > box.right() + 1 and line:
                self._set(line, height, move)
                x, y, height, line = box.x(), y + height + 2, 0, []
            line.append((item, QRect(QPoint(x, y), size)))
            x += size.width() + gap
            height = max(height, size.height())
        self._set(line, height, move)
        return y + height - box.y()

    def _gap_at(self, width: int) -> int:
        """The usual one, or as much less as brings all to one line."""
        shown = [item.sizeHint().width() for item in self._items if not item.isEmpty()]
        if self._least == self._gap or len(shown) < 2:
            return self._gap
        spare = (width - sum(shown)) // (len(shown) - 1)
        return spare if self._least <= spare < self._gap else self._gap

    @staticmethod
    def _set(line: list[tuple[QLayoutItem, QRect]], height: int, move: bool) -> None:
        if move:
            for item, place in line:
                item.setGeometry(place.translated(0, (height - place.height()) // 2))
