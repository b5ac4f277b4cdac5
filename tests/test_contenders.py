"""Contenders, prices and nearest possible requirements, each held against an evaluator that shares no code."""

from __future__ import annotations

import math
import unittest
from unittest import mock

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from combe.designing.contenders import Contender, contenders, ranked
from combe.designing.methods import METHODS, design, design_task, method_named
from combe.designing.nearest import Relaxation, relaxations
from combe.designing.prices import fractional_order, prices
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, DesignError
from combe.requirement import Requirement
from combe.requirement.sentences import turned
from combe.values import replace
from tests.support import BAT, asked, examples, least_margin_db, plain_gain, some

LOW = asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60))
BASIC = ("equiripple", "kaiser", "least-squares", "butterworth", "chebyshev", "inverse-chebyshev", "elliptic", "bessel")
TYPICAL = (
    LOW, asked(48_000, (0, 800, -40), (1500, 24_000, -0.5, 0.5)), BAT,
    asked(2, (0, 0.3, -1, 0), (0.4, 0.5, -45), (0.6, 1, -1, 0)),
    asked(2, (0, 0.2, -0.5, 0.5), (0.25, 0.5, -40), (0.55, 0.7, -0.5, 0.5), (0.75, 1, -40)),
)  # fmt: skip


class Register(unittest.TestCase):
    def test_the_eight_basic_methods_are_there_and_say_what_they_need(self) -> None:
        for name in BASIC:
            found = method_named(name).document()
            self.assertEqual(found["kind"], "iir" if name in BASIC[3:] else "fir")
            self.assertIn("requirement", found["needs"])
            self.assertTrue(found["can"])
        self.assertEqual(len({method.name for method in METHODS}), len(METHODS))

    def test_what_a_method_does_not_take_is_refused(self) -> None:
        for choice, words in (
            (DesignChoice("elliptic", settings=(("beta", 3.0),)), 'no setting "beta"'), (DesignChoice("least-squares", 4, cutoffs_hz=(1000.0,)), "cut-off"),
            (DesignChoice("elliptic", weights=(1.0, 2.0)), "weights"), (DesignChoice("elliptic", -2), "orders start at 0"),
            (DesignChoice("kaiser", settings=(("beta", 300.0),)), "out of reach"),
        ):  # fmt: skip
            with self.assertRaises(DesignError) as caught:
                design_task(Task(LOW, LOW.sample_rate_hz, choice))
            self.assertIn(words, caught.exception.sentence())


