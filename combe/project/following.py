"""What follows from a project, worked out in the background: each function yields ``News`` as results are ready."""

from __future__ import annotations

import contextlib
import importlib
import time
from collections.abc import Callable, Iterator, Sequence
from queue import Queue
from threading import Thread
from typing import Any

from combe.analysis.certified import certified_lines
from combe.analysis.fact import Fact
from combe.analysis.facts import facts
from combe.benching.run import MOST_AT_ONCE, Bench, run_bench
from combe.benching.setup import MODELS, TOOLS, signal_of
from combe.delivery.coloring import colored
from combe.delivery.hdl.build import build_circuit
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.hdl.diagram import diagram_of
from combe.delivery.hdl.writer import hdl_package
from combe.delivery.package import Package
from combe.delivery.recipes import table_text
from combe.delivery.tables import integer_table
from combe.designing.contenders import QUICK_FIRST, Contender, contender_of, contenders
from combe.designing.costs import cycles_of_design
from combe.designing.designed import Design
from combe.designing.equiripple import exchange
from combe.designing.nearest import Relaxation, relaxations
from combe.designing.prices import Price, prices
from combe.designing.workers import apart, urgent
from combe.errors import CombeError, PoleError
from combe.filters import Filter
from combe.ledger import Line, worst_line
from combe.project.chain import Ideal, Rounded, arithmetic_lines, bench_lines, ideal_of, package_of, rounded_of
from combe.project.compared import State, states_of
from combe.project.document import INPUT, Member, Project, hardware_of
from combe.project.results import Counted, Drawing, Excerpt, Failure, News, Progress, Results, pinned
from combe.project.sources import way_to
from combe.project.way import product_of
from combe.proof.budget import BudgetRow, budget, calibrated
from combe.proof.process import stoppable
from combe.proof.synthesis import Synthesized, synthesized
from combe.proof.waves import excerpt
from combe.realization.stages import Realization
from combe.responses.curves import delay_curve, magnitude_curve, phase_curve
from combe.rounding.choices import uncounted
from combe.rounding.movement import rounding_facts
from combe.rounding.rates import realize_design
from combe.rounding.realize import FEWEST_BITS, HELD, realize, rounded_lines
from combe.rounding.remedies import rounding_remedies
from combe.rounding.trade import BITS, Cell, trade
from combe.rounding.widths import WidthPoint, width_chart
from combe.signals.noise_run import SIGNALS, listen
from combe.signals.spec import signal_from_sentence
from combe.values import replace

WIDTHS = range(FEWEST_BITS + 4, 25)
FAR_DB = -6.0
"""Where plain rounding misses by more, or holds, better integers are not searched for the list of widths."""
MEASURED_DEVICES = ("ecp5", "ice40-up5k")
EXCERPT_CLOCKS, MOST_EXCERPT = 48, 400
BUDGET_TAPS = (16, 32, 64, 128, 256)

HELPS = Fact("warning", "Rounding misses a limit. What helps, each tried:")
STREAMED_S = 0.2
"""How often a result that grows is shown anew."""

FIRST_LOOK = 1 << 16
Reports = Iterator[News | Failure | Progress]
Stop = Callable[[], bool]


