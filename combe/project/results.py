"""What follows from a project, and what each part of it depends on. One table; nothing else clears a result."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from collections.abc import Set as AbstractSet
from functools import lru_cache
from operator import attrgetter
from typing import TYPE_CHECKING, Any

from msgspec import Struct, field

from combe.benching.setup import PINS
from combe.project.document import hardware_of
from combe.project.sources import way_to
from combe.project.variant_edits import state_of
from combe.rounding.choices import uncounted
from combe.values import replace

if TYPE_CHECKING:
    from combe.analysis.fact import Fact
    from combe.benching.board.run import BoardRun
    from combe.benching.run import Bench
    from combe.delivery.coloring import Span
    from combe.delivery.hdl.build import Built
    from combe.delivery.hdl.compare import Compared
    from combe.delivery.hdl.diagram import Diagram
    from combe.delivery.package import Package
    from combe.designing.contenders import Contender
    from combe.designing.nearest import Relaxation
    from combe.designing.prices import Price
    from combe.errors import CombeError
    from combe.filters import Filter
    from combe.ledger import Line
    from combe.project.chain import Ideal, Rounded
    from combe.project.compared import State
    from combe.project.document import Project
    from combe.proof.budget import BudgetRow
    from combe.proof.c import Proof
    from combe.proof.captured import Capture
    from combe.proof.hdl import HdlProof
    from combe.proof.synthesis import Synthesized
    from combe.proof.together import Together
    from combe.proof.waves import Wave
    from combe.rounding.trade import Cell
    from combe.rounding.widths import WidthPoint, WidthRow
    from combe.signals.noise_run import NoiseRun


class Counted(Struct, frozen=True):
    """Instructions as far as they are counted; a sentence where something could not be."""

    rows: tuple[BudgetRow, ...] = ()
    sentence: str = ""


class Excerpt(Struct, frozen=True):
    """The first clocks of a circuit's simulation, or why there are none."""

    waves: tuple[Wave, ...] = ()
    sentence: str = ""


class Drawing(Struct, frozen=True):
    """A circuit as it is built, and its data path."""

    built: Built
    diagram: Diagram


