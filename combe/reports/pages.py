"""A report as a PDF: pages with numbers, contents in front, figures among the words."""

from __future__ import annotations

import io
import textwrap
from typing import TYPE_CHECKING, Any

from combe import __version__
from combe.reports.content import Drawing, Report, Section

if TYPE_CHECKING:
    from matplotlib.figure import Figure

WIDTH, HEIGHT = 8.27, 11.69
LEFT, TOP, FOOT = 0.08, 0.94, 0.06
LINES, WIDE = 66, 104
STEP = (TOP - FOOT) / LINES
SMALL = 7.4
LONGEST_CELL = 34


class _Paper:
    """Pages that fill up from the top; each new one begins with the chapter it belongs to."""

    def __init__(self, title: str) -> None:
        self.title, self.chapter = title, ""
        self.sheets: list[Figure] = []
        self.line = LINES
        self.starts: list[tuple[str, int]] = []

    def begin(self, chapter: str) -> None:
        """A chapter on a page of its own."""
        self.chapter = chapter
        self._turn()
        self.starts.append((chapter, len(self.sheets)))

    def _turn(self) -> None:
        from matplotlib.figure import Figure as Sheet

        sheet = Sheet(figsize=(WIDTH, HEIGHT), facecolor="white")
        sheet.text(
            LEFT,
            0.965,
            f"{self.title} · {self.chapter}" if self.chapter else self.title,
            fontsize=7,
            color="#666666",
            parse_math=False,
        )
        self.sheets.append(sheet)
        self.line = 0

    def room(self, lines: int) -> None:
        """Go on a new page unless so many lines fit here."""
        if self.line + lines > LINES:
            self._turn()

    def write(self, text: str, size: float = SMALL, weight: str = "normal", is_plain: bool = False) -> None:
        """One line."""
        self.room(1)
        self.sheets[-1].text(
            LEFT, TOP - self.line * STEP, text, fontsize=size, weight=weight, va="top", family="monospace" if is_plain else "sans-serif", parse_math=False,
        )  # fmt: skip
        self.line += 1

    def skip(self, lines: int = 1) -> None:
        """Leave some free, but not at the head of a page."""
        if self.line:
            self.line += lines

    def draw(self, drawing: Drawing) -> None:
        """A figure as wide as the text, its own height."""
        figure = drawing.draw()
        share = figure.get_figheight() / figure.get_figwidth()
        height = (1 - 2 * LEFT) * WIDTH * share / HEIGHT
        lines = int(height / STEP) + 3
        self.room(lines)
        self.write(drawing.title, 8.5, "bold")
        buffer = io.BytesIO()
        figure.savefig(buffer, format="png", dpi=150)
        buffer.seek(0)
        axes = self.sheets[-1].add_axes((LEFT, TOP - self.line * STEP - height, 1 - 2 * LEFT, height))
        axes.imshow(_pixels(buffer), aspect="auto", interpolation="lanczos")
        axes.axis("off")
        self.line += lines - 1


def _pixels(buffer: io.BytesIO) -> Any:
    from matplotlib.image import imread

    return imread(buffer, format="png")


def pdf_bytes(report: Report) -> bytes:
    """The whole document."""
    from matplotlib.backends.backend_pdf import PdfPages

    paper = _Paper(report.title)
    for chapter in report.chapters:
        paper.begin(chapter.title)
        paper.write(chapter.title, 15, "bold")
        paper.skip(2)
        for section in chapter.sections:
            _section(paper, section)
    front = _front(report, paper)
    buffer = io.BytesIO()
    with PdfPages(
        buffer,
        metadata={"Title": report.title, "Creator": f"Combe {__version__}", "CreationDate": None, "ModDate": None},
    ) as pages:
        every = [front, *paper.sheets]
        for number, sheet in enumerate(every, 1):
            sheet.text(0.5, 0.03, f"{number} of {len(every)}", fontsize=7, color="#666666", ha="center")
            pages.savefig(sheet)
    return buffer.getvalue()


def _front(report: Report, paper: _Paper) -> Figure:
    """Title, verdict, contents with the numbers of pages."""
    front = _Paper(report.title)
    front.room(1)
    front.write(report.title, 20, "bold")
    front.skip(3)
    for line in textwrap.wrap(report.verdict, 80):
        front.write(line, 11, "bold")
    front.skip(3)
    front.write("Contents", 11, "bold")
    front.skip()
    for title, page in paper.starts[: LINES - 20]:
        short = title if len(title) <= 80 else title[:77] + "..."
        front.write(f"{short} {'.' * (88 - len(short))} {page + 1:>4}", is_plain=True)
    return front.sheets[0]


def _section(paper: _Paper, section: Section) -> None:
    paper.skip()
    paper.room(4)
    paper.write(section.title, 10.5, "bold")
    paper.skip()
    for sentence in section.sentences:
        weight = "bold" if sentence.startswith("DANGER") or "MISSED" in sentence else "normal"
        for line in textwrap.wrap(sentence, WIDE) or [""]:
            paper.write(line, 8.2, weight)
    for drawing in section.drawings:
        paper.skip()
        paper.draw(drawing)
    if section.table:
        paper.skip()
        rows = _lined_up(section.table)
        size = min(SMALL, SMALL * WIDE / max(len(row) for row in rows))
        for number, row in enumerate(rows):
            weight = "bold" if number == 0 or "MISSED" in row else "normal"
            paper.write(row, size, weight, is_plain=True)
    if section.text:
        paper.skip()
        for line in section.text:
            paper.write(line[: WIDE + 12], 6.8, is_plain=True)


def _lined_up(table: tuple[tuple[str, ...], ...]) -> list[str]:
    """Rows of even columns; long cells are cut, the last may be longer."""
    count = len(table[0])
    widths = [min(max(len(row[k]) for row in table if k < len(row)), LONGEST_CELL) for k in range(count)]
    rows = []
    for row in table:
        cells = [cell if len(cell) <= LONGEST_CELL else cell[: LONGEST_CELL - 3] + "..." for cell in row[:-1]]
        rows.append("  ".join([*(cell.ljust(width) for cell, width in zip(cells, widths)), row[-1]])[:150].rstrip())
    return rows
