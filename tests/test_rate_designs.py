"""Stages that change the rate as they are asked for and designed."""

from __future__ import annotations

import contextlib
import random
import re
import unittest
from itertools import product
from math import log10, prod
from typing import Any
from unittest import mock

import numpy as np

from combe.delivery.recipes import recipe_named
from combe.delivery.tables import integer_sets, real_sets, sets_text
from combe.designing.designed import Design
from combe.designing.equiripple.method import nearly_shortest
from combe.designing.estimates import estimated_taps
from combe.designing.file import design_document, design_from
from combe.designing.methods import design, design_task
from combe.designing.rates import making
from combe.designing.rates.chain import planned
from combe.designing.rates.plans import duties, plan_from, priced
from combe.designing.task import DesignChoice, Task
from combe.errors import CombeError, DesignError, RequirementError
from combe.filters import Fir
from combe.ledger import lines_of, meets
from combe.realization.cic import Cic
from combe.realization.stages import Requantize, TapSum
from combe.requirement import requirement_document, requirement_from
from combe.requirement.rates import prototype_requirement
from combe.rounding.choices import Choices
from combe.rounding.movement import rounding_facts
from combe.rounding.rates import rate_lines, realize_stages
from combe.rounding.trade import trade
from combe.rounding.widths import design_chart
from combe.running.simulate import ideal_run
from combe.values import replace
from tests.rate_cases import (
    DOWN,
    FASTER,
    RATIO,
    SLOWER,
    STRICT,
    UP,
    asked,
    design_of,
)
from tests.support import IS_CAMPAIGN, examples, fewer_vectors, in_campaign, some

setUpModule = fewer_vectors


def lands_on(hz: float, spacing: float, bands: list[tuple[float, float]]) -> bool:
    """Whether a frequency, moved by some multiple of a rate other than none, lies in a band of either sign."""
    for k in range(-200, 201):
        moved = abs(hz + k * spacing)
        if k and any(a <= moved <= b for a, b in bands):
            return True
    return False


def counted(design: Design) -> float:
    """Multiplies and adds a sample of the input, from the taps themselves."""
    total, rate = 0.0, 1.0
    for stage in design.stages:
        rate_out = rate * stage.up / stage.down
        if stage.kind == "cic":
            total += stage.order * (rate + rate_out)
        else:
            used = [tap for tap in stage.taps if tap]
            if stage.up == 1:
                total += rate_out * (
                    len({(min(k, len(stage.taps) - 1 - k)) for k, tap in enumerate(stage.taps) if tap}) + len(used) - 1
                )
            else:
                total += rate / stage.down * (len(used) + max(len(used) - stage.up, 0))
        rate = rate_out
    return total


def looked_at(
    taps: Any, rate: float, pass_hz: float, stop_hz: float, ripple_db: float, level_db: float, spacing: float = 0.0
) -> bool:  # fmt: skip
    """Whether gains on a grid far closer than their ripples keep a lowpass's limits; with a ``spacing``, only around its multiples."""
    size = 1 << (32 * len(taps)).bit_length()
    db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(taps, size)), 1e-12))
    hz = np.arange(len(db)) * rate / size
    from_copy = np.abs(hz - spacing * np.round(hz / spacing)) if spacing else np.zeros(len(hz))
    blocked = db[(hz >= stop_hz) & (from_copy <= pass_hz)]
    return bool(np.max(np.abs(db[hz <= pass_hz])) < ripple_db + 1e-6 and np.max(blocked) < level_db + 1e-3)


