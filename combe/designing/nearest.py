"""Requirements nothing can keep: which single limit to relax, and how far, each answer tried out by a design."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec import Struct

from combe.designing.classic.plan import shape_of
from combe.designing.contenders import Contender
from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.designing.methods import design_task
from combe.designing.moves import Figure, figures_of
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError
from combe.ledger import lines_of, meets
from combe.requirement import Requirement
from combe.requirement.quantities import duration_text, frequency_text, short
from combe.requirement.sentences import with_whole

Stop = Callable[[], bool]
HALVINGS, CLOSE = 30, 5e-4
MOST_FIR_ORDER, MOST_IIR_ORDER = 1000, 60


class Relaxation(Struct, frozen=True):
    """One limit moved so that a filter keeps everything: the requirement it leads to, and the method that does it."""

    requirement: Requirement
    method: str
    order: int
    sentence: str


def relaxations(
    requirement: Requirement, found: list[Contender], is_stopped: Stop = lambda: False
) -> Iterator[Relaxation]:
    """Single limits to relax, nearest first within each kind; none where some contender keeps the requirement."""
    if any(contender.keeps for contender in found):
        return
    yield from _whole(requirement, found)
    affordable = _affordable(requirement)
    for figure in figures_of(requirement):
        moves = []
        for method, order in affordable:
            if is_stopped():
                return
            move = _least_move(requirement, figure, method, order)
            if move is not None:
                moves.append(move)
        if moves:
            # Of several methods the one that asks least of this figure; the others' rows would only be worse.
            yield min(moves, key=lambda move: move[0])[1]


def _whole(requirement: Requirement, found: list[Contender]) -> Iterator[Relaxation]:
    """Limits of the whole filter: the best of the contenders that keep all the others."""
    for key, words in (("max_delay_s", "a delay of"), ("max_delay_spread_s", "a delay spread of"),
                       ("max_multiplies", "multiplies"), ("max_cycles", "cycles a sample"), ("max_multipliers", "multipliers")):  # fmt: skip
        if getattr(requirement, key) is None:
            continue
        best: tuple[float, Contender] | None = None
        for contender in found:
            others = [line for line in contender.lines if line.limit != key]
            mine = [line for line in contender.lines if line.limit == key]
            if contender.design is None or not mine or not meets(others):
                continue
            if best is None or mine[0].reached < best[0]:
                best = mine[0].reached, contender
        if best is None:
            continue
        value, contender = best
        if not key.endswith("_s"):
            value = -int(-value // 1)
            moved, text = with_whole(requirement, key, value), f"{value} {words}"
        else:
            value = float(f"{value * 1.0005:.4g}")
            moved, text = with_whole(requirement, key, value), f"{words} {duration_text(value)}"
        yield Relaxation(moved, contender.method, contender.order, f"allow {text}: {contender.method} does it")


def _affordable(requirement: Requirement) -> list[tuple[str, int]]:
    """The methods to try with the largest order each may have under the limits of the whole filter."""
    found = []
    most = MOST_FIR_ORDER
    if requirement.max_multiplies is not None:
        most = min(most, 2 * requirement.max_multiplies - 1)
    if requirement.max_delay_s is not None:
        most = min(most, int(2 * requirement.max_delay_s * requirement.sample_rate_hz))
    if 0 < most < MOST_FIR_ORDER:
        found.append(("equiripple", most))
    if requirement.phase == "any" and shape_of(requirement) and requirement.max_multiplies is not None:
        order = _affordable_elliptic(requirement)
        if order:
            found.append(("elliptic", order))
    return found


def _affordable_elliptic(requirement: Requirement) -> int:
    step = 1 if shape_of(requirement) in ("lowpass", "highpass") else 2
    best = 0
    for order in range(step, MOST_IIR_ORDER, step):
        design = _designed(requirement, "elliptic", order)
        if design is None or cost_of_design(design).multiplies > (requirement.max_multiplies or 0):
            break
        best = order
    return best


def _least_move(requirement: Requirement, figure: Figure, method: str, order: int) -> tuple[float, Relaxation] | None:
    """The least move of one figure at which the method keeps everything, halved between none and all the room until what is
    a thousandth less is known to miss."""
    low, high = 0.0, figure.room
    if not _keeps(figure, requirement, high, method, order):
        return None
    for _ in range(HALVINGS):
        if high - low <= CLOSE * high:
            break
        middle = (low + high) / 2
        low, high = (low, middle) if _keeps(figure, requirement, middle, method, order) else (middle, high)
    moved = figure.moved(requirement, high)
    band = requirement.bands[figure.band_index]
    return high, Relaxation(
        moved, method, order, f"{_sentence(requirement, moved, figure, band.name)}: {method} does it"
    )


def _keeps(figure: Figure, requirement: Requirement, amount: float, method: str, order: int) -> bool:
    try:
        moved = figure.moved(requirement, amount)
    except CombeError:
        return False
    for near in (order, order - 1):
        design = _designed(moved, method, near)
        if design is not None:
            return meets(lines_of(design.filter, moved))
    return False


def _designed(requirement: Requirement, method: str, order: int) -> Design | None:
    try:
        return design_task(Task(requirement, requirement.sample_rate_hz, DesignChoice(method, order)))
    except CombeError:
        return None


def _sentence(requirement: Requirement, moved: Requirement, figure: Figure, name: str) -> str:
    value = figure.value(moved)
    if figure.name in ("start", "stop"):
        verb = "begin" if figure.name == "start" else "end"
        return f"let {name} {verb} at {frequency_text(float(f'{value:.4g}'), requirement.sample_rate_hz)}"
    if figure.name == "attenuation":
        return f"ask {short(-value, 4)} dB of {name}"
    return f"allow ±{short(value, 3)} dB in {name}"
