"""The way of samples through several filters as one: its integer program, its exact filter, what it does to each band."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.analysis.exact import exact_filter
from combe.designing.costs import cost_of_design
from combe.designing.designed import Design
from combe.designing.rates.stages import RateStage, prototype_of, ratio_of
from combe.errors import CombeError, DesignError, FileError
from combe.filters import Filter, Fir, Rational, rational_of, sections_of
from combe.filters.simultaneous import roots_of
from combe.ledger.delay import delay_over_passbands
from combe.project.chain import ideal_of, rounded_of
from combe.project.document import Member, Project
from combe.project.sources import mismatches, way_to
from combe.realization.reading import RealizationFile
from combe.realization.stages import Realization
from combe.requirement import Limit
from combe.responses import frequency_response
from combe.responses.extremes import worst_points

Say = Callable[[str], None]


class Part(Struct, frozen=True):
    """One filter on the way: exact, and as integers."""

    member: Member
    design: Design
    realization: Realization


class Way(Struct, frozen=True):
    """The filters from the input to one of them, in the order samples pass through."""

    parts: tuple[Part, ...]

    @property
    def name(self) -> str:
        """What code of the whole way is called."""
        first, last = self.parts[0].member.code_name, self.parts[-1].member.code_name
        return first if len(self.parts) == 1 else f"{first}_to_{last}"

    @property
    def sample_rate_hz(self) -> float:
        """The rate of all of it."""
        return self.parts[0].realization.sample_rate_hz

    @property
    def changes_rate(self) -> bool:
        """Whether samples leave it at another rate."""
        return any(part.design.stages for part in self.parts)

    @property
    def stages(self) -> tuple[RateStage, ...]:
        """All filters as stages of a change of rate."""
        found: list[RateStage] = []
        for part in self.parts:
            if not part.design.stages and not isinstance(part.design.filter, Fir):
                what = f"{part.member.code_name} feeds its output back, beside a change of rate"
                raise DesignError(what, "path", "look at the filters one by one")
            plain = (RateStage("taps", 1, 1, getattr(part.design.filter, "taps", ())),)
            found += part.design.stages or plain
        return tuple(found)

    def realization(self) -> Realization:
        """All stages in a row as one program: what runs is what the filters do one after another, bit for bit."""
        stages = tuple(stage for part in self.parts for stage in part.realization.stages)
        first, last = self.parts[0].realization, self.parts[-1].realization
        structures = "+".join(dict.fromkeys(part.realization.structure for part in self.parts))
        return Realization(self.name, self.sample_rate_hz, structures, first.input, last.output, stages)

    def filter(self) -> Filter:
        """The product of the exact filters; their prototype where one of them changes the rate.

        Raises
        ------
        CombeError
            If a filter that feeds its output back stands beside one that changes the rate: no taps stand for both.
        """
        if self.changes_rate:
            return prototype_of(self.stages)
        return product_of([part.design.filter for part in self.parts])

    def response(self, omega: NDArray[np.float64]) -> NDArray[np.complex128]:
        """Of the exact filters, each evaluated on its own, so that no digit is lost."""
        if self.changes_rate:
            return frequency_response(self.filter(), omega)
        found = np.ones(len(omega), dtype=np.complex128)
        for part in self.parts:
            found = found * frequency_response(part.design.filter, omega)
        return found

    def file(self) -> RealizationFile:
        """What a realization file of the whole way holds."""
        stages = self.stages if self.changes_rate else ()
        design = Design("given", self.filter(), self.sample_rate_hz * ratio_of(stages)[0], stages=stages)
        return RealizationFile(self.realization(), design)


def way_of(project: Project, name: str, say: Say = lambda _: None) -> Way:
    """The way from the input to a filter.

    Raises
    ------
    FileError
        If formats or rates differ at a joint on the way, with what would mend it.
    CombeError
        If a filter on it can't be made, naming it.
    """
    members = way_to(project.members, name)
    on_it = {member.code_name for member in members}
    for joint in mismatches(project.members):
        if joint.name in on_it:
            raise FileError(joint.sentence, f"filter {joint.name}", joint.remedy)
    names = [member.code_name for member in project.members]
    parts = []
    for member in members:
        say(member.code_name)
        one = project.opened(names.index(member.code_name))
        try:
            ideal = ideal_of(one)
            parts.append(Part(member, ideal.design, rounded_of(one, ideal).realization))
        except CombeError as error:
            raise error.at(member.code_name) from None
    return Way(tuple(parts))


def product_of(filters: list[Filter]) -> Filter:
    """Filters in a row as one: taps convolved, anything recursive as sections of all roots."""
    taps = np.ones(1)
    others: list[Rational] = []
    for source in filters:
        if isinstance(source, Fir):
            taps = np.convolve(taps, source.array)
        else:
            others.append(rational_of(source))
    if not others:
        return Fir(tuple(taps.tolist()))
    lead = int(np.flatnonzero(taps)[0]) if np.any(taps) else 0
    own = np.trim_zeros(taps)
    gain = float(np.prod([part.gain for part in others])) * (float(own[0]) if len(own) else 0.0)
    zeros = np.concatenate([*(part.zeros for part in others), roots_of(own)])
    poles = np.concatenate([part.poles for part in others])
    return sections_of(Rational(gain, lead + sum(part.delay for part in others), zeros, poles))


def report(way: Way) -> dict[str, Any]:
    """What ``combe path --json`` tells: the filters, what they cost and delay, and what all of it does to every band.

    Delays are group delays over the passbands of the last filter, of the exact filters; gains are those of the integers.
    """
    kept = [(band.start_hz, band.stop_hz) for band in way.parts[-1].member.requirement.passbands]
    parts = []
    delay = 0.0
    costs = [cost_of_design(part.design) for part in way.parts]
    for part, cost in zip(way.parts, costs):
        own = delay_over_passbands(part.design.filter, kept, way.sample_rate_hz)
        delay += own.mean
        parts.append(
            {"name": part.member.code_name, "title": part.member.requirement.name, "source": part.member.source, "cost": cost.document(),
             "delay_samples": own.mean, "input": str(part.realization.input), "output": str(part.realization.output)}
        )  # fmt: skip
    total = {key: sum(getattr(cost, key) for cost in costs) for key in ("multiplies", "adds", "delays")}
    return {
        "format": "combe-path", "version": 1, "name": way.name, "sample_rate_hz": way.sample_rate_hz, "filters": parts, "cost": total,
        "delay_samples": delay, "delay_s": delay / way.sample_rate_hz, "bands": _bands(way),
    }  # fmt: skip


def _bands(way: Way) -> list[dict[str, Any]]:
    """Least and most gain over every band that any of the filters names."""
    source = exact_filter(way.realization())
    found = []
    for part in way.parts:
        for band in part.member.requirement.bands:
            flat = Limit.level(0.0, band.start_hz, band.stop_hz)
            most, least = worst_points(source, way.sample_rate_hz, ((flat, 1), (flat, -1)))
            found.append(
                {"filter": part.member.code_name, "band": band.name, "start_hz": band.start_hz, "stop_hz": band.stop_hz,
                 "least_db": least.gain_db, "least_at_hz": least.hz, "most_db": most.gain_db, "most_at_hz": most.hz}
            )  # fmt: skip
    return found
