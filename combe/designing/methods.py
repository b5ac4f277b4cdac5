"""Every design method, one entry each. What makes a filter is loaded when a filter is made."""

from __future__ import annotations

from collections.abc import Callable
from importlib import import_module
from typing import TYPE_CHECKING, Any, cast

from msgspec import Struct

from combe.designing import settings as own
from combe.designing.task import ALLPASS_PLAN, CHEAPEST_PLAN, POLYNOMIAL_PLAN, DesignChoice, Setting, Stop, Task
from combe.errors import DesignError
from combe.values import replace

if TYPE_CHECKING:
    from combe.designing.designed import Design
    from combe.requirement import Requirement

LIMITS, ORDER, CUTOFF, FREE = "requirement", "requirement + order", "order + cutoff", "settings"
BANDS = ("lowpass", "highpass", "bandpass", "bandstop")


class Method(Struct, frozen=True):
    """A way to design a filter.

    ``asks`` lists what it can be asked with; ``settings`` its own parameters; ``races`` whether it is tried as a
    contender; ``made_in`` names the function that does a task, ``module:function``.
    """

    name: str
    kind: str
    summary: str
    can: tuple[str, ...]
    asks: tuple[str, ...]
    made_in: str
    settings: tuple[Setting, ...] = ()
    races: bool = True

    def make(self, task: Task) -> Design:
        """Do a task."""
        module, _, name = self.made_in.partition(":")
        return cast("Callable[[Task], Design]", getattr(import_module(f"combe.designing.{module}"), name))(task)

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