def chain(project: Project, start: Ideal | Design | None, with_rest: bool, known: Results, is_stopped: Stop) -> Reports:
    """Everything along the chain, each step as it's ready; ``start`` is the design itself or one nearby.

    What is fresh among the results known already is taken from there. Without ``with_rest`` only a draft is made.
    """
    if not with_rest:
        ideal = start if isinstance(start, Ideal) else ideal_of(project, is_stopped, start, True)
        yield from _draft(project, ideal, is_stopped)
        return
    missing = known.missing(
        ("rounded", "way", "asked", "measured", "certified", "compared", "package", "facts", "rounding_facts")
    )
    if project.design.holds_with_bits is not None and not isinstance(start, Ideal):
        # The search for integers may take seconds; meanwhile the least order stands there.
        least = replace(project, design=replace(project.design, holds_with_bits=None))
        yield from _draft(project, ideal_of(least, is_stopped, start), is_stopped)
    if isinstance(start, Ideal):
        ideal = start
    elif is_long(project):
        (ideal,) = _designed(project, start, is_stopped)
    else:
        ideal = ideal_of(project, is_stopped, start)
    # Worked out here, not where they are shown.
    _ = ideal.lines
    magnitude_curve(ideal.design.filter)
    yield News("ideal", ideal)
    rounded = None if "rounded" in missing else known.rounded
    if rounded is None:
        try:
            if project.arithmetic.better:
                (rounded,) = _rounded(project, ideal, is_stopped)
            else:
                rounded = rounded_of(project, ideal, is_stopped)
        except CombeError as error:
            yield Failure("rounded", error)
            return
        magnitude_curve(rounded.exact)
        yield News("rounded", rounded)
    if "way" in missing:
        with contextlib.suppress(CombeError):
            way = _way(project, ideal, is_stopped)
            for curve in (magnitude_curve, phase_curve, delay_curve) if way is not None else ():
                curve(way)
            yield News("way", way)
    if "asked" in missing and project.bench.asks:
        # Here, for it may run tools, which only this process knows where to find.
        with contextlib.suppress(CombeError):
            yield News("asked", bench_lines(project, ideal, rounded, is_stopped))
    if set(missing) & {"measured", "certified", "compared"}:
        yield from _held_against(project, rounded, missing, is_stopped)
    if "package" in missing:
        try:
            yield News("package", package_of(project, rounded, ideal))
        except CombeError as error:
            yield Failure("package", error)
    if "facts" in missing or "rounding_facts" in missing:
        yield from _told_of(project, ideal, rounded, missing, is_stopped)


@urgent
def _held_against(project: Project, rounded: Rounded, missing: Sequence[str], is_stopped: Stop) -> Reports:
    """The integers held against what is asked of them: measured, proved, and as circuits."""
    if "measured" in missing:
        yield News("measured", arithmetic_lines(rounded))
    if "certified" in missing:
        yield News("certified", certified_lines(rounded.realization, project.requirement, rounded.lines))
    if "compared" in missing and project.code.written_in.is_circuit:
        yield News("compared", tuple(compared(rounded.realization, hardware_of(project), project.requirement)))


def is_long(project: Project) -> bool:
    """Whether a design may take seconds, so that sending it to another process and hearing of it is nothing beside it."""
    return project.design.holds_with_bits is not None or project.design.method not in QUICK_FIRST


@urgent
def _designed(project: Project, start: Design | None, is_stopped: Stop) -> Iterator[Ideal]:
    yield ideal_of(project, is_stopped, start)


@urgent
def _rounded(project: Project, ideal: Ideal, is_stopped: Stop) -> Iterator[Rounded]:
    yield rounded_of(project, ideal, is_stopped)


@urgent
def _told_of(project: Project, ideal: Ideal, rounded: Rounded, missing: Sequence[str], is_stopped: Stop) -> Reports:
    """Facts of the integers, and what helps where they miss a limit. Following every state of a section may take seconds."""
    if "facts" in missing:
        yield News("facts", tuple(facts(rounded.realization)))
    if "rounding_facts" in missing:
        told = rounding_facts(ideal.design.filter, rounded.realization, project.requirement, project.arithmetic)
        yield News("rounding_facts", tuple(told), is_whole=False)
        asked, choice = project.requirement, project.design
        helps: list[Fact] = []
        for fact in rounding_remedies(ideal.design, choice, asked, project.arithmetic, is_stopped):
            helps.append(fact)
            yield News("rounding_facts", (HELPS, *helps, *told), is_whole=False)
        yield News("rounding_facts", (HELPS, *helps, *told) if helps else tuple(told))


def _way(project: Project, ideal: Ideal, is_stopped: Stop) -> Filter | None:
    """Everything from the input to the open filter; None where nothing stands before it."""
    if project.source == INPUT:
        return None
    names = [member.code_name for member in project.members]
    before = way_to(project.members, project.code_name)[:-1]
    filters = [ideal_of(project.opened(names.index(member.code_name)), is_stopped).design.filter for member in before]
    return product_of([*filters, ideal.design.filter])


def _draft(project: Project, ideal: Ideal, is_stopped: Stop) -> Reports:
    """Under the hand design and rounding arrive at once, so that the plot is painted once."""
    rounded: Rounded | CombeError
    try:
        rounded = rounded_of(project, ideal, is_stopped, True)
    except CombeError as error:
        rounded = error
    yield News("ideal", ideal, is_whole=False)
    if isinstance(rounded, CombeError):
        yield Failure("rounded", rounded)
    else:
        yield News("rounded", rounded, is_whole=False)


