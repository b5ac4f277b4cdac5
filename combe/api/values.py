"""What a value is made of: the program in it, its design, its filter, its rate."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from combe.designing.designed import Design
    from combe.filters import Filter
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization


def program_of(source: Realization | RealizationFile) -> Realization:
    from combe.realization.reading import RealizationFile

    return source.realization if isinstance(source, RealizationFile) else source


def design_of(source: object) -> Design | None:
    from combe.realization.reading import RealizationFile

    return source.design if isinstance(source, RealizationFile) else None


def filter_of(source: Design | RealizationFile | Realization | Filter) -> Filter:
    from combe.analysis.exact import exact_filter
    from combe.designing.designed import Design
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization

    if isinstance(source, Design):
        return source.filter
    if isinstance(source, (RealizationFile, Realization)):
        return exact_filter(program_of(source))
    return source


def own_rate(source: object) -> float:
    from combe.designing.designed import Design
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization

    if isinstance(source, (RealizationFile, Realization)):
        program = program_of(source)
        return program.sample_rate_hz * program.ratio[0]
    return source.sample_rate_hz if isinstance(source, Design) else 1.0
