"""What follows from a project, worked out in the background: each function yields results as they are ready."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from dataclasses import replace
from queue import Queue
from threading import Thread
from typing import Any

from combe.arithmetic.certified import certified_lines
from combe.arithmetic.choices import Choices
from combe.arithmetic.facts import facts
from combe.arithmetic.movement import rounding_facts
from combe.arithmetic.realize import FEWEST_BITS, realize, rounded_lines
from combe.arithmetic.stages import Realization
from combe.arithmetic.widths import WidthPoint, width_chart
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.design.contenders import Contender, contender_of, contenders
from combe.design.designed import Design
from combe.design.nearest import Relaxation, relaxations
from combe.design.prices import Price, prices
from combe.errors import CombeError
from combe.ledger import worst_line
from combe.project.chain import Ideal, Rounded, arithmetic_lines, hardware_of, ideal_of, package_of, rounded_of
from combe.project.document import Project
from combe.proof.budget import BudgetRow, budget, calibrated
from combe.proof.c import prove_c
from combe.proof.hdl import prove_hdl
from combe.proof.synthesis import Synthesized, synthesized
from combe.proof.waves import excerpt
from combe.requirement import Requirement
from combe.signals.listening import listen

WIDTHS = range(FEWEST_BITS + 4, 25)
EXCERPT_CLOCKS, MOST_EXCERPT = 48, 400
BUDGET_TAPS = (16, 32, 64, 128, 256)

WidthRow = tuple[int, float]
"""Coefficient bits, and the least margin in dB."""


def chain(
    project: Project, start: Ideal | Design | None, with_rest: bool, is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """Everything along the chain, each step as it's ready; ``start`` is the design itself or one nearby."""
    ideal = start if isinstance(start, Ideal) else ideal_of(project, is_stopped, start, not with_rest)
    if with_rest:
        yield "ideal", ideal
    try:
        rounded = rounded_of(project, ideal, is_stopped, not with_rest)
    except CombeError as error:
        yield "ideal", ideal
        yield "rounded-trouble", error
        return
    if not with_rest:
        # Under the hand both arrive at once, so that the plot is painted once.
        yield "ideal", ideal
    yield "rounded", rounded
    if not with_rest:
        return
    yield "arithmetic", arithmetic_lines(rounded)
    yield "certified", certified_lines(rounded.realization, project.requirement, rounded.lines)
    if project.code.is_hdl:
        yield "compared", compared(rounded.realization, hardware_of(project), project.requirement)
    try:
        yield "code", package_of(project, rounded, ideal)
    except CombeError as error:
        yield "code-trouble", error
    # Last, for following every state of a section may take seconds.
    yield "facts", facts(rounded.realization)
    told = rounding_facts(ideal.design.filter, rounded.realization, project.requirement, project.arithmetic)
    yield "rounding-facts", told


