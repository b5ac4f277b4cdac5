"""What a rounding adds: its variance and mean, and which roundings err alike."""

from __future__ import annotations

from combe.realization.program import Program, Step


def error_groups(program: Program) -> list[list[tuple[int, int, float]]]:
    """Roundings as errors: each a list of (step, samples later, sign), of one entry where it stands alone."""
    groups: dict[object, list[tuple[int, int, float]]] = {}
    for index, step in enumerate(program.steps):
        if cut_bits(step) == 0:
            continue
        whole = 1 << step.shift
        cut = [(p.signal, p.delay, p.coefficient % whole, p.is_rest) for p in step.terms if p.coefficient % whole]
        least = min((delay for _, delay, _, _ in cut), default=0)
        if any(is_rest for *_, is_rest in cut):
            groups[index] = [(index, 0, 1.0)]
            continue
        key, sign = _same_bits([(signal, delay - least, factor) for signal, delay, factor, _ in cut], whole)
        kind = (key, step.result.fraction, step.shift, step.rounding)
        groups.setdefault(kind, []).append((index, least, sign))
    return [
        [(step, later - min(e[1] for e in group), sign) for step, later, sign in group] for group in groups.values()
    ]


def _same_bits(cut: list[tuple[int, int, int]], whole: int) -> tuple[object, float]:
    """What is cut off, up to its sign."""
    plain = tuple(sorted(cut))
    turned = tuple(sorted((signal, delay, whole - factor) for signal, delay, factor in cut))
    return (plain, 1.0) if plain <= turned else (turned, -1.0)


def cut_bits(step: Step) -> int:
    """Bits a rounding really cuts off: those that all products leave at zero don't count."""
    shared = min(((p.coefficient & -p.coefficient).bit_length() - 1 for p in step.terms if p.coefficient), default=0)
    return max(step.shift - shared, 0)


def variance(step: Step) -> float:
    """Variance of a rounding's error, as squared values, every pattern of the bits cut off equally likely."""
    bits = cut_bits(step)
    if bits == 0:
        return 0.0
    fine = 4.0**-bits
    if step.rounding == "toward-zero":  # errs by 0 to 1 step against the sign: over both signs the mean square
        discrete = 12 * (1 - 2.0**-bits) * (2 - 2.0**-bits) / 6
    elif step.rounding == "nearest-even":  # ties go up and down in turn
        discrete = 1 + 2 * fine
    else:
        discrete = 1 - fine
    return float(step.result.step**2 / 12 * discrete)


def mean(step: Step) -> float:
    """Mean of a rounding's error, as a value."""
    bits = cut_bits(step)
    if bits == 0:
        return 0.0
    if step.rounding == "floor":
        return float(-step.result.step * (1 - 2.0**-bits) / 2)
    return float(step.result.step * 2.0**-bits / 2) if step.rounding == "nearest-up" else 0.0