class Race(unittest.TestCase):
    def check(self, found: list[Contender], requirement: Requirement) -> None:
        for contender in found:
            if contender.design is None:
                self.assertTrue(contender.reason, contender.method)
                continue
            margin = least_margin_db(contender.design.filter, requirement, 150)
            if contender.keeps:
                self.assertGreaterEqual(margin, -1e-7, contender.method)
            document = contender.document()
            self.assertEqual(document["meets"], contender.keeps)

    def test_every_verdict_is_true_for_typical_requirements(self) -> None:
        for requirement in some(TYPICAL, 1):
            found = list(contenders(requirement))
            self.assertEqual({c.method for c in found}, {m.name for m in METHODS if m.races})
            self.check(found, requirement)
            kept = [c for c in ranked(found) if c.keeps]
            costs = [c.cost.multiplies for c in kept if c.cost]
            self.assertEqual(costs, sorted(costs))
            self.assertIn("equiripple", [c.method for c in kept])

    def test_odd_requirements_end_in_filters_or_reasons(self) -> None:
        for requirement in (
            asked(1, (0, 0.2, -1, 1)), asked(1, (0, 0.2, -1, 1), (0.2, 0.5, -1, 1)), asked(1, (0.1, 0.2, 19, 21), (0.3, 0.5, 0)),
            asked(1, (0, 0.2, -0.001, 0.001), (0.200001, 0.5, -120)),
        ):  # fmt: skip
            found = list(contenders(requirement))
            self.check(found, requirement)
            self.assertFalse([c.reason for c in found if "fault" in c.reason])

    def test_a_fault_in_one_method_does_not_end_the_race(self) -> None:
        broken = mock.Mock(side_effect=IndexError("made up"))
        with (
            mock.patch("combe.designing.contenders.design_task", broken),
            mock.patch("combe.designing.contenders.log_failure"),
        ):
            found = list(contenders(LOW))
        self.assertTrue(any("a fault in this method (IndexError)" in c.reason for c in found))

    def test_linear_phase_is_respected(self) -> None:
        found = list(contenders(replace(LOW, phase="linear")))
        self.assertEqual({c.phase for c in found if c.design is not None}, {"linear"})
        self.assertIn("linear phase", next(c.reason for c in found if c.method == "elliptic"))
        self.assertIn("isn't linear", " ".join(design(replace(LOW, phase="linear"), "elliptic").notes))

    def test_it_stops_when_told(self) -> None:
        seen: list[Contender] = []
        for contender in contenders(LOW, lambda: len(seen) >= 3):
            seen.append(contender)
        self.assertLessEqual(len(seen), 4)

    @settings(max_examples=examples(30), deadline=None, suppress_health_check=[HealthCheck.too_slow])
    @given(
        st.sampled_from(BASIC), st.sampled_from(["lowpass", "highpass", "bandpass", "bandstop"]), st.floats(0.1, 0.7),
        st.floats(0.04, 0.3), st.floats(0.01, 2), st.floats(15, 90), st.floats(-3, 3),
    )  # fmt: skip
    def test_any_requirement_gives_a_filter_that_keeps_it_or_a_reason(
        self, name: str, shape: str, edge: float, width: float, ripple: float, down: float, gain: float
    ) -> None:
        keep, stop = (gain - ripple, gain + ripple), (gain - down,)
        end = min(edge + width, 0.95)
        kinds: dict[str, list[tuple[float, ...]]] = {
            "lowpass": [(0, edge, *keep), (end, 1, *stop)], "highpass": [(0, edge, *stop), (end, 1, *keep)],
            "bandpass": [(0, edge / 2, *stop), (edge / 2 + width / 3, edge, *keep), (end, 1, *stop)],
            "bandstop": [(0, edge / 3, *keep), (edge / 3 + width / 2, edge, *stop), (end, 1, *keep)],
        }  # fmt: skip
        try:
            requirement = asked(2, *kinds[shape])
            found = design(requirement, name)
        except CombeError as error:
            self.assertTrue(error.sentence())
            return
        self.assertGreaterEqual(least_margin_db(found.filter, requirement, 200), -1e-7)


class Prices(unittest.TestCase):
    def test_a_price_is_what_designs_beside_it_cost(self) -> None:
        for method in some(("elliptic", "equiripple"), 1):
            found = {(p.figure.band_index, p.figure.name): p for p in prices(LOW, DesignChoice(method))}
            self.assertEqual(set(found), {(0, "stop"), (0, "ripple"), (1, "start"), (1, "attenuation")})
            edge = found[(1, "start")]
            wider = asked(48_000, (0, 8000, -0.1, 0.1), (10_800, 24_000, -60))
            saved = design(LOW, method).order - design(wider, method).order
            self.assertAlmostEqual(edge.per_unit * 800, saved, delta=max(1.2, 0.35 * saved))
            self.assertTrue(all(p.saved > -1e-6 for p in found.values()))

    def test_both_edges_of_a_transition_cost_what_lengths_of_one_parity_say(self) -> None:
        found = {(p.figure.band_index, p.figure.name): p for p in prices(LOW, DesignChoice("equiripple"))}
        need = self.needed(LOW)
        for key, moved in (
            ((0, "stop"), lambda hz: asked(48_000, (0, 8000 - hz, -0.1, 0.1), (10_000, 24_000, -60))),
            ((1, "start"), lambda hz: asked(48_000, (0, 8000, -0.1, 0.1), (10_000 + hz, 24_000, -60))),
        ):
            price = found[key]
            self.assertAlmostEqual(price.saved, need - self.needed(moved(price.amount)), delta=0.05)

    def needed(self, requirement: Requirement) -> float:
        """Where the logarithm of the worst excess crosses zero, over even orders, limits read off a dense grid."""
        logs: dict[int, float] = {}
        for order in range(design(LOW).order - 14, 120, 2):
            gain = plain_gain(design(requirement, "equiripple", order).filter, np.arange(0, 24_001, 4) / 48_000)
            worst = 0.0
            for band in requirement.bands:
                hz = np.arange(0, 24_001, 4)
                inside = 10 ** (gain[(hz >= band.start_hz) & (hz <= band.stop_hz)] / 20)
                if band.lower is None:
                    worst = max(worst, float(np.max(inside)) / 10 ** (band.upper.first_db / 20))
                else:
                    high, low = (10 ** (limit.first_db / 20) for limit in (band.upper, band.lower))
                    worst = max(worst, float(np.max(np.abs(inside - (high + low) / 2))) / ((high - low) / 2))
            logs[order] = math.log(worst)
            if logs[order] < 0:
                before = logs[order - 2]
                return order - 2 + 2 * before / (before - logs[order])
        raise AssertionError("no order holds")

    def test_the_fractional_order_lies_just_below_the_least_whole_one(self) -> None:
        for method in ("equiripple", "butterworth", "elliptic"):
            least = design(LOW, method).order
            found = fractional_order(LOW, DesignChoice(method))
            self.assertLessEqual(found, least)
            self.assertGreater(found, least - 2)


