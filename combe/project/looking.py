"""What pages show that is worked out only while they are looked at; each result is reported as it is ready."""

from __future__ import annotations

import contextlib
import time

from combe.benching.run import MOST_AT_ONCE, Bench, run_bench
from combe.benching.setup import MODELS, TOOLS, signal_of
from combe.delivery.coloring import colored
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.diagram import diagram_of
from combe.delivery.package import Package
from combe.delivery.tables import integer_sets, sets_text
from combe.designing.costs import cycles_of_design
from combe.designing.workers import apart, soon
from combe.errors import CombeError
from combe.project.chain import Ideal, Rounded
from combe.project.compared import State, states_of
from combe.project.document import Project, hardware_of
from combe.project.results import STREAMED_S, Counted, Drawing, Failure, News, Reports, Stop, pinned
from combe.realization.stages import Realization
from combe.rounding.choices import uncounted
from combe.rounding.realize import realize
from combe.rounding.trade import BITS, Cell, trade
from combe.rounding.widths import WidthPoint, design_chart
from combe.signals.noise_run import SIGNALS, listen
from combe.signals.spec import signal_from_sentence
from combe.values import replace

FIRST_LOOK = 1 << 16


@apart
def compared_states(project: Project, is_stopped: Stop) -> Reports:
    """The filter as it stands and its variants, one after another."""
    found: list[State] = []
    for state in states_of(project, is_stopped):
        found.append(state)
        yield News("states", tuple(found), is_whole=False)
    if not is_stopped():
        yield News("states", tuple(found))


@soon
def listened(rounded: Rounded, project: Project, signal: str, is_stopped: Stop) -> Reports:
    """The error of the bit-true run on a signal; on the first of them where none is named."""
    yield News("heard", listen(rounded.realization, project.requirement, signal or SIGNALS[0]))


@soon
def drawn(rounded: Rounded, project: Project, is_stopped: Stop) -> Reports:
    """The data path of the architecture in force."""
    built = build_circuit(rounded.realization, "filter_drawn", hardware_of(project))
    yield News("drawing", Drawing(built, diagram_of(rounded.realization, built)))


@soon
def tinted(package: Package, is_stopped: Stop) -> Reports:
    """What the stretches of the generated text are."""
    yield News("colored", {file.name: colored(file.text, file.name) for file in package.files})


def tabled(rounded: Rounded, project: Project) -> Reports:
    """The coefficients as text by the project's recipe."""
    yield News("table", sets_text(integer_sets(rounded.realization), project.recipe, project.code_name))


@apart
def charted(ideal: Ideal, project: Project, is_stopped: Stop) -> Reports:
    """Margin and noise of every structure at every width."""
    points: list[WidthPoint] = []
    for point in design_chart(ideal.design, project.requirement, uncounted(project.arithmetic), is_stopped):
        points.append(point)
        if len(points) % 8 == 0:
            yield News("chart", tuple(points), is_whole=False)
    yield News("chart", tuple(points))


@apart
def traded(ideal: Ideal, project: Project, is_stopped: Stop) -> Reports:
    """Every order from the least upward at every width."""
    cells: list[Cell] = []
    told = 0.0
    try:
        choice = project.design
        first = ideal.design if choice.order is None and choice.holds_with_bits is None else None
        for cell in trade(project.requirement, choice, BITS, None, project.arithmetic, False, is_stopped, first):
            cells.append(cell)
            if time.monotonic() - told > STREAMED_S:
                told = time.monotonic()
                yield News("trade", tuple(cells), is_whole=False)
    except CombeError as error:
        yield Failure("trade", error)
        return
    yield News("trade", tuple(cells))


def benched(rounded: Rounded, ideal: Ideal, project: Project, is_stopped: Stop) -> Reports:
    """The signal on the bench through all it goes through; models at once, compiled code and circuits after them."""
    setup, asked = project.bench, project.requirement
    try:
        signal = signal_from_sentence(signal_of(setup, asked), asked.input_rate_hz, setup.samples, setup.seed)
        against = (setup.average,) if setup.average else ()
        models = tuple(name for name in setup.through if name in MODELS)
        tools = tuple(name for name in setup.through if name in TOOLS)

        def made(names: tuple[str, ...]) -> Bench:
            return run_bench(
                rounded.realization, ideal.design.filter, signal, names, against, is_stopped=is_stopped,
                circuit=hardware_of(project), pinned=pinned(project),
            )  # fmt: skip

        if models and setup.samples > MOST_AT_ONCE:
            # The beginning of a long signal is on screen before the rest has gone through.
            first = run_bench(
                rounded.realization, ideal.design.filter, replace(signal, samples=FIRST_LOOK), models, against,
                is_stopped=is_stopped, pinned=pinned(project),
            )  # fmt: skip
            yield News("bench", first, is_whole=False)
        if tools and models:
            yield News("bench", made(models), is_whole=False)
        yield News("bench", made((*models, *tools) or ("ideal",)))
    except CombeError as error:
        yield Failure("bench", error)


def boarded(
    rounded: Rounded, ideal: Ideal, project: Project, counted: Counted, change: tuple[int, int] | None = None
) -> Reports:
    """The bench's signal through the made-up board, with the cycles that were counted last, or estimated ones; with a
    ``change`` a pinned filter (its place) takes over in the middle, over so many samples."""
    from combe.benching.board.run import Change, run_board, runner_of
    from combe.benching.board.schedule import INTERRUPT_CYCLES, Pace

    setup, asked, processor = project.bench, project.requirement, project.processor
    own = [row for row in counted.rows if not row.taps and row.variant in ("intrinsics", "integer")]
    nearest = min(own, key=lambda row: abs(row.block - processor.block), default=None)
    cycles = nearest.cycles if nearest is not None else cycles_of_design(ideal.design, processor.core)
    try:
        signal = signal_from_sentence(
            signal_of(setup, asked), asked.input_rate_hz, min(setup.samples, MOST_AT_ONCE), setup.seed
        )
        pace = Pace(asked.input_rate_hz, processor.block, processor.clock_hz, cycles, INTERRUPT_CYCLES)
        with contextlib.ExitStack() as stack:
            run = runner_of(rounded.realization, "code", stack)
            entry, result = project.code.converter_in or "12", project.code.converter_out
            other, then = None, None
            if change is not None and change[0] < len(project.pins):
                made = _as_pinned(project, rounded, change[0])
                blocks = (signal.samples or 0) // processor.block
                then = Change(made, blocks // 2 * processor.block + processor.block // 2, change[1])
                other = runner_of(made, "code", stack)
            yield News("board", run_board(rounded.realization, signal, pace, run, entry, result, then, other))
    except CombeError as error:
        yield Failure("board", error)


def _as_pinned(project: Project, rounded: Rounded, place: int) -> Realization:
    """A pinned filter in the arithmetic of the open one."""
    own = rounded.realization
    choices = replace(
        uncounted(project.arithmetic), input=str(own.input), output=str(own.output), structure="", accumulator_bits=None
    )
    return realize(project.pins[place].filter, own.sample_rate_hz, choices, project.name)