class Asked(unittest.TestCase):
    def test_what_lands_on_a_passband_is_limited_and_nothing_else(self) -> None:
        """Each frequency of the prototype asked where sampling and stuffing bring it."""
        source = random.Random(47)
        for _ in range(examples(40)):
            up, down = source.choice(((1, 2), (1, 5), (1, 8), (4, 1), (3, 2), (5, 3), (2, 7), (160, 147)))
            rate = source.uniform(1e3, 1e6)
            half = min(rate, rate * up / down) / 2
            start = source.choice((0.0, source.uniform(0.05, 0.4) * half))
            stop = start + source.uniform(0.1, 0.5) * half
            brief = asked(rate, ((start, stop, -1, 1),), up=up, down=down, alias_db=-50, image_db=-60)
            found = design_of(brief).filter
            lines = lines_of(found, brief)
            names = {line.band for line in lines if line.band_index < 0}
            self.assertEqual(names, {f"{word} of b0" for word, n in (("aliases", down), ("images", up)) if n > 1})
            taps = np.array(found.taps)  # type: ignore[union-attr]
            grid = np.array([source.uniform(0, rate * up / 2) for _ in range(120)])
            gains = np.abs(np.exp(-2j * np.pi * np.outer(grid / (rate * up), np.arange(len(taps)))) @ taps)
            for line in lines:
                if line.band_index >= 0:
                    continue
                spacing = rate * up / down if line.band.startswith("aliases") else rate
                hit = [lands_on(hz, spacing, [(start, stop)]) for hz in grid]
                self.assertLessEqual(max(gains[hit], default=0.0), 10 ** (line.reached / 20) * (1 + 1e-6))
                assert line.at_hz is not None
                self.assertTrue(lands_on(line.at_hz, spacing, [(start - 1e-6 * rate, stop + 1e-6 * rate)]))
                here = abs(np.exp(-2j * np.pi * line.at_hz / (rate * up) * np.arange(len(taps))) @ taps)
                self.assertAlmostEqual(20 * log10(here), line.reached, 5)

    def test_files_come_back(self) -> None:
        for brief in (DOWN, UP, RATIO, STRICT):
            text = requirement_document(brief)
            self.assertEqual(requirement_from(text), brief)
            self.assertEqual(text["sample_rate_hz"], brief.input_rate_hz)
        self.assertEqual(requirement_document(RATIO)["sample_rate_hz"], 48_000)

    def test_contradictions_are_named(self) -> None:
        for bands, change in (
            (((0, 20_000, -1, 1),), {"down": 8, "alias_db": -60}), (((0, 1000, -1, 1),), {"up": 1, "down": 1}),
            (((0, 1000, -1, 1),), {"down": 2, "alias_db": 3}), (((0, 130_000, -1, 1),), {"up": 2, "image_db": -50}),
        ):  # fmt: skip
            with self.assertRaises(RequirementError):
                asked(250_000, bands, **change)
        for wrong in ({"down": 0}, {"up": 1.5}, {"down": 2, "protect": "some"}, {"sideways": 2}):
            with self.assertRaises(CombeError):
                asked(250_000, ((0, 1000, -1, 1),), **wrong)


