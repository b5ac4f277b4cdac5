"""The plain plot every view is built on: quiet axes, wheel to zoom, drag to pan, double click to reset, a read-out."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pyqtgraph as pg
from PyQt6.QtCore import QCoreApplication, QEvent, QPointF, QRect, Qt, pyqtSignal
from PyQt6.QtGui import QColor, QGuiApplication, QMouseEvent, QPainter
from PyQt6.QtWidgets import QFrame, QLabel, QWidget

from combe.app.plots.field import Field
from combe.app.plots.frame import InTurn
from combe.app.plots.pace import Paced
from combe.app.theme.palette import SMALL, THEME, font
from combe.requirement.quantities import frequency_text, short

LEFT_WIDTH = 52
LOWEST_SHARE = 1e-4
"""A logarithmic axis begins at this share of half the sample rate."""


def _label_again(axis: pg.AxisItem) -> None:
    """A label is laid out where it has changed and says something: eight times an axis is asked to before it is shown at all."""
    text = axis.labelString() if axis.labelText else ""
    if axis.__dict__.get("laid_out", "") != text:
        axis.laid_out = text
        axis.label.setHtml(text)
        axis._adjustSize()
    axis.picture = None
    axis.update()


pg.AxisItem._updateLabel = _label_again


class QuietAxis(pg.AxisItem):
    """Lines of one pixel, filled as rectangles: a large plot's grid then costs a tenth of what strokes cost."""

    picture: Any

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """With a true minus sign."""
        return [text.replace("-", "−") for text in super().tickStrings(values, scale, spacing)]

    def updateAutoSIPrefix(self) -> None:
        """Nothing: units are chosen by the plot, and the label need not be laid out anew with every range."""

    def paint(self, painter: QPainter, *_: Any) -> None:
        """The line along the axis, the ticks (which are the grid), the figures: known until something is measured anew. A recorded
        picture, played again, takes twice as long as painting does."""
        if self.style["tickFont"] is not None:
            painter.setFont(self.style["tickFont"])
        if self.picture is None:
            self.picture = self._measured(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, False)
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing, True)
        lines, texts = self.picture
        for line, color in lines:
            painter.fillRect(line, color)
        painter.setPen(self.textPen())
        for box, flags, text in texts:
            painter.drawText(box, flags, text)

    def _measured(self, painter: QPainter) -> tuple[list[tuple[QRect, QColor]], list[tuple[QRect, int, str]]]:
        """Every line as a rectangle with its colour, every figure with its place: on whole pixels it is drawn from the cache."""
        specs = self.generateDrawSpecs(painter)
        if specs is None:
            return [], []
        axis, ticks, texts = specs
        lines, mixed = [], {}
        for pen, first, last in (axis, *ticks):
            width, height = abs(last.x() - first.x()), abs(last.y() - first.y())
            left, top = min(first.x(), last.x()), min(first.y(), last.y())
            plain = pen.color().rgba()
            if plain not in mixed:
                mixed[plain] = _on_card(pen.color())
            lines.append((QRect(round(left), round(top), max(round(width), 1), max(round(height), 1)), mixed[plain]))
        return lines, [(box.toRect(), int(flags), text) for box, flags, text in texts]


def _on_card(color: QColor) -> QColor:
    """A see-through colour as it looks on a card: mixing it in anew, pixel by pixel, takes three times as long."""
    card, share = THEME.color("card"), color.alphaF()
    mixed = (share * a + (1 - share) * b for a, b in zip(color.getRgbF()[:3], card.getRgbF()[:3]))
    return QColor.fromRgbF(*mixed)


