"""Every design method, one entry each."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from msgspec import Struct

from combe.designing import equiripple
from combe.designing.caps import bulges
from combe.designing.classic import method as classic
from combe.designing.designed import Design
from combe.designing.fir import (
    fractional_delay,
    from_points,
    half_band,
    interpolated,
    low_delay,
    maximally_flat,
    minimum_phase,
    nyquist,
    phase_turned,
    pulses,
    smoothers,
)
from combe.designing.least_squares import constrained
from combe.designing.least_squares import method as least_squares
from combe.designing.recursive import balanced, equalizer, optimized, single
from combe.designing.task import DesignChoice, Setting, Stop, Task
from combe.designing.windowed import method as windowed
from combe.errors import DesignError
from combe.filters import Fir
from combe.requirement import Requirement
from combe.requirement.quantities import frequency_text
from combe.values import replace

LIMITS, ORDER, CUTOFF, FREE = "requirement", "requirement + order", "order + cutoff", "settings"
BANDS = ("lowpass", "highpass", "bandpass", "bandstop")


class Method(Struct, frozen=True):
    """A way to design a filter.

    ``asks`` lists what it can be asked with; ``settings`` its own parameters; ``races`` whether it is tried as a
    contender; ``make`` does a task.
    """

    name: str
    kind: str
    summary: str
    can: tuple[str, ...]
    asks: tuple[str, ...]
    make: Callable[[Task], Design]
    settings: tuple[Setting, ...] = ()
    races: bool = True

    def document(self) -> dict[str, Any]:
        """The method as ``combe methods --json`` lists it."""
        settings = [
            {"name": s.name, "unit": s.unit, "summary": s.summary, "least": s.least, "most": s.most,
             "default": s.default} for s in self.settings
        ]  # fmt: skip
        return {
            "name": self.name, "kind": self.kind, "summary": self.summary, "can": list(self.can),
            "needs": list(self.asks), "settings": settings, "contender": self.races,
        }  # fmt: skip


def _equiripple(task: Task) -> Design:
    choice = task.choice
    if choice.cutoffs_hz:
        raise DesignError("equiripple works from limits, not from a cut-off", "cutoff", "a windowed method takes one")
    asked = weighted(task.asked, choice.weights)
    if choice.order is None:
        found = equiripple.shortest(asked, choice.symmetry, task.is_stopped, task.near, task.is_draft)
    else:
        found = equiripple.design(asked, choice.order, choice.symmetry, task.is_stopped)
    return replace(found, requirement=task.requirement)


def weighted(requirement: Requirement, weights: tuple[float, ...]) -> Requirement:
    """The requirement with each band's room divided by its weight: what a weighted minimax design keeps to."""
    from combe.designing.weights import reweighted

    return reweighted(requirement, weights) if weights else requirement


def _given(task: Task) -> Design:
    if task.choice.given is None:
        raise DesignError("no coefficients are given", "given", "type or paste them, or name their file with --from")
    return Design("given", task.choice.given, task.sample_rate_hz, task.requirement)


