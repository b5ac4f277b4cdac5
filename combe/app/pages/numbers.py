"""Coefficients: as designed, as integers, in hexadecimal, and what rounding moved."""

from __future__ import annotations

from combe.app.pages.page import Scene
from combe.app.pages.sheet import SheetPage
from combe.filters import Cascade, Filter, Fir, Roots, rational_of, sections_of
from combe.ledger.goodness import Table
from combe.realization.section import Section
from combe.realization.stages import Realization, TapSum
from combe.rounding.recursive import shared_gain


class NumbersPage(SheetPage):
    """A row for each coefficient."""

    def __init__(self) -> None:
        super().__init__("coefficients")
        self._shown: object = None

    def show_scene(self, scene: Scene) -> None:
        """Other coefficients."""
        realization = scene.results.rounded.realization if scene.results.rounded is not None else None
        if (scene.chosen, realization) != self._shown:
            self._shown = scene.chosen, realization
            self.fill(numbers_table(scene.chosen, realization), figures=True)


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
