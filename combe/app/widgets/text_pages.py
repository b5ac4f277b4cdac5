"""Pages of words and figures: the transfer function, the coefficients, the measured goodness."""

from __future__ import annotations

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QAbstractItemView, QApplication, QHeaderView, QPlainTextEdit, QTableWidget, QTableWidgetItem

from combe.app.theme.palette import mono
from combe.arithmetic.recursive import shared_gain
from combe.arithmetic.section import Section
from combe.arithmetic.stages import Realization, TapSum
from combe.errors import CombeError
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.filters.writing import written
from combe.ledger.goodness import Table, table_of


class FormulaPage(QPlainTextEdit):
    """H(z) in standard form."""

    def __init__(self) -> None:
        super().__init__()
        self.setReadOnly(True)
        self.setFont(mono())
        self.setAccessibleName("transfer function")
        self._key: object = None

    def show_filter(self, source: Filter | None, form: str) -> None:
        """Another filter, or another form."""
        if (source, form) == self._key:
            return
        self._key = source, form
        try:
            self.setPlainText("" if source is None else written(source, form))
        except CombeError as error:
            self.setPlainText(error.sentence())


class Sheet(QTableWidget):
    """A table that copies as text, CSV or Markdown."""

    def __init__(self, name: str) -> None:
        super().__init__()
        self.setAccessibleName(name)
        self.setEditTriggers(QAbstractItemView.EditTrigger.NoEditTriggers)
        self.setShowGrid(False)
        self.setAlternatingRowColors(True)
        header = self.verticalHeader()
        if header is not None:
            header.hide()
        self.table = Table((), ())
        self._key: object = None

    def fill(self, table: Table, figures: bool = False) -> None:
        """Show a table; ``figures`` sets the cells in a type of even width."""
        self.table = table
        self.setColumnCount(len(table.names) + 1)
        self.setRowCount(len(table.rows))
        self.setHorizontalHeaderLabels(["", *table.names])
        for row, words in enumerate(table.rows):
            for column, word in enumerate(words):
                item = QTableWidgetItem(word)
                if figures:
                    item.setFont(mono())
                    item.setTextAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
                self.setItem(row, column, item)
        header = self.horizontalHeader()
        if header is not None:
            header.setSectionResizeMode(QHeaderView.ResizeMode.ResizeToContents)
            header.setStretchLastSection(True)

    def copy(self, form: str = "text") -> str:
        """Put the table on the clipboard."""
        text = {"text": self.table.text, "csv": self.table.csv, "markdown": self.table.markdown}[form]()
        clipboard = QApplication.clipboard()
        if clipboard is not None:
            clipboard.setText(text)
        return text


class MeasuresPage(Sheet):
    """The figures of merit of every curve side by side."""

    def __init__(self) -> None:
        super().__init__("measured goodness")

    def show_filters(self, filters: list[tuple[str, Filter]], sample_rate_hz: float) -> None:
        """Other filters."""
        key = tuple(filters), sample_rate_hz
        if key != self._key:
            self._key = key
            self.fill(table_of(filters, sample_rate_hz))


class NumbersPage(Sheet):
    """Coefficients: as designed, as integers, in hexadecimal, and what rounding moved."""

    def __init__(self) -> None:
        super().__init__("coefficients")

    def show_numbers(self, source: Filter | None, realization: Realization | None) -> None:
        """Other coefficients."""
        if (source, realization) != self._key:
            self._key = source, realization
            self.fill(numbers_table(source, realization), figures=True)


def numbers_table(source: Filter | None, realization: Realization | None) -> Table:
    """A row for each coefficient."""
    rows: list[tuple[str, ...]] = []
    if realization is None:
        if isinstance(source, Fir):
            rows = [(f"h[{k}]", repr(tap)) for k, tap in enumerate(source.taps)]
        elif isinstance(source, Cascade):
            for k, section in enumerate(source.sections):
                rows += [(f"{name}[{k}]", repr(value)) for name, value in zip(("b0", "b1", "b2", "a1", "a2"), section)]
        return Table(("as designed",), tuple(rows))
    own = [] if source is None or isinstance(source, Fir) else shared_gain(_cascade(source))
    for stage in realization.stages:
        if isinstance(stage, TapSum):
            exact = source.taps if isinstance(source, Fir) and len(source.taps) == len(stage.coefficients) else None
            for k, value in enumerate(stage.coefficients):
                rows.append(
                    _row(f"h[{k}]", value, stage.coefficient.step, stage.coefficient.bits, exact[k] if exact else None)
                )
        elif isinstance(stage, Section):
            number = sum(1 for row in rows if row[0].startswith("b0"))
            known = own[number] if number < len(own) else None
            for j, value in enumerate(stage.b):
                rows.append(
                    _row(
                        f"b{j}[{number}]",
                        value,
                        stage.numerator.step,
                        stage.numerator.bits,
                        known[j] if known else None,
                    )
                )
            for j, value in enumerate(stage.a, 1):
                exact_a = known[2 + j] if known else None
                rows.append(_row(f"a{j}[{number}]", value, stage.denominator.step, stage.denominator.bits, exact_a))
    return Table(("as designed", "integer", "hexadecimal", "error in steps"), tuple(rows))


def _cascade(source: Cascade | Roots) -> Cascade:
    return source if isinstance(source, Cascade) else sections_of(rational_of(source))


def _row(name: str, value: int, step: float, bits: int, exact: float | None) -> tuple[str, ...]:
    digits = (bits + 3) // 4
    word = f"0x{value & ((1 << bits) - 1):0{digits}X}"
    if exact is None:
        return name, "–", str(value), word, "–"
    return name, f"{exact:.12g}", str(value), word, f"{value - exact / step:+.3f}"
