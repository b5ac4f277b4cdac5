"""The equiripple method as Combe offers it: a given order, or the shortest filter that keeps every limit."""

from __future__ import annotations

import time

from combe.designing.designed import Design
from combe.designing.equiripple.problem import (
    fits_symmetry,
    pieces_of,
)
from combe.designing.equiripple.search import MAXIMUM_TAPS, Search, Stop
from combe.designing.estimates import estimated_taps
from combe.designing.task import Task
from combe.designing.weights import reweighted
from combe.errors import DesignError
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement
from combe.values import replace

ROUNDING_STEPS = 6
NEARLY = 150
"""A length is nearly the least that lies above it by one in so many, at most."""


def design(
    requirement: Requirement,
    order: int,
    symmetry: int = 1,
    is_stopped: Stop = lambda: False,
    near: Design | None = None,
    is_draft: bool = False,
) -> Design:
    """The minimax filter of a given order, its error shared out in proportion to the limits.

    A draft, made while an edge is dragged, starts from a design ``near`` by and ends as soon as nothing is left to see.

    Raises
    ------
    DesignError
        If the order or the symmetry can't do it at all, or double precision ends before the exchange settles.
    """
    started = time.perf_counter()
    taps = order + 1
    if not 1 <= taps <= MAXIMUM_TAPS:
        raise DesignError(f"order {order} is out of reach", "order", f"orders run from 0 to {MAXIMUM_TAPS - 1}")
    if symmetry == -1 and taps < 2:
        raise DesignError("antisymmetric taps need an order of at least 1", "order")
    search = Search(requirement, symmetry, is_stopped, is_draft, not is_draft)
    if is_draft and near is not None and near.alternation:
        search.begin_near(near)
    reason = fits_symmetry(pieces_of(requirement), taps, symmetry)
    if reason:
        instead = f"use order {order - 1} or {order + 1}" if order else "use order 1"
        raise DesignError(reason, "order", instead)
    fir = search.filter(taps)
    return search.finished(fir, search.cap_notes(), started)


def shortest(
    requirement: Requirement,
    symmetry: int = 1,
    is_stopped: Stop = lambda: False,
    near: Design | None = None,
    is_draft: bool = False,
) -> Design:
    """The filter with the fewest taps that keeps every limit, odd and even lengths both tried.

    The error of each parity falls with length, so the least length of each is bracketed from an estimate, or from
    the length of a design ``near`` by. That only makes the search faster: the taps come out the same to the bit,
    unless a draft is enough (while an edge is dragged), which trusts the neighborhood more.

    Raises
    ------
    DesignError
        If no filter of at most ``MAXIMUM_TAPS`` taps keeps the limits; the message says what would be possible.
    """
    return _shortest(Search(requirement, symmetry, is_stopped, is_draft, not is_draft), near)


def roughly_shortest(requirement: Requirement, is_stopped: Stop = lambda: False) -> Design:
    """A draft of the shortest filter for other methods to begin with: theirs come out the same to the bit, so this does."""
    return _shortest(Search(requirement, 1, is_stopped, True), None)


def _shortest(search: Search, near: Design | None) -> Design:
    started = time.perf_counter()
    requirement, is_draft = search.requirement, search.is_draft
    if near is not None and near.alternation:
        search.begin_near(near)
    free = taps = search.least_near() if is_draft else search.least()
    if not is_draft:
        search.forget_references()
    fir = search.filter(taps)
    while search.error(taps) > 1:
        # Transitions were capped on the way: look again from here with the caps in place.
        taps = search.least(taps)
        search.forget_references()
        fir = search.filter(taps)
    notes = list(search.cap_notes(taps - free))
    for _ in range(ROUNDING_STEPS):
        # A draft rests on the error it was found with: its limits are measured once the hand lets go.
        if is_draft or _keeps(fir, requirement):
            break
        # The margin lay within rounding: take the next length that has more.
        fir = search.filter(search.next_length(len(fir.taps)))
    else:
        what = f"{len(fir.taps)} taps would do in exact numbers, but rounding in double precision breaks a limit"
        raise DesignError(what, instead="ask for less attenuation or more ripple")
    return replace(
        search.finished(fir, tuple(notes), started), is_shortest=not is_draft and search.is_least(len(fir.taps))
    )


def nearly_shortest(requirement: Requirement, is_stopped: Stop = lambda: False) -> Design:
    """A filter that keeps every limit with hardly more taps than the fewest, of either parity: one in ``NEARLY``. Of thousands it is
    found in half the time.

    Raises
    ------
    DesignError
        As ``shortest`` does.
    """
    started = time.perf_counter()
    search = Search(requirement, 1, is_stopped, False)
    search.room = max(search.room, 2 * round(estimated_taps(requirement)[0] / NEARLY / 2))
    taps = search.least()
    fir = search.filter(taps)
    for _ in range(ROUNDING_STEPS):
        if search.error(taps) <= 1 and _keeps(fir, requirement):
            return search.finished(fir, search.cap_notes(), started)
        # Transitions were capped on the way, or the margin lay within rounding.
        taps = search.least(taps) if search.error(taps) > 1 else search.next_length(taps)
        fir = search.filter(taps)
    return shortest(requirement, 1, is_stopped)


def _keeps(fir: Fir, requirement: Requirement) -> bool:
    return all(line.margin >= 0 for line in gain_lines(fir, requirement))


def make(task: Task) -> Design:
    """The shortest equiripple filter, or the best of a given order; bands weigh as the choice says."""
    choice = task.choice
    if choice.cutoffs_hz:
        from combe.designing.equiripple.levels import make_by_levels

        return make_by_levels(task)
    asked = reweighted(task.asked, choice.weights) if choice.weights else task.asked
    if choice.order is None:
        found = shortest(asked, choice.symmetry, task.is_stopped, task.near, task.is_draft)
    else:
        found = design(asked, choice.order, choice.symmetry, task.is_stopped, task.near, task.is_draft)
    notes = found.notes + tuple(f"{name} goes with a cut-off; here the limits say it" for name, _ in choice.settings)
    is_shortest = found.is_shortest and not choice.weights
    return replace(found, requirement=task.requirement, is_shortest=is_shortest, notes=notes)
