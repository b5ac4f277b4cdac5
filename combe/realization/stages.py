"""A realization: the complete integer program, a short list of stages that every reader walks."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from math import prod
from typing import Any, TypeGuard

from msgspec import Struct

from combe.errors import FormatError
from combe.realization.cic import Cic, check_cic
from combe.realization.formats import OVERFLOWS, ROUNDINGS, Format, narrowest_signed
from combe.realization.network import MOST_FACTOR, Network, Node, check_network
from combe.realization.program import Program, stages_program
from combe.realization.section import Section, check_section
from combe.realization.term import INPUT, Term

FORMS = ("direct", "folded", "transposed", "polyphase")
MOST_BRANCHES = 16
RATE_FORMS = ("direct", "folded")
"""How a sum of taps that changes the rate may be built; its phases follow from the factors."""


class TapSum(Struct, frozen=True):
    """accumulator = Σ coefficients[i]·x[n−i], exact. ``form`` says how it's built, never what it computes."""

    coefficients: tuple[int, ...]
    coefficient: Format
    accumulator: Format
    form: str = "direct"
    branches: int = 1
    """Sums a polyphase form is built of; 1 for every other form."""
    up: int = 1
    down: int = 1
    """Output m is Σ coefficients[i]·u[m·down − i], where u has the input at every ``up``-th place and 0 elsewhere."""

    @property
    def result(self) -> Format:
        """The whole sum is handed on."""
        return self.accumulator

    @property
    def is_recursive(self) -> bool:
        """Never."""
        return False

    @property
    def overflow(self) -> str:
        """A sum holds all there can be."""
        return "saturate"

    @property
    def accumulators(self) -> tuple[Format, ...]:
        """Of its one sum."""
        return (self.accumulator,)

    @property
    def coefficient_formats(self) -> tuple[Format, ...]:
        """Of the taps."""
        return (self.coefficient,)

    def network(self, _: Format) -> Network:
        """One exact sum, nothing rounded."""
        terms = tuple(Term(INPUT, delay, value, self.coefficient) for delay, value in enumerate(self.coefficients))
        return Network((Node("sum", terms, self.accumulator, self.accumulator, "floor", "wrap"),), "sum", self.form)

    def title(self, index: int, node: Node) -> str:
        """Its name for people."""
        return "the sum of taps"

    @property
    def symmetry(self) -> int:
        """1 if the coefficients read the same backwards, -1 if they change sign, else 0."""
        forward, backward = self.coefficients, self.coefficients[::-1]
        return 1 if forward == backward else -1 if forward == tuple([-value for value in backward]) else 0

    def span(self, source: Format) -> tuple[int, int]:
        """The least and the largest sum any input can cause; every partial sum lies between them too."""
        low, high = source.least, source.most
        # Where zeros are stuffed in, an output meets the taps of one phase only.
        phases = [self.coefficients[phase :: self.up] for phase in range(min(self.up, len(self.coefficients)))]
        rising = [sum([c for c in phase if c > 0]) for phase in phases]
        falling = [sum(phase) - up for phase, up in zip(phases, rising)]
        return (
            min([up * low + down * high for up, down in zip(rising, falling)]),
            max([up * high + down * low for up, down in zip(rising, falling)]),
        )


class Requantize(Struct, frozen=True):
    """From raw k at one format to k·2^(f₂−f₁), rounded, then saturated or wrapped."""

    source: Format
    target: Format
    rounding: str
    overflow: str

    @property
    def result(self) -> Format:
        """The format it brings a value to."""
        return self.target

    @property
    def is_recursive(self) -> bool:
        """Never."""
        return False

    @property
    def accumulators(self) -> tuple[Format, ...]:
        """It adds nothing."""
        return ()

    @property
    def coefficient_formats(self) -> tuple[Format, ...]:
        """It multiplies by nothing."""
        return ()

    def network(self, _: Format) -> Network:
        """A sum of one, rounded."""
        only = (Term(INPUT, 0, 1),)
        node = Node("output", only, self.source, self.target, self.rounding, self.overflow)
        return Network((node,), "output", "requantize")

    def title(self, index: int, node: Node) -> str:
        """Its name for people."""
        return "the output"


Stage = TapSum | Section | Network | Requantize | Cic
CHANGING = (TapSum, Cic, Network)
"""Kinds of stages that may change the rate."""


def is_changing(stage: Stage) -> TypeGuard[TapSum | Cic | Network]:
    """Whether a stage changes the rate."""
    return isinstance(stage, CHANGING) and (stage.up > 1 or stage.down > 1)


