"""From a requirement to a filter, and what a filter reaches."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from combe.api.values import design_of, filter_of, own_rate
from combe.errors import DesignError
from combe.requirement.quantities import frequency_text
from combe.values import replace

if TYPE_CHECKING:
    from combe.designing.contenders import Contender
    from combe.designing.designed import Design
    from combe.filters import Filter
    from combe.ledger import Line
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization
    from combe.requirement import Requirement
    from combe.rounding.trade import Cell

Say = Callable[[str], None]


def design(
    requirement: Requirement | None,
    method: str | None = None,
    order: int | None = None,
    *,
    symmetry: int = 1,
    cutoffs_hz: Iterable[float] = (),
    shape: str = "",
    sample_rate_hz: float | None = None,
    spare: str = "shared",
    weights: Iterable[float] = (),
    settings: dict[str, float] | None = None,
    given: Filter | None = None,
    holds_with_bits: int | None = None,
    plan: str = "",
    say: Say = lambda _: None,
) -> Design:
    """One filter: the shortest that keeps every limit, or the best of a given order; without a method the cheapest contender.

    Parameters
    ----------
    requirement
        What is asked; None with cut-offs or settings, which want a method and a sample rate.
    symmetry
        1, or -1 for taps that change sign about their middle (phase turned by 90 degrees).
    cutoffs_hz, shape
        Cut-offs instead of limits: one, or two for a band.
    weights
        To trade bands by hand, one for each.
    plan
        Stages of a change of rate: ``single``, or factors in signal order such as ``2x2x2`` or ``cic8x2``.
    holds_with_bits
        Take the least order that keeps every limit with its coefficients rounded to so many bits, too.
    say
        Is told what stands beside the result, such as what could be relaxed where nothing keeps every limit.

    Raises
    ------
    CombeError
        If no filter of the kind can be had, with the reason.
    """
    from combe.designing.task import DesignChoice, Task
    from combe.rounding.holding import cheapest_that_holds, designed

    rate = rate_of(requirement, sample_rate_hz)
    choice = DesignChoice(
        method or "",
        order,
        symmetry,
        tuple(cutoffs_hz),
        shape,
        spare,
        tuple(weights),
        tuple((settings or {}).items()),
        given,
        holds_with_bits,
        plan,
    )
    searched = DesignChoice("", holds_with_bits=holds_with_bits)
    if plan or (requirement is not None and requirement.rate is not None and choice == searched):
        # Stages of a plan; without one and without a method the cheapest there is.
        return designed(
            Task(requirement, rate, replace(choice, method=method or "equiripple", plan=plan or "cheapest"))
        )
    if choice.method:
        return designed(Task(requirement, rate, choice))
    if requirement is None:
        raise DesignError("no method is named", "--method", "without a requirement name one, such as butterworth")
    if choice != DesignChoice("", choice.order, choice.symmetry, holds_with_bits=holds_with_bits):
        raise DesignError("no method is named", "--method", "cut-offs, weights and settings belong to one method")
    if choice.order is not None or choice.symmetry == -1:
        return designed(Task(requirement, rate, replace(choice, method="equiripple")))
    if holds_with_bits is not None:
        return cheapest_that_holds(requirement, holds_with_bits)
    return _cheapest(requirement, say)


def rate_of(requirement: Requirement | None, rate: float | None) -> float:
    """The sample rate of a requirement, or the one given where there is none; both only if they agree."""
    if requirement is None:
        if rate is None:
            raise DesignError("there is no sample rate", "--sample-rate", "give one, or a requirement file")
        return rate
    if rate is not None and rate not in (requirement.sample_rate_hz, requirement.input_rate_hz):
        raise DesignError(
            f"the requirement is sampled at {frequency_text(requirement.input_rate_hz)}",
            "--sample-rate",
            "leave it out",
        )
    return requirement.sample_rate_hz


def _cheapest(requirement: Requirement, say: Say) -> Design:
    from combe.designing.contenders import ranked
    from combe.designing.nearest import relaxations

    found = list(contenders(requirement))
    best = ranked(found)[0]
    if best.keeps and best.design is not None:
        return best.design
    for nearest in relaxations(requirement, found):
        say(f"nothing keeps every limit; {nearest.sentence}")
    if best.design is not None:
        return best.design
    reason = next(contender.reason for contender in found if contender.method == "equiripple")
    raise DesignError(f"no method does it; equiripple: {reason}")


def contenders(requirement: Requirement, *, antisymmetric: bool = False) -> Iterator[Contender]:
    """Every method that applies, as each is ready, with its cost or the reason why it can't."""
    from combe.designing.contenders import contenders as every

    return every(requirement, with_antisymmetric=antisymmetric)