def side(
    project: Project, ideal: Ideal | None, known: list[Contender], is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """What stands beside the chain: contenders (those ``known`` already stay), and the margin at every width."""
    if ideal is None:
        with contextlib.suppress(CombeError):
            ideal = ideal_of(project, is_stopped)
    found = list(known)
    if not found:
        yield "relaxations", []
        for contender in contenders(project.requirement, is_stopped):
            found.append(contender)
            yield "contenders", list(found)
    if ideal is not None:
        own = contender_of(ideal.design, project.requirement, project.design.symmetry)
        if not any(_same(own, other) for other in found):
            found.append(own)
    yield "contenders", list(found)
    if is_stopped():
        return
    yield "lined-up", project.requirement
    yield from _beside(project, ideal, found, is_stopped)
    if ideal is None:
        return
    rows: list[WidthRow] = []
    for bits in WIDTHS:
        try:
            choices = replace(project.arithmetic, coefficient_bits=bits, accumulator_bits=None, better=False)
            made = realize(ideal.design.filter, project.requirement.sample_rate_hz, choices)
        except CombeError as error:
            if error.where == "coefficient_bits":
                continue  # a pole moved out at this width
            break
        worst = worst_line(rounded_lines(made, project.requirement))
        if is_stopped() or worst is None:
            return
        rows.append((bits, worst.margin))
    yield "widths", rows


def _beside(
    project: Project, ideal: Ideal | None, found: list[Contender], is_stopped: Callable[[], bool]
) -> Iterator[tuple[str, Any]]:
    """What each figure costs; what could be relaxed where nothing keeps the requirement."""
    priced: list[Price] = []
    yield "prices", []
    if ideal is not None:
        with contextlib.suppress(CombeError):
            for price in prices(project.requirement, project.design, ideal.design, is_stopped):
                priced.append(price)
            yield "prices", list(priced)
    relaxed: list[Relaxation] = []
    with contextlib.suppress(CombeError):
        for relaxation in relaxations(project.requirement, found, is_stopped):
            relaxed.append(relaxation)
            yield "relaxations", list(relaxed)


def _same(left: Contender, right: Contender) -> bool:
    return (left.method, left.order, left.symmetry) == (right.method, right.order, right.symmetry)


def uncounted(choices: Choices) -> Choices:
    """The choices a chart of widths depends on."""
    return replace(choices, structure="", coefficient_bits=16, state_bits=None, better=False, product_bits=None)


def listened(realization: Realization, requirement: Requirement, signal: str) -> Iterator[tuple[str, Any]]:
    """The error of the bit-true run on a signal."""
    yield "noise", listen(realization, requirement, signal)


def charted(design: Design, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    """Margin and noise of every structure at every width."""
    points: list[WidthPoint] = []
    yield "chart", ([], False)
    for point in width_chart(design.filter, project.requirement, uncounted(project.arithmetic), is_stopped):
        points.append(point)
        if len(points) % 8 == 0:
            yield "chart", (list(points), False)
    yield "chart", (points, True)


def prove(package: Package, rounded: Rounded, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    """The proof, its steps told while it runs."""
    if package.hardware is not None:
        ideal = rounded.realization.exact()
        yield from _with_steps(
            lambda report: ("proof", prove_hdl(package, rounded.realization, ideal, report=report, is_stopped=is_stopped))
        )  # fmt: skip
        try:
            yield "waves", (excerpt(package, excerpt_clocks(rounded, package)), "")
        except CombeError as error:
            yield "waves", ([], error.sentence())
        return
    yield "told", f"proving {package.name} with {'g++' if package.language == 'c++' else 'gcc'}"
    yield from _with_steps(
        lambda report: ("proof", prove_c(package, rounded.realization, rounded.lines, report=report, is_stopped=is_stopped))
    )  # fmt: skip


def excerpt_clocks(rounded: Rounded, package: Package) -> int:
    """Clocks of the excerpt: until the first outputs have come."""
    built = build_circuit(rounded.realization, package.name, package.hardware or HardwareChoices())
    return min(max(EXCERPT_CLOCKS, built.latency + built.clocks + 4), MOST_EXCERPT)


def _with_steps(work: Callable[[Callable[[str], None]], tuple[str, Any]]) -> Iterator[tuple[str, Any]]:
    """What a long piece of work reports, as it comes, then its result."""
    news: Queue[tuple[str, Any]] = Queue()

    def run() -> None:
        try:
            news.put(work(lambda step: news.put(("proof-step", step))))
        except BaseException as error:
            news.put(("", error))

    thread = Thread(target=run, daemon=True)
    thread.start()
    while True:
        step, value = news.get()
        if isinstance(value, BaseException):
            raise value
        yield step, value
        if step != "proof-step":
            thread.join()
            return


def measured_circuits(rounded: Rounded, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    """Every architecture synthesized, device by device."""
    found: dict[str, list[Synthesized]] = {}
    yield "synthesis", ({}, True)
    choices = hardware_of(project)
    for row in compared(rounded.realization, choices, project.requirement):
        if row.built is None:
            continue
        own = replace(choices, architecture=row.architecture)
        package = hdl_package(rounded.realization, "verilog", "filter_measured", choices=own)
        found[row.architecture] = []
        for device in ("ecp5", "ice40-up5k"):
            if is_stopped():
                return
            found[row.architecture].append(synthesized(package, device))
            yield "synthesis", ({key: list(value) for key, value in found.items()}, True)
    yield "synthesis", (found, False)


def counted(rounded: Rounded, project: Project, is_stopped: Callable[[], bool]) -> Iterator[tuple[str, Any]]:
    """Rows of a processor's budget, as they are measured."""
    processor = project.processor
    rows: list[BudgetRow] = []
    try:
        known = None
        if "/" in processor.measured:
            usual = calibrated(processor.core, processor.clock_hz, "")
            found = [
                row for row in budget(rounded.realization, usual, (), ("intrinsics",)) if isinstance(row, BudgetRow)
            ]
            known = next((row.instructions for row in found if row.block == 256), None)
        calibration = calibrated(processor.core, processor.clock_hz, processor.measured, known)
    except CombeError as error:
        yield "budget", ([], error.sentence(), False)
        return
    sentence = ""
    lengths = () if rounded.realization.is_recursive else BUDGET_TAPS
    for each in budget(rounded.realization, calibration, lengths, is_stopped=is_stopped):
        if isinstance(each, BudgetRow):
            rows.append(each)
        else:
            sentence = each
        yield "budget", (list(rows), sentence, True)
    yield "budget", (rows, sentence, False)
