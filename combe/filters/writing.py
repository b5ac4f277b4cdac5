"""The transfer function written out: powers of z⁻¹, sections, or factors."""

from __future__ import annotations

import numpy as np

from combe.filters.pairing import sections_of
from combe.filters.rational import rational_of
from combe.filters.values import Cascade, Filter, Fir

FORMS = ("powers", "sections", "factors")
MOST_POWERS = 400
RAISED = str.maketrans("0123456789-", "⁰¹²³⁴⁵⁶⁷⁸⁹⁻")


def written(source: Filter, form: str, digits: int = 10) -> str:
    """H(z) in one of three forms, a line to each term.

    Powers of a recursive filter are multiplied out in doubles: above an order of about ten they show the filter but
    no longer hold it, and say so.
    """
    if form == "factors":
        return _factors(source, digits)
    if isinstance(source, Fir):
        return "H(z) = " + _polynomial(source.taps, digits) if form == "powers" else _as_sections(source, digits)
    return _powers(source, digits) if form == "powers" else _as_sections(source, digits)


def _number(value: float, digits: int) -> str:
    return f"{value:.{digits}g}".replace("e", "·10^").replace("-", "−")


def _polynomial(coefficients: tuple[float, ...] | list[float], digits: int) -> str:
    words: list[str] = []
    for power, value in enumerate(coefficients):
        if value == 0 and len(coefficients) > 1:
            continue
        sign = "−" if value < 0 else "+"
        size = _number(abs(value), digits)
        place = "" if power == 0 else f"·z{str(-power).translate(RAISED)}"
        words.append(f"{sign} {size}{place}" if words else f"{'−' if value < 0 else ''}{size}{place}")
    return "\n       ".join(words) or "0"


def _powers(source: Filter, digits: int) -> str:
    assert not isinstance(source, Fir)
    found = rational_of(source)
    if len(found.poles) + len(found.zeros) > MOST_POWERS:
        return f"more than {MOST_POWERS} roots: powers would say nothing; look at the sections"
    top = np.real(np.poly(found.zeros)) * found.gain if len(found.zeros) else np.array([found.gain])
    top = np.concatenate([np.zeros(found.delay), top])
    bottom = np.real(np.poly(found.poles)) if len(found.poles) else np.ones(1)
    note = "\n\nMultiplied out in double precision: for display, not for use." if len(bottom) > 11 else ""
    return (
        f"        b(z)\nH(z) = ――――\n        a(z)\n\nb(z) = {_polynomial(top.tolist(), digits)}\n\n"
        f"a(z) = {_polynomial(bottom.tolist(), digits)}{note}"
    )


def _as_sections(source: Filter, digits: int) -> str:
    if isinstance(source, Fir):
        return "H(z) = " + _polynomial(source.taps, digits)
    cascade = source if isinstance(source, Cascade) else sections_of(rational_of(source))
    rows = [f"H(z) = {_number(cascade.gain, digits)}"]
    for b0, b1, b2, a1, a2 in cascade.sections:
        top, bottom = (_inline(values, digits) for values in ((b0, b1, b2), (1.0, a1, a2)))
        rows.append(f"  · ({top})\n    / ({bottom})")
    return "\n".join(rows)


def _inline(values: tuple[float, float, float], digits: int) -> str:
    return _polynomial(values, digits).replace("\n       ", " ")


def _factors(source: Filter, digits: int) -> str:
    from combe.filters.by_hand import unlocked

    roots = unlocked(source)
    rows = [f"H(z) = {_number(roots.gain, digits)}"]
    for sign, places in (("·", roots.zeros), ("/", roots.poles)):
        origin = sum(1 for root in places if root == 0)
        if origin:
            rows.append(f"  {sign} z{str(origin).translate(RAISED) if origin > 1 else ''}")
        for root in sorted((r for r in places if r != 0 and r.imag >= 0), key=lambda r: (-abs(r), np.angle(r))):
            if root.imag == 0:
                mark = "−" if root.real >= 0 else "+"
                rows.append(f"  {sign} (z {mark} {_number(abs(root.real), digits)})")
            else:
                size, angle = abs(root), abs(np.angle(root)) / np.pi
                middle = -2 * root.real
                mark = "−" if middle < 0 else "+"
                rows.append(
                    f"  {sign} (z² {mark} {_number(abs(middle), digits)}·z + {_number(size * size, digits)})"
                    f"      radius {size:.6f}, angle ±{angle:.6f}π"
                )
    return "\n".join(rows)
