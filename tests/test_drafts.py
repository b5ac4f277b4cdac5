"""What follows a hand: nearly the filter it will be, in a fraction of the time, and within its limits by plain sums."""

from __future__ import annotations

import random
import unittest

import numpy as np

from combe.designing.lengths import DRAFT_ROOM, drafted_length
from combe.designing.methods import design_task
from combe.designing.task import DesignChoice, Task
from combe.filters import Fir
from combe.requirement import Requirement
from combe.values import replace
from tests.support import asked, examples, fewer_vectors, least_margin_db, some

setUpModule = fewer_vectors

RECURSIVE = ("butterworth", "chebyshev", "inverse-chebyshev", "elliptic")
TAPS = ("kaiser", "dolph-chebyshev", "hann-window", "gauss-window", "least-squares")
KINDS = ("bandstop", "bandpass", "lowpass", "highpass")
MISSED_DB = 1e-6


def briefs(kind: str, source: random.Random) -> list[Requirement]:
    """One of a kind, and two for which its edges were moved a little one after another."""
    low, width, level = source.uniform(0.1, 0.2), source.uniform(0.04, 0.1), source.uniform(35, 60)
    high, ripple = source.uniform(0.5, 0.6), source.choice((0.1, 0.5))
    found = []
    for _ in range(3):
        a, b, c, d = low, low + width, high, high + 1.3 * width
        keep, block = (-ripple, ripple), (-level,)
        bands = {
            "lowpass": ((0, b, *keep), (c, 1, *block)), "highpass": ((0, b, *block), (c, 1, *keep)),
            "bandpass": ((0, a, *block), (b, c, *keep), (d, 1, *block)),
            "bandstop": ((0, a, *keep), (b, c, *block), (d, 1, *keep)),
        }  # fmt: skip
        found.append(asked(2, *bands[kind]))
        low, high = low + source.uniform(-0.004, 0.004), high + source.uniform(-0.004, 0.004)
    return found


class Drafts(unittest.TestCase):
    def check(self, method: str, kind: str, source: random.Random, longer: float) -> None:
        first, *moved = briefs(kind, source)
        near = design_task(Task(first, 2, DesignChoice(method)))
        for brief in moved:
            near = design_task(Task(brief, 2, DesignChoice(method), near=near, is_draft=True))
            whole = design_task(Task(brief, 2, DesignChoice(method)))
            self.assertLessEqual(near.filter.order, longer * whole.filter.order + 2, (method, kind))
            self.assertGreaterEqual(near.filter.order, whole.filter.order / longer - 2, (method, kind))
            self.assertGreater(least_margin_db(near.filter, brief, 1500), -MISSED_DB, (method, kind))

    def test_recursive_filters_have_the_least_order_and_keep_their_limits(self) -> None:
        source = random.Random(21)
        for _ in range(examples(1)):
            for method, first in zip(RECURSIVE, KINDS):
                for kind in some((first, *KINDS), 1):
                    self.check(method, kind, source, 1.0)

    def test_lengths_of_taps_are_nearly_the_least_and_keep_their_limits(self) -> None:
        source = random.Random(22)
        for _ in range(examples(1)):
            for method, first in zip(TAPS, (*KINDS, KINDS[0])):
                for kind in some((first, *KINDS), 1):
                    self.check(method, kind, source, 1.1)

    def test_a_draft_begins_from_where_it_is_told_and_finds_its_way(self) -> None:
        """From a length far too short or too long, or from a recursive filter, as from the right one."""
        brief = asked(2, (0, 0.2, -0.2, 0.2), (0.3, 1, -50))
        for method in TAPS:
            whole = design_task(Task(brief, 2, DesignChoice(method)))
            other = design_task(Task(brief, 2, DesignChoice("elliptic")))
            short, long = (design_task(Task(brief, 2, DesignChoice(method, order=order))) for order in (10, 300))
            for near in (short, long, other, whole):
                draft = design_task(Task(brief, 2, DesignChoice(method), near=near, is_draft=True))
                self.assertLess(abs(draft.filter.order - whole.filter.order), 0.1 * whole.filter.order + 2, method)

    def test_a_length_leaves_room_for_what_its_grid_may_miss_and_grows_where_it_must(self) -> None:
        everything = lambda _: True  # noqa: E731
        for near in (39, 40, 41, 60, 300):
            self.assertEqual(drafted_length(lambda n: 40.0 / n, near, everything, 1000), 41, near)
        self.assertIsNone(drafted_length(lambda n: 40.0 / n, 10, everything, 1000), "that far it is looked for anew")
        # A ripple of twelve points a tap, its peak halfway between two of them.
        turns = (np.arange(12 * 40) + 0.5) / (12 * 40)
        peak = np.max(np.abs(np.cos(2 * np.pi * 20 * turns)))
        self.assertGreaterEqual(peak * DRAFT_ROOM, 1.0)

    def test_an_order_that_only_a_close_look_finds(self) -> None:
        """Neither the first center nor the last nor the middle will do, one between them does."""
        brief = asked(2, (0, 0.27, -75), (0.37, 0.58, -0.5, 0.5), (0.64, 1, -31))
        for is_draft in (False, True):
            found = design_task(Task(brief, 2, DesignChoice("inverse-chebyshev"), is_draft=is_draft)).filter
            self.assertEqual(found.order, 14)
            self.assertGreater(least_margin_db(found, brief, 1500), -MISSED_DB)

    def test_what_is_not_a_draft_knows_nothing_of_what_is_near(self) -> None:
        brief = asked(2, (0, 0.2, -0.2, 0.2), (0.3, 1, -50))
        for method in (*TAPS, *RECURSIVE):
            whole = design_task(Task(brief, 2, DesignChoice(method)))
            near = replace(whole, filter=Fir((0.5, 0.5)))
            again = design_task(Task(brief, 2, DesignChoice(method), near=near))
            self.assertEqual((again.filter, again.notes), (whole.filter, whole.notes), method)
