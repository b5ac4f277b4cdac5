"""The exchange of ``exchange`` in one compiled loop, for limits that are level in each piece.

It is the twin for what follows a hand: the same steps, sums in another order, so that the last digits may differ. What a
file holds is always designed by ``exchange`` itself, whatever is loaded.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from combe.jit import compiled

SETTLED, LOST, TOO_FEW, TIRED = 0, 1, 2, 3


@compiled(error_model="numpy")
def _factor(kind: int, omega: float) -> float:  # pragma: no cover - compiled
    """What the symmetry fixes: types I to IV as 1 to 4."""
    if kind == 1:
        return 1.0
    if kind == 2:
        return float(np.cos(omega / 2))
    return float(np.sin(omega) if kind == 3 else np.sin(omega / 2))


@compiled(error_model="numpy")
def _amplitude(
    omega: float, kind: int, nodes: Any, scaled: Any, weights: Any, values: Any
) -> float:  # pragma: no cover
    here = np.cos(omega)
    top = bottom = 0.0
    for j in range(len(nodes)):
        gap = here - nodes[j]
        if gap == 0.0:
            return float(values[j] * _factor(kind, omega))
        part = 1.0 / gap
        top += scaled[j] * part
        bottom += weights[j] * part
    return float(top / bottom * _factor(kind, omega))


@compiled(error_model="numpy")
def _weights(nodes: Any) -> Any:  # pragma: no cover - compiled
    """1/Π 2(x_i − x_j), scaled to a largest magnitude of 1."""
    count = len(nodes)
    logs, signs = np.empty(count), np.empty(count)
    most = -np.inf
    for i in range(count):
        product, logs[i], signs[i] = 1.0, 0.0, 1.0
        for j in range(count):
            if j != i:
                gap = nodes[i] - nodes[j]
                if gap < 0:
                    signs[i] = -signs[i]
                product *= 2 * max(abs(gap), 1e-300)
                if product < 1e-200 or product > 1e200:
                    logs[i] -= np.log(product)
                    product = 1.0
        logs[i] -= np.log(product)
        most = max(most, logs[i])
    for i in range(count):
        signs[i] *= np.exp(logs[i] - most)
    return signs


@compiled(error_model="numpy")
def _peaks(
    reference: Any,
    start: Any,
    stop: Any,
    middle: Any,
    room: Any,
    kind: int,
    unknowns: int,
    per_gap: int,
    nodes: Any,
    scaled: Any,
    weights: Any,
    values: Any,
    least: float,
    places: Any,
    sizes: Any,
) -> int:  # pragma: no cover - compiled
    """Local extremes of the error of at least a size, on a scan between neighbouring reference points, moved to the tops
    of parabolas twice; how many there are."""
    found = 0
    for k in range(len(start)):
        before = mid = after = 0.0
        e_before = e_mid = e_after = 0.0
        seen = 0
        left = start[k]
        at = 0
        while at < len(reference) and reference[at] <= start[k]:
            at += 1
        while True:
            right = stop[k]
            is_last = at >= len(reference) or reference[at] >= stop[k]
            if not is_last:
                right = reference[at]
            count = max(per_gap, int(np.ceil(per_gap * (right - left) * unknowns / np.pi)))
            for n in range(count + (1 if is_last else 0)):
                after = left + (right - left) / count * n if n < count else stop[k]
                e_after = (_amplitude(after, kind, nodes, scaled, weights, values) - middle[k]) / room[k]
                seen += 1
                if seen == 2 and abs(e_mid) >= abs(e_after) and abs(e_mid) >= least:
                    places[found], sizes[found] = mid, e_mid  # the edge at which the piece begins
                    found += 1
                if seen > 2 and abs(e_mid) >= abs(e_before) and abs(e_mid) >= abs(e_after) and abs(e_mid) > 0:
                    a, b, c = before, mid, after
                    side = 1.0 if e_mid > 0 else -1.0
                    fa, fb, fc = side * e_before, side * e_mid, side * e_after
                    for _ in range(2):
                        p, q = (b - a) * (fb - fc), (b - c) * (fb - fa)
                        top = b - ((b - a) * p - (b - c) * q) / (2 * (p - q)) if p != q else b
                        if not (a < top < c):
                            top = b
                        e_top = side * (_amplitude(top, kind, nodes, scaled, weights, values) - middle[k]) / room[k]
                        if e_top > fb:
                            if top < b:
                                c, fc = b, fb
                            else:
                                a, fa = b, fb
                            b, fb = top, e_top
                        elif top < b:
                            a, fa = top, e_top
                        elif top > b:
                            c, fc = top, e_top
                    if fb >= least:
                        places[found], sizes[found] = b, side * fb
                        found += 1
                before, e_before, mid, e_mid = mid, e_mid, after, e_after
            if is_last:
                break
            left = right
            at += 1
        if seen > 1 and abs(e_mid) >= abs(e_before) and abs(e_mid) >= least:
            places[found], sizes[found] = mid, e_mid  # and where it ends
            found += 1
    return found


@compiled(error_model="numpy")
def _chosen(omega: Any, error: Any, there: int, wanted: int) -> Any:  # pragma: no cover - compiled
    """The new reference: extremes of alternating sign, the largest always among them; fewer where there are too few."""
    keep = np.empty(there, np.int64)
    count = 0
    for k in range(there):
        if error[k] == 0.0:
            continue
        if count and (error[k] > 0) == (error[keep[count - 1]] > 0):
            if abs(error[k]) > abs(error[keep[count - 1]]):
                keep[count - 1] = k
        else:
            keep[count] = k
            count += 1
    while count > wanted:
        first, last = abs(error[keep[0]]), abs(error[keep[count - 1]])
        gone, taken = 0, 1
        if count == wanted + 1:
            gone = 0 if first < last else count - 1
        else:
            least = np.inf
            for k in range(count - 1):
                pair = max(abs(error[keep[k]]), abs(error[keep[k + 1]]))
                if pair < least:
                    least, gone, taken = pair, k, 2
            if min(first, last) < least:
                gone, taken = (0 if first < last else count - 1), 1
        for k in range(gone, count - taken):
            keep[k] = keep[k + taken]
        count -= taken
    found = np.empty(count)
    for k in range(count):
        found[k] = omega[keep[k]]
    return found


@compiled(error_model="numpy")
def _merged(
    places: Any, sizes: Any, found: int, reference: Any, level: float, omega: Any, error: Any
) -> int:  # pragma: no cover - compiled
    """Extremes and reference points in one row by frequency; of two at the same place the larger stays. How many."""
    a = b = 0
    kept = -1
    while a < found or b < len(reference):
        if b >= len(reference) or (a < found and places[a] <= reference[b]):
            here, size = places[a], sizes[a]
            a += 1
        else:
            here, size = reference[b], (1.0 if b % 2 == 0 else -1.0) * level
            b += 1
        if kept < 0 or here - omega[kept] > 1e-13:
            kept += 1
            omega[kept], error[kept] = here, size
        elif abs(size) > abs(error[kept]):
            omega[kept], error[kept] = here, size
    return kept + 1


@compiled(error_model="numpy")
def exchanged(
    reference: Any,
    start: Any,
    stop: Any,
    middle: Any,
    room: Any,
    kind: int,
    unknowns: int,
    per_gap: int,
    iterations: int,
    levelled: float,
) -> Any:  # pragma: no cover - compiled
    """Iterations until largest and levelled error agree to within a share: how it ended (the constants above), reference,
    node values, weights, largest and levelled error, iterations."""
    values = weights = reference
    largest = level = np.inf
    for count in range(iterations):
        size = len(reference)
        nodes, scaled = np.empty(size), np.empty(size)
        for i in range(size):
            nodes[i] = np.cos(reference[i])
        weights = _weights(nodes)
        targets, rooms, factors = np.empty(size), np.empty(size), np.empty(size)
        top = bottom = 0.0
        for i in range(size):
            rooms[i] = np.inf
            for k in range(len(start)):
                if start[k] <= reference[i] <= stop[k] and room[k] < rooms[i]:
                    targets[i], rooms[i] = middle[k], room[k]
            factors[i] = _factor(kind, reference[i])
            top -= weights[i] * targets[i] / factors[i]
            bottom += (1.0 if i % 2 == 0 else -1.0) * weights[i] * rooms[i] / factors[i]
        level = top / bottom if bottom != 0.0 else np.inf
        if not np.isfinite(level):
            return LOST, reference, values, weights, np.inf, np.inf, count + 1
        values = np.empty(size)
        for i in range(size):
            values[i] = (targets[i] + (1.0 if i % 2 == 0 else -1.0) * level * rooms[i]) / factors[i]
            scaled[i] = values[i] * weights[i]
        room_for = 2 * (per_gap + 2) * (size + 2 * len(start) + unknowns)
        places, sizes = np.empty(room_for), np.empty(room_for)
        found = _peaks(
            reference, start, stop, middle, room, kind, unknowns, per_gap, nodes, scaled, weights, values,
            abs(level), places, sizes,
        )  # fmt: skip
        omega, error = np.empty(found + size), np.empty(found + size)
        kept = _merged(places, sizes, found, reference, level, omega, error)
        largest = 0.0
        for at in range(kept):
            largest = max(largest, abs(error[at]))
        if largest - abs(level) <= levelled * largest or largest < 1e-9:
            return SETTLED, reference, values, weights, largest, abs(level), count + 1
        chosen = _chosen(omega, error, kept, size)
        if len(chosen) < size:
            return TOO_FEW, reference, values, weights, largest, abs(level), count + 1
        reference = chosen
    return TIRED, reference, values, weights, largest, abs(level), iterations


@compiled(error_model="numpy")
def tapped(reference: Any, values: Any, weights: Any, kind: int, taps: int) -> Any:  # pragma: no cover - compiled
    """Taps of a converged amplitude: sampled at as many even frequencies as there are taps and transformed back; what they
    then miss on the reference is added in turn, once."""
    size, half = len(reference), (taps + 1) // 2
    nodes, scaled, wanted = np.empty(size), np.empty(size), values.copy()
    for i in range(size):
        nodes[i] = np.cos(reference[i])
    wave = np.empty(2 * taps)
    for k in range(2 * taps):
        wave[k] = np.cos(np.pi * k / taps) if kind < 3 else np.sin(np.pi * k / taps)
    found = np.zeros(half)  # from the first tap to the middle one
    for again in range(2):
        for i in range(size):
            if again:
                omega, total = reference[i], 0.0
                for n in range(half):
                    away = omega * ((taps - 1) / 2 - n)
                    pair = 1.0 if 2 * n == taps - 1 else 2.0
                    total += pair * found[n] * (np.cos(away) if kind < 3 else np.sin(away))
                wanted[i] = values[i] - total / _factor(kind, omega)
            scaled[i] = wanted[i] * weights[i]
        for m in range(taps // 2 + 1):
            height = _amplitude(2 * np.pi * m / taps, kind, nodes, scaled, weights, wanted) / taps
            height *= 1.0 if m == 0 or 2 * m == taps else 2.0
            for n in range(half):
                found[n] += height * wave[m * (taps - 1 - 2 * n) % (2 * taps)]
    whole = np.empty(taps)
    for n in range(half):
        whole[taps - 1 - n] = found[n] if kind < 3 else -found[n]
        whole[n] = found[n]
    return whole