LINEAR = ("linear phase", "given order")
HALF_BANDS, POLYNOMIALS, ROW = "allpass-half-bands", "farrow", "stages-in-a-row"
RATE_METHODS = (HALF_BANDS, POLYNOMIALS, ROW)
"""Methods whose filter is stages that change the rate, and nothing else."""
EVERY_BAND = (*BANDS, "multiband", "sloped limits")
WINDOWS: tuple[tuple[str, str, tuple[Setting, ...]], ...] = (
    ("kaiser", "windowed ideal response, ripple set by one parameter", (own.WINDOW_BETA, own.KAISER_DOWN)),
    ("dolph-chebyshev", "windowed, side lobes of the window all alike", (own.WINDOW_DOWN,)),
    ("rectangular-window", "the ideal response cut off", ()),
    ("hann-window", "windowed by a raised cosine", ()),
    ("hamming-window", "windowed, first side lobe cancelled", ()),
    ("blackman-window", "windowed by three cosine terms", ()),
    ("blackman-harris-window", "windowed by four terms, least side lobes", ()),
    ("nuttall-window", "windowed by four terms, with a continuous first derivative", ()),
    ("flat-top-window", "windowed by five terms made for reading levels", ()),
    ("gauss-window", "windowed by a bell, no overshoot worth the name", (own.WINDOW_SIGMA,)),
    ("tukey-window", "windowed by a flat top with cosine ends", (own.WINDOW_TAPER,)),
)
CLASSICS: tuple[tuple[str, str], ...] = (
    ("butterworth", "monotone, flattest at the middle of the passband"),
    ("chebyshev", "equal ripples in the passband, monotone stopband"),
    ("inverse-chebyshev", "flat passband, equal ripples in the stopband"),
    ("elliptic", "equal ripples in both: the least order of all"),
    ("bessel", "the flattest delay, a slope like a Gaussian's"),
)
SINGLE: tuple[tuple[str, str, str, tuple[Setting, ...]], ...] = (
    ("notch", "one frequency blocked, its width set", "make_notch", (own.CENTER, own.WIDTH, own.Q)),
    ("peak", "one frequency raised or lowered by a gain", "make_peak", (own.CENTER, own.WIDTH, own.Q, own.GAIN)),
    ("resonator", "one frequency passed, its width set", "make_resonator", (own.CENTER, own.WIDTH, own.Q)),
    ("low-shelf", "low frequencies raised or lowered", "make_low_shelf", (own.CORNER, own.GAIN)),
    ("high-shelf", "high frequencies raised or lowered", "make_high_shelf", (own.CORNER, own.GAIN)),
    ("comb", "all multiples of a frequency blocked", "make_comb", (own.SPACING, own.WIDTH, own.DEPTH)),
)
METHODS: tuple[Method, ...] = (
    Method("equiripple", "fir", "minimax linear phase by Remez exchange: the fewest taps for any set of limits",
           (*EVERY_BAND, *LINEAR, "weights"), (LIMITS, ORDER, CUTOFF), "equiripple.method:make", own.LEVELS),
    *(Method(name, "fir", summary, (*EVERY_BAND, *LINEAR), (LIMITS, ORDER, CUTOFF), "windowed.method:make_named", settings)
      for name, summary, settings in WINDOWS),
    Method("least-squares", "fir", "least weighted squared error, in closed form",
           (*EVERY_BAND, *LINEAR, "weights"), (LIMITS, ORDER), "least_squares.method:make"),
    Method("constrained-least-squares", "fir", "least squared error of all filters that keep the peak limits",
           (*EVERY_BAND, *LINEAR), (LIMITS, ORDER, CUTOFF), "least_squares.constrained:make", own.LEVELS),
    Method("maximally-flat", "fir", "no ripple at all, in closed form", ("lowpass", "highpass", *LINEAR),
           (LIMITS, ORDER, CUTOFF), "fir.maximally_flat:make"),
    Method("half-band", "fir", "symmetric about a quarter of the sample rate: half its taps are zero",
           ("lowpass", "highpass", *LINEAR), (LIMITS, ORDER), "fir.half_band:make"),
    Method("nyquist", "fir", "M-th band: every M-th tap is zero", ("lowpass", *LINEAR), (LIMITS, ORDER),
           "fir.nyquist:make", (own.NYQUIST_BANDS,)),
    Method("minimum-phase", "fir", "least delay and fewer taps, by spectral factorization",
           (*EVERY_BAND, "given order"), (LIMITS, ORDER), "fir.minimum_phase:make"),
    Method("low-delay", "fir", "linear phase traded for delay, by complex approximation",
           (*EVERY_BAND, "given order"), (LIMITS, ORDER), "fir.low_delay:make", (own.LOW_DELAY,)),
    Method("interpolated-fir", "fir", "a stretched filter and an image suppressor, for narrow bands",
           ("lowpass", "highpass", "linear phase"), (LIMITS,), "fir.interpolated:make", (own.STRETCH,)),
    Method("from-points", "fir", "follows the middle of all limits, points joined by straight lines",
           (*EVERY_BAND, *LINEAR), (LIMITS, ORDER), "fir.from_points:make", (own.POINTS_BETA,)),
    *(Method(name, "iir", summary, (*BANDS, "given order"), (LIMITS, ORDER, CUTOFF), "classic.method:make_named",
             own.CLASSIC.get(name, ())) for name, summary in CLASSICS),
    Method("elliptic-product", "iir", "elliptic filters in a row, one for each run of stopbands",
           ("multiband", "sloped limits"), (LIMITS,), "recursive.product:make"),
    Method("delay-equalized", "iir", "elliptic, with allpass sections that even out its delay", (*BANDS, "even delay"),
           (LIMITS, ORDER), "recursive.equalizer:make", (own.EQUALIZER_SECTIONS,)),
    Method("optimized-iir", "iir", "any mask by direct optimization, stable by construction",
           (*EVERY_BAND, "given order"), (LIMITS, ORDER), "recursive.optimized:make", (own.RADIUS,)),
    Method("balanced-truncation", "iir", "follows a linear-phase FIR at a lower order, near-linear phase kept",
           (*EVERY_BAND, "near-linear phase", "given order"), (LIMITS, ORDER), "recursive.balanced:make",
           (own.FIR_ORDER,)),
    Method(ROW, "fir", "changes the rate in the cheapest row of stages there is: taps, half-bands, sums in a row",
           ("lowpass", "change of rate", "linear phase"), (LIMITS,), "rates.whole_plans:make_row"),
    Method(HALF_BANDS, "iir", "changes the rate by twos in half-bands of two allpasses: a multiply for each pole pair",
           ("lowpass", "change of rate"), (LIMITS,), "rates.whole_plans:make_half_bands"),
    Method(POLYNOMIALS, "fir", "any ratio from few coefficients: taps that are polynomials of the place between two samples",
           ("lowpass", "change of rate", "linear phase"), (LIMITS,), "rates.whole_plans:make_polynomials"),
    Method("hilbert", "fir", "phase turned by 90 degrees, equiripple", ("bandpass", "antisymmetric taps", *LINEAR),
           (LIMITS, ORDER, FREE), "fir.phase_turned:make_hilbert", own.TURNED, False),
    Method("differentiator", "fir", "gain in proportion to frequency, equal relative ripples",
           ("antisymmetric taps", *LINEAR), (FREE,), "fir.phase_turned:make_differentiator", own.TURNED, False),
    Method("raised-cosine", "fir", "pulse without intersymbol interference", ("lowpass", *LINEAR), (FREE,),
           "fir.pulses:make_raised_cosine", own.PULSE, False),
    Method("root-raised-cosine", "fir", "half of a raised cosine, for each end of a link", ("lowpass", *LINEAR), (FREE,),
           "fir.pulses:make_root_raised_cosine", own.PULSE, False),
    Method("pulse-shaping", "fir", "least intersymbol interference within a spectrum mask", ("lowpass", "sloped limits", *LINEAR),
           (LIMITS, ORDER), "fir.pulse_shaping:make", own.SHAPING, False),
    Method("moving-average", "fir", "the mean of the last samples", ("lowpass", *LINEAR), (FREE,),
           "fir.smoothers:make_moving_average", (), False),
    Method("savitzky-golay", "fir", "a polynomial fitted to the samples around each", ("lowpass", *LINEAR), (FREE,),
           "fir.smoothers:make_savitzky_golay", (own.DEGREE, own.DERIVATIVE), False),
    Method("fractional-delay", "fir", "a delay between samples", ("given order",), (FREE,), "fir.fractional_delay:make",
           (own.FRACTIONAL_DELAY, own.FRACTIONAL_BAND), False),
    *(Method(name, "fir or iir" if name == "comb" else "iir", summary, ("closed form",), (FREE,),
             f"recursive.single:{function}", settings, False) for name, summary, function, settings in SINGLE),
    Method("given", "fir or iir", "coefficients typed, pasted or read from a file", ("taps", "b and a", "sections", "roots"),
           ("coefficients",), "given:make", (), False),
)  # fmt: skip


