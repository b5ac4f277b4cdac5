"""The data path of an architecture as a drawing: boxes, operators and wires with their widths, in units of its own."""

from __future__ import annotations

from dataclasses import dataclass, field

from msgspec import Struct

from combe.delivery.hdl.build import Built
from combe.delivery.hdl.fir_pairs import Pairs, is_paired
from combe.delivery.hdl.page import several
from combe.delivery.hdl.parts import inner_width
from combe.delivery.hdl.walks import walk_of
from combe.realization.cic import Cic
from combe.realization.formats import narrowest_signed
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.rounding.search.adders import adder_graph

SHOWN = 3
"""Taps drawn before the dots."""


class Shape(Struct, frozen=True):
    """A box, or a circle around a sign, by its middle."""

    kind: str
    x: float
    y: float
    text: str
    width: float = 1.0
    height: float = 0.6


class Wire(Struct, frozen=True):
    """A polyline with an arrow at its end; ``bits`` are told beside its first stretch, 0 for none."""

    points: tuple[tuple[float, float], ...]
    bits: int = 0


@dataclass
class Diagram:
    """What is drawn, within ``width`` by ``height``."""

    shapes: list[Shape] = field(default_factory=list)
    wires: list[Wire] = field(default_factory=list)
    width: float = 10.0
    height: float = 4.0

    def box(self, x: float, y: float, text: str, width: float = 1.0, height: float = 0.6) -> None:
        """A register, a memory, a rounding."""
        self.shapes.append(Shape("box", x, y, text, width, height))

    def circle(self, x: float, y: float, sign: str) -> None:
        """A multiplier or an adder."""
        self.shapes.append(Shape("circle", x, y, sign, 0.4, 0.4))

    def word(self, x: float, y: float, text: str) -> None:
        """Words alone."""
        self.shapes.append(Shape("word", x, y, text, 1.0, 0.3))

    def wire(self, *points: tuple[float, float], bits: int = 0) -> None:
        """A wire."""
        self.wires.append(Wire(points, bits))


def diagram_of(realization: Realization, built: Built) -> Diagram:
    """The drawing of a circuit."""
    taps = [stage for stage in realization.stages if not isinstance(stage, Requantize)]
    if len(taps) == 1 and isinstance(taps[0], TapSum):
        kind = built.architecture
        if kind in ("serial", "semi-parallel"):
            return _sequenced(realization, taps[0], built)
        if kind in ("transposed", "multiplierless"):
            return _transposed(realization, taps[0], kind == "multiplierless")
        return _folded(realization, taps[0]) if kind == "folded" else _direct(realization, taps[0])
    is_engine = built.architecture == "serial" and not realization.changes_rate
    return _engine(realization, built) if is_engine else _chain(realization, built)


def _columns(count: int) -> list[int | None]:
    """Taps that are drawn; None for dots."""
    return list(range(count)) if count <= SHOWN + 2 else [*range(SHOWN), None, count - 1]


def _ending(drawing: Diagram, realization: Realization, x: float, y: float, bits: int) -> None:
    """Rounding, the output register, the port."""
    drawing.wire((x, y), (x + 0.7, y), bits=bits)
    drawing.box(x + 1.25, y, "round", 1.1)
    drawing.wire((x + 1.8, y), (x + 2.4, y), bits=realization.output.bits)
    drawing.box(x + 2.75, y, "reg", 0.7)
    drawing.wire((x + 3.1, y), (x + 3.8, y), bits=realization.output.bits)
    drawing.word(x + 4.35, y, "out_data")
    drawing.width = max(drawing.width, x + 4.9)


def _direct(realization: Realization, stage: TapSum) -> Diagram:
    drawing, width = Diagram(height=4.2), inner_width(realization.input)
    drawing.word(0.4, 0.6, "in_data")
    x = 0.9
    product = width + stage.coefficient.bits
    columns = _columns(len(stage.coefficients))
    for place, tap in enumerate(columns):
        if tap is None:
            drawing.wire((x, 0.6), (x + 0.3, 0.6))
            drawing.word(x + 0.7, 0.6, "…")
            x += 1.1
            continue
        drawing.wire((x, 0.6), (x + 0.4, 0.6), bits=width if place < 2 else 0)
        drawing.box(x + 0.75, 0.6, "reg", 0.7)
        drawing.wire((x + 1.3, 0.6), (x + 1.3, 1.5))
        drawing.circle(x + 1.3, 1.7, "×")
        drawing.word(x + 0.72, 1.7, str(stage.coefficients[tap]))
        drawing.wire((x + 1.3, 1.9), (x + 1.3, 2.9), bits=product if place < 2 else 0)
        drawing.wire((x + 1.1, 0.6), (x + 1.6, 0.6))
        x += 1.6
    drawing.box((x + 1.0) / 2, 3.2, f"sum of {len(stage.coefficients)} products, a tree of adders", x - 1.0)
    _ending(drawing, realization, x, 3.2, stage.accumulator.bits)
    return drawing


