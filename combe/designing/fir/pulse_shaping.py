"""Pulse shaping against a spectrum mask and an error vector together: the taps whose intersymbol interference behind a matched
root-raised-cosine receiver is least, of all that keep every limit of the brief.

The receiver's output at the times of symbols is linear in the taps, so that the interference is a sum of squares (Nyquist 1928;
Proakis 2001, chapter 9) and the problem one of least distance within the limits (Selesnick, Lang & Burrus 1996 for the
exchange of limits).
"""

from __future__ import annotations

import time

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.designing import equiripple
from combe.designing.designed import Design
from combe.designing.fir.pulses import root_raised_cosine
from combe.designing.least_squares.limited import Limits, nearest_within
from combe.designing.lengths import allowed_lengths, least_length
from combe.designing.linear_phase import from_cosines
from combe.designing.settings import SHAPING
from combe.designing.task import Task
from combe.errors import DesignError, Stopped
from combe.filters import Fir
from combe.ledger import gain_lines
from combe.requirement import Requirement

Array = NDArray[np.float64]
MAXIMUM_TAPS = 401
SPAN = 48
"""Symbols to either side over which the receiver's pulse isn't taken as zero."""
USUAL_SAMPLES = 8.0
RIDGE = 1e-3
"""Weight of the distance from a plain root raised cosine: it decides where interference leaves taps free, and costs nothing else."""
OWN = 30.0
"""Weight of the own symbol, which arrives at a level of 1: a weaker pulse would have an easier mask."""
STEPS_LEFT = 2.0
"""Doublings as good as the last, after which a search for a length is given up."""
WORST_DB = 300.0


class Link(Struct, frozen=True):
    """What a pulse is for: so many samples a symbol, excess bandwidth, and the largest error vector."""

    samples: float
    roll_off: float
    error_vector_db: float


def make(task: Task) -> Design:
    """The shortest pulse, or that of a given order, with the least interference the limits leave."""
    started = time.perf_counter()
    values = [setting.checked(task.choice.setting(setting.name)) for setting in SHAPING]
    samples, roll_off, most = (float(value if value is not None else USUAL_SAMPLES) for value in values)
    link, asked = Link(samples, roll_off, most), task.asked
    if task.choice.order is not None:
        taps = task.order + 1
        if not 2 <= taps <= MAXIMUM_TAPS:
            raise DesignError(f"order {taps - 1} is out of reach", "order", f"orders run from 1 to {MAXIMUM_TAPS - 1}")
        fir = shaped(task, link, taps)
        if fir is None:
            raise DesignError(
                f"no {taps} symmetric taps keep these limits", "order", "raise the order or relax a limit"
            )
    else:
        fir = _least(task, link)
    reached = error_vector_db(fir, link)
    notes = [
        f"error vector {reached:.1f} dB behind a matched root-raised-cosine receiver, {link.samples:g} samples a symbol, "
        f"roll-off {link.roll_off:g}"
    ]
    if reached > most:
        notes.append(f"that misses the {most:g} dB asked for: raise the order")
    return Design(
        "pulse-shaping", fir, task.sample_rate_hz, asked, tuple(notes), time.perf_counter() - started
    )  # fmt: skip


def _least(task: Task, link: Link) -> Fir:
    found: dict[int, Fir | None] = {}

    def share(taps: int) -> float:
        if task.is_stopped():
            raise Stopped
        if taps not in found:
            found[taps] = shaped(task, link, taps)
        fir = found[taps]
        if fir is None:
            return float("inf")
        return float(10 ** ((error_vector_db(fir, link) - link.error_vector_db) / 20))

    least = _feasible(task)
    taps, before = min(max(least, int(2 * link.samples)), MAXIMUM_TAPS), float("inf")
    while share(taps) > 1:
        now = 20 * float(np.log10(share(taps)))
        # Where twice the taps have gained little, more are not tried.
        if taps >= MAXIMUM_TAPS or (now < np.inf and now > STEPS_LEFT * (before - now)):
            what = f"an error vector of {link.error_vector_db:g} dB was not reached"
            if now < np.inf:
                what += f": at {taps} taps it is {link.error_vector_db + now:.1f} dB"
                what += f", and half of them were {before - now:.1f} dB worse" if before < np.inf else ""
            raise DesignError(what, "bands", "begin the mask further out, change roll_off or relax error_vector_db")
        taps, before = min(2 * taps, MAXIMUM_TAPS), now
    shortest = least_length(share, taps, allowed_lengths(task.asked), taps, least)
    assert shortest is not None
    taps = shortest
    fir = found[taps]
    assert fir is not None
    return fir


