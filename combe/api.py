"""The functions scripts, the command line and the window share: ``import combe`` gives exactly these.

A filter goes one way through them::

    >>> import combe
    >>> asked = combe.from_document({
    ...     "format": "combe-requirement", "version": 1, "name": "bat band", "sample_rate_hz": 250000,
    ...     "bands": [{"name": "wind", "start_hz": 0, "stop_hz": 12000, "max_db": -60},
    ...               {"name": "calls", "start_hz": 18000, "stop_hz": 125000, "min_db": -0.1, "max_db": 0.1}],
    ...     "phase": "linear"})
    >>> made = combe.design(asked, "equiripple")
    >>> made.kind, combe.meets(made)
    ('fir', True)
    >>> realized = combe.realize(made, coefficient_bits=20, input="s12f11", output="s16f15")
    >>> [int(y) for y in combe.simulate(realized, [0, 0, 0])]
    [0, 0, 0]
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sequence
from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np
from msgspec import Struct
from numpy.typing import ArrayLike, NDArray

from combe.errors import CombeError, DesignError, FileError, FormatError
from combe.requirement.quantities import frequency_text
from combe.values import replace

if TYPE_CHECKING:
    from combe.benching.run import Bench
    from combe.delivery.package import Package
    from combe.delivery.recipes import Recipe
    from combe.designing.contenders import Contender
    from combe.designing.designed import Design
    from combe.filters import Filter
    from combe.ledger import Line
    from combe.project.check import Check
    from combe.project.document import Project
    from combe.proof.c import Proof
    from combe.proof.hdl import HdlProof
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization
    from combe.requirement import Requirement
    from combe.rounding.trade import Cell
    from combe.signals.spec import Signal

__all__ = [
    "CombeError", "Delivery", "bench", "check", "contenders", "deliver", "design", "document", "from_document", "lines", "load", "meets",
    "realize", "response", "save", "simulate", "trade",
]  # fmt: skip

Say = Callable[[str], None]


def load(path: str | Path) -> Requirement | Design | RealizationFile | Project | Recipe:
    """The value in any of Combe's files, told by its ``format``; plain coefficients make a design.

    Raises
    ------
    CombeError
        Naming the file, the key and what was expected.
    """
    from combe.designing.file import read_design
    from combe.files import parse_json, read_text

    text = read_text(path)
    if text.lstrip().startswith("{"):
        found = parse_json(text, str(path))
        if isinstance(found, dict) and found.get("format") in READERS:
            try:
                return from_document(found)
            except CombeError as error:
                raise error.at(str(path)) from None
    return read_design(path, None, text)


READERS = {
    "combe-requirement": "combe.requirement:requirement_from",
    "combe-design": "combe.designing.file:design_from",
    "combe-realization": "combe.realization.reading:realization_from",
    "combe-project": "combe.project.file:project_from",
    "combe-recipe": "combe.delivery.recipes:recipe_from",
}
"""Which function reads which kind of document."""


def from_document(document: dict[str, Any]) -> Requirement | Design | RealizationFile | Project | Recipe:
    """The value of a dictionary that reads like one of Combe's files.

    Raises
    ------
    CombeError
        Naming the key and what was expected.
    """
    kind = document.get("format")
    if kind not in READERS:
        raise FileError(f'"{kind}" is no format of Combe\'s', "format", f"known are {', '.join(READERS)}")
    module, _, name = READERS[str(kind)].partition(":")
    return cast("Requirement", getattr(import_module(module), name)(document))


def save(value: Requirement | Design | RealizationFile | Project | Recipe, path: str | Path) -> None:
    """Write a value to a file, whole or not at all; ``load`` gives it back.

    Raises
    ------
    CombeError
        If it can't be written, or is no value that has a file.
    """
    from combe.files import json_text, write_text

    write_text(path, json_text(document(value)))


def document(value: Requirement | Design | RealizationFile | Project | Recipe) -> dict[str, Any]:
    """The JSON document of a value, as its file holds it."""
    from combe.delivery.recipes import Recipe, recipe_document
    from combe.designing.designed import Design
    from combe.designing.file import design_document
    from combe.project.document import Project
    from combe.project.file import project_document
    from combe.realization.reading import RealizationFile, file_document
    from combe.requirement import Requirement, requirement_document

    if isinstance(value, Requirement):
        return requirement_document(value)
    if isinstance(value, Design):
        return design_document(value)
    if isinstance(value, RealizationFile):
        return file_document(value)
    if isinstance(value, Project):
        return project_document(value)
    if isinstance(value, Recipe):
        return recipe_document(value)
    raise FileError(
        f"a {type(value).__name__} has no file of its own",
        "save",
        "give a requirement, design, realization, project or recipe",
    )


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
    if rate is not None and rate != requirement.sample_rate_hz:
        raise DesignError(
            f"the requirement is sampled at {frequency_text(requirement.sample_rate_hz)}",
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
    made = _design_of(source)
    asked = requirement or (made.requirement if made is not None else None)
    return lines_of(_filter_of(source), asked) if asked is not None else ()


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

    rate = sample_rate_hz or _own_rate(source)
    points = np.asarray(hz, dtype=np.float64)
    found = frequency_response(_filter_of(source), 2 * np.pi * points.ravel() / rate)
    return np.asarray(found, dtype=np.complex128).reshape(points.shape)


def realize(
    design: Design,
    coefficient_bits: int | str = 16,
    *,
    structure: str = "",
    input: str = "s16f15",
    output: str = "",
    name: str = "",
    **choices: Any,
) -> RealizationFile:
    """Integers that a chip can run: the program, the design it was made from, and its lines.

    Parameters
    ----------
    coefficient_bits
        Their width, or ``"fewest"`` for the narrowest that keeps every limit; taps are searched for better integers
        unless ``better=False``.
    choices
        Any other choice about the arithmetic, by the names of ``combe.rounding.choices.Choices``: ``accumulator_bits``,
        ``rounding``, ``overflow``, ``state_bits``, ``better``, ``product_bits``, ``guard_bits``, ``scaling`` and so on.

    Raises
    ------
    CombeError
        If a pole would move out, a sum grow too wide, or a choice doesn't suit the filter.
    """
    from combe.rounding.choices import Choices
    from combe.rounding.realize import fewest_bits
    from combe.rounding.realize import realize as realized

    known = set(Choices.__struct_fields__)
    unknown = sorted(set(choices) - known)
    if unknown:
        raise FormatError(
            f"{unknown[0]!r} is no choice about the arithmetic", unknown[0], f"known are {', '.join(sorted(known))}"
        )
    is_fewest = coefficient_bits == "fewest"
    if not is_fewest and (isinstance(coefficient_bits, bool) or not isinstance(coefficient_bits, int)):
        raise FormatError(f'"{coefficient_bits}" is not a width', "coefficient_bits", 'a number of bits, or "fewest"')
    bits = 16 if isinstance(coefficient_bits, str) else coefficient_bits
    chosen = Choices(bits, structure, input, output, **({"better": is_fewest} | choices))
    asked = design.requirement
    title = name or (asked.name if asked is not None else "filter")
    if is_fewest:
        if asked is None:
            raise FormatError('"fewest" needs limits to keep', "coefficient_bits", "give a design with its requirement")
        made = fewest_bits(design.filter, asked, chosen, title)
    else:
        made = realized(design.filter, design.sample_rate_hz, chosen, title, asked)
    return realized_from(made, design)


def realized_from(realization: Realization, design: Design) -> RealizationFile:
    """A realization with the design it was made from, its lines measured and as far as possible proved."""
    from combe.analysis.certified import certified_lines
    from combe.realization.reading import RealizationFile
    from combe.rounding.realize import rounded_lines

    if design.requirement is None:
        return RealizationFile(realization, design)
    measured = rounded_lines(realization, design.requirement)
    proved = certified_lines(realization, design.requirement, measured)
    return RealizationFile(realization, design, tuple(line.document() for line in proved))


def simulate(realization: Realization | RealizationFile, samples: ArrayLike, *, ideal: bool = False) -> NDArray[Any]:
    """The bit-true run: raw output integers for raw input integers, all state zero before the first.

    ``ideal`` runs the unrounded filter on the same samples instead, in steps of the output.

    Raises
    ------
    CombeError
        At the first sample outside the input format.
    """
    from combe.running.simulate import ideal_run
    from combe.running.simulate import simulate as run

    program, signal = _program_of(realization), np.asarray(samples)
    if signal.dtype.kind == "f":
        raise FormatError("samples are raw integers", "samples", f"round them to {program.input} first")
    if ideal:
        made = _design_of(realization)
        if made is None:
            raise FileError("there is no design in it, so nothing unrounded to run", "design")
        return ideal_run(made.filter, program, signal)
    return run(program, signal)


def benched(source: Design | RealizationFile | Project | Requirement | Recipe, filter: str = "") -> RealizationFile:
    """What a bench runs: a realization, that of a project, or a design rounded to 16 bits.

    Raises
    ------
    CombeError
        If there is nothing in it that could run.
    """
    from combe.designing.designed import Design
    from combe.project.chosen import chosen, realized_file
    from combe.project.document import Project
    from combe.realization.reading import RealizationFile

    if filter and not isinstance(source, Project):
        raise FileError("is no project", "--filter", "leave it out")
    if isinstance(source, RealizationFile):
        return source
    if isinstance(source, Design):
        return realize(source)
    if isinstance(source, Project):
        return realized_file(chosen(source, filter))
    raise FileError("there is no filter in it to run", "bench", "give a realization, a project or a design")


def bench(
    source: RealizationFile | Realization,
    signal: Signal | str,
    *,
    through: Sequence[str] = ("ideal", "rounded", "bit-true"),
    against: Sequence[int] = (),
    samples: int | None = None,
    seed: int = 1,
    say: Say = lambda _: None,
) -> Bench:
    """A signal through the filter, and the figures of what comes out.

    >>> import combe
    >>> from combe.filters import Fir
    >>> from combe.designing.designed import Design
    >>> realized = combe.realize(Design("given", Fir((0.5, 0.5)), 1000.0))
    >>> found = combe.bench(realized, "sine 100 Hz -6 dB", samples=1000)
    >>> round(found.through[0].tones[0].gain_db, 3), round(found.through[0].tones[0].phase_deg, 3)
    (-0.436, -18.0)

    Parameters
    ----------
    signal
        A signal, or the sentence of one.
    through
        Any of ``ideal``, ``rounded``, ``bit-true``, ``code`` and ``circuit``.
    against
        Lengths of moving averages to compare with.

    Raises
    ------
    CombeError
        If the signal can't be made, or a tool is missing.
    """
    from combe.benching.run import run_bench
    from combe.signals.spec import signal_from_sentence

    program, made = _program_of(source), _design_of(source)
    if isinstance(signal, str):
        signal = signal_from_sentence(signal, program.sample_rate_hz, samples, seed)
    return run_bench(program, made.filter if made is not None else None, signal, through, against, say)


def check(
    project: str | Path | Project, *, filter: str = "", to: str | Path | None = None, say: Say = lambda _: None
) -> Check:
    """Make everything a project exports anew, compare it byte for byte with the folder it went to, and prove it.

    Parameters
    ----------
    project
        Its file, or the value: then folders are told from the working directory.
    to
        A folder to compare with instead of the one the project remembers.

    Raises
    ------
    CombeError
        If it can't be read, designed, rounded or written at all.
    """
    from combe.project.check import check_project

    found, beside = _project_in(project, filter)
    return check_project(found, beside, Path(to) if to is not None else None, say)


def listed(project: str | Path | Project) -> list[dict[str, Any]]:
    """A project's filters: ``name``, ``source``, ``input_rate_hz``, ``output_rate_hz``, ``meets`` (with its integers)."""
    from combe.project.chosen import realized_file

    found, _ = _project_in(project, "")
    rounded = realized_file(found)
    rate = found.requirement.sample_rate_hz
    return [
        {"name": found.code_name, "title": found.requirement.name, "source": "input", "input_rate_hz": rate,
         "output_rate_hz": rate, "meets": meets(rounded.realization, found.requirement)}
    ]  # fmt: skip


