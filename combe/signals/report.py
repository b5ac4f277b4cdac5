"""All that is told of a realization's arithmetic, as one document."""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.analysis.bounds import bounds
from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.analysis.limit_cycles import overflow_oscillations, zero_input_cycles
from combe.analysis.measured import Measured, measured_noise
from combe.analysis.noise import follows_signal, noise_density, predicted_noise
from combe.errors import FormatError
from combe.filters import Filter
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, TapSum
from combe.requirement import Requirement
from combe.rounding.movement import moved_roots, worst_coefficient
from combe.rounding.search.adders import adder_graph, structural_adders
from combe.rounding.search.signed_digits import digit_count, digits_text
from combe.rounding.widths import WidthPoint, Widths, signal_to_noise_db

DENSITY_POINTS = 129

WEIGHTS = {"danger": "clay", "warning": "amber", "note": "muted"}
"""Words older scripts know the severities by."""


def arithmetic_document(
    realization: Realization, design: Filter | None = None, requirement: Requirement | None = None
) -> dict[str, Any]:
    """Bounds, predicted and measured noise, limit cycles, moved roots, dangers and remedies of a realization."""
    document: dict[str, Any] = {}
    safe: set[int] = set()
    try:
        reached = bounds(realization)
        loose = {b.stage for b in reached if not b.is_safe}
        safe = set(range(len(realization.stages))) - loose
        document["bounds"] = [
            {
                "value": b.name, "stage": b.stage, "format": str(b.result), "least": b.least, "most": b.most,
                "needed_bits": b.needed_bits, "can_overflow": not b.is_safe,
            }
            for b in reached
        ]  # fmt: skip
        document["noise"] = _noise(realization)
    except FormatError as error:
        document["not_bounded"] = error.sentence()
    cycles = _cycles(realization, safe)
    if cycles:
        document["limit_cycles"] = cycles
    if design is not None:
        document["moved_roots"] = [move.document() for move in moved_roots(design, exact_filter(realization))]
    if requirement is not None and (worst := worst_coefficient(realization, requirement)):
        document["worst_coefficient"] = worst.document()
    document["facts"] = [
        {"severity": fact.severity, "weight": WEIGHTS[fact.severity], "sentence": fact.sentence}
        | ({"remedy": fact.remedy.words, "changes": fact.remedy.changes} if fact.remedy else {})
        for fact in facts(realization)
    ]
    return document


def _noise(realization: Realization) -> dict[str, Any]:
    told = predicted_noise(realization)
    omega = np.linspace(0, np.pi, DENSITY_POINTS)
    found: dict[str, Any] = {
        "unit": "squared output steps", "predicted_power": told.power, "predicted_offset_steps": told.offset,
        "signal_to_noise_db": None if told.power == 0 else signal_to_noise_db(realization),
        "signal_to_noise_is": "measured" if follows_signal(realization) else "predicted",
        "shares": [{"value": name, "power": power} for name, power in told.shares],
    }  # fmt: skip
    if realization.input.bits <= 62:
        heard = measured_noise(realization)
        found |= {
            "measured_power": heard.power, "measured_offset_steps": heard.offset, "measured_gain_change": heard.gain_change,
            "overflows": overflows_document(heard),
        }  # fmt: skip
        hz = omega / (2 * np.pi) * realization.sample_rate_hz
        found["density"] = {
            "hz": hz.tolist(), "predicted": noise_density(realization, omega).tolist(),
            "measured": heard.density(2 * (DENSITY_POINTS - 1))[1].tolist(),
        }  # fmt: skip
    return found


def overflows_document(heard: Measured) -> list[dict[str, Any]]:
    """Where and how often values left their range."""
    return [{"value": name, "times": times} for name, times in heard.overflows]


def _cycles(realization: Realization, safe: set[int]) -> list[dict[str, Any]]:
    """Limit cycles of every stage with sections; overflow oscillations only where a value can overflow at all."""
    found = []
    for k, (stage, source) in enumerate(zip(realization.stages, realization.formats())):
        if not isinstance(stage, (Section, Network)):
            continue
        cycles = zero_input_cycles(stage, source)
        told: dict[str, Any] = {
            "stage": k, "is_proved": cycles.is_proved, "period": len(cycles.cycle), "amplitude": cycles.amplitude,
            "cycle": list(cycles.cycle[:64]), "sentence": cycles.sentence(),
        }  # fmt: skip
        if k in safe:
            told["overflow_oscillation"] = {"is_proved": True, "period": 0, "amplitude": 0}
        else:
            swings = overflow_oscillations(stage, source)
            told["overflow_oscillation"] = {
                "is_proved": swings.is_proved, "period": len(swings.cycle), "amplitude": swings.amplitude,
            }  # fmt: skip
        found.append(told)
    return found


def adders_document(realization: Realization) -> dict[str, Any]:
    """Signed digits of every tap and the adder graph that makes all of them, each checked to be reproduced."""
    stage = realization.stages[0]
    if not isinstance(stage, TapSum):
        raise FormatError("adder graphs are made for taps", "adders", "this filter has sections")
    graph = adder_graph(stage.coefficients)
    assert all(graph.multiple(c, x) == c * x for c in stage.coefficients for x in (1, -3, 12345))
    return {
        "multiplier_adders": len(graph.adders), "structural_adders": structural_adders(stage.coefficients),
        "depth": graph.depth,
        "digits": [{"coefficient": c, "count": digit_count(c), "digits": digits_text(c)} for c in stage.coefficients],
        "graph": [
            {
                "value": a.value, "left": a.left, "left_shift": a.left_shift, "left_sign": a.left_sign, "right": a.right,
                "right_shift": a.right_shift, "right_sign": a.right_sign, "down": a.down,
            }
            for a in graph.adders
        ],
    }  # fmt: skip


def chart_document(points: list[WidthPoint]) -> list[dict[str, Any]]:
    """The chart of widths, a row a point."""
    return [
        {"structure": p.structure, "bits": p.bits, "margin_db": p.margin_db, "signal_to_noise_db": p.signal_to_noise_db}
        for p in points
    ]


def widths_document(found: list[Widths]) -> list[dict[str, Any]]:
    """The cheapest widths of every structure."""
    return [
        {
            "structure": w.choices.structure, "coefficient_bits": w.choices.coefficient_bits,
            "state_bits": w.choices.state_bits, "output": w.choices.output,
            "signal_to_noise_db": w.signal_to_noise_db, "multiplier_area": w.cost,
        }
        for w in found
    ]  # fmt: skip