class Results(Struct, frozen=True):
    """Everything worked out so far for one filter, and how it stands.

    ``fresh`` names results that are there, whole, and follow from the project as it is; ``stale`` those still shown
    though what they depend on has changed; ``pending`` those that are being worked out; ``troubles`` those that could
    not be, and why; ``progress`` what a piece of work says of itself.
    """

    ideal: Ideal | None = None
    rounded: Rounded | None = None
    certified: tuple[Line, ...] = ()
    measured: tuple[Line, ...] = ()
    asked: tuple[Line, ...] = ()
    """What the bench must show."""
    compared: tuple[Compared, ...] = ()
    package: Package | None = None
    facts: tuple[Fact, ...] = ()
    rounding_facts: tuple[Fact, ...] = ()
    proof: Proof | HdlProof | None = None
    waves: Excerpt = Excerpt()
    budget: Counted = Counted()
    synthesized: Mapping[str, tuple[Synthesized, ...]] = field(default_factory=dict)
    captured: Capture | None = None
    """What a circuit on a board heard of itself."""
    together: Together | None = None
    """All filters of the project on one core or device."""
    contenders: tuple[Contender, ...] = ()
    prices: tuple[Price, ...] = ()
    relaxations: tuple[Relaxation, ...] = ()
    widths: tuple[WidthRow, ...] = ()
    heard: NoiseRun | None = None
    chart: tuple[WidthPoint, ...] = ()
    trade: tuple[Cell, ...] = ()
    bench: Bench | None = None
    board: BoardRun | None = None
    drawing: Drawing | None = None
    table: str = ""
    way: Filter | None = None
    """The exact filters from the input to this one in a row; None where it is fed by the input."""
    states: tuple[State, ...] = ()
    colored: Mapping[str, tuple[tuple[Span, ...], ...]] = field(default_factory=dict)
    fresh: frozenset[str] = frozenset()
    stale: frozenset[str] = frozenset()
    pending: frozenset[str] = frozenset()
    troubles: Mapping[str, CombeError] = field(default_factory=dict)
    progress: Mapping[str, str] = field(default_factory=dict)

    @property
    def rounded_lines(self) -> tuple[Line, ...]:
        """Lines with integer coefficients, with what is proved of them once that is known."""
        return self.certified or (self.rounded.lines if self.rounded is not None else ())

    def carrying(self, name: str, other: Results) -> Results:
        """With a result that another filter of the project shares."""
        if name not in other.fresh:
            return self
        return replace(self, **{name: getattr(other, name)}, fresh=self.fresh | {name})

    def missing(self, names: Iterable[str]) -> tuple[str, ...]:
        """Those that have to be made, or made anew."""
        return tuple(name for name in names if name not in self.fresh)

    def differing(self, before: Results, first: str = "") -> list[str]:
        """Names of results that are others than before; ``first`` in front."""
        names = [name for name, mine, other in zip(DEPENDS, _values(self), _values(before)) if mine is not other]
        return sorted(names, key=lambda name: name != first)

    def working_differently(self, before: Results) -> list[str]:
        """Names of results whose work began, ended or came further."""
        if self.progress == before.progress:
            turned = self.pending ^ before.pending
            return [name for name in DEPENDS if name in turned] if turned else []
        return [
            name for name in DEPENDS
            if (name in self.pending, self.progress.get(name)) != (name in before.pending, before.progress.get(name))
        ]  # fmt: skip

    def _filled(self, names: AbstractSet[str]) -> set[str]:
        """Those of some names that there is anything of."""
        return {name for name in names if self._has(name)}

    def _has(self, name: str) -> bool:
        return bool(getattr(self, name) != getattr(NOTHING, name))

    # -- what happens to results -----------------------------------------------------------------------------

    def after(self, before: Project, now: Project) -> Results:
        """The project changed: what depends on the change, directly or through others, is cleared, or stays as stale
        where it is to be seen until its successor comes."""
        return self._outdated(affected(before, now))

    def with_result(self, name: str, value: Any, is_whole: bool = True) -> Results:
        """A result arrived, or as much of it as is known so far. What was made from another value of it is outdated."""
        pending = self.pending - {name} if is_whole else self.pending
        fresh = self.fresh | {name} if is_whole else self.fresh - {name}
        troubles = {key: error for key, error in self.troubles.items() if key != name}
        known = replace(self, fresh=fresh, stale=self.stale - {name}, pending=pending, troubles=troubles)
        if value is getattr(self, name):
            return known
        users = {other for other, entry in DEPENDS.items() if name in entry.on}
        return replace(known._outdated(users), **{name: value})

    def cleared(self, names: Iterable[str]) -> Results:
        """Without these and what was made from them."""
        return self._emptied(_with_users(set(names)))

    def outdated(self, *names: str) -> Results:
        """Something that results depend on has changed, of the project or beside it."""
        return self._outdated(names)

    def failed(self, name: str, error: CombeError) -> Results:
        """A result could not be made. Nor can what depends on it, and the old ones are not shown as if they held,
        except for the exact design: there the last good picture stays, known to be stale."""
        found = replace(self, pending=self.pending - {name})
        if DEPENDS[name].outlives_failure:
            every = _with_users({name})
            found = replace(found, fresh=found.fresh - every, stale=found.stale | found._filled(every))
        else:
            found = found._emptied(_with_users({name}))
        return replace(found, troubles={**found.troubles, name: error})

    def begun(self, names: Iterable[str]) -> Results:
        """Work on results has started."""
        return replace(self, pending=self.pending | set(names))

    def ended(self, names: Iterable[str], is_whole: bool) -> Results:
        """Work has ended. Where it broke off, half a list is not left standing as if it were whole."""
        every = set(names)
        broken = set() if is_whole else every & self.pending
        progress = {name: words for name, words in self.progress.items() if name not in every}
        found = replace(self, pending=self.pending - every, progress=progress)
        if not broken:
            return found
        staying = {name for name in broken if DEPENDS[name].stays}
        return replace(found._emptied(broken - staying), stale=found.stale | found._filled(staying))

    def told(self, name: str, words: str) -> Results:
        """What work on a result is at."""
        return replace(self, progress={**self.progress, name: words})

    def _outdated(self, names: Iterable[str]) -> Results:
        every = _with_users(names)
        staying = {name for name in every if DEPENDS[name].stays}
        stale = self.stale | self._filled(staying)
        return replace(self._emptied(every - staying), fresh=self.fresh - every, stale=stale)

    def _emptied(self, names: AbstractSet[str]) -> Results:
        troubles = {
            name: error for name, error in self.troubles.items() if name not in names or not self._is_ours(name)
        }
        values = {name: getattr(NOTHING, name) for name in names}
        return replace(self, fresh=self.fresh - names, stale=self.stale - names, troubles=troubles, **values)

    def _is_ours(self, name: str) -> bool:
        """Whether a trouble goes with its result. That of a step of the chain stays until the step is tried again."""
        return name not in CHAIN


class Dependence(Struct, frozen=True):
    """What a result depends on: aspects of the project, and other results.

    ``stays``: the last one is shown until its successor comes. ``outlives_failure``: even if there is none.
    """

    on: tuple[str, ...]
    stays: bool = False
    outlives_failure: bool = False


