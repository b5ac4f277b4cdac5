"""Designs by every method, each as integers in every structure that suits it, each built in every way the target has: those that
keep every limit, cheapest first."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

from msgspec import Struct

from combe.analysis.certified import certified_lines
from combe.designing.contenders import contenders
from combe.designing.costs import lines_of_design
from combe.designing.designed import Design
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, FormatError, Stopped
from combe.filters import Fir
from combe.ledger import Line, meets, worst_line
from combe.racing.spread import Spread, Stop, spread_over
from combe.racing.targets import Target, Way, coefficient_bits, target_named
from combe.realization.formats import parse_format
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.rounding.choices import Choices
from combe.rounding.holding import designed
from combe.rounding.rates import fewest_bits_of_stages
from combe.rounding.realize import HELD, fewest_bits, realize, rounded_lines
from combe.rounding.widths import measured_ratio_db, signal_to_noise_db, structures_for
from combe.values import replace

MOST_DESIGNS, MORE = 10, 4
"""So many designs are made integers of, by what they are estimated to cost; so many more than are asked for are measured."""
FEWEST, BLOCK, HELD_BY_BLOCK = "fewest", "block", "held"
WIDEST = 16
WIDER_STATE = (0, 4, 8)
"""Bits of state tried, over the usual, for a wanted ratio of signal to noise."""


class Wanted(Struct, frozen=True):
    """What the integers are to be like; ``signal_to_noise_db`` 0 asks for no ratio."""

    input: str = "s16f15"
    output: str = ""
    signal_to_noise_db: float = 0.0


WANTED = Wanted()


class Entry(Struct, frozen=True):
    """A complete realization that keeps every limit, and what it costs."""

    design: Design
    realization: Realization
    lines: tuple[Line, ...]
    way: Way
    is_measured: bool = False

    def document(self, file: str | None = None) -> dict[str, Any]:
        """As ``combe race --json`` lists it."""
        worst = worst_line(self.lines)
        return {
            "method": self.design.method, "order": self.design.order, "structure": self.realization.structure,
            "architecture": self.way.architecture or None, "coefficient_bits": coefficient_bits(self.realization),
            "cost": self.way.cost, "is_measured": self.is_measured, "meets": meets(self.lines),
            "worst": worst.document() if worst is not None else None, "realization": file,
        }  # fmt: skip

    @property
    def rank(self) -> tuple[Any, ...]:
        """Measured ones first, then the cheapest; what costs the same by its words, so that the list is always the same."""
        return (
            not self.is_measured, self.way.order, self.way.architecture, self.realization.structure, self.design.method,
            self.design.order, coefficient_bits(self.realization),
        )  # fmt: skip


def race(
    requirement: Requirement,
    target: str,
    clock_hz: float = 0.0,
    wanted: Wanted = WANTED,
    limit: int = 10,
    workers: int | None = None,
    cluster: str = "",
    say: Callable[[str], None] = lambda _: None,
    is_stopped: Stop = lambda: False,
) -> list[Entry]:
    """The cheapest realizations on a target that keep every limit with their integers, at most ``limit``.

    Raises
    ------
    FormatError
        If the target isn't known, a format can't be read, or a number is out of reach.
    """
    place = target_named(target, clock_hz)
    for entry, where in ((wanted.input, "--input"), (wanted.output or wanted.input, "--output")):
        parse_format(entry, where)
    if not 1 <= limit <= 1000:
        raise FormatError(f"{limit} realizations", "--limit", "1 to 1000")
    spread = spread_over(workers, cluster)
    say("designing by every method")
    designs = _cheapest(requirement, place, is_stopped)
    tasks = [
        (requirement, each, structure, bits, place, wanted)
        for each in designs
        for structure, bits in _forms(each, place)
    ]
    say(f"{len(designs)} designs keep every limit; {len(tasks)} ways to make integers of them")
    found: dict[tuple[Realization, str], Entry] = {}
    for entries in spread(entries_of, tasks, is_stopped):
        for entry in entries:
            found.setdefault((entry.realization, entry.way.architecture), entry)
    every = sorted(found.values(), key=lambda entry: entry.rank)
    say(f"{len(every)} realizations keep every limit; the cheapest are measured")
    return _measured(every, place, limit, spread, is_stopped)


def _cheapest(requirement: Requirement, place: Target, is_stopped: Stop) -> list[Design]:
    """Designs that keep every limit by themselves, by what they are estimated to cost."""
    kept = [each.design for each in contenders(requirement, is_stopped) if each.design is not None and each.keeps]
    kept.sort(key=lambda design: (place.estimate(design), design.method))
    return kept[:MOST_DESIGNS]


def _forms(design: Design, place: Target) -> Iterator[tuple[str, str]]:
    """Structures, and how integers of each are found: the ``fewest`` bits by plain rounding; for taps also the best of a ``block``,
    and the fewest bits of the least order that is ``held`` by those: fewer bits make sums that fit a word. Stages of a change of rate
    leave room for the rounding."""
    if design.stages:
        yield from (("", rule) for rule in (HELD_BY_BLOCK, FEWEST))
        return
    rules = (BLOCK, HELD_BY_BLOCK, FEWEST) if isinstance(design.filter, Fir) else (FEWEST,)
    for structure in structures_for(design.filter):
        yield from ((structure, rule) for rule in rules)


def entries_of(
    requirement: Requirement, design: Design, structure: str, rule: str, place: Target, wanted: Wanted, is_stopped: Stop
) -> list[Entry]:  # fmt: skip
    """One design in one structure, in every way it can be built on the target; none where no integers of it keep every limit."""
    bits = place.coefficient_bits
    try:
        if rule == HELD_BY_BLOCK:
            choice = DesignChoice(design.method, holds_with_bits=bits)
            design = designed(Task(requirement, requirement.sample_rate_hz, choice, is_stopped))
        made = _realized(requirement, design, structure, bits if rule == BLOCK else None, wanted, is_stopped)
    except Stopped:
        raise
    except CombeError:
        return []
    if made is None:
        return []
    lines = certified_lines(made, requirement, rounded_lines(made, requirement))
    if not meets(lines) or not meets(lines_of_design(design, requirement)):
        return []
    return [Entry(design, made, tuple(lines), way) for way in place.ways(made, design)]


def _realized(
    requirement: Requirement, design: Design, structure: str, bits: int | None, wanted: Wanted, is_stopped: Stop
) -> Realization | None:  # fmt: skip
    """With so many coefficient bits, or the fewest, and as few bits of state as the wanted ratio allows; None where none reaches
    it."""
    choices = Choices(bits or WIDEST, structure, wanted.input, wanted.output, better=bits is not None)
    plain = max(_bits(wanted.input), _bits(wanted.output or wanted.input)) + 8
    for more in WIDER_STATE:
        own = replace(choices, state_bits=plain + more) if more else choices
        if design.stages:
            made = fewest_bits_of_stages(design, own, requirement.name, is_stopped)
        elif bits is None:
            made = fewest_bits(design.filter, requirement, own, requirement.name, is_stopped)
        else:
            rate = requirement.sample_rate_hz
            made = realize(design.filter, rate, own, requirement.name, requirement, is_stopped, HELD)
        if not wanted.signal_to_noise_db or _reaches(made, wanted.signal_to_noise_db):
            return made
        if not made.is_recursive and not design.stages:
            return None  # its one rounding is the output's own
    return None


def _bits(entry: str) -> int:
    return parse_format(entry, "format").bits


def _reaches(made: Realization, wanted_db: float) -> bool:
    """By prediction, and where that says so by a run."""
    return signal_to_noise_db(made) >= wanted_db and measured_ratio_db(made) >= wanted_db


def _measured(every: list[Entry], place: Target, limit: int, spread: Spread, is_stopped: Stop) -> list[Entry]:
    """The first of them measured, until as many as are asked for stand before any that isn't."""
    first, rest = every[: limit + MORE], every[limit + MORE :]
    measured = sorted(
        spread(measured_entry, [(entry, place) for entry in first], is_stopped), key=lambda entry: entry.rank
    )
    fitting = [entry for entry in measured if entry.way.cost]
    return [*fitting, *rest][:limit]


def measured_entry(entry: Entry, place: Target, is_stopped: Stop) -> Entry:
    """With counted figures; as it was where nothing can count them."""
    way = place.measured(entry.realization, entry.way)
    return entry if way is None else replace(entry, way=way, is_measured=True)