def _project_in(project: str | Path | Project, filter: str) -> tuple[Project, Path]:
    from combe.project.chosen import chosen
    from combe.project.document import Project as Value

    found = project if isinstance(project, Value) else load(project)
    if not isinstance(found, Value):
        raise FileError("is no project", str(project), "give a project file")
    return chosen(found, filter), Path() if isinstance(project, Value) else Path(project).resolve().parent


class Delivery(Struct, frozen=True):
    """Generated code: its package, where each file was written, and the proof if one was asked for."""

    package: Package
    files: tuple[Path, ...]
    proof: Proof | HdlProof | None = None

    @property
    def holds(self) -> bool:
        """Whether nothing speaks against it: no proof was asked for, or it holds."""
        return self.proof is None or self.proof.holds


def deliver(
    realization: Realization | RealizationFile,
    language: str,
    to: str | Path,
    name: str = "",
    prove: bool = False,
    *,
    say: Say = lambda _: None,
    **choices: Any,
) -> Delivery:
    """Generated code in a folder, proved on real tools where asked.

    Parameters
    ----------
    language
        ``c``, ``c++``, ``verilog`` or ``vhdl``.
    name
        What the code is called; made from the realization's own name where it is empty.
    choices
        By the names the language listens to: ``number``, ``history``, ``unroll``, ``reloadable``, ``architecture``,
        ``clock_hz``, ``pipeline`` and so on.

    Raises
    ------
    CombeError
        If it can't be written so, or a choice belongs to another language.
    """
    from combe.delivery.languages import language_named

    written_in = language_named(language)
    package = package_of(realization, language, name, **choices)
    files = tuple(package.write(to))
    program, made = _program_of(realization), _design_of(realization)
    proof = None
    if prove:
        proof = written_in.prove(
            package, program, lines(realization), made.filter if made else _filter_of(program), say
        )
    return Delivery(package, files, proof)


