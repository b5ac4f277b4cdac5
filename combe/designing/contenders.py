"""Alternatives lined up: every method that applies, what each costs, cheapest first."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np
from msgspec import Struct

from combe.designing.classic.plan import shape_of
from combe.designing.costs import cost_of_design, lines_of_design
from combe.designing.designed import Design
from combe.designing.methods import METHODS, POLYNOMIALS, RATE_METHODS, Method, design_task, is_linear_phase
from combe.designing.task import DesignChoice, Task
from combe.designing.workers import side_by_side
from combe.errors import CombeError, Stopped
from combe.ledger import Cost, DelaySpan, Line, delay_over_passbands, meets, worst_line
from combe.log import log_failure
from combe.requirement import Requirement

Stop = Callable[[], bool]
PATIENCE_S = 12.0
LONG_PATIENCE_S = 60.0
"""The equiripple filter is what the others are measured by: thousands of taps may take a while."""
QUICK_FIRST = ("equiripple", "elliptic", "chebyshev", "inverse-chebyshev", "butterworth", "kaiser", "least-squares")
SLOW_LAST = ("bessel", "delay-equalized", "low-delay", "balanced-truncation", "optimized-iir")


class Contender(Struct, frozen=True):
    """One way to answer a requirement, or the reason why there is none."""

    method: str
    symmetry: int
    order: int
    design: Design | None
    lines: tuple[Line, ...] = ()
    cost: Cost | None = None
    delay: DelaySpan | None = None
    reason: str = ""
    is_shortest: bool = False

    @property
    def keeps(self) -> bool:
        """Whether it keeps every limit."""
        return self.design is not None and meets(self.lines)

    @property
    def spare_db(self) -> float | None:
        """The least margin over all gain limits."""
        worst = worst_line(self.lines)
        return None if worst is None else worst.margin

    @property
    def phase(self) -> str:
        """``linear``, ``near-linear`` (delay even to a hundredth of itself), ``nonlinear``; empty without a design."""
        if self.design is None or self.delay is None:
            return ""
        if is_linear_phase(self.design):
            return "linear"
        spread = self.delay.most - self.delay.least
        return "near-linear" if spread <= 0.01 * max(self.delay.mean, 1e-9) else "nonlinear"

    def document(self) -> dict[str, Any]:
        """The contender as ``combe contenders --json`` lists it."""
        found: dict[str, Any] = {"method": self.method, "order": self.order, "meets": self.keeps}
        if self.symmetry == -1:
            found["symmetry"] = "antisymmetric"
        if self.design is None or self.cost is None or self.delay is None:
            return found | {"order": None, "reason": self.reason}
        worst = worst_line(self.lines)
        found |= {
            "kind": self.design.kind, "taps": self.order + 1 if self.design.kind == "fir" else None,
            "phase": self.phase, "spare_db": self.spare_db,
            "cost": self.cost.document(),
            "delay_samples": {"mean": self.delay.mean, "least": self.delay.least, "most": self.delay.most},
            "worst": worst.document() if worst else None, "notes": list(self.design.notes),
            "seconds": round(self.design.seconds, 6),
        }  # fmt: skip
        if not self.keeps:
            missed = min((line for line in self.lines if line.margin < 0), key=lambda line: line.margin)
            found["reason"] = f"misses {missed.limit} of {missed.band or 'the whole filter'}"
        return found


def contenders(
    requirement: Requirement, is_stopped: Stop = lambda: False, with_antisymmetric: bool = False
) -> Iterator[Contender]:
    """The shortest filter of every method, as each is finished, or why it has none; several are worked on at a time.

    Antisymmetric taps turn the phase by 90 degrees on top of their delay: they are tried only when asked for.
    """
    choices = []
    for method in _in_order():
        if is_stopped():
            return
        reason = unfit(method, requirement)
        if reason:
            yield Contender(method.name, 1, 0, None, reason=reason, is_shortest=True)
        else:
            choices.append(DesignChoice(method.name))
    first = requirement.bands[0]
    if with_antisymmetric and not (first.is_passband and first.start_hz == 0):
        choices.append(DesignChoice("equiripple", symmetry=-1))
    for found in side_by_side(tried, [(requirement, choice) for choice in choices], is_stopped):
        if found is not None and (found.symmetry == 1 or found.design is not None):
            yield found


def _in_order() -> list[Method]:
    """Quick methods first, slow ones last."""
    racing = [method for method in METHODS if method.races]

    def place(method: Method) -> int:
        if method.name in QUICK_FIRST:
            return QUICK_FIRST.index(method.name)
        return 100 + SLOW_LAST.index(method.name) if method.name in SLOW_LAST else 50

    return sorted(racing, key=place)


def unfit(method: Method, requirement: Requirement) -> str:
    """Why a method isn't tried at all, "" where it is."""
    if requirement.phase == "linear" and not any(word == "linear phase" for word in method.can):
        return "linear phase is asked, which it can't give"
    if method.name in RATE_METHODS and requirement.rate is None:
        return "no other rate is asked for"
    if method.name == POLYNOMIALS and requirement.rate is not None and requirement.rate.up == 1:
        return "a rate that only goes down has one place between two samples"
    if method.name in RATE_METHODS:
        return ""
    if requirement.rate is not None and method.kind == "iir":
        return "it feeds its output back, so that it has no phases to run at the lower rate"
    if method.name == "optimized-iir" and _is_plain(requirement):
        return "an elliptic filter is already the best of its order for these limits"
    if method.name == "elliptic-product" and shape_of(requirement):
        return "one elliptic filter does it by itself"
    if method.name == "delay-equalized" and requirement.max_delay_spread_s is None:
        return "no spread of the delay is limited, so there is nothing to even out"
    return ""