def _folded(realization: Realization, stage: TapSum) -> Diagram:
    drawing, width = Diagram(height=4.8), inner_width(realization.input)
    count = len(stage.coefficients)
    drawing.word(0.4, 0.5, "in_data")
    x = 0.9
    columns = _columns((count + 1) // 2)
    for place, tap in enumerate(columns):
        if tap is None:
            drawing.word(x + 0.4, 0.5, "…")
            drawing.word(x + 0.4, 1.3, "…")
            x += 0.9
            continue
        drawing.wire((x - (0.35 if place else 0), 0.5), (x + 0.35, 0.5), bits=width if place < 2 else 0)
        if place < len(columns) - 1:
            drawing.wire((x + 2.0, 1.3), (x + 1.05, 1.3))
        drawing.box(x + 0.7, 0.5, "reg", 0.7, 0.5)
        drawing.box(x + 0.7, 1.3, "reg", 0.7, 0.5)
        drawing.wire((x + 1.05, 0.5), (x + 1.3, 0.5), (x + 1.3, 1.9))
        drawing.wire((x + 0.7, 1.55), (x + 0.7, 2.1), (x + 1.1, 2.1))
        drawing.circle(x + 1.3, 2.1, "+" if stage.symmetry > 0 else "−")
        drawing.wire((x + 1.3, 2.3), (x + 1.3, 2.7), bits=width + 1 if place < 2 else 0)
        drawing.circle(x + 1.3, 2.9, "×")
        drawing.word(x + 0.72, 2.9, str(stage.coefficients[tap]))
        drawing.wire((x + 1.3, 3.1), (x + 1.3, 3.7), bits=width + 1 + stage.coefficient.bits if place < 2 else 0)
        x += 1.65
    drawing.box((x + 1.0) / 2, 4.0, f"sum of {(count + 1) // 2} products, a tree of adders", x - 1.0)
    _ending(drawing, realization, x, 4.0, stage.accumulator.bits)
    return drawing


def _transposed(realization: Realization, stage: TapSum, is_multiplierless: bool) -> Diagram:
    drawing, width = Diagram(height=4.0), inner_width(realization.input)
    taps = stage.coefficients
    drawing.word(0.4, 0.5, "in_data")
    drawing.wire((0.8, 0.5), (1.2, 0.5), bits=width)
    drawing.box(1.55, 0.5, "reg", 0.7, 0.5)
    columns = _columns(len(taps))[::-1]
    start = 2.6
    end = start + 1.7 * len(columns)
    if is_multiplierless:
        drawing.wire((1.9, 0.5), (start, 0.5))
        adders = len(adder_graph(taps).adders)
        drawing.box(
            (start + end) / 2 - 0.2, 0.5, f"shifts and {adders} adders make every multiple", end - start - 0.4, 0.6
        )
    else:
        drawing.wire((1.9, 0.5), (end - 0.5, 0.5))
    low = high = 0
    x = start
    for tap in columns:
        if tap is None:
            drawing.word(x + 0.7, 2.4, "…")
            x += 1.7
            continue
        later = taps[tap:]
        ends = [(c * realization.input.least, c * realization.input.most) for c in later]
        low, high = sum(min(*e, 0) for e in ends), sum(max(*e, 0) for e in ends)
        bits = narrowest_signed(low, high)
        drawing.wire((x + 0.5, 0.8 if is_multiplierless else 0.5), (x + 0.5, 1.3))
        if not is_multiplierless:
            drawing.circle(x + 0.5, 1.5, "×")
        drawing.word(x, 1.5, str(taps[tap]))
        drawing.wire(
            (x + 0.5, 1.7 if not is_multiplierless else 1.3),
            (x + 0.5, 2.2),
            bits=width + stage.coefficient.bits if tap == columns[0] else 0,
        )
        drawing.circle(x + 0.5, 2.4, "+")
        drawing.wire((x + 0.7, 2.4), (x + 0.95, 2.4))
        drawing.box(x + 1.25, 2.4, "reg", 0.6, 0.5)
        drawing.wire((x + 1.55, 2.4), (x + 2.0, 2.4), bits=bits)
        x += 1.7
    _ending(drawing, realization, x + 0.3, 2.4, stage.accumulator.bits)
    return drawing


def _sequenced(realization: Realization, stage: TapSum, built: Built) -> Diagram:
    lanes, width = built.multipliers_asked, inner_width(realization.input)
    changes, is_fixed = realization.changes_rate, "coefficient_write" not in built.circuit.signals
    in_pairs = built.architecture == "semi-parallel" and not changes and is_paired(stage, is_fixed)
    counts = walk_of(stage, is_fixed and changes).clocks(max(lanes, 1))
    if in_pairs:
        counts = (Pairs.of(stage, lanes).count,)
    # Where the rate changes every lane has all samples an output can meet, else only those of its own taps.
    samples, count = (-(-len(stage.coefficients) // stage.up) if changes else counts[0]), sum(counts)
    drawn = min(lanes, 2)
    drawing = Diagram(height=2.2 + 1.6 * drawn)
    drawing.word(0.4, 0.6, "in_data")
    y = 0.6
    for lane in range(drawn):
        if lane == 0:
            drawing.wire((0.8, y), (1.4, y), bits=width)
        elif changes:
            drawing.wire((1.05, 0.6), (1.05, y), (1.4, y))
        else:
            drawing.wire((2.2, y - 1.3), (2.2, y - 0.3), bits=width)
        drawing.box(2.2, y, f"{'2 × ' if in_pairs else ''}{samples} samples", 1.6)
        drawing.box(2.2, y + 0.8, f"{count} coefficients", 1.6)
        if in_pairs:
            drawing.wire((3.0, y - 0.12), (3.12, y - 0.12))
            drawing.wire((3.0, y + 0.12), (3.12, y + 0.12))
            drawing.circle(3.28, y, "+" if stage.symmetry > 0 else "−")
        drawing.wire((3.48 if in_pairs else 3.0, y), (3.8, y), (3.8, y + 0.2), bits=width + in_pairs)
        drawing.wire((3.0, y + 0.8), (3.8, y + 0.8), (3.8, y + 0.6), bits=stage.coefficient.bits)
        drawing.circle(3.8, y + 0.4, "×")
        drawing.wire(
            (4.0, y + 0.4), (5.0 if lanes > 1 else 6.0, y + 0.4), bits=width + in_pairs + stage.coefficient.bits
        )
        y += 1.6
    if lanes > drawn:
        drawing.word(
            2.2,
            y - 0.3,
            f"… {lanes} lanes, {'each with all samples' if changes else 'each handing its oldest sample on'}",
        )
    if lanes > 1:
        drawing.box(5.3, 1.0 + 0.8 * (drawn - 1), "Σ", 0.6, 0.8 + 1.6 * (drawn - 1))
    middle = 1.0 + (0.8 * (drawn - 1) if lanes > 1 else 0)
    if lanes > 1:
        drawing.wire((5.6, middle), (6.0, middle))
    drawing.circle(6.2, middle, "+")
    drawing.wire((6.4, middle), (6.8, middle))
    drawing.box(7.55, middle, "accumulator", 1.5)
    drawing.wire(
        (7.55, middle + 0.3),
        (7.55, middle + 0.8),
        (6.2, middle + 0.8),
        (6.2, middle + 0.2),
        bits=stage.accumulator.bits,
    )
    _ending(drawing, realization, 8.3, middle, stage.accumulator.bits)
    clocks = "1 clock" if built.clocks == 1 else f"{built.clocks} clocks"
    drawing.word(4.5, drawing.height - 0.2, f"{clocks} a sample, counted by a sequencer")
    return drawing


def _chain(realization: Realization, built: Built) -> Diagram:
    """Stages in a row, each with its sum's width; where the rate changes, with its factor and what works at it."""
    drawing, lanes = Diagram(height=3.0), dict(built.row)
    is_fixed = "coefficient_write" not in built.circuit.signals
    drawing.word(0.4, 1.2, "in_data")
    x, bits = 0.9, inner_width(realization.input)
    for index, stage in enumerate(realization.stages):
        drawing.wire((x, 1.2), (x + 0.6, 1.2), bits=bits)
        if isinstance(stage, Section):
            drawing.box(x + 1.5, 1.2, f"direct form I\nsum {stage.accumulator.bits}", 1.8, 0.9)
            drawing.wire((x + 2.4, 1.5), (x + 2.6, 2.2), (x + 0.4, 2.2), (x + 0.6, 1.5), bits=stage.result.bits)
            x, bits = x + 2.4, stage.result.bits
        elif isinstance(stage, Network):
            widest = max(node.accumulator.bits for node in stage.nodes)
            text = f"{stage.form}{_factor(stage)}\n{len(stage.nodes)} sums up to {widest} bits"
            is_changing = max(stage.up, stage.down) > 1
            drawing.box(
                x + 1.5, 1.2, text + ("\none product a clock" if is_changing else ""), 1.8, 1.4 if is_changing else 0.9
            )
            x, bits = x + 2.4, stage.result.bits
        elif isinstance(stage, TapSum):
            text = f"{len(stage.coefficients)} taps{_factor(stage)}\nsum {stage.accumulator.bits}"
            if index in lanes:
                clocks = walk_of(stage, is_fixed).longest(lanes[index])
                text += f"\n{several(lanes[index], 'multiplier')}\n{several(clocks, 'clock')} an output"
            across, high = (2.1, 1.4) if index in lanes else (1.8, 0.9)
            drawing.box(x + 0.6 + across / 2, 1.2, text, across, high)
            x, bits = x + 0.6 + across, stage.accumulator.bits
        elif isinstance(stage, Cic):
            widths = stage.register_bits(realization.formats()[index])
            wide = f"{widths[0]} to {widths[-1]}" if len(set(widths)) > 1 else f"{widths[0]}"
            text = f"{stage.order} sums in a row{_factor(stage)}\nregisters of {wide} bits"
            drawing.box(x + 1.5, 1.2, text, 1.8, 0.9)
            x, bits = x + 2.4, stage.accumulator.bits
        else:
            drawing.box(x + 1.1, 1.2, "round", 1.0, 0.6)
            x, bits = x + 1.6, stage.target.bits
    drawing.wire((x, 1.2), (x + 0.7, 1.2), bits=bits)
    drawing.box(x + 1.05, 1.2, "reg", 0.7)
    drawing.wire((x + 1.4, 1.2), (x + 2.0, 1.2), bits=realization.output.bits)
    drawing.word(x + 2.4, 1.2, "out_data")
    drawing.width = x + 2.9
    if realization.changes_rate:
        every = several(built.clocks, "clock") if built.clocks > 1 else "clock"
        drawing.word(drawing.width / 2, drawing.height - 0.3, f"a sample every {every}")
    return drawing


def _factor(stage: TapSum | Cic | Network) -> str:
    """What a stage does to the rate."""
    up, down = f" ×{stage.up}" if stage.up > 1 else "", f" ÷{stage.down}" if stage.down > 1 else ""
    return f",{up}{down}" if up or down else ""


def _engine(realization: Realization, built: Built) -> Diagram:
    """One multiplier, a memory of signals, a program."""
    program = realization.program
    widest = max(step.accumulator.bits for step in program.steps)
    word = max(inner_width(realization.input), *(inner_width(step.result) for step in program.steps))
    drawing = Diagram(width=11.5, height=3.6)
    drawing.word(0.4, 0.8, "in_data")
    drawing.wire((0.8, 0.8), (1.4, 0.8), bits=inner_width(realization.input))
    drawing.box(2.3, 0.8, "signals", 1.6)
    drawing.box(2.3, 1.9, f"program, {built.clocks - 1} lines", 1.8)
    drawing.wire((3.1, 0.8), (4.2, 0.8), (4.2, 1.1), bits=word)
    drawing.wire((3.2, 1.9), (4.2, 1.9), (4.2, 1.5))
    drawing.circle(4.2, 1.3, "×")
    drawing.wire((4.4, 1.3), (5.2, 1.3))
    drawing.circle(5.4, 1.3, "+")
    drawing.wire((5.6, 1.3), (6.0, 1.3))
    drawing.box(6.6, 1.3, "accumulator", 1.2)
    drawing.wire((6.6, 1.6), (6.6, 2.1), (5.4, 2.1), (5.4, 1.5), bits=widest)
    drawing.wire((7.2, 1.3), (7.8, 1.3), bits=widest)
    drawing.box(8.4, 1.3, "roundings", 1.2)
    drawing.wire((8.4, 1.0), (8.4, 0.2), (2.3, 0.2), (2.3, 0.5), bits=word)
    drawing.wire((9.0, 1.3), (9.6, 1.3), bits=realization.output.bits)
    drawing.box(9.95, 1.3, "reg", 0.7)
    drawing.wire((10.3, 1.3), (10.7, 1.3))
    drawing.word(11.1, 1.3, "out_data")
    drawing.word(5.0, 3.2, f"{built.clocks} clocks a sample")
    return drawing