def _feasible(task: Task) -> int:
    """The least number of taps that keep the limits, whatever they do to symbols."""
    first = min(task.asked.passbands, key=lambda band: band.start_hz, default=None)
    if first is None or first.start_hz > 0:
        raise DesignError("a pulse is kept from 0 Hz on", "bands", "let the first band be kept and begin at 0")
    near = equiripple.roughly_shortest(task.asked, task.is_stopped)
    if near.order >= MAXIMUM_TAPS:
        what = f"these limits take {near.order + 1:,} taps, and pulses go to {MAXIMUM_TAPS}"
        raise DesignError(what, "bands", "widen a transition or relax a limit")
    return near.order + 1


def shaped(task: Task, link: Link, taps: int) -> Fir | None:
    """The taps of least interference within the limits; None where no taps of this length keep them."""
    asked: Requirement = task.asked
    limits = Limits(asked, taps)
    size = len(limits.steps)
    middle = (taps - 1) / 2
    times = np.asarray((np.arange(taps) - middle) / link.samples, dtype=np.float64)
    plain = root_raised_cosine(times, link.roll_off) / link.samples
    # Taps of each cosine; what the receiver hears of them at each symbol, those before and after alike.
    each = np.array([from_cosines(row, taps) for row in np.eye(size)])
    heard = each @ _receiver(times, link.roll_off).T
    weight = np.append(OWN, np.full(heard.shape[1] - 1, np.sqrt(2.0)))
    matrix = np.vstack([(heard * weight).T, RIDGE * each.T])
    side = np.concatenate([[OWN], np.zeros(heard.shape[1] - 1), RIDGE * plain])
    # min |M a − s|: with M = Q·R the distance is plain in R·(a − free).
    turned, root = np.linalg.qr(matrix)
    free = np.linalg.solve(root, turned.T @ side)
    found = nearest_within(
        limits,
        free,
        lambda rows: np.linalg.solve(root.T, rows.T).T,
        lambda u: np.linalg.solve(root, u),
        task.is_stopped,
    )
    if found is None:
        return None
    fir = Fir(tuple(from_cosines(found, taps).tolist()))
    return fir if all(line.margin >= 0 for line in gain_lines(fir, asked)) else None


def _receiver(times: Array, roll_off: float) -> Array:
    """The matched receiver's pulse for each symbol from the own one on (rows), at the times of taps in symbols."""
    reach = int(np.ceil(SPAN + times[-1]))
    symbols = np.arange(reach + 1)
    away = np.asarray(symbols[:, None] - times[None, :], dtype=np.float64)
    return np.where(np.abs(away) <= SPAN, root_raised_cosine(away, roll_off), 0.0)


def error_vector_db(fir: Fir, link: Link) -> float:
    """Interference of all other symbols against the own one, in dB: the error vector random symbols have at the receiver."""
    times = np.asarray((np.arange(len(fir.taps)) - fir.order / 2) / link.samples, dtype=np.float64)
    heard = _receiver(times, link.roll_off) @ fir.array
    if heard[0] == 0:
        return WORST_DB
    share = 2 * float(np.sum(heard[1:] ** 2)) / float(heard[0] ** 2)
    return 10 * float(np.log10(max(share, 1e-30)))