def trade(
    requirement: Requirement,
    method: str = "",
    *,
    bits: Sequence[int] = range(8, 21),
    longer: int | None = None,
    plain: bool = False,
    input: str = "s16f15",
    structure: str = "",
) -> Iterator[Cell]:
    """Taps against bits: each order from the least upward at each width, with its margin and cost.

    Parameters
    ----------
    method
        Whose orders; the cheapest contender's where it is empty.
    longer
        Orders above the least; 8 for taps and 3 for sections where it is None.
    plain
        Round plainly, without a search for better integers where that misses.

    Raises
    ------
    CombeError
        If the method keeps the limits at no order, or a width is out of reach.
    """
    from combe.designing.task import DesignChoice
    from combe.rounding.choices import Choices
    from combe.rounding.trade import trade as map_of

    first = _cheapest(requirement, lambda _: None) if not method else None
    choice = DesignChoice(first.method if first is not None else method)
    yield from map_of(requirement, choice, bits, longer, Choices(16, structure, input), plain, first=first)


def lines(
    source: Design | RealizationFile | Realization | Filter, requirement: Requirement | None = None
) -> tuple[Line, ...]:
    """The ledger: each limit, what is reached at the true extreme of its band, and the margin."""
    from combe.designing.costs import lines_of_design
    from combe.designing.designed import Design
    from combe.ledger import lines_of

    if isinstance(source, Design):
        asked = requirement or source.requirement
        return lines_of_design(source, asked) if asked is not None else ()
    made = design_of(source)
    asked = requirement or (made.requirement if made is not None else None)
    return lines_of(filter_of(source), asked) if asked is not None else ()


def meets(source: Design | RealizationFile | Realization | Filter, requirement: Requirement | None = None) -> bool:
    """Whether every limit is kept."""
    from combe.ledger import meets as all_kept

    return all_kept(lines(source, requirement))


def response(
    source: Design | RealizationFile | Realization | Filter, hz: ArrayLike, sample_rate_hz: float | None = None
) -> NDArray[np.complex128]:
    """The complex response at frequencies in Hz, of the shape of ``hz``.

    A realization counts as the filter its integer coefficients stand for. A filter without a sample rate of its own needs
    ``sample_rate_hz``, or takes ``hz`` in cycles per sample.

    >>> import combe
    >>> from combe.filters import Fir
    >>> abs(combe.response(Fir((0.5, 0.5)), [0.0, 0.5])).round(12).tolist()
    [1.0, 0.0]
    """
    from combe.responses import frequency_response

    rate = sample_rate_hz or own_rate(source)
    points = np.asarray(hz, dtype=np.float64)
    found = frequency_response(filter_of(source), 2 * np.pi * points.ravel() / rate)
    return np.asarray(found, dtype=np.complex128).reshape(points.shape)


def table(value: object) -> str:
    """What helps to see a value as rows: the ledger of a filter, the outputs of a bench, the filters of a project, cells of a
    trade, contenders; or any list of them.

    >>> import combe
    >>> asked = combe.from_document({"format": "combe-requirement", "version": 1, "sample_rate_hz": 8000, "bands": [
    ...     {"name": "voice", "start_hz": 0, "stop_hz": 1000, "min_db": -1, "max_db": 1},
    ...     {"name": "hiss", "start_hz": 2000, "stop_hz": 4000, "max_db": -30}]})
    >>> print(combe.table(combe.design(asked, "butterworth")))
    limit            asked   reached    margin
    voice not below  −1 dB   −0.655 dB  +0.345
    voice not above  1 dB    0.716 dB   +0.284
    hiss not above   −30 dB  −33.26 dB  +3.259

    Raises
    ------
    CombeError
        If there is nothing in it that makes a table.
    """
    from combe.project.tables import table_of

    return table_of(value).text()
