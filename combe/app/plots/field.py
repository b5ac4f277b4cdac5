"""The field things are drawn in, with its two axes: no title, no buttons, no form of settings, which nobody here would see and which
take longer to make than all the rest of a plot."""

from __future__ import annotations

import pyqtgraph as pg
from PyQt6.QtWidgets import QGraphicsGridLayout, QGraphicsItem, QSizePolicy

GRID_STEPS = 255
"""An axis counts how strong its grid is in so many steps."""


class Field(pg.GraphicsWidget):
    """Left axis, view, and the bottom axis below it."""

    def __init__(self, left: pg.AxisItem, bottom: pg.AxisItem) -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Expanding)
        self.view = pg.ViewBox(parent=self, enableMenu=False)
        self.axes = {"left": left, "bottom": bottom}
        grid = QGraphicsGridLayout()
        grid.setContentsMargins(1, 1, 1, 1)
        grid.setSpacing(0)
        grid.addItem(self.view, 0, 1)
        grid.addItem(left, 0, 0)
        grid.addItem(bottom, 1, 1)
        grid.setRowStretchFactor(0, 100)
        grid.setColumnStretchFactor(1, 100)
        self.setLayout(grid)
        for axis in self.axes.values():
            axis.linkToView(self.view)
            axis.setZValue(-1)  # the grid lies under what is drawn
            axis.setFlag(QGraphicsItem.GraphicsItemFlag.ItemNegativeZStacksBehindParent)

    def set_grid(self, strength: float) -> None:
        """Lines at the ticks, from 0 (none) to 1."""
        for axis in self.axes.values():
            axis.setGrid(int(strength * GRID_STEPS))
