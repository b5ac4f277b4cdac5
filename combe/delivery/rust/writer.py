"""Files of a realization in Rust: the module, a check with vectors, a crate without ``std``, and a Makefile."""

from __future__ import annotations

from typing import Any

from combe.delivery.code_choices import CodeChoices
from combe.delivery.languages import Order
from combe.delivery.package import Package, SourceFile, checked_name
from combe.delivery.rust.stages import stage_values
from combe.delivery.rust.types import KEYWORDS, struct_name, value_type
from combe.delivery.story import story
from combe.errors import FormatError
from combe.ledger import Line
from combe.realization.network import Network
from combe.realization.phases import MOST_FASTER
from combe.realization.stages import Realization
from combe.requirement import Requirement
from combe.running.simulate import simulate
from combe.signals.stimuli import vectors
from combe.templates import rendered

VECTOR_SAMPLES = 2048


def rust_package(
    realization: Realization,
    name: str,
    requirement: Requirement | None = None,
    lines: tuple[Line, ...] = (),
    made: str = "",
) -> Package:
    """``NAME.rs`` is a module for firmware, or any crate; ``NAME_check.rs`` a program that plays its vectors.

    Raises
    ------
    FormatError
        If the name can't be a module's, or a width is beyond 128 bits (64 where samples come in and go out).
    """
    checked_name(name)
    if name in KEYWORDS:
        raise FormatError(f'"{name}" is reserved in Rust', "name", "take another")
    for key, entry in (("input", realization.input), ("output", realization.output)):
        if entry.bits > 64:
            raise FormatError(f"{entry} is too wide for samples in Rust", key, "64 bits are the most")
    samples = vectors(realization, VECTOR_SAMPLES)
    up, down = realization.ratio
    if any(isinstance(stage, Network) and stage.phase is not None for stage in realization.stages):
        # Its ratio can be set while it runs: there is room for that.
        up, down = up * MOST_FASTER[0], down * MOST_FASTER[1]
    shared: dict[str, Any] = {
        "name": name, "cls": struct_name(name),
        "stages": stage_values(realization), "story": story(realization, name, requirement, lines, CodeChoices("rust"), made),
        "input": value_type(realization.input), "output": value_type(realization.output), "changes_rate": realization.changes_rate,
        "up": up, "down": down, "inputs": samples.tolist(), "outputs": [int(y) for y in simulate(realization, samples)],
    }  # fmt: skip
    texts = {
        f"{name}.rs": "source.rs.j2", f"{name}_check.rs": "check.rs.j2", f"{name}_no_std.rs": "no_std.rs.j2",
        "Makefile": "Makefile.j2",
    }  # fmt: skip
    files = [SourceFile(file, rendered("delivery/rust", template, shared)) for file, template in texts.items()]
    return Package("rust", name, tuple(files), CodeChoices("rust"))


def written(order: Order) -> Package:
    """The code an order asks for."""
    return rust_package(order.realization, order.name, order.requirement, order.lines, order.made)
