"""Every design method, one line each."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from combe.design import equiripple
from combe.design.designed import Design
from combe.errors import DesignError
from combe.requirement import Requirement

Stop = Callable[[], bool]


@dataclass(frozen=True, slots=True)
class Method:
    """A way to design a filter.

    ``shortest`` finds the least order that keeps every limit, ``design`` the best filter of a given order;
    ``symmetry`` is 1 for symmetric taps, -1 for antisymmetric ones.
    """

    name: str
    kind: str
    summary: str
    can: tuple[str, ...]
    shortest: Callable[[Requirement, int, Stop, Design | None, bool], Design]
    design: Callable[[Requirement, int, int, Stop], Design]

    def document(self) -> dict[str, Any]:
        """The method as ``combe methods --json`` lists it."""
        return {"name": self.name, "kind": self.kind, "summary": self.summary, "can": list(self.can)}


METHODS = (
    Method(
        "equiripple",
        "fir",
        "minimax linear phase by Remez exchange: the fewest taps for any set of limits",
        ("lowpass", "highpass", "bandpass", "bandstop", "multiband", "sloped limits", "linear phase", "given order"),
        equiripple.shortest,
        equiripple.design,
    ),
)


def method_named(name: str) -> Method:
    """A method by its name."""
    for method in METHODS:
        if method.name == name:
            return method
    raise DesignError(f'"{name}" is not a method', "method", "known are " + ", ".join(m.name for m in METHODS))


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
    chosen = method_named(method)
    if order is None:
        return chosen.shortest(requirement, symmetry, is_stopped, near, is_draft)
    return chosen.design(requirement, order, symmetry, is_stopped)