def _is_plain(requirement: Requirement) -> bool:
    """A lowpass or highpass with one level in each band."""
    if shape_of(requirement) not in ("lowpass", "highpass") or len(requirement.bands) != 2:
        return False
    limits = [limit for band in requirement.bands for limit in (band.upper, band.lower) if limit is not None]
    return all(min(db for _, db in limit.points) == max(db for _, db in limit.points) for limit in limits)


_NAMES = [method.name for method in METHODS]


def ranked(found: list[Contender]) -> list[Contender]:
    """Those that keep every limit first, then by multiplies, adds and memory; those without a filter last."""
    return sorted(
        found,
        key=lambda c: (
            not c.keeps,
            c.cost is None,
            (c.cost.multiplies, c.cost.adds, c.cost.delays) if c.cost else (0, 0, 0),
            c.symmetry == -1,
            c.design is None,
            _NAMES.index(c.method) if c.method in _NAMES else len(_NAMES),
            -(c.spare_db or 0.0),
        ),
    )


def tried(requirement: Requirement, choice: DesignChoice, is_stopped: Stop) -> Contender | None:
    """One method's shortest filter, or its reason; None once everything is to stop."""
    patience = LONG_PATIENCE_S if choice.method == "equiripple" else PATIENCE_S
    ends = time.monotonic() + patience
    task = Task(requirement, requirement.sample_rate_hz, choice, lambda: is_stopped() or time.monotonic() > ends)
    try:
        found = design_task(task)
    except CombeError as error:
        reason = error.what + (f"; {error.instead}" if error.instead else "")
        return Contender(choice.method, choice.symmetry, 0, None, reason=reason, is_shortest=True)
    except Stopped:
        if is_stopped():
            return None
        reason = f"not finished after {patience:g} s; choose it to let it go on"
        return Contender(choice.method, choice.symmetry, 0, None, reason=reason, is_shortest=True)
    except (ArithmeticError, IndexError, ValueError, np.linalg.LinAlgError) as fault:
        # One method's fault must not end the race for all the others.
        place = log_failure(f"{choice.method} as a contender")
        reason = f"a fault in this method ({type(fault).__name__}), recorded in {place}"
        return Contender(choice.method, choice.symmetry, 0, None, reason=reason, is_shortest=True)
    return contender_of(found, requirement, choice.symmetry, True)


def contender_of(found: Design, requirement: Requirement, symmetry: int = 1, is_shortest: bool = False) -> Contender:
    """A design with what it costs."""
    bands = [(band.start_hz, band.stop_hz) for band in requirement.passbands]
    return Contender(
        found.method, symmetry, found.order, found, lines_of_design(found, requirement), cost_of_design(found),
        delay_over_passbands(found.filter, bands, requirement.sample_rate_hz), "", is_shortest,
    )  # fmt: skip
