"""Runners that need no tool: the exact filter, the bit-true model, models of converter codes and of floating point."""

from __future__ import annotations

from typing import Any, Protocol

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.delivery.c.codes import codes_through
from combe.delivery.c.model import float_model
from combe.delivery.code_choices import CodeChoices
from combe.filters import Filter
from combe.realization.stages import Realization
from combe.running.simulate import ideal_run, simulate

Samples = NDArray[Any]


class Runner(Protocol):
    """Takes samples, gives samples, starting from zero state each time. ``name`` says what it is."""

    @property
    def name(self) -> str:
        """What it is, for people."""
        ...

    def run(self, samples: Samples, /) -> Samples:
        """Outputs for raw inputs."""
        ...


class Exact(Struct, frozen=True):
    """A filter without any rounding, in steps of the realization's output."""

    source: Filter
    realization: Realization
    name: str = "the exact filter"

    def run(self, samples: Samples) -> Samples:
        """Real values."""
        return ideal_run(self.source, self.realization, samples)


class BitTrue(Struct, frozen=True):
    """The integer program, bit for bit."""

    realization: Realization
    name: str = "the bit-true model"

    def run(self, samples: Samples) -> Samples:
        """Raw integers."""
        return simulate(self.realization, samples)


class Codes(Struct, frozen=True):
    """The integer program between raw codes of converters."""

    realization: Realization
    choices: CodeChoices
    name: str = "the bit-true model between converters"

    def run(self, samples: Samples) -> Samples:
        """Codes for codes."""
        return codes_through(self.realization, self.choices, samples)


class Floating(Struct, frozen=True):
    """The program in more digits than the code has; ``tolerance`` is how far rounding may carry the code from it."""

    realization: Realization
    choices: CodeChoices
    name: str = "the program in more digits"

    def run(self, samples: Samples) -> Samples:
        """Real values for raw inputs."""
        return self.model(samples)[0]

    def model(self, samples: Samples) -> tuple[Samples, float]:
        """Real values, and the tolerance on these samples."""
        found = float_model(self.realization, np.asarray(samples) * self.realization.input.step, self.choices)
        return found.outputs, found.tolerance
