"""A second-order section in integers: direct form I, one exact sum, one rounding."""

from __future__ import annotations

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format, narrowest_signed
from combe.realization.network import Network, Node
from combe.realization.term import INPUT, Term

SECTION_FORMS = ("direct-1",)


class Section(Struct, frozen=True):
    """y[n] = round(2^u·Σ b[i]·x[n−i] − 2^v·Σ a[j]·y[n−j]), the sum exact, then brought into ``result``.

    ``numerator`` and ``denominator`` are the formats of b and a (1 in front of a is understood). The sum has
    ``accumulator.fraction`` fraction bits; u and v bring both kinds of products there.
    """

    b: tuple[int, int, int]
    a: tuple[int, int]
    numerator: Format
    denominator: Format
    accumulator: Format
    result: Format
    rounding: str
    overflow: str
    form: str = "direct-1"

    @property
    def is_recursive(self) -> bool:
        """Always: its output comes back."""
        return True

    @property
    def accumulators(self) -> tuple[Format, ...]:
        """Of its one sum."""
        return (self.accumulator,)

    @property
    def coefficient_formats(self) -> tuple[Format, ...]:
        """Of b and of a."""
        return self.numerator, self.denominator

    def network(self, _: Format) -> Network:
        """One node that feeds itself."""
        forward = [Term(INPUT, delay, value, self.numerator) for delay, value in enumerate(self.b)]
        back = [Term("y", delay, -value, self.denominator) for delay, value in enumerate(self.a, 1)]
        terms = (*forward, *back)
        node = Node("y", terms, self.accumulator, self.result, self.rounding, self.overflow)
        return Network((node,), "y", self.form)

    def title(self, index: int, _: Node) -> str:
        """Its name for people."""
        return f"section {index + 1}"

    def shifts(self, source: Format) -> tuple[int, int]:
        """u and v: how far products of input and of output are shifted left."""
        forward = source.fraction + self.numerator.fraction
        backward = self.result.fraction + self.denominator.fraction
        return self.accumulator.fraction - forward, self.accumulator.fraction - backward

    def span(self, source: Format) -> tuple[int, int]:
        """The least and the largest sum any input and any output can make; partial sums lie between them too."""
        u, v = self.shifts(source)
        ends = [(c * source.least << u, c * source.most << u) for c in self.b]
        ends += [(-c * self.result.least << v, -c * self.result.most << v) for c in self.a]
        return sum(min(pair) for pair in ends), sum(max(pair) for pair in ends)


def needed_section_accumulator(stage: Section, source: Format) -> Format:
    """The narrowest signed accumulator that holds every sum."""
    return Format(True, narrowest_signed(*stage.span(source)), stage.accumulator.fraction)


def check_section(stage: Section, source: Format, where: str) -> None:
    """Raise ``FormatError`` where a section doesn't hold together."""
    for key, values, entry in (("b", stage.b, stage.numerator), ("a", stage.a, stage.denominator)):
        for position, value in enumerate(values):
            if not entry.holds(value):
                raise FormatError(
                    f"{value} doesn't fit {entry}",
                    f"{where}.{key}[{position}]",
                    f"it holds {entry.least} to {entry.most}",
                )
    if min(stage.shifts(source)) < 0:
        what = f"{stage.accumulator} has fewer fraction bits than its products"
        needed = stage.accumulator.fraction - min(stage.shifts(source))
        raise FormatError(what, f"{where}.accumulator", f"{needed} fraction bits are needed")
    least, most = stage.span(source)
    if not (stage.accumulator.holds(least) and stage.accumulator.holds(most)):
        what = f"{stage.accumulator} can't hold every sum, which run from {least} to {most}"
        raise FormatError(what, f"{where}.accumulator", f"{needed_section_accumulator(stage, source)} is enough")
    for key, word, known in (
        ("rounding", stage.rounding, ROUNDINGS), ("overflow", stage.overflow, OVERFLOWS), ("form", stage.form, SECTION_FORMS),
    ):  # fmt: skip
        if word not in known:
            raise FormatError(f'"{word}" is not known here', f"{where}.{key}", f"known are {', '.join(known)}")
