"""Views as figures for papers: SVG and PDF in lines, PNG at twice the size on screen."""

from __future__ import annotations

from pathlib import Path

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QMarginsF, QPoint, QRect, QSizeF, Qt
from PyQt6.QtGui import QPageLayout, QPageSize, QPainter, QPdfWriter, QPixmap
from PyQt6.QtSvg import QSvgGenerator
from PyQt6.QtWidgets import QWidget

from combe.app.theme.palette import THEME
from combe.errors import FileError
from combe.files import write_bytes

DPI = 96


def save_figure(page: QWidget, path: Path) -> None:
    """Write a view whole or not at all.

    Raises
    ------
    FileError
        If the ending isn't one of the three kinds, or the file can't be written.
    """
    draw = {".svg": _svg, ".pdf": _pdf, ".png": _png}.get(path.suffix.lower())
    if draw is None:
        raise FileError(f'"{path.suffix}" is no kind of figure', str(path), "end the name in .svg, .pdf or .png")
    content = QByteArray()
    buffer = QBuffer(content)
    buffer.open(QIODevice.OpenModeFlag.WriteOnly)
    draw(page, buffer)
    buffer.close()
    write_bytes(path, bytes(content.data()))


def _svg(page: QWidget, buffer: QBuffer) -> None:
    generator = QSvgGenerator()
    generator.setOutputDevice(buffer)
    generator.setSize(page.size())
    generator.setViewBox(QRect(QPoint(0, 0), page.size()))
    generator.setResolution(DPI)
    generator.setTitle("Combe")
    painter = QPainter(generator)
    page.render(painter)
    painter.end()


def _pdf(page: QWidget, buffer: QBuffer) -> None:
    writer = QPdfWriter(buffer)
    writer.setResolution(DPI)
    size = QSizeF(page.width() * 72 / DPI, page.height() * 72 / DPI)
    writer.setPageLayout(
        QPageLayout(QPageSize(size, QPageSize.Unit.Point), QPageLayout.Orientation.Portrait, QMarginsF())
    )
    painter = QPainter(writer)
    page.render(painter)
    painter.end()


def _png(page: QWidget, buffer: QBuffer) -> None:
    pixmap = QPixmap(page.size() * 2)
    pixmap.setDevicePixelRatio(2)
    pixmap.fill(THEME.color("card") if THEME.name == "dark" else Qt.GlobalColor.white)
    painter = QPainter(pixmap)
    page.render(painter)
    painter.end()
    pixmap.save(buffer, "PNG")
