"""Several states of a filter side by side: what each is, what it reaches, what it costs, what differs."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from msgspec import Struct

from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.errors import CombeError
from combe.ledger import Line
from combe.ledger.cost import Cost
from combe.ledger.goodness import Table
from combe.ledger.words import NAMES, figure_text, signed_margin
from combe.project.chain import ideal_of, rounded_of
from combe.project.differences import differences
from combe.project.document import KEPT_PARTS, Kept, Project, Variant
from combe.project.variant_edits import state_of
from combe.values import replace

NOW = "now"


class State(Struct, frozen=True):
    """One state worked out; ``trouble`` says why there is no filter."""

    name: str
    note: str
    kept: Kept
    design: Design | None = None
    lines: tuple[Line, ...] = ()
    cost: Cost | None = None
    trouble: str = ""


def states_of(project: Project, is_stopped: Callable[[], bool] = lambda: False) -> Iterator[State]:
    """The open filter as it stands, then each of its variants."""
    for variant in (Variant(NOW, "", state_of(project)), *project.variants):
        if is_stopped():
            return
        yield _worked_out(project, variant, is_stopped)


def _worked_out(project: Project, variant: Variant, is_stopped: Callable[[], bool]) -> State:
    kept = variant.kept
    one = replace(project, **{key: getattr(kept, key) for key in KEPT_PARTS})
    try:
        ideal = ideal_of(one, is_stopped)
        lines = rounded_of(one, ideal, is_stopped).lines
    except CombeError as error:
        return State(variant.name, variant.note, kept, trouble=error.sentence())
    return State(variant.name, variant.note, kept, ideal.design, lines, cost_of_design(ideal.design))


def table_of_states(states: tuple[State, ...]) -> Table:
    """A column for each state: its design, the ledger with its integers, what it costs; the last rows say what differs from
    the first."""
    rows: list[tuple[str, ...]] = [("design", *(_design(state) for state in states))]
    for key in _limits(states):
        rows.append((_title(key), *(_reached(state, key) for state in states)))
    rows.append(("coefficient bits", *(str(state.kept.arithmetic.coefficient_bits) for state in states)))
    for name in ("multiplies", "delays"):
        words = "words of memory" if name == "delays" else name
        rows.append((words, *(str(getattr(state.cost, name)) if state.cost is not None else "–" for state in states)))
    if any(state.note for state in states):
        rows.append(("note", *(state.note for state in states)))
    told = [differences(states[0].kept, state.kept) if states else () for state in states]
    for k in range(max((len(each) for each in told), default=0)):
        rows.append(("differs" if k == 0 else "", *(each[k] if k < len(each) else "" for each in told)))
    return Table(tuple(state.name for state in states), tuple(rows))


def _design(state: State) -> str:
    if state.design is None:
        return state.trouble
    size = state.design.size_words
    return f"{state.design.method}, {size}"


Key = tuple[str, str]


def _limits(states: tuple[State, ...]) -> list[Key]:
    return list(dict.fromkeys((line.band or "", line.limit) for state in states for line in state.lines))


def _title(key: Key) -> str:
    band, limit = key
    words = NAMES.get(limit, limit)
    return f"{band} {words}" if band else words


def _reached(state: State, key: Key) -> str:
    """What is reached, and by how much it keeps its limit."""
    for line in state.lines:
        if (line.band or "", line.limit) == key:
            reached = figure_text(line, line.reached)
            return f"{reached} ({signed_margin(line.margin)})" if line.unit == "db" else f"{reached}, {_kept(line)}"
    return "–"


def _kept(line: Line) -> str:
    return "kept" if line.margin >= 0 else f"missed by {figure_text(line, -line.margin)}"