def package_of(realization: Realization | RealizationFile, language: str, name: str = "", **choices: Any) -> Package:
    """The files ``deliver`` would write."""
    from combe.delivery.code_choices import CodeChoices
    from combe.delivery.hdl.choices import HardwareChoices
    from combe.delivery.languages import Order, check_options, language_named
    from combe.rounding.realize import rounded_lines

    written_in = language_named(language)
    every = {*CodeChoices.__struct_fields__, *HardwareChoices.__struct_fields__} - {"language"}
    unknown = sorted(set(choices) - every)
    if unknown:
        raise FormatError(
            f"{unknown[0]!r} is no choice about code", unknown[0], f"known are {', '.join(sorted(every))}"
        )
    check_options(written_in, {key: key for key in choices})
    own = {key: value for key, value in choices.items() if key in CodeChoices.__struct_fields__}
    circuit = {key: value for key, value in choices.items() if key in HardwareChoices.__struct_fields__}
    program, made = _program_of(realization), _design_of(realization)
    asked = made.requirement if made is not None else None
    hardware = HardwareChoices(**circuit)
    if asked is not None and not hardware.clock_hz:
        hardware = replace(hardware, clock_hz=asked.clock_hz or 0.0)
    order = Order(
        program, written_in.checked_name(name, program.name), CodeChoices(language, **own), hardware, asked,
        rounded_lines(program, asked) if asked is not None else (), made.summary() if made is not None else "",
    )  # fmt: skip
    return written_in.write(order)


def _program_of(source: Realization | RealizationFile) -> Realization:
    from combe.realization.reading import RealizationFile

    return source.realization if isinstance(source, RealizationFile) else source


def _design_of(source: object) -> Design | None:
    from combe.realization.reading import RealizationFile

    return source.design if isinstance(source, RealizationFile) else None


def _filter_of(source: Design | RealizationFile | Realization | Filter) -> Filter:
    from combe.analysis.exact import exact_filter
    from combe.designing.designed import Design
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization

    if isinstance(source, Design):
        return source.filter
    if isinstance(source, (RealizationFile, Realization)):
        return exact_filter(_program_of(source))
    return source


def _own_rate(source: object) -> float:
    from combe.designing.designed import Design
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization

    if isinstance(source, (RealizationFile, Realization)):
        return _program_of(source).sample_rate_hz
    return source.sample_rate_hz if isinstance(source, Design) else 1.0
