"""What follows from a project, worked out in the background: each function yields ``News`` as results are ready."""

from __future__ import annotations

import contextlib
import importlib
import time
from collections.abc import Iterator, Sequence

from combe.analysis.certified import certified_lines
from combe.analysis.fact import Fact
from combe.analysis.facts import facts
from combe.delivery.hdl.compare import compared
from combe.designing.contenders import QUICK_FIRST, Contender, contender_of, contenders
from combe.designing.designed import Design
from combe.designing.methods import method_shown
from combe.designing.nearest import Relaxation, relaxations
from combe.designing.prices import Price, prices
from combe.designing.workers import apart, soon, urgent
from combe.errors import CombeError, PoleError
from combe.filters import Filter, Fir
from combe.ledger import Line, worst_line
from combe.project import readiness
from combe.project.chain import Ideal, Rounded, arithmetic_lines, bench_lines, ideal_of, package_of, rounded_of
from combe.project.document import INPUT, Member, Project, hardware_of
from combe.project.results import STREAMED_S, Failure, News, Reports, Results, Stop
from combe.project.sources import way_to
from combe.project.way import product_of
from combe.responses.curves import delay_curve, magnitude_curve, phase_curve
from combe.rounding.movement import rounding_facts
from combe.rounding.rates import realize_design
from combe.rounding.realize import FEWEST_BITS, HELD, rounded_lines
from combe.rounding.remedies import rounding_remedies
from combe.values import replace

WIDTHS = range(FEWEST_BITS + 4, 25)
LONG_TAPS = 400
"""More take longer to be held against limits than a frame may."""
FAR_DB = -6.0
"""Where plain rounding misses by more, or holds, better integers are not searched for the list of widths."""
HELPS = Fact("warning", "Rounding misses a limit. What helps, each tried:")


def chain(project: Project, start: Ideal | Design | None, with_rest: bool, known: Results, is_stopped: Stop) -> Reports:
    """Everything along the chain, each step as it's ready; ``start`` is the design itself or one nearby.

    What is fresh among the results known already is taken from there. Without ``with_rest`` only a draft is made.
    """
    ideal, near = (start, None) if isinstance(start, Ideal) else (None, start)
    if not with_rest:
        yield from (_long_draft if ideal is None and is_long(project) else _draft)(project, ideal, near, is_stopped)
        return
    missing = known.missing(
        ("rounded", "way", "asked", "measured", "certified", "compared", "package", "facts", "rounding_facts")
    )
    rounded = None if "rounded" in missing else known.rounded
    if ideal is not None:
        yield News("ideal", ideal)
    made = _made(project, ideal, near, rounded, is_stopped) if ideal is None or rounded is None else iter(())
    for report in with_curves(made):
        if isinstance(report, News) and report.name == "ideal":
            ideal = report.value
        elif isinstance(report, News) and report.is_whole:
            rounded = report.value
        yield report
    if ideal is None or rounded is None:
        return
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
    if set(missing) & {"measured", "certified", "compared", "package", "facts", "rounding_facts"}:
        yield from _followed(project, ideal, rounded, missing, is_stopped)


def with_curves(reports: Reports) -> Reports:
    """The same, what is drawn of filters worked out before they are told of: here, not where it is shown. So is what the
    ledger says of long ones; of others the picture doesn't wait for that."""
    told: list[Ideal | Rounded] = []
    for report in reports:
        if isinstance(report, News) and isinstance(report.value, (Ideal, Rounded)):
            found = report.value
            source = found.design.filter if isinstance(found, Ideal) else found.exact
            magnitude_curve(source)
            if isinstance(source, Fir) and len(source.taps) > LONG_TAPS:
                _ = found.lines
            told.append(found)
        yield report
    for found in told:
        _ = found.lines


@urgent
def _made(
    project: Project, ideal: Ideal | None, near: Design | None, rounded: Rounded | None, is_stopped: Stop
) -> Reports:
    """Design and rounding, as far as they aren't known."""
    if ideal is None and project.design.holds_with_bits is not None:
        # The search for integers may take seconds; meanwhile the least order stands there.
        least = replace(project, design=replace(project.design, holds_with_bits=None))
        yield from _draft(least, None, near, is_stopped)
    if ideal is None:
        ideal = ideal_of(project, is_stopped, near)
        ideal = replace(ideal, known=ideal.lines)
        yield News("ideal", ideal)
    if rounded is None:
        try:
            yield News("rounded", rounded_of(project, ideal, is_stopped))
        except CombeError as error:
            yield Failure("rounded", error)


@soon
def _followed(project: Project, ideal: Ideal, rounded: Rounded, missing: Sequence[str], is_stopped: Stop) -> Reports:
    """The integers held against what is asked of them: measured, proved, and as circuits; their text, and what is told of
    them."""
    if "measured" in missing:
        yield News("measured", arithmetic_lines(rounded))
    if "certified" in missing:
        yield News("certified", certified_lines(rounded.realization, project.requirement, rounded.lines))
    if "compared" in missing and project.code.written_in.is_circuit:
        yield News("compared", tuple(compared(rounded.realization, hardware_of(project), project.requirement)))
    if "package" in missing:
        try:
            yield News("package", package_of(project, rounded, ideal))
        except CombeError as error:
            yield Failure("package", error)
    yield from _told_of(project, ideal, rounded, missing, is_stopped)


def is_long(project: Project) -> bool:
    """Whether a draft may take so long that sending it to another process and hearing of it is nothing beside it."""
    return project.design.method not in QUICK_FIRST or project.requirement.rate is not None


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


def _draft(project: Project, ideal: Ideal | None, near: Design | None, is_stopped: Stop) -> Reports:
    """Under the hand design and rounding arrive at once, so that the plot is painted once."""
    if ideal is None:
        ideal = ideal_of(project, is_stopped, near, True)
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


@urgent
def _long_draft(project: Project, ideal: Ideal | None, near: Design | None, is_stopped: Stop) -> Reports:
    """The same apart."""
    yield from _draft(project, ideal, near, is_stopped)


def make_ready(is_recursive: bool = False) -> None:
    """Load what drafts under the hand run on, while nobody waits for it; with recursive filters in the project first what they are
    designed with, and the loops that these are run through, or the first to be opened would take half a second."""
    if is_recursive:
        importlib.import_module("scipy.optimize")
    for name in (readiness.EXCHANGE, readiness.CURVES, readiness.STROKES):
        readiness.make_ready(name)
    if is_recursive:
        readiness.make_ready(readiness.SECTIONS)


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
        own = replace(own, method=method_shown(project.design))
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