class FrequencyAxis(QuietAxis):
    """Ticks in the unit that suits the sample rate, or in shares of it."""

    def __init__(self) -> None:
        super().__init__("bottom")
        self.sample_rate_hz = 2.0
        self.counted = "hz"
        self.is_log = False

    @property
    def floor_hz(self) -> float:
        """Where a logarithmic axis begins."""
        return self.sample_rate_hz / 2 * LOWEST_SHARE

    def x_of(self, hz: Any) -> Any:
        """Where on the axis a frequency lies: its logarithm on a logarithmic one."""
        return np.log10(np.maximum(hz, self.floor_hz)) if self.is_log else hz

    def hz_of(self, x: Any) -> Any:
        """The frequency at a place of the axis."""
        return 10.0 ** np.minimum(x, 300.0) if self.is_log else x

    def set_log(self, is_log: bool) -> None:
        """Count by decades, or evenly again."""
        self.is_log = is_log
        self.picture = None
        self.update()

    def set_rate(self, sample_rate_hz: float, counted: str) -> None:
        """The sample rate, and whether to count in Hz or in shares of it."""
        if (sample_rate_hz, counted) != (self.sample_rate_hz, self.counted):
            self.sample_rate_hz, self.counted = sample_rate_hz, counted
            self.picture = None
            self.update()

    @property
    def unit(self) -> tuple[float, str]:
        """Size and name of the unit."""
        if self.counted == "fs":
            return self.sample_rate_hz, "× sample rate"
        if self.counted == "fn":
            return self.sample_rate_hz / 2, "× half the sample rate"
        if self.sample_rate_hz <= 2:
            return 1.0, "× sample rate" if self.sample_rate_hz == 1 else "× half the sample rate"
        nyquist = self.sample_rate_hz / 2
        for size, name in ((1e9, "GHz"), (1e6, "MHz"), (1e3, "kHz")):
            if nyquist >= 2 * size:
                return size, name
        return 1.0, "Hz"

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Labels of the ticks."""
        size = self.unit[0]
        if self.is_log:
            return [short(float(f"{10**value / size:.4g}"), 7) for value in values]
        return [short(value / size, 7) if abs(value) > 1e-12 * size else "0" for value in values]

    def tickValues(self, least: float, most: float, size: float) -> Any:
        """Ticks at round figures of the unit, not of Hz."""
        unit = self.unit[0]
        if self.is_log:
            base = math.log10(unit)
            decades = range(math.floor(least - base), math.ceil(most - base) + 1)
            places = [base + decade + math.log10(k) for decade in decades for k in (1, 2, 5)]
            return [(1.0, [place for place in places if least <= place <= most])]
        return [
            (step * unit, [v * unit for v in values])
            for step, values in super().tickValues(least / unit, most / unit, size)
        ]


class LevelAxis(QuietAxis):
    """Ticks with a true minus sign, in a column of fixed width so that plots above each other line up."""

    def __init__(self) -> None:
        super().__init__("left")
        self.setWidth(LEFT_WIDTH)

    def tickStrings(self, values: list[float], scale: float, spacing: float) -> list[str]:
        """Labels of the ticks."""
        return [short(value, 6) if abs(value) > spacing * 1e-6 else "0" for value in values]


class Plot(InTurn, Paced):
    """A plot with a frequency axis (or a plain one) and a read-out under the pointer."""

    zoomed = pyqtSignal()
    was_reset = pyqtSignal()
    pointed = pyqtSignal(float, float)
    marked = pyqtSignal(str, float)
    has_ground = True

    def __init__(
        self, unit: str, frequency: bool = True, parent: QWidget | None = None, left: pg.AxisItem | None = None
    ) -> None:
        self.frequency_axis = FrequencyAxis() if frequency else None
        bottom = self.frequency_axis or QuietAxis("bottom")
        super().__init__(parent)
        self.field = Field(left or LevelAxis(), bottom)
        self.view = self.field.view
        self.setCentralItem(self.field)
        self.unit = unit
        self.plain_unit = ""
        self.has_bottom_label = True
        self._labels: tuple[str, str, str] | None = None
        self.is_zoomed = False
        self._home: tuple[float, float, float, float] | None = None
        self.setAntialiasing(True)
        hover = self.scene().sendHoverEvents
        # What is dragged stays lit whatever it passes over: looking for what lies there would take a share of each frame.
        self.scene().sendHoverEvents = lambda event, exitOnly=False: self.scene().dragItem or hover(event, exitOnly)
        self.field.setContentsMargins(0, 4, 8, 0)
        self.view.disableAutoRange()
        self.view.sigRangeChangedManually.connect(self._on_manual_range)
        self.read_out = QLabel(self)
        self.read_out.setProperty("role", "muted")
        self.read_out.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.read_out.hide()
        self.setMouseTracking(True)
        self.dress()

    def axis(self, side: str) -> pg.AxisItem:
        """The axis ``left`` or ``bottom``."""
        return self.field.axes[side]

    def add(self, item: pg.GraphicsObject) -> None:
        """Draw something; the range is the plot's own affair, whatever is drawn."""
        item.setParentItem(self.view.childGroup)  # first: else it would ask the scene how large a pixel is
        self.view.addItem(item, ignoreBounds=True)

    def take_out(self, item: pg.GraphicsObject) -> None:
        """Draw it no longer."""
        self.view.removeItem(item)

    def follow(self, other: Plot) -> None:
        """Show the range across that another one shows."""
        self.view.setXLink(other.view)

    @property
    def is_held(self) -> bool:
        """While something in it is dragged."""
        return self.is_dragged

    def dress(self) -> None:
        """Take on the theme's colours."""
        self.forget_place()
        self.setBackground(THEME.color("card"))
        self.setFrameShape(QFrame.Shape.NoFrame)
        self.take_turns()
        for side in ("bottom", "left"):
            axis = self.axis(side)
            axis.setPen(THEME.color("line"))
            axis.setTextPen(THEME.color("muted"))
            axis.setTickPen(THEME.color("line"))
            axis.enableAutoSIPrefix(False)
            axis.setStyle(tickFont=font(SMALL), tickLength=-4, tickTextOffset=6, maxTickLevel=1)
        self.field.set_grid(0.16 if THEME.name == "light" else 0.22)
        self.label_axes()

    def label_axes(self) -> None:
        """Name the units."""
        bottom = self.frequency_axis.unit[1] if self.frequency_axis is not None else self.plain_unit
        labels = (THEME.name, self.unit, bottom)
        if labels == self._labels:
            return  # setting a label draws the whole axis anew
        self._labels = labels
        style = {"color": THEME.colors.muted, "font-size": f"{SMALL}px"}
        self.axis("left").setLabel(self.unit, **style)
        if self.has_bottom_label:
            self.axis("bottom").setLabel(bottom, **style)

    def set_home(self, left: float, right: float, bottom: float, top: float) -> None:
        """The range a double click returns to; shown now unless the user has zoomed, here or in the plot whose axis
        this one follows."""
        home = (left, right, bottom, top)
        moved = home != self._home
        self._home = home
        view = self.view
        if moved and not self.is_zoomed:
            if view.linkedView(view.XAxis) is None:
                self.go_home()
            else:
                view.setYRange(bottom, top, padding=0)

    def go_home(self) -> None:
        """Show the home range."""
        self.is_zoomed = False
        if self._home is not None:
            left, right, bottom, top = self._home
            self.view.setRange(xRange=(left, right), yRange=(bottom, top), padding=0)

    def show_around(self, x: float, width: float) -> None:
        """Center the horizontal range on a place."""
        self.is_zoomed = True
        self.view.setXRange(x - width / 2, x + width / 2, padding=0)

    def _on_manual_range(self) -> None:
        self.is_zoomed = True
        self.zoomed.emit()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        """Back to the home range."""
        self.go_home()
        self.was_reset.emit()
        event.accept()

    def mousePressEvent(self, event: QMouseEvent) -> None:
        """With Shift the first cursor is put here, with Ctrl the second."""
        names = {Qt.KeyboardModifier.ShiftModifier: "first", Qt.KeyboardModifier.ControlModifier: "second"}
        name = names.get(event.modifiers())
        if name is not None and event.button() == Qt.MouseButton.LeftButton:
            place = self.view.mapSceneToView(QPointF(self.mapToScene(event.position().toPoint())))
            self.marked.emit(name, place.x())
            event.accept()
            return
        super().mousePressEvent(event)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        """Read out under the pointer."""
        super().mouseMoveEvent(event)
        if event.buttons():
            return  # what is dragged tells its own figure
        box = self.view
        scene = self.mapToScene(event.position().toPoint())
        if box.sceneBoundingRect().contains(QPointF(scene)):
            place = box.mapSceneToView(QPointF(scene))
            self.pointed.emit(place.x(), place.y())
        else:
            self.read_out.hide()

    def leaveEvent(self, event: Any) -> None:
        """Nothing to read out."""
        self.read_out.hide()
        super().leaveEvent(event)

    def tell(self, text: str) -> None:
        """Show a read-out in the corner."""
        self.read_out.setText(text)
        self.read_out.adjustSize()
        self.read_out.move(self.width() - self.read_out.width() - 14, 6)
        self.read_out.show()

    def frequency_words(self, hz: float) -> str:
        """A frequency as the axis counts it."""
        if self.frequency_axis is None:
            return short(hz, 6)
        digits = 5
        rounded = float(f"{hz:.{digits}g}") if math.isfinite(hz) else 0.0
        return frequency_text(rounded, self.frequency_axis.sample_rate_hz, self.frequency_axis.counted)

    def settle_scene(self) -> None:
        """What has changed is known to the view at once, not when the scene's own message comes round."""
        QCoreApplication.sendPostedEvents(self.scene(), QEvent.Type.MetaCall.value)

    def repaint_changed(self) -> None:
        """Paint whatever the window has to paint anew, at once."""
        QCoreApplication.sendPostedEvents(self.window(), QEvent.Type.UpdateRequest.value)

    def copy_picture(self) -> None:
        """Put the plot on the clipboard as a picture."""
        clipboard = QGuiApplication.clipboard()
        if clipboard is not None:
            clipboard.setPixmap(self.grab())