@dataclass(frozen=True, repr=False)
class Realization:
    """Input format, stages in order, output format.

    Raises
    ------
    FormatError
        If the stages don't fit together, with ``where`` naming the key.
    """

    name: str
    sample_rate_hz: float
    structure: str
    input: Format
    output: Format
    stages: tuple[Stage, ...]

    def __post_init__(self) -> None:
        check(self)

    def __repr__(self) -> str:
        """In a line: what goes in, what is done, what comes out."""
        count = len(self.stages)
        inside = f"{self.structure}, {count} stage{'s' if count > 1 else ''}"
        return f"Realization({self.name!r}, {self.input} -> {inside} -> {self.output})"

    def formats(self) -> list[Format]:
        """The format in front of each stage, and the last one's result."""
        found = [self.input]
        for stage in self.stages:
            found.append(stage.result)
        return found

    @property
    def is_recursive(self) -> bool:
        """Whether any stage feeds its output back."""
        return any(stage.is_recursive for stage in self.stages)

    @property
    def ratio(self) -> tuple[int, int]:
        """Output samples for input samples: all factors up, all factors down."""
        changing = [stage for stage in self.stages if isinstance(stage, CHANGING)]
        return prod(stage.up for stage in changing), prod(stage.down for stage in changing)

    @property
    def changes_rate(self) -> bool:
        """Whether outputs come at another rate than inputs, or samples inside do."""
        return any(is_changing(stage) for stage in self.stages)

    def output_count(self, inputs: int) -> int:
        """Samples that have come out after so many have gone in."""
        for stage in self.stages:
            if isinstance(stage, CHANGING):
                inputs = -(-inputs * stage.up // stage.down)
        return inputs

    @property
    def output_rate_hz(self) -> float:
        """The output's sample rate."""
        up, down = self.ratio
        return self.sample_rate_hz * up / down

    @cached_property
    def program(self) -> Program:
        """All stages as one flat list of sums: what the generic run and all analysis walk, made once.

        Raises
        ------
        FormatError
            If the rate changes on the way: there is no such list at one rate.
        """
        if self.changes_rate:
            raise FormatError("the rate changes on the way, so that there is no program at one rate", "stages")
        return stages_program(self.stages, self.input)

    @cached_property
    def carried(self) -> dict[str, Any]:
        """What was worked out of it and is wanted again; see ``carried_by``."""
        return {}


def check(realization: Realization) -> None:
    """Raise ``FormatError`` at the first stage that doesn't fit the one before."""
    if not realization.stages:
        raise FormatError("there is no stage", "stages", "at least one is needed")
    if len(realization.stages) > 64:
        raise FormatError(f"there are {len(realization.stages)} stages", "stages", "at most 64 are taken")
    source = realization.input
    for index, stage in enumerate(realization.stages):
        where = f"stages[{index}]"
        if isinstance(stage, TapSum):
            _check_tap_sum(stage, source, where)
        elif isinstance(stage, Cic):
            check_cic(stage, source, where)
        elif isinstance(stage, Section):
            check_section(stage, source, where)
        elif isinstance(stage, Network):
            check_network(stage, source, where)
        else:
            _check_requantize(stage, source, where)
        source = stage.result
    if source != realization.output:
        raise FormatError(f"the last stage gives {source}, the output is {realization.output}", "output")


def _check_tap_sum(stage: TapSum, source: Format, where: str) -> None:
    if not stage.coefficients:
        raise FormatError("there are no coefficients", f"{where}.coefficients", "at least one is needed")
    low, high = stage.coefficient.least, stage.coefficient.most
    if min(stage.coefficients) < low or max(stage.coefficients) > high:
        position, value = next((k, c) for k, c in enumerate(stage.coefficients) if not low <= c <= high)
        what = f"{value} doesn't fit {stage.coefficient}"
        raise FormatError(what, f"{where}.coefficients[{position}]", f"it holds {low} to {high}")
    for key in ("up", "down"):
        if not 1 <= getattr(stage, key) <= MOST_FACTOR:
            what = f"a factor of {getattr(stage, key)} is out of reach"
            raise FormatError(what, f"{where}.{key}", f"1 to {MOST_FACTOR} are taken")
    fraction = source.fraction + stage.coefficient.fraction
    if stage.accumulator.fraction != fraction:
        what = f"{stage.accumulator} has its binary point in the wrong place"
        raise FormatError(what, f"{where}.accumulator", f"input and coefficient make {fraction} fraction bits")
    least, most = stage.span(source)
    if not (stage.accumulator.holds(least) and stage.accumulator.holds(most)):
        what = f"{stage.accumulator} can't hold every sum, which run from {least} to {most}"
        raise FormatError(what, f"{where}.accumulator", f"{needed_accumulator(stage, source)} is enough")
    if stage.form not in FORMS:
        raise FormatError(f'form "{stage.form}" is not known', f"{where}.form", f"known are {', '.join(FORMS)}")
    if (stage.form == "polyphase") != (stage.branches > 1) or not 1 <= stage.branches <= MOST_BRANCHES:
        what = f"{stage.branches} branches don't go with {stage.form}"
        raise FormatError(what, f"{where}.branches", f"2 to {MOST_BRANCHES} make a polyphase form, others have none")
    if (stage.up > 1 or stage.down > 1) and stage.form not in RATE_FORMS:
        what = f"{stage.form} taps don't change the rate"
        raise FormatError(what, f"{where}.form", f"take {' or '.join(RATE_FORMS)}")
    if stage.form == "folded" and not stage.symmetry:
        raise FormatError("folded needs symmetric or antisymmetric coefficients", f"{where}.form", "use direct")


def _check_requantize(stage: Requantize, source: Format, where: str) -> None:
    if stage.source != source:
        raise FormatError(f"from is {stage.source}, but {source} arrives here", f"{where}.from")
    if stage.rounding not in ROUNDINGS:
        raise FormatError(
            f'"{stage.rounding}" is not a rounding', f"{where}.rounding", f"known are {', '.join(ROUNDINGS)}"
        )
    if stage.overflow not in OVERFLOWS:
        raise FormatError(
            f'"{stage.overflow}" is not an overflow', f"{where}.overflow", f"known are {', '.join(OVERFLOWS)}"
        )


def needed_accumulator(stage: TapSum, source: Format) -> Format:
    """The narrowest signed accumulator no input can overflow, computed from the coefficients themselves."""
    bits = narrowest_signed(*stage.span(source))
    return Format(True, bits, source.fraction + stage.coefficient.fraction)