def make_ready(is_recursive: bool = False) -> None:
    """Load what drafts under the hand run on, while nobody waits for it; with recursive filters in the project first what they are
    designed with, and the loops that these are run through, or the first to be opened would take half a second."""
    if is_recursive:
        importlib.import_module("scipy.optimize")
    exchange.make_ready()
    if is_recursive:
        from combe.running import compiled

        compiled.make_ready()


def side(project: Project, ideal: Ideal | None, known: list[Contender], is_stopped: Stop) -> Reports:
    """What stands beside the chain: contenders (those ``known`` already stay), and the margin at every width."""
    if ideal is None:
        with contextlib.suppress(CombeError):
            ideal = ideal_of(project, is_stopped)
    found = list(known)
    if not found:
        yield News("relaxations", (), is_whole=False)
        told = -STREAMED_S
        for contender in contenders(project.requirement, is_stopped):
            found.append(contender)
            # Many come at once: each would have the whole list drawn again.
            if time.monotonic() - told > STREAMED_S / 2:
                told = time.monotonic()
                yield News("contenders", tuple(found), is_whole=False)
    if ideal is not None:
        own = contender_of(ideal.design, project.requirement, project.design.symmetry)
        if not any(_same(own, other) for other in found):
            found.append(own)
    if is_stopped():
        return
    yield News("contenders", tuple(found))
    yield from _beside(project, ideal, found, is_stopped)
    if ideal is None:
        return
    yield from _widths(project, ideal, is_stopped)


@apart
def _widths(project: Project, ideal: Ideal, is_stopped: Stop) -> Reports:
    """The least margin at every width, plainly rounded; where better integers are taken, what they reach follows."""
    rows: dict[int, float] = {}
    chosen = project.arithmetic.coefficient_bits
    for better in (False, True) if project.arithmetic.better else (False,):
        for bits in list(rows) if better else WIDTHS:
            if better and bits != chosen and not FAR_DB <= rows[bits] < 0:
                continue  # plain rounding holds already, or a search takes long and finds nothing
            enough = HELD if better and bits != chosen else 0.0
            choices = replace(project.arithmetic, coefficient_bits=bits, accumulator_bits=None, better=better)
            asked = project.requirement
            try:
                made = realize_design(ideal.design, choices, project.name, is_stopped, enough, asked)
            except PoleError:
                continue
            except CombeError:
                break
            worst = worst_line(rounded_lines(made, asked))
            if is_stopped() or worst is None:
                return
            rows[bits] = worst.margin
            if better:
                yield News("widths", tuple(rows.items()), is_whole=False)
    yield News("widths", tuple(rows.items()))


@apart
def _beside(project: Project, ideal: Ideal | None, found: list[Contender], is_stopped: Stop) -> Reports:
    """What each figure costs; what could be relaxed where nothing keeps the requirement."""
    priced: list[Price] = []
    if ideal is not None:
        with contextlib.suppress(CombeError):
            for price in prices(project.requirement, project.design, ideal.design, is_stopped):
                priced.append(price)
            yield News("prices", tuple(priced))
    relaxed: list[Relaxation] = []
    with contextlib.suppress(CombeError):
        for relaxation in relaxations(project.requirement, found, is_stopped):
            relaxed.append(relaxation)
            yield News("relaxations", tuple(relaxed), is_whole=False)
    yield News("relaxations", tuple(relaxed))


def _same(left: Contender, right: Contender) -> bool:
    return (left.method, left.order, left.symmetry) == (right.method, right.order, right.symmetry)


@apart
def compared_states(project: Project, is_stopped: Stop) -> Reports:
    """The filter as it stands and its variants, one after another."""
    found: list[State] = []
    for state in states_of(project, is_stopped):
        found.append(state)
        yield News("states", tuple(found), is_whole=False)
    if not is_stopped():
        yield News("states", tuple(found))


@apart
def standings(
    project: Project, places: list[int], is_stopped: Stop
) -> Iterator[tuple[Member, tuple[Line, ...] | None]]:
    """Filters that aren't open, each with its lines as its integers keep them; None where there is no filter at all."""
    for place in places:
        one = project.opened(place)
        try:
            lines = rounded_of(one, ideal_of(one, is_stopped), is_stopped).lines
        except CombeError:
            yield one.member, None
            continue
        if is_stopped():
            return
        yield one.member, lines


def listened(rounded: Rounded, project: Project, signal: str) -> Reports:
    """The error of the bit-true run on a signal; on the first of them where none is named."""
    yield News("heard", listen(rounded.realization, project.requirement, signal or SIGNALS[0]))