class Designed(unittest.TestCase):
    def test_a_row_is_named_by_its_stages_and_one_of_taps_by_how_many(self) -> None:
        row, single = planned(DOWN, "4x2"), planned(DOWN, "single")
        self.assertEqual((row.size_words, row.summary()), ("4x2", f"{row.method}, stages 4x2"))
        self.assertEqual(single.size_words, f"{single.order + 1} taps")
        self.assertEqual(single.summary(), f"{single.method}, order {single.order}")

    def test_every_plan_keeps_every_limit(self) -> None:
        plans = ((DOWN, ("single", "2x2x2", "4x2", "2x4", "cic4x2", "cic2x2x2", "")), (UP, ("single", "2x2", "2xcic2", "")),
                 (RATIO, ("single", "")), (STRICT, ("single", "2x4", "")), (SLOWER, ("single", "5/6x2", "5/2x3x2", "5/12", "")),
                 (FASTER, ("single", "2x6/5", "3x4/5", "2x2x3/5", "")))  # fmt: skip
        for brief, names in plans:
            for plan in some(names, 3):
                found = planned(brief, plan)
                self.assertTrue(meets(lines_of(found.filter, brief)), (plan, found.notes))
                up, down = prod(s.up for s in found.stages), prod(s.down for s in found.stages)
                assert brief.rate is not None
                self.assertEqual((up, down), (brief.rate.up, brief.rate.down))

    def test_stages_in_a_row_are_their_prototype(self) -> None:
        """The parts as the file has them, run by the book in floating point, against the filter told."""
        for brief, plan in some(
            (
                (DOWN, "cic4x2"),
                (UP, "2xcic2"),
                (DOWN, "2x2x2"),
                (RATIO, "single"),
                (SLOWER, "5/6x2"),
                (FASTER, "2x6/5"),
            ),
            5,
        ):
            found = planned(brief, plan)
            text = design_document(found)
            signal = np.random.default_rng(1).standard_normal(400)
            whole = signal.copy()
            for part in text["parts"]:
                if part["kind"] == "cic":
                    box = np.ones(max(part["up"], part["down"]) * part["delay"])
                    taps = np.ones(1)
                    for _ in range(part["order"]):
                        taps = np.convolve(taps, box)
                    taps = taps / np.sum(taps) * part["up"]
                else:
                    taps = np.array(part["taps"])
                stuffed = np.zeros(len(whole) * part["up"])
                stuffed[:: part["up"]] = whole
                whole = np.convolve(stuffed, taps)[: len(stuffed)][:: part["down"]]
            made = realize_stages(found, Choices(16))
            again = ideal_run(design_from(text).filter, made, np.round(signal * 1000).astype(np.int64))
            whole2 = ideal_run(found.filter, made, np.round(signal * 1000).astype(np.int64))
            self.assertTrue(np.allclose(again, whole2, atol=1e-6))
            self.assertTrue(np.allclose(whole * 1000, whole2, atol=3), (plan, np.max(np.abs(whole * 1000 - whole2))))

    def test_the_search_loses_to_no_plan(self) -> None:
        """All plans of small ratios, each designed and counted by hand."""
        cases = ((DOWN, 8), (STRICT, 8), (asked(96_000, ((0, 3000, -0.2, 0.2),), down=12, alias_db=-80), 12))
        for brief, factor in cases if IS_CAMPAIGN else cases[1:2]:
            best = counted(planned(brief))
            plans = ["single"]
            for count in (2, 3):
                for factors in product(range(2, factor + 1), repeat=count):
                    if prod(factors) == factor:
                        plans += [
                            "x".join(map(str, factors)),
                            "x".join(["cic" + str(factors[0]), *map(str, factors[1:])]),
                        ]
            for plan in plans:
                try:
                    other = counted(planned(brief, plan))
                except CombeError:
                    continue
                self.assertLessEqual(best, other * 1.03, (plan, best, other))

    @in_campaign
    def test_of_a_ratio_either_way_may_be_cheapest(self) -> None:
        for brief, plans in some(
            (
                (SLOWER, ("single", "5/6x2", "5/4x3", "5/3x4", "5/2x6", "5/3x2x2", "5/2x3x2", "5/2x2x3")),
                (FASTER, ("single", "2x6/5", "3x4/5", "4x3/5", "6x2/5", "2x2x3/5", "2x3x2/5", "3x2x2/5")),
            ),
            1,
        ):
            best, each = counted(planned(brief)), {}
            for plan in plans:
                with contextlib.suppress(CombeError):
                    each[plan] = counted(planned(brief, plan))
            self.assertGreater(len(each), 4)
            self.assertLessEqual(best, 1.1 * min(each.values()), each)
        self.assertEqual(len(planned(SLOWER).stages), 2)

    def test_a_stage_longer_than_any_exchange_keeps_its_limits(self) -> None:
        """About 6500 taps, drawn from a short model: looked at from far closer than its ripples, nearly as short as estimated, and cheaper
        than every row of stages."""
        brief = asked(44_100, ((0, 20_000, -0.05, 0.05),), up=160, down=147, alias_db=-90, image_db=-90)
        found = planned(brief)
        self.assertEqual([(stage.up, stage.down) for stage in found.stages], [(160, 147)])
        assert isinstance(found.filter, Fir)
        taps = np.array(found.filter.taps)
        guess = estimated_taps(prototype_requirement(brief))[0]
        self.assertLess(len(taps), 1.03 * guess)
        self.assertTrue(np.array_equal(taps, taps[::-1]))
        self.assertTrue(looked_at(taps, 44_100 * 160, 20_000, 24_100, 0.05, -90))
        self.assertLess(counted(found), counted(planned(brief, "2x80/147")))
        named = design_task(Task(brief, brief.sample_rate_hz, DesignChoice("equiripple")))
        self.assertEqual(named.filter, found.filter)

    def test_long_stages_of_any_band_keep_their_limits(self) -> None:
        """Of random briefs, some of whose bands leave no room for a model that is stretched."""
        source = random.Random(58)
        lengths = []
        for _ in range(examples(40)):
            up = source.choice((3, 7, 16, 31, 64, 100, 147))
            rate, level, share = source.uniform(1e3, 1e6), -source.uniform(40, 120), source.uniform(0.5, 0.97)
            ripple, stop = source.choice((0.01, 0.05, 0.3)), (1 - share / 2) * rate
            brief = asked(rate, ((0, share * rate / 2, -ripple, ripple),), up=up, down=1, image_db=level)
            guess = estimated_taps(prototype_requirement(brief))[0]
            if not 850 < guess < 4000:
                continue
            taps = np.array(planned(brief, "single").stages[0].taps) / up
            lengths.append(len(taps) / guess)
            self.assertTrue(looked_at(taps, rate * up, share * rate / 2, stop, ripple, level, rate), brief)
        self.assertLess(max(lengths), 1.2)
        self.assertLess(float(np.median(lengths)), 1.06)

    def test_a_model_is_as_short_as_can_be(self) -> None:
        """One whose quarter of the rate lies in its transition: a half-band would count less by itself, and leave more behind."""
        brief = prototype_requirement(asked(1000, ((0, 495, -0.3, 0.3),), up=4, down=1, image_db=-70))
        found, least = making._long(brief).filter, nearly_shortest(brief).filter
        assert isinstance(found, Fir) and isinstance(least, Fir)
        self.assertLess(len(found.taps), 1.03 * len(least.taps))

    def test_a_stage_longer_than_a_file_holds_is_refused_at_once(self) -> None:
        brief = asked(44_100, ((0, 21_900, -0.05, 0.05),), up=160, down=147, alias_db=-120, image_db=-120)
        with self.assertRaisesRegex(DesignError, "would take about [0-9,]+ taps, and 20000 is the most"):
            planned(brief, "single")

    def test_a_price_is_near_what_is_counted(self) -> None:
        for brief, plan in ((SLOWER, "single"), (SLOWER, "5/6x2"), (FASTER, "2x6/5")):
            assert brief.rate is not None
            up, down = brief.rate.up, brief.rate.down
            price = up * priced(plan_from(plan, up, down), prototype_requirement(brief))
            self.assertTrue(0.7 < price / counted(planned(brief, plan)) < 1.5, (plan, price))

    def test_costs_are_those_of_the_structure(self) -> None:
        for brief, plan in (
            (DOWN, "single"),
            (DOWN, "2x2x2"),
            (UP, "2x2"),
            (RATIO, "single"),
            (DOWN, "cic4x2"),
            (SLOWER, "5/6x2"),
            (FASTER, "2x6/5"),
        ):
            found = planned(brief, plan)
            cost = design_document(found)["cost"]
            self.assertAlmostEqual(cost["multiplies"] + cost["adds"], counted(found), 4, plan)

    def test_a_long_stage_keeps_its_limits_with_hardly_more_taps(self) -> None:
        """Looked at from far closer than its ripples, and beside the shortest there is."""
        brief = asked(48_000, ((0, 23_000, -0.1, 0.1),), up=11, down=1, image_db=-60)
        whole = prototype_requirement(brief)
        found, least = nearly_shortest(whole).filter, design(whole, "equiripple").filter
        assert isinstance(found, Fir) and isinstance(least, Fir)
        self.assertGreater(len(least.taps), 300)
        self.assertLessEqual(len(found.taps), len(least.taps) * (1 + 1 / 150) + 2)
        size = 1 << 17
        db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(found.taps, size)), 1e-12))
        hz = np.arange(len(db)) * 48_000 * 11 / size
        self.assertLess(float(np.max(np.abs(db[hz <= 23_000]))), 0.1 + 1e-6)
        blocked = [(48_000 * k - 23_000, 48_000 * k + 23_000) for k in range(1, 6)]
        for start, stop in blocked:
            self.assertLess(float(np.max(db[(hz >= start) & (hz <= stop)])), -60 + 1e-4)

    def test_a_third_band_stage_is_taken_where_it_costs_less(self) -> None:
        """Down by 6 as 3x2: of the first stage every third tap from the middle is zero; where an ordinary one is as cheap, none is."""
        brief = asked(288e3, ((0, 20e3, -0.1, 0.1),), up=1, down=6, alias_db=-80)
        first = design_of(brief, "3x2").stages[0].taps
        middle = len(first) // 2
        zeros = [place for place, tap in enumerate(first) if not tap]
        self.assertEqual(zeros, [k for k in range(len(first)) if (k - middle) % 3 == 0 and k != middle])
        self.assertTrue(zeros)
        kept = (making._kept, making._all_but_last, making._last_stage)
        with mock.patch.object(making, "MOST_BANDS", 2):
            for each in kept:
                each.cache_clear()
            plain = design_of(brief, "3x2").stages[0]
        for each in kept:
            each.cache_clear()
        self.assertFalse([tap for tap in plain.taps if not tap])
        used = [len({abs(tap) for tap in taps if tap}) + sum(map(bool, taps)) - 1 for taps in (first, plain.taps)]
        self.assertLess(used[0], 0.95 * used[1])

    def test_of_stages_with_zeros_none_shorter_does(self) -> None:
        """Found in a few fits: every length between the shortest of all and it is tried here."""
        for level in (-60, -65):
            brief = prototype_requirement(asked(90e3, ((0, 9e3, -0.1, 0.1),), up=1, down=3, alias_db=level))
            plan = plan_from("single", 1, 3)
            least = len(design(brief, "equiripple").filter.taps)  # type: ignore[union-attr]
            found = making._with_zeros(brief, plan, 3, least, np.inf)
            assert isinstance(found.filter, Fir)
            self.assertTrue(meets(lines_of(found.filter, brief)))
            self.assertTrue(
                all(
                    not tap
                    for k, tap in enumerate(found.filter.taps)
                    if (k - len(found.filter.taps) // 2) % 3 == 0 and tap != max(found.filter.taps)
                )
            )
            for half in range(least // 2, len(found.filter.taps) // 2):
                if half % 3:
                    choice = DesignChoice("nyquist", 2 * half, settings=(("bands", 3.0),))
                    other = design_task(Task(brief, brief.sample_rate_hz, choice))
                    self.assertFalse(meets(lines_of(other.filter, brief)), half)
            with self.assertRaisesRegex(DesignError, "don't pay"):
                making._with_zeros(brief, plan, 3, least, 1.0)

    def test_a_stage_blocks_what_no_later_one_can(self) -> None:
        """Point by point: what folds down to where it isn't blocked as deeply is the stage's own to block."""
        source = random.Random(49)
        for _ in range(examples(300)):
            factor, rate = source.choice((2, 2, 3, 3, 4, 5, 9)), source.uniform(1.0, 1e6)
            edges = sorted(source.uniform(0.02, 0.5) * rate for _ in range(6))
            levels = [source.choice((-30.0, -55.0, -80.0)) for _ in range(3)]
            pieces = tuple(zip(edges[::2], edges[1::2], levels))
            own = duties(pieces, rate, factor)

            def level(hz: float, stretches: tuple[tuple[float, float, float], ...]) -> float:
                return min((db for low, high, db in stretches if low <= hz <= high), default=0.0)

            for hz in (source.uniform(rate / factor / 2, rate / 2) for _ in range(60)):
                folded = abs(hz - round(hz * factor / rate) * rate / factor)
                wanted = level(hz, pieces)
                is_own = wanted < 0 and level(folded, pieces) > wanted
                self.assertEqual(level(hz, own), wanted if is_own else 0.0, (pieces, rate, factor, hz))

    def test_each_stage_has_a_table_of_its_own(self) -> None:
        found = design_of(DOWN, "cic2x2x2")
        made = realize_stages(found, Choices(16))
        sums = [(k, stage) for k, stage in enumerate((s for s in made.stages if not isinstance(s, Requantize)), 1)]
        wanted = {f"x_{k}": list(stage.coefficients) for k, stage in sums if isinstance(stage, TapSum)}
        self.assertEqual(list(wanted), ["x_2", "x_3"])
        text = sets_text(integer_sets(made), recipe_named("c-array"), "x")
        read = {
            name: [int(word) for word in body.replace("\n", " ").split(",")]
            for name, count, body in re.findall(r"int16_t (\w+)\[(\d+)\] = \{(.*?)\};", text, re.S)
        }
        self.assertEqual(read, wanted)
        whole = sets_text(real_sets(found), recipe_named("floats"), "x")
        taps = [tap for stage in found.stages for tap in stage.taps]
        self.assertEqual([float(word) for word in whole.split()], taps)
        half = sets_text(integer_sets(made), replace(recipe_named("lines"), half=True), "x").split()
        self.assertEqual(
            [int(word) for word in half], [v for own in wanted.values() for v in own[: (len(own) + 1) // 2]]
        )
        alone = sets_text(integer_sets(realize_stages(design_of(DOWN), Choices(16))), recipe_named("c-array"), "x")
        self.assertIn("int16_t x[", alone)

    def test_what_rounding_did_is_told_of_all_stages(self) -> None:
        """Digits of every stage's taps (those of 3·v xor v), and a zero's place at the rate where it stands."""
        for brief, plan, words in (
            (DOWN, "2x2x2", "of all stages"),
            (DOWN, "cic4x2", "the taps take"),
            (UP, "single", "the taps take"),
        ):
            found = design_of(brief, plan)
            made = realize_stages(found, Choices(16, input="s12f11", output="s16f15"))
            told = [fact.sentence for fact in rounding_facts(found.filter, made, brief, Choices(16))]
            taps = [abs(tap) for stage in made.stages if isinstance(stage, TapSum) for tap in stage.coefficients]
            digits = sum(f"{3 * tap ^ tap:b}".count("1") for tap in taps)
            self.assertTrue(any(words in one and f"take {digits} digits" in one for one in told), (told, digits))
            hz = float(next(one for one in told if "The zero" in one).split(", ")[1].split(" kHz")[0]) * 1e3
            assert isinstance(found.filter, Fir) and brief.rate is not None
            places = np.abs(np.angle(np.roots(found.filter.taps))) / (2 * np.pi) * brief.input_rate_hz * brief.rate.up
            self.assertLess(float(np.min(np.abs(places - hz))), 60.0, (plan, hz))  # told to four digits

    def test_better_integers_of_a_stage_are_told_by_its_own_limits(self) -> None:
        found = design_of(UP, "single")
        choices = Choices(15, input="s12f11", output="s16f15", better=True)
        made = realize_stages(found, choices)
        told = next(
            f.sentence for f in rounding_facts(found.filter, made, UP, choices) if "of the tolerances" in f.sentence
        )
        used = float(told.split("They use ")[1].split(" %")[0]) / 100
        rows = [(line.asked, line.reached, line.limit) for line in rate_lines(made, UP)]
        ripple = max(abs(10 ** (reached / 20) - 1) for _, reached, _ in rows[:2]) / (10 ** (0.1 / 20) - 1)
        image = max(10 ** ((reached - asked_db) / 20) for asked_db, reached, _ in rows[2:])
        self.assertAlmostEqual(used, max(ripple, image), delta=0.02)

    def test_maps_of_widths_are_of_the_stages(self) -> None:
        """Chart and trade: every stage rounded as it will be, looked at point by point through the stages' own integers."""
        for brief, plan in ((DOWN, "2x2x2"), (UP, "single"), (DOWN, "cic4x2")):
            found = design_of(brief, plan)
            choices = Choices(16, input="s12f11", output="s16f15")
            chart = {point.bits: point.margin_db for point in design_chart(found, brief, choices)}
            self.assertGreater(len(chart), 5)
            cells = list(trade(brief, DesignChoice(plan=plan), [12, 15], 0, choices, True, first=found))
            for bits in (12, 15):
                made = realize_stages(found, replace(choices, coefficient_bits=bits))
                whole, size = np.array([1.0]), 1 << 20
                for stage in made.stages:
                    if isinstance(stage, TapSum):
                        own = np.array(stage.coefficients) * stage.coefficient.step / stage.up
                    elif isinstance(stage, Cic):
                        box = np.ones(stage.factor * stage.delay)
                        own = np.array([1.0])
                        for _ in range(stage.order):
                            own = np.convolve(own, box)
                        own = own / (stage.up if stage.up > 1 else 1)
                    else:
                        continue
                    before = prod(
                        one.down for one in made.stages[: made.stages.index(stage)] if not isinstance(one, Requantize)
                    )
                    after = prod(
                        one.up for one in made.stages[made.stages.index(stage) + 1 :] if not isinstance(one, Requantize)
                    )
                    spread = np.zeros((len(own) - 1) * before * after + 1)
                    spread[:: before * after] = own
                    whole = np.convolve(whole, spread)
                assert brief.rate is not None
                db = 20 * np.log10(np.maximum(np.abs(np.fft.rfft(whole, size)), 1e-9))
                hz = np.arange(len(db)) * brief.input_rate_hz * brief.rate.up / size
                ripple = float(np.max(np.abs(db[hz <= 12_000])))
                low = min(brief.input_rate_hz, brief.output_rate_hz)
                blocked = [(low * k - 12_000, low * k + 12_000) for k in range(1, 5)]
                loud = max(float(np.max(db[(hz >= a) & (hz <= b)])) for a, b in blocked if a < hz[-1])
                margin = min(0.1 - ripple, -70 - loud)
                self.assertAlmostEqual(chart.get(bits, margin), margin, delta=0.02, msg=(plan, bits))
                cell = next(one for one in cells if one.bits == bits)
                self.assertAlmostEqual(cell.margin_db, margin, delta=0.02)
                self.assertEqual(
                    cell.taps, sum(len(one.coefficients) for one in made.stages if isinstance(one, TapSum))
                )
                self.assertAlmostEqual(cell.multiplies + cell.adds, counted(found), 3)

    def test_plans_that_cannot_be_are_refused(self) -> None:
        for plan in ("2x3", "cic8", "2xcic4", "x", "3x", "cic", "8x1", "0x8", "2x2x2x1"):
            with self.assertRaises(DesignError, msg=plan):
                planned(DOWN, plan)
        for plan in ("3x2", "3/2x1", "2x3/2", "x", "3/", "/2", "3/2/1", "cic3/2", "3x1/2", "0/2x3"):
            with self.assertRaises(DesignError, msg=plan):
                planned(RATIO, plan)
        with self.assertRaises(DesignError) as caught:
            planned(FASTER, "2x3/5")
        self.assertIn("stages such as 6x2/5", caught.exception.sentence())