def method_shown(choice: DesignChoice) -> str:
    """The contender a choice is: stages of a plan are a row, whichever they are."""
    return ROW if choice.method == "equiripple" and choice.plan not in ("", "single") else choice.method


def plan_shown(choice: DesignChoice) -> str:
    """The plan of a choice, which a method may imply."""
    return {HALF_BANDS: ALLPASS_PLAN, POLYNOMIALS: POLYNOMIAL_PLAN, ROW: CHEAPEST_PLAN}.get(choice.method, choice.plan)


def method_named(name: str) -> Method:
    """A method by its name."""
    for method in METHODS:
        if method.name == name:
            return method
    raise DesignError(f'"{name}" is not a method', "method", "known are " + ", ".join(m.name for m in METHODS))


def check_choice(method: Method, choice: DesignChoice) -> None:
    """Refuse settings a method doesn't have, and cut-offs it doesn't take."""
    known = [setting.name for setting in method.settings]
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
    from combe.designing.caps import bulges
    from combe.requirement.quantities import frequency_text

    method = method_named(task.choice.method)
    check_choice(method, task.choice)
    if task.choice.plan or (task.requirement is not None and task.requirement.rate is not None):
        return _rate_changed(task, method)
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


def _rate_changed(task: Task, method: Method) -> Design:
    """A task whose requirement changes the rate: its prototype by the method, or the stages of a plan."""
    from combe.designing.rates.chain import planned
    from combe.designing.rates.making import single_stage
    from combe.requirement.rates import prototype_requirement

    asked, plan = task.asked, task.choice.plan
    if method.name in RATE_METHODS:
        return method.make(task)
    if plan not in ("", "single"):
        if method.name != "equiripple" or task.choice.order is not None:
            raise DesignError(
                "stages in a row are equiripple, each as short as can be", "plan", "leave method and order out"
            )
        return planned(asked, "" if plan == "cheapest" else plan, task.is_stopped)
    if asked.rate is None:
        raise DesignError("the requirement changes no rate, so there is nothing to plan", "--plan", "leave it out")
    if method.kind == "iir":
        what = f"{method.name} feeds its output back, and has no phases to run at the lower rate"
        raise DesignError(what, "method", "take one whose kind is fir, such as equiripple")
    choice = replace(task.choice, plan="")
    if asked.rate.down == 1 and choice.setting("samples_per_symbol") is None and method.name == "pulse-shaping":
        # One symbol comes in, so many samples go out.
        choice = replace(choice, settings=(*choice.settings, ("samples_per_symbol", float(asked.rate.up))))
    if (
        method.name == "equiripple"
        and choice.order is None
        and choice.symmetry == 1
        and not (choice.cutoffs_hz or choice.weights)
    ):
        from combe.designing.equiripple.search import MAXIMUM_TAPS
        from combe.designing.estimates import estimated_taps

        if estimated_taps(prototype_requirement(asked))[0] > MAXIMUM_TAPS:
            # Beyond what an exchange is searched for, stages can still be drawn from a model.
            return planned(asked, "single", task.is_stopped)
    near = task.near
    if near is not None and near.stages and near.requirement is not None:
        near = replace(near, requirement=prototype_requirement(near.requirement), stages=())
    found = design_task(replace(task, requirement=prototype_requirement(asked), choice=choice, near=near))
    return single_stage(found, asked)


def is_linear_phase(found: Design) -> bool:
    """Whether the taps read the same, or turned in sign, from both ends."""
    from combe.filters import Fir

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