LINEAR = ("linear phase", "given order")
METHODS: tuple[Method, ...] = (
    Method("equiripple", "fir", "minimax linear phase by Remez exchange: the fewest taps for any set of limits",
           (*BANDS, "multiband", "sloped limits", *LINEAR, "weights"), (LIMITS, ORDER), _equiripple),
    *(Method(shape.method, "fir", shape.summary, (*BANDS, "multiband", "sloped limits", *LINEAR),
             (LIMITS, ORDER, CUTOFF), make, settings) for shape, make, settings in windowed.METHODS),
    Method("least-squares", "fir", "least weighted squared error, in closed form",
           (*BANDS, "multiband", "sloped limits", *LINEAR, "weights"), (LIMITS, ORDER), least_squares.make),
    Method("constrained-least-squares", "fir", "least squared error of all filters that keep the peak limits",
           (*BANDS, "multiband", "sloped limits", *LINEAR), (LIMITS, ORDER), constrained.make),
    Method("maximally-flat", "fir", "no ripple at all, in closed form", ("lowpass", "highpass", *LINEAR),
           (LIMITS, ORDER, CUTOFF), maximally_flat.make),
    Method("half-band", "fir", "symmetric about a quarter of the sample rate: half its taps are zero",
           ("lowpass", "highpass", *LINEAR), (LIMITS, ORDER), half_band.make),
    Method("nyquist", "fir", "M-th band: every M-th tap is zero", ("lowpass", *LINEAR), (LIMITS, ORDER),
           nyquist.make, (nyquist.BANDS,)),
    Method("minimum-phase", "fir", "least delay and fewer taps, by spectral factorization",
           (*BANDS, "multiband", "sloped limits", "given order"), (LIMITS, ORDER), minimum_phase.make),
    Method("low-delay", "fir", "linear phase traded for delay, by complex approximation",
           (*BANDS, "multiband", "sloped limits", "given order"), (LIMITS, ORDER), low_delay.make, (low_delay.DELAY,)),
    Method("interpolated-fir", "fir", "a stretched filter and an image suppressor, for narrow bands",
           ("lowpass", "highpass", "linear phase"), (LIMITS,), interpolated.make, (interpolated.STRETCH,)),
    Method("from-points", "fir", "follows the middle of all limits, points joined by straight lines",
           (*BANDS, "multiband", "sloped limits", *LINEAR), (LIMITS, ORDER), from_points.make, (from_points.BETA,)),
    *(Method(family.name, "iir", family.summary, (*BANDS, "given order"), (LIMITS, ORDER, CUTOFF), make, settings)
      for family, make, settings in classic.METHODS),
    Method("delay-equalized", "iir", "elliptic, with allpass sections that even out its delay", (*BANDS, "even delay"),
           (LIMITS, ORDER), equalizer.make, (equalizer.SECTIONS,)),
    Method("optimized-iir", "iir", "any mask by direct optimization, stable by construction",
           (*BANDS, "multiband", "sloped limits", "given order"), (LIMITS, ORDER), optimized.make, (optimized.RADIUS,)),
    Method("balanced-truncation", "iir", "follows a linear-phase FIR at a lower order, near-linear phase kept",
           (*BANDS, "multiband", "sloped limits", "near-linear phase", "given order"), (LIMITS, ORDER), balanced.make,
           (balanced.SPARE,)),
    Method("hilbert", "fir", "phase turned by 90 degrees, equiripple", ("bandpass", "antisymmetric taps", *LINEAR),
           (LIMITS, ORDER, FREE), phase_turned.make_hilbert, phase_turned.SETTINGS, False),
    Method("differentiator", "fir", "gain in proportion to frequency, equal relative ripples",
           ("antisymmetric taps", *LINEAR), (FREE,), phase_turned.make_differentiator, phase_turned.SETTINGS, False),
    Method("raised-cosine", "fir", "pulse without intersymbol interference", ("lowpass", *LINEAR), (FREE,),
           pulses.make_raised_cosine, pulses.SETTINGS, False),
    Method("root-raised-cosine", "fir", "half of a raised cosine, for each end of a link", ("lowpass", *LINEAR), (FREE,),
           pulses.make_root_raised_cosine, pulses.SETTINGS, False),
    Method("moving-average", "fir", "the mean of the last samples", ("lowpass", *LINEAR), (FREE,),
           smoothers.make_moving_average, (), False),
    Method("savitzky-golay", "fir", "a polynomial fitted to the samples around each", ("lowpass", *LINEAR), (FREE,),
           smoothers.make_savitzky_golay, (smoothers.DEGREE, smoothers.DERIVATIVE), False),
    Method("fractional-delay", "fir", "a delay between samples", ("given order",), (FREE,), fractional_delay.make,
           (fractional_delay.DELAY, fractional_delay.BAND), False),
    *(Method(name, "fir or iir" if name == "comb" else "iir", summary, ("closed form",), (FREE,), make, settings, False)
      for name, summary, make, settings in single.METHODS),
    Method("given", "fir or iir", "coefficients typed, pasted or read from a file", ("taps", "b and a", "sections", "roots"),
           ("coefficients",), _given, (), False),
)  # fmt: skip


def method_named(name: str) -> Method:
    """A method by its name."""
    for method in METHODS:
        if method.name == name:
            return method
    raise DesignError(f'"{name}" is not a method', "method", "known are " + ", ".join(m.name for m in METHODS))


def check_choice(method: Method, choice: DesignChoice) -> None:
    """Refuse settings a method doesn't have, and cut-offs it doesn't take."""
    known = [setting.name for setting in method.settings]
    if method.name == "kaiser":
        known.append("attenuation_db")
    for name, _ in choice.settings:
        if name not in known:
            instead = "known are " + ", ".join(known) if known else "it has none"
            raise DesignError(f'{method.name} has no setting "{name}"', "settings", instead)
    if choice.cutoffs_hz and CUTOFF not in method.asks:
        takers = ", ".join(m.name for m in METHODS if CUTOFF in m.asks)
        raise DesignError(f"{method.name} doesn't take a cut-off", "cutoff", f"these do: {takers}")
    if choice.weights and "weights" not in method.can:
        takers = ", ".join(m.name for m in METHODS if "weights" in m.can)
        raise DesignError(f"{method.name} doesn't take weights", "weights", f"these do: {takers}")
    if choice.order is not None and choice.order < 0:
        raise DesignError(f"order {choice.order} is out of reach", "order", "orders start at 0")


def design_task(task: Task) -> Design:
    """Do a task with the method it names."""
    method = method_named(task.choice.method)
    check_choice(method, task.choice)
    found = method.make(task)
    asked = task.requirement
    notes = found.notes
    if asked is not None and asked.phase == "linear" and not is_linear_phase(found):
        notes += ("its phase isn't linear, as the brief asks",)
    if asked is not None and method.name != "equiripple" and not task.is_draft:
        rate = asked.sample_rate_hz
        notes += tuple(
            f"in the transition from {frequency_text(start, rate)} to {frequency_text(stop, rate)} its gain rises to "
            f"{peak:.2f} dB, above the cap" for start, stop, peak in bulges(found.filter, asked)
        )  # fmt: skip
    return replace(found, notes=notes) if notes != found.notes else found


def is_linear_phase(found: Design) -> bool:
    """Whether the taps read the same, or turned in sign, from both ends."""
    return isinstance(found.filter, Fir) and found.filter.symmetry != 0


def design(
    requirement: Requirement,
    method: str = "equiripple",
    order: int | None = None,
    symmetry: int = 1,
    is_stopped: Stop = lambda: False,
    near: Design | None = None,
    is_draft: bool = False,
) -> Design:
    """The shortest filter that keeps every limit, or the best of a given order.

    ``near`` is a design of a requirement nearby: the search gets faster, its result is the same, or nearly so
    where a draft will do.
    """
    choice = DesignChoice(method, order, symmetry)
    return design_task(Task(requirement, requirement.sample_rate_hz, choice, is_stopped, near, is_draft))


__all__ = ["METHODS", "Method", "Stop", "check_choice", "design", "design_task", "method_named"]
