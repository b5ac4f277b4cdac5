"""The linear side of programs against what a loop over samples says."""

from __future__ import annotations

import math
import random
import unittest

import numpy as np

from combe.analysis.bounds import bounds
from combe.analysis.facts import facts
from combe.analysis.linear import LinearProgram, RealTerm
from combe.errors import FormatError
from combe.filters import Cascade
from combe.realization.feedback import feedback_groups, groups_in_order
from combe.realization.term import Term
from combe.rounding.choices import Choices
from combe.rounding.realize import realize
from combe.running.run import run_program


def random_steps(source: random.Random, count: int, loops: bool, rests: bool) -> list[list[RealTerm]]:
    """Steps that use the input and one another; those that come later only with a delay, so that it can be computed."""
    steps: list[list[RealTerm]] = []
    for index in range(count):
        terms: list[RealTerm] = [Term(0, source.randrange(3), source.uniform(-1, 1))]
        for _ in range(source.randrange(1, 4)):
            other = source.randrange(count)
            if other < index:
                terms.append(Term(other + 1, source.randrange(3), source.uniform(-1, 1)))
            elif loops:
                terms.append(Term(other + 1, source.randrange(1, 3), source.uniform(-0.35, 0.35)))
        if rests and source.random() < 0.4:
            terms.append(Term(index + 1, 1, source.choice((-1.0, 1.0)), is_rest=True))
        steps.append(terms)
    return steps


def impulse(steps: list[list[RealTerm]], source: int, length: int) -> np.ndarray:
    """Values of all steps after a unit impulse at the input (0), or after an error of one in a step's rounding: the error is
    added to the value, and cut off from what the step remembers as its rest."""
    values = np.zeros((len(steps) + 1, length))
    rests = np.zeros((len(steps) + 1, length))
    for n in range(length):
        values[0, n] = 1.0 if source == 0 and n == 0 else 0.0
        for index, terms in enumerate(steps):
            total = sum(
                t.coefficient * (rests if t.is_rest else values)[t.signal, n - t.delay] for t in terms if n >= t.delay
            )
            error = 1.0 if source == index + 1 and n == 0 else 0.0
            values[index + 1, n] = total + error
            rests[index + 1, n] = -error
    return values[1:]


class AgainstTheLoop(unittest.TestCase):
    def programs(self, count: int = 24) -> list[tuple[LinearProgram, list[list[RealTerm]]]]:
        source, found = random.Random(17), []
        while len(found) < count:
            steps = random_steps(source, source.randrange(1, 9), source.random() < 0.7, source.random() < 0.5)
            flow = LinearProgram(steps, source.randrange(len(steps)) + 1)
            try:
                if flow.radius < 0.93:
                    found.append((flow, steps))
            except FormatError:
                continue
        return found

    def test_transfers_are_the_transforms_of_impulse_responses(self) -> None:
        omega = np.array([0.0, 0.3, 1.1, 2.2, math.pi])
        for flow, steps in self.programs():
            forward, back = flow.transfers(omega)
            length = 600
            turn = np.exp(-1j * np.outer(np.arange(length), omega))
            np.testing.assert_allclose(forward, (impulse(steps, 0, length) @ turn).T, atol=1e-8)
            for index in range(len(steps)):
                path = impulse(steps, index + 1, length)[flow.output - 1] @ turn
                np.testing.assert_allclose(back[:, index], path, atol=1e-8, err_msg=str(steps))

    def test_norms_are_the_sums_and_the_tail_is_never_too_short(self) -> None:
        for flow, steps in self.programs():
            sources = list(range(len(steps) + 1))
            for source, norms in zip(sources, flow.norms_of(sources)):
                answers = impulse(steps, source, 900)
                total = np.sum(np.abs(answers), axis=1)
                self.assertTrue(np.all(norms.l1 >= total * (1 - 1e-12) - 1e-12), steps)
                np.testing.assert_allclose(norms.l1, total, rtol=2e-4, atol=1e-6 * max(float(np.max(total)), 1e-9))
                np.testing.assert_allclose(norms.energy, np.sum(answers**2, axis=1), rtol=1e-6, atol=1e-9)
                np.testing.assert_allclose(norms.positive + norms.negative, np.sum(answers, axis=1), atol=1e-5)
                alone = flow.norms(source)
                np.testing.assert_allclose(alone.l1, norms.l1, rtol=1e-6, atol=1e-9)

    def test_energies_are_those_of_the_paths(self) -> None:
        for flow, steps in self.programs(12):
            for index, energy in enumerate(flow.energies()):
                path = impulse(steps, index + 1, 900)[flow.output - 1]
                self.assertAlmostEqual(energy, float(np.sum(path**2)), delta=1e-8 * max(1.0, energy))


