"""What follows from a project, step by step: Brief, Ideal, Rounded, Arithmetic, Code."""

from __future__ import annotations

from collections.abc import Callable

from msgspec import Struct

from combe.analysis.certified import certified_lines
from combe.analysis.exact import exact_filter
from combe.benching.asks import HEARD, ask_lines
from combe.benching.run import run_bench
from combe.benching.setup import signal_of
from combe.delivery.languages import Order
from combe.delivery.package import Package
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.methods import design_task, method_named
from combe.designing.task import Stop, Task
from combe.errors import DesignError
from combe.filters import Filter
from combe.ledger import Line, meets
from combe.project.document import Project, hardware_of
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.rounding.holding import designed
from combe.rounding.rates import realize_design
from combe.rounding.realize import rounded_lines
from combe.running.simulate import simulate
from combe.signals.spec import signal_from_sentence
from combe.signals.sweep import measured_lines, sweep_for
from combe.values import replace


class Ideal(Struct, frozen=True):
    """The exact design; a draft, made while an edge is dragged, may differ in the last digits; ``known`` are its lines where
    they are worked out already."""

    design: Design
    asked: Requirement
    is_draft: bool = False
    known: tuple[Line, ...] = ()

    @property
    def lines(self) -> tuple[Line, ...]:
        """Every limit and what was reached; worked out when first asked for, so that no picture waits for it."""
        return self.known or lines_of_design(self.design, self.asked)


class Rounded(Struct, frozen=True):
    """The integer program; ``known`` are its lines with integer coefficients where they are worked out already."""

    realization: Realization
    known: tuple[Line, ...] = ()
    asked: Requirement | None = None

    @property
    def lines(self) -> tuple[Line, ...]:
        """Every limit and what is reached with integer coefficients."""
        if self.known or self.asked is None:
            return self.known
        return rounded_lines(self.realization, self.asked)

    @property
    def exact(self) -> Filter:
        """The filter its integer coefficients stand for."""
        return exact_filter(self.realization)


class Chain(Struct, frozen=True):
    """Everything that follows from a project, step by step."""

    ideal: Ideal
    rounded: Rounded
    """With the margins that could be proved."""
    measured: tuple[Line, ...]
    package: Package


def chain_of(project: Project, say: Callable[[str], None] = lambda _: None) -> Chain:
    """The whole chain at once; ``say`` is told each step as it begins."""
    say("design")
    ideal = ideal_of(project)
    say("rounding")
    rounded = rounded_of(project, ideal)
    rounded = replace(rounded, known=certified_lines(rounded.realization, project.requirement, rounded.lines))
    say("arithmetic")
    measured = arithmetic_lines(rounded)
    say("code")
    return Chain(ideal, rounded, measured, package_of(project, rounded, ideal))


def ideal_of(
    project: Project, is_stopped: Stop = lambda: False, near: Design | None = None, is_draft: bool = False
) -> Ideal:
    """The design a project asks for; a draft while an edge is dragged."""
    asked = project.requirement
    task = Task(asked, asked.sample_rate_hz, project.design, is_stopped, near, is_draft)
    try:
        found = designed(task)
    except DesignError as error:
        if project.design.holds_with_bits is None:
            raise
        # What holds with no integers of the width is still shown, and what it misses once rounded.
        found = design_task(task)
        found = replace(found, notes=(*found.notes, error.sentence().removeprefix("holds_with_bits: ")))
    if not is_draft and project.design.order is not None and not project.design.cutoffs_hz:
        found = _with_length_that_would_do(found, task)
    return Ideal(found, project.requirement, is_draft)


def _with_length_that_would_do(found: Design, task: Task) -> Design:
    """A length held by hand that misses a limit says which would do."""
    asked = task.asked
    if meets(lines_of_design(found, asked)) or "requirement" not in method_named(task.choice.method).asks:
        return found
    try:
        least = design_task(replace(task, choice=replace(task.choice, order=None), near=None))
    except DesignError:
        return replace(found, notes=(*found.notes, "no length keeps every limit"))
    if not meets(lines_of_design(least, asked)) or least.order <= found.order:
        return found
    return replace(found, notes=(*found.notes, f"order {least.order} would keep every limit"))


def rounded_of(project: Project, ideal: Ideal, is_stopped: Stop = lambda: False, is_draft: bool = False) -> Rounded:
    """The realization a project asks for; a draft rounds plainly."""
    asked = None if is_draft else project.requirement
    made = realize_design(ideal.design, project.arithmetic, project.name, is_stopped, 0.0, asked)
    return Rounded(made, () if is_draft else rounded_lines(made, project.requirement), project.requirement)


def arithmetic_lines(rounded: Rounded) -> tuple[Line, ...]:
    """Every gain limit measured with a full-scale tone through the bit-true model."""
    sweep = sweep_for(rounded.realization, rounded.lines)
    output = simulate(rounded.realization, sweep.samples)
    return measured_lines(sweep, rounded.realization, output, rounded.lines)


def bench_lines(project: Project, ideal: Ideal, rounded: Rounded, is_stopped: Stop = lambda: False) -> tuple[Line, ...]:
    """What the project's bench must show, as the bit-true run stands to it; nothing where it must show nothing."""
    setup, asked = project.bench, project.requirement
    if not setup.asks:
        return ()
    signal = signal_from_sentence(signal_of(setup, asked), asked.input_rate_hz, setup.samples, setup.seed)
    bench = run_bench(rounded.realization, ideal.design.filter, signal, (HEARD,), is_stopped=is_stopped)
    return ask_lines(bench, setup.asks)


def package_of(project: Project, rounded: Rounded, ideal: Ideal) -> Package:
    """The generated code of a project."""
    order = Order(
        rounded.realization, project.code_name, project.code, hardware_of(project), project.requirement, rounded.lines,
        ideal.design.summary(),
    )  # fmt: skip
    return project.code.written_in.write(order)