ASPECTS: dict[str, Callable[[Project], object]] = {
    "name": lambda project: project.name,
    "requirement": lambda project: project.requirement,
    "design": lambda project: project.design,
    "method": lambda project: replace(project.design, order=None, holds_with_bits=None),
    "arithmetic": lambda project: project.arithmetic,
    "structure": lambda project: project.arithmetic.structure,
    "other widths": lambda project: replace(project.arithmetic, coefficient_bits=16, accumulator_bits=None),
    "charted": lambda project: uncounted(project.arithmetic),
    "code name": lambda project: project.code_name,
    "code": lambda project: project.code,
    "circuit": hardware_of,
    "shared": lambda project: None if project.code.written_in.is_circuit else project.processor,
    "every filter": lambda project: [
        (one.requirement, one.design, one.arithmetic, one.hardware, one.code) for one in project.members
    ],
    "recipe": lambda project: project.recipe,
    "processor": lambda project: replace(project.processor, block=0),
    "board": lambda project: (
        project.processor,
        project.code.converter_in,
        project.code.converter_out,
        project.bench.signal,
        project.bench.samples,
        project.bench.seed,
    ),
    "bench asks": lambda project: project.bench if project.bench.asks else None,
    "states": lambda project: (state_of(project), project.variants),
    "upstream": lambda project: _upstream(project),
    "bench setup": lambda project: (project.bench, pinned(project)),
}
"""Parts of a project as results see them."""


def pinned(project: Project) -> tuple[tuple[str, Filter], ...]:
    """The filters that go along on the bench, by name: those pinned and shown, where the bench asks for them."""
    if PINS not in project.bench.through:
        return ()
    return tuple((f"pin {k + 1}: {pin.name}", pin.filter) for k, pin in enumerate(project.pins) if pin.is_shown)


def _upstream(project: Project) -> object:
    """What is asked and chosen of the filters that samples pass before they come here."""
    way = way_to(project.members, project.code_name)[:-1]
    return tuple((member.requirement, member.design) for member in way)


CHAIN = ("ideal", "rounded", "package")

DEPENDS: dict[str, Dependence] = {
    "ideal": Dependence(("requirement", "design"), stays=True, outlives_failure=True),
    "rounded": Dependence(("ideal", "arithmetic", "name"), stays=True),
    "certified": Dependence(("rounded",)),
    "measured": Dependence(("rounded",), stays=True),
    "asked": Dependence(("rounded", "bench asks")),
    "compared": Dependence(("rounded", "circuit", "code")),
    "way": Dependence(("ideal", "upstream")),
    "package": Dependence(("rounded", "code", "code name", "circuit"), stays=True),
    "facts": Dependence(("rounded",), stays=True),
    "rounding_facts": Dependence(("rounded",), stays=True),
    "proof": Dependence(("package",), stays=True),
    "waves": Dependence(("package",)),
    "budget": Dependence(("rounded", "processor")),
    "synthesized": Dependence(("rounded", "circuit")),
    "captured": Dependence(("rounded", "circuit")),
    "together": Dependence(("every filter", "shared")),
    "contenders": Dependence(("requirement",), stays=True),
    "prices": Dependence(("requirement", "design"), stays=True),
    "relaxations": Dependence(("requirement",)),
    "widths": Dependence(("ideal", "other widths"), stays=True),
    "heard": Dependence(("rounded",), stays=True),
    "chart": Dependence(("ideal", "charted")),
    "trade": Dependence(("requirement", "method", "charted", "structure"), stays=True),
    "bench": Dependence(("rounded", "bench setup"), stays=True),
    "board": Dependence(("rounded", "board", "budget"), stays=True),
    "states": Dependence(("states", "name"), stays=True),
    "drawing": Dependence(("rounded", "circuit"), stays=True),
    "colored": Dependence(("package",)),
    "table": Dependence(("rounded", "recipe", "code name"), stays=True),
}
"""Each result and what it depends on."""

NOTHING = Results()
_values = attrgetter(*DEPENDS)


class News(Struct, frozen=True):
    """One result, as background work yields it; with ``is_whole`` false more of it is to come."""

    name: str
    value: Any
    is_whole: bool = True


class Failure(Struct, frozen=True):
    """One result that could not be made, while the work goes on with others."""

    name: str
    error: CombeError


class Progress(Struct, frozen=True):
    """What work on a result is at."""

    name: str
    words: str


Reports = Iterator[News | Failure | Progress]
"""What background work yields."""
Stop = Callable[[], bool]
"""Whether it is to end before it is done."""
STREAMED_S = 0.2
"""How often a result that grows is shown anew."""


def affected(before: Project, now: Project) -> frozenset[str]:
    """Results that depend on what differs between two projects, directly or through others."""
    changed = {name for name, aspect in ASPECTS.items() if aspect(before) != aspect(now)}
    return _with_users({name for name, entry in DEPENDS.items() if changed.intersection(entry.on)})


def _with_users(names: Iterable[str]) -> frozenset[str]:
    """Results, and all that are made from them."""
    return _followed(frozenset(names))


@lru_cache(maxsize=256)
def _followed(names: frozenset[str]) -> frozenset[str]:
    more = {name for name, entry in DEPENDS.items() if names.intersection(entry.on)} - names
    return _followed(names | more) if more else names


assert set(DEPENDS) == set(Results.__struct_fields__) - {"fresh", "stale", "pending", "troubles", "progress"}