class WithoutPoles(unittest.TestCase):
    def test_bounds_hold_where_rests_are_fed_back_and_nothing_else_is(self) -> None:
        """Such sections have no loop of values, and once had no bounds: every one was told as 0."""
        source = Cascade(((0.9, 0.8, 0.7, 0.0, 0.0), (0.5, -0.4, 0.3, 0.0, 0.0)))
        for structure in ("direct-1", "direct-2", "transposed-2", "coupled"):
            choices = Choices(12, structure, "s12f11", "s16f15", state_bits=14, error_feedback=True)
            made = realize(source, 1.0, choices)
            told = bounds(made)
            numbers = np.random.default_rng(1)
            ends = np.array([made.input.least, made.input.most])
            samples = ends[numbers.integers(0, 2, 20_000)]
            run = run_program(made.program, samples)
            for bound, least, most in zip(told, run.least, run.most):
                self.assertLessEqual(max(bound.least, bound.result.least), least, (structure, bound.name))
                self.assertGreaterEqual(min(bound.most, bound.result.most), most, (structure, bound.name))
                # Random ends come near the worst of six coefficients: a bound far beyond would be no bound to speak of.
                self.assertLess(bound.most, 1.02 * most + 64 if most < bound.result.most else 1e9)

    def test_what_rests_leave_at_the_output_is_told(self) -> None:
        """Rounded down, a rest that is fed back keeps the output away from zero for good; to nearest it dies away."""
        source = Cascade(((0.9, 0.8, 0.7, 0.0, 0.0), (0.5, -0.4, 0.3, 0.0, 0.0)))
        burst = np.random.default_rng(1).integers(-2048, 2048, 500)
        for rounding, stays in (("floor", True), ("nearest-even", False)):
            choices = Choices(12, "direct-2", "s12f11", "s16f15", state_bits=14, error_feedback=True, rounding=rounding)
            made = realize(source, 1.0, choices)
            heard = run_program(made.program, np.concatenate([burst, np.zeros(3000, dtype=np.int64)])).output
            self.assertIs(bool(np.any(heard[-50:])), stays)
            told = " ".join(fact.sentence for fact in facts(made))
            self.assertIs("were seen to stay after the input has ended" in told, stays, told)
            self.assertIs("can stay at a constant of up to 1 steps" in told, stays, told)
            self.assertIs("Without input every output dies away: proved" in told, not stays, told)


class Groups(unittest.TestCase):
    @staticmethod
    def reaches(uses: list[list[int]]) -> list[list[bool]]:
        """Whether a step's value gets into another's, by Warshall's closure."""
        count = len(uses)
        reach = [[step + 1 in uses[to] for to in range(count)] for step in range(count)]
        for middle in range(count):
            for a in range(count):
                for b in range(count):
                    reach[a][b] = reach[a][b] or (reach[a][middle] and reach[middle][b])
        return reach

    def test_steps_stand_together_just_when_each_reaches_the_other(self) -> None:
        source = random.Random(4)
        for _ in range(300):
            count = source.randrange(1, 10)
            uses = [[source.randrange(count + 1) for _ in range(source.randrange(3))] for _ in range(count)]
            reach = self.reaches(uses)
            groups = groups_in_order(uses)
            self.assertEqual(sorted(step for group in groups for step in group), list(range(count)))
            own = {step: k for k, group in enumerate(groups) for step in group}
            for a in range(count):
                for b in range(count):
                    if a != b:
                        self.assertEqual(own[a] == own[b], reach[a][b] and reach[b][a], uses)
                    if reach[a][b]:
                        self.assertLessEqual(own[a], own[b], "what is used comes first")
            looped = sorted(step for group in feedback_groups(uses) for step in group)
            self.assertEqual(looped, [step for step in range(count) if reach[step][step]])

    def test_thousands_of_steps_in_a_row(self) -> None:
        uses = [[k] for k in range(5000)]
        self.assertEqual(groups_in_order(uses), [[k] for k in range(5000)])
        self.assertEqual(feedback_groups(uses), [])
        ring = [[k] if k else [5000] for k in range(5000)]
        self.assertEqual([sorted(group) for group in feedback_groups(ring)], [list(range(5000))])


if __name__ == "__main__":
    unittest.main()
