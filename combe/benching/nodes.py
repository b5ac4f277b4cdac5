"""What happened inside on the way: how far every node of the program went, and how often it left its range."""

from __future__ import annotations

from typing import Any

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.realization.stages import Realization
from combe.running.run import run_program
from combe.values import replace


class NodeUse(Struct, frozen=True):
    """One node over a whole signal: least and largest raw value that came out of it, its range, how often it was left."""

    name: str
    least: int
    most: int
    lowest: int
    highest: int
    overflows: int

    @property
    def share(self) -> float:
        """How much of its range was used, the fuller side."""
        low = self.least / self.lowest if self.lowest < 0 and self.least < 0 else 0.0
        high = self.most / self.highest if self.highest > 0 and self.most > 0 else 0.0
        return max(low, high)

    def document(self) -> dict[str, Any]:
        """As a bench's file has it."""
        return {
            "name": self.name,
            "least": self.least,
            "most": self.most,
            "share": self.share,
            "overflows": self.overflows,
        }


def nodes_of(realization: Realization, raw: NDArray[Any]) -> tuple[NodeUse, ...]:
    """Every node of the program, in the order in which they are worked out."""
    program = realization.program
    run = run_program(program, raw)
    return tuple(
        NodeUse(step.name, least, most, step.result.least, step.result.most, overflows)
        for step, least, most, overflows in zip(program.steps, run.least, run.most, run.overflows)
    )


def node_values(realization: Realization, raw: NDArray[Any], name: str) -> NDArray[Any]:
    """What came out of one node, sample by sample: the program run once more with that node as its output."""
    program = realization.program
    place = next(index for index, step in enumerate(program.steps) if step.name == name)
    return np.asarray(run_program(replace(program, output=place + 1), raw, False).output)


def told(nodes: tuple[NodeUse, ...]) -> str:
    """Those that left their range, and the fullest of the others, in a sentence."""
    left = [f"{node.name} {node.overflows:,} times" for node in nodes if node.overflows]
    if left:
        return "left its range: " + ", ".join(left[:4]) + (f" and {len(left) - 4} more" if len(left) > 4 else "")
    fullest = max(nodes, key=lambda node: node.share, default=None)
    return (
        f"no node left its range; {fullest.name} used {100 * fullest.share:.1f} % of it" if fullest is not None else ""
    )