def drawn(rounded: Rounded, project: Project) -> Reports:
    """The data path of the architecture in force."""
    built = build_circuit(rounded.realization, "filter_drawn", hardware_of(project))
    yield News("drawing", Drawing(built, diagram_of(rounded.realization, built)))


def tinted(package: Package) -> Reports:
    """What the stretches of the generated text are."""
    yield News("colored", {file.name: colored(file.text, file.name) for file in package.files})


def tabled(rounded: Rounded, project: Project) -> Reports:
    """The coefficients as text by the project's recipe."""
    found, described, kind, _ = integer_table(rounded.realization)
    yield News("table", table_text(found, project.recipe, project.code_name, described, kind))


@apart
def charted(ideal: Ideal, project: Project, is_stopped: Stop) -> Reports:
    """Margin and noise of every structure at every width."""
    points: list[WidthPoint] = []
    for point in width_chart(ideal.design.filter, project.requirement, uncounted(project.arithmetic), is_stopped):
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


def prove(package: Package, rounded: Rounded, is_stopped: Stop) -> Reports:
    """The proof, its steps told while it runs; of a circuit the first clocks of its waveforms too."""
    language = package.written_in
    yield Progress("proof", f"proving {package.name} with {language.tools[0]}")
    yield from _with_steps(
        "proof",
        lambda told: language.prove(
            package, rounded.realization, rounded.lines, rounded.exact, told, is_stopped
        ),
    )  # fmt: skip
    if language.is_circuit:
        try:
            with stoppable(is_stopped):
                waves = excerpt(package, excerpt_clocks(rounded, package))
            yield News("waves", Excerpt(tuple(waves)))
        except CombeError as error:
            yield News("waves", Excerpt((), error.sentence()))


def excerpt_clocks(rounded: Rounded, package: Package) -> int:
    """Clocks of the excerpt: until the first outputs have come."""
    built = build_circuit(rounded.realization, package.name, package.circuit or HardwareChoices())
    return min(max(EXCERPT_CLOCKS, built.latency + built.clocks + 4), MOST_EXCERPT)


def _with_steps(name: str, work: Callable[[Callable[[str], None]], Any]) -> Reports:
    """What a long piece of work reports, as it comes, then its result."""
    reports: Queue[News | Progress | BaseException] = Queue()

    def run() -> None:
        try:
            reports.put(News(name, work(lambda step: reports.put(Progress(name, step)))))
        except BaseException as error:
            reports.put(error)

    thread = Thread(target=run, daemon=True)
    thread.start()
    while True:
        report = reports.get()
        if isinstance(report, BaseException):
            raise report
        yield report
        if isinstance(report, News):
            thread.join()
            return


def measured_circuits(rounded: Rounded, project: Project, is_stopped: Stop) -> Reports:
    """Every architecture synthesized, device by device."""
    found: dict[str, tuple[Synthesized, ...]] = {}
    choices = hardware_of(project)
    for row in compared(rounded.realization, choices, project.requirement):
        if row.built is None:
            continue
        own = replace(choices, architecture=row.architecture)
        package = hdl_package(rounded.realization, "verilog", "filter_measured", choices=own)
        for device in MEASURED_DEVICES:
            if is_stopped():
                return
            with stoppable(is_stopped):
                cost = synthesized(package, device)
            found[row.architecture] = (*found.get(row.architecture, ()), cost)
            yield News("synthesized", dict(found), is_whole=False)
    yield News("synthesized", found)


def counted(rounded: Rounded, project: Project, is_stopped: Stop) -> Reports:
    """Rows of a processor's budget, as they are measured."""
    processor = project.processor
    rows: list[BudgetRow] = []
    known = None
    if "/" in processor.measured:
        usual = calibrated(processor.core, processor.clock_hz, "")
        found = [row for row in budget(rounded.realization, usual, (), ("intrinsics",)) if isinstance(row, BudgetRow)]
        known = next((row.instructions for row in found if row.block == 256), None)
    calibration = calibrated(processor.core, processor.clock_hz, processor.measured, known)
    sentence = ""
    lengths = () if rounded.realization.is_recursive else BUDGET_TAPS
    for each in budget(rounded.realization, calibration, lengths, is_stopped=is_stopped):
        if isinstance(each, BudgetRow):
            rows.append(each)
        else:
            sentence = each
        yield News("budget", Counted(tuple(rows), sentence), is_whole=False)
    yield News("budget", Counted(tuple(rows), sentence))