class Nearest(unittest.TestCase):
    def test_each_relaxation_is_kept_by_the_filter_it_names(self) -> None:
        for hopeless in some(
            (
                asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60), max_multiplies=7),
                asked(48_000, (0, 8000, -0.1, 0.1), (10_000, 24_000, -60), phase="linear", max_delay_s=5e-4),
            ),
            1,
        ):
            found = list(contenders(hopeless))
            self.assertFalse(any(c.keeps for c in found))
            better = list(relaxations(hopeless, found))
            self.assertGreater(len(better), 2)
            for relaxation in better:
                self.assertNotEqual(relaxation.requirement, hopeless)
                made = None
                for order in (relaxation.order, relaxation.order - 1):
                    try:
                        made = design(relaxation.requirement, relaxation.method, order)
                        break
                    except CombeError:
                        continue
                assert made is not None
                self.assertGreaterEqual(
                    least_margin_db(made.filter, relaxation.requirement), -1e-6, relaxation.sentence
                )
                self.assertFalse(self.holds_with_less(hopeless, relaxation), relaxation.sentence)
            figures = [self.moved_figure(hopeless, relaxation.requirement) for relaxation in better]
            self.assertEqual(len(figures), len(set(figures)), "two rows move the same limit")

    def moved_figure(self, before: Requirement, after: Requirement) -> str:
        for k, (a, b) in enumerate(zip(before.bands, after.bands)):
            for name in ("start_hz", "stop_hz"):
                if getattr(a, name) != getattr(b, name):
                    return f"{k} {name}"
            if a.upper.first_db != b.upper.first_db or a.lower != b.lower:
                return f"{k} level"
        return "whole"

    def holds_with_less(self, before: Requirement, relaxation: Relaxation) -> bool:
        """Whether what moves a thousandth less would do as well, by the same method and order."""
        after, share = relaxation.requirement, 0.998
        rows = []
        for a, b in zip(before.bands, after.bands):
            start = a.start_hz + share * (b.start_hz - a.start_hz)
            stop = a.stop_hz + share * (b.stop_hz - a.stop_hz)
            upper = a.upper.first_db + share * (b.upper.first_db - a.upper.first_db)
            lower = (
                ()
                if a.lower is None or b.lower is None
                else (a.lower.first_db + share * (b.lower.first_db - a.lower.first_db),)
            )
            rows.append((start, stop, *lower, upper))
        if self.moved_figure(before, after) == "whole":
            return False
        less = asked(48_000, *rows)
        for order in (relaxation.order, relaxation.order - 1):
            try:
                return least_margin_db(design(less, relaxation.method, order).filter, less) > 1e-9
            except CombeError:
                continue
        return False

    def test_nothing_is_relaxed_where_something_keeps_it(self) -> None:
        self.assertEqual(list(relaxations(LOW, list(contenders(LOW)))), [])


class Turning(unittest.TestCase):
    def test_low_and_highpass_and_band_and_notch_change_places(self) -> None:
        high = turned(LOW)
        self.assertEqual([band.is_passband for band in high.bands], [False, True])
        self.assertEqual((high.bands[0].upper.first_db, high.bands[1].upper.first_db), (-60, 0.1))
        self.assertEqual(turned(high), LOW)
        self.assertEqual([band.is_passband for band in turned(BAT).bands], [True, False, True])
        self.assertRaises(CombeError, turned, asked(2, (0, 0.5, -1, 1)))
