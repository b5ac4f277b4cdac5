"""From a filter to integers, their bit-true run, and code."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from msgspec import Struct
from numpy.typing import ArrayLike, NDArray

from combe.api.designing import lines
from combe.api.values import design_of, filter_of, program_of
from combe.errors import FileError, FormatError
from combe.values import replace

if TYPE_CHECKING:
    from combe.delivery.package import Package
    from combe.designing.designed import Design
    from combe.proof.c import Proof
    from combe.proof.hdl import HdlProof
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization

Say = Callable[[str], None]


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
        ``rounding``, ``overflow``, ``state_bits``, ``better``, ``product_bits``, ``guard_bits``, ``scaling``, ``pruned`` and so on.

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
    if chosen.pruned:
        from combe.rounding.rates import check_prunable

        check_prunable(design)
    if design.stages:
        from combe.rounding.rates import fewest_bits_of_stages, realize_stages

        made = fewest_bits_of_stages(design, chosen, title) if is_fewest else realize_stages(design, chosen, title)
    elif is_fewest:
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

    program, signal = program_of(realization), np.asarray(samples)
    if signal.dtype.kind == "f":
        raise FormatError("samples are raw integers", "samples", f"round them to {program.input} first")
    if ideal:
        made = design_of(realization)
        if made is None:
            raise FileError("there is no design in it, so nothing unrounded to run", "design")
        return ideal_run(made.filter, program, signal)
    return run(program, signal)


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
        ``c``, ``c++``, ``rust``, ``verilog`` or ``vhdl``.
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
    program, made = program_of(realization), design_of(realization)
    proof = None
    if prove:
        proof = written_in.prove(package, program, lines(realization), made.filter if made else filter_of(program), say)
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
    program, made = program_of(realization), design_of(realization)
    asked = made.requirement if made is not None else None
    hardware = HardwareChoices(**circuit)
    if asked is not None and not hardware.clock_hz:
        hardware = replace(hardware, clock_hz=asked.clock_hz or 0.0)
    order = Order(
        program, written_in.checked_name(name, program.name), CodeChoices(language, **own), hardware, asked,
        rounded_lines(program, asked) if asked is not None else (), made.summary() if made is not None else "",
    )  # fmt: skip
    return written_in.write(order)
