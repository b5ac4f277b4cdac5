"""The linear side of a program: state space, norms with their tails bounded, energies, transfers.

Values here are real, one unit of a signal's value; a rounding is an error that enters at its step.
"""

from __future__ import annotations

from functools import cached_property

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from combe.errors import FormatError
from combe.realization.feedback import feedback_groups, groups_in_order
from combe.realization.program import Program, gain_of
from combe.realization.term import Term

Array = NDArray[np.float64]
ComplexArray = NDArray[np.complex128]
MOST_STATES = 400
BLOCK, MOST_COLUMNS = 32, 128
LONGEST = 1 << 22
TAIL_SHARE = 1e-7
"""The tail of Σ|h| that is only bounded, not summed, ends below this share of the sum (unless LONGEST comes first)."""


RealTerm = Term[int, float]
"""Signal 0 is the input, k+1 the value of step k; the coefficient is a real gain."""


class Norms(Struct, frozen=True):
    """For each step: sums of the positive and the negative samples of its impulse response, the bounded rest of
    Σ|h|, and Σh²."""

    positive: Array
    negative: Array
    tail: Array
    energy: Array

    @property
    def l1(self) -> Array:
        """Σ|h|, the tail included: no input of size one causes more."""
        return self.positive - self.negative + self.tail


class LinearProgram:
    """Steps as sums of real terms."""

    def __init__(self, steps: list[list[RealTerm]], output: int) -> None:
        self.steps = steps
        self.output = output

    @staticmethod
    def of(program: Program) -> LinearProgram:
        """The linear side of an integer program."""
        return LinearProgram(
            [[Term(p.signal, p.delay, float(gain_of(program, step, p)), is_rest=p.is_rest) for p in step.terms]
             for step in program.steps],
            program.output,
        )  # fmt: skip

    @property
    def count(self) -> int:
        """How many steps there are."""
        return len(self.steps)

    @cached_property
    def kept(self) -> list[tuple[int, int]]:
        """What has to be remembered: (signal, samples ago); rests are numbered after all signals."""
        deepest: dict[int, int] = {}
        for terms in self.steps:
            for term in terms:
                if term.delay:
                    number = self._number(term)
                    deepest[number] = max(deepest.get(number, 0), term.delay)
        return [(signal, age) for signal in sorted(deepest) for age in range(1, deepest[signal] + 1)]

    def _number(self, term: RealTerm) -> int:
        return term.signal + self.count if term.is_rest else term.signal

    @cached_property
    def state_space(self) -> tuple[Array, Array, Array, Array]:
        """A, B, C, D: state' = A·state + B·u, values = C·state + D·u, with u = (input, error of each step)."""
        kept = self.kept
        size, count = len(kept), self.count
        if size > MOST_STATES:
            raise FormatError(f"there are {size} words of state", "stages", f"bounds are found up to {MOST_STATES}")
        place = {each: index for index, each in enumerate(kept)}
        values = np.zeros((2 * count + 1, size + 1 + count))
        values[0, size] = 1.0
        for index, terms in enumerate(self.steps):
            row = values[index + 1]
            for term in terms:
                number = self._number(term)
                if term.delay:
                    row[place[number, term.delay]] += term.coefficient
                else:
                    row += term.coefficient * values[number]
            row[size + 1 + index] += 1.0
            values[count + 1 + index, size + 1 + index] = -1.0
        after = np.zeros((size, size + 1 + count))
        for index, (signal, age) in enumerate(kept):
            if age == 1:
                after[index] = values[signal]
            else:
                after[index, place[signal, age - 1]] = 1.0
        nodes = values[1 : count + 1]
        return after[:, :size], after[:, size:], nodes[:, :size], nodes[:, size:]

    @cached_property
    def is_recursive(self) -> bool:
        """Whether any value comes back to itself."""
        loops = feedback_groups([[term.signal for term in terms if not term.is_rest] for terms in self.steps])
        return bool(loops)

    @cached_property
    def radius(self) -> float:
        """The largest size of an eigenvalue of the state: below one for a stable program."""
        if not self.is_recursive:
            return 0.0
        return float(np.max(np.abs(np.linalg.eigvals(self.state_space[0])), initial=0.0))

    @cached_property
    def _decay(self) -> tuple[Array, float]:
        """P with xᵀPx ≥ |x|² and the rate at which √(xᵀPx) falls in a step (Lyapunov; doubling after Smith 1968)."""
        A = self.state_space[0]
        total, power = np.eye(len(A)), A.copy()
        for _ in range(60):
            step = power.T @ total @ power
            total = total + step
            power = power @ power
            if not np.all(np.isfinite(total)) or np.max(np.abs(total)) > 1e280:
                raise FormatError("a state grows without bound", "stages", "give a stable filter")
            if np.max(np.abs(step)) <= 1e-15 * np.max(np.abs(total)):
                break
        largest = float(np.linalg.eigvalsh(total)[-1])
        return total, float(np.sqrt(1 - 1 / largest)) if largest > 1 else 0.0

    def norms(self, source: int = 0) -> Norms:
        """Norms of the answers of all steps to a unit impulse at the input (0), or to an error of step ``source`` − 1."""
        return self.norms_of([source])[0]

    def norms_of(self, sources: list[int]) -> list[Norms]:
        """The same of several sources at once.

        The tail is rigorous up to rounding: Σ over all later samples of |c·Aᵏ·x| is at most |c|·√(xᵀPx)/(1−ρ) (Volkova,
        Hilaire & Lauter 2015 bound it by eigenvalues; a Lyapunov matrix needs none).
        """
        if not self.is_recursive:
            return [self._finite_norms(source) for source in sources]
        _, B, C, D = self.state_space
        state, first = B[:, sources], D[:, sources]
        positive, negative, energy = np.maximum(first, 0), np.minimum(first, 0), first**2
        P, rate = self._decay
        sizes = np.linalg.norm(C, axis=1)
        observe, jumps, leap = self._blocks()
        done, count = 0, len(sources)
        while True:
            columns = _columns(state, jumps)
            answers = (observe @ columns).reshape(BLOCK, self.count, -1, count)
            above = np.sum(np.maximum(answers, 0), axis=(0, 2))
            positive += above
            negative += np.sum(answers, axis=(0, 2)) - above
            energy += np.einsum("bnks,bnks->ns", answers, answers)
            state = leap @ state
            done += BLOCK * columns.shape[1] // count
            size = np.sqrt(np.maximum(np.einsum("is,ij,js->s", state, P, state), 0.0))
            # Poles so near the circle that no digit is left between them and it: nothing bounds what is still to come.
            tail = (
                np.outer(sizes, size / (1 - rate))
                if rate < 1
                else np.where(np.outer(sizes, np.ones(count)) > 0, np.inf, 0.0)
            )
            sums = positive - negative
            if (
                np.all(tail <= TAIL_SHARE * np.maximum(sums, 1e-3 * np.max(sums, axis=0)))
                or done >= LONGEST
                or rate >= 1
            ):
                tail = tail + 1e-10 * sums
                return [Norms(positive[:, k], negative[:, k], tail[:, k], energy[:, k]) for k in range(count)]

    @cached_property
    def order(self) -> list[int]:
        """Steps so that each comes after all whose values it uses, delayed or not; there are no loops. A rest is an error
        of the past and no value: a step may use its own."""
        waiting = [{term.signal - 1 for term in terms if term.signal and not term.is_rest} for terms in self.steps]
        users: list[list[int]] = [[] for _ in self.steps]
        for index, needs in enumerate(waiting):
            for need in needs:
                users[need].append(index)
        ready = [index for index, needs in enumerate(waiting) if not needs]
        found = []
        while ready:
            index = ready.pop()
            found.append(index)
            for user in users[index]:
                waiting[user].discard(index)
                if not waiting[user]:
                    ready.append(user)
        return found

    def _finite_norms(self, source: int) -> Norms:
        """Without loops every impulse response ends, and is simply written down."""
        answers: list[Array] = [np.array([1.0 if source == 0 else 0.0])] + [np.zeros(1)] * self.count
        for index in self.order:
            total = np.array([1.0 if source == index + 1 else 0.0])
            for term in self.steps[index]:
                if term.is_rest:
                    path = np.array([-1.0 if source == term.signal else 0.0])
                else:
                    path = answers[term.signal]
                total = _added(total, term.coefficient * path, term.delay)
            answers[index + 1] = total
        own = answers[1:]
        return Norms(
            np.array([float(np.sum(np.maximum(h, 0))) for h in own]),
            np.array([float(np.sum(np.minimum(h, 0))) for h in own]),
            np.zeros(self.count),
            np.array([float(np.sum(h**2)) for h in own]),
        )

    def _finite_paths(self) -> list[Array]:
        """From the error of each step to the output, where there are no loops."""
        paths: list[Array] = [np.zeros(1)] * self.count
        errors: list[Array] = [np.zeros(1)] * self.count
        paths[self.output - 1] = np.ones(1)
        for index in reversed(self.order):
            for term in self.steps[index]:
                if term.signal and not term.is_rest:
                    paths[term.signal - 1] = _added(paths[term.signal - 1], term.coefficient * paths[index], term.delay)
                elif term.is_rest:
                    errors[term.signal - 1] = _added(
                        errors[term.signal - 1], -term.coefficient * paths[index], term.delay
                    )
        return [_added(path, error, 0) for path, error in zip(paths, errors)]

    @cached_property
    def _block_parts(self) -> tuple[Array, list[Array], Array]:
        """How a block of samples follows from a state, and states from states by doubling: as many at a time as the
        slowest pole needs to die away."""
        A, _, C, _ = self.state_space
        rows, power = [], np.eye(len(A))
        for _ in range(BLOCK):
            rows.append(C @ power)
            power = power @ A
        jumps = [power]
        length = -18 / np.log(min(max(self.radius, 0.1), 1 - 1e-9))
        while 2 ** len(jumps) < min(length / BLOCK, MOST_COLUMNS):
            jumps.append(jumps[-1] @ jumps[-1])
        return np.concatenate(rows), jumps, jumps[-1] @ jumps[-1]

    def _blocks(self) -> tuple[Array, list[Array], Array]:
        return self._block_parts

    @cached_property
    def _gramian(self) -> Array:
        """Σ (Aᵀ)ᵏ·cᵀc·Aᵏ for the output's c, by doubling: exact however slow the poles are."""
        A, _, C, _ = self.state_space
        at = self.output - 1
        total = np.outer(C[at], C[at])
        power = A.copy()
        for _ in range(64):
            step = power.T @ total @ power
            total = total + step
            if np.max(np.abs(step), initial=0.0) <= 1e-17 * np.max(np.abs(total), initial=1e-300):
                break
            power = power @ power
        return np.asarray(total)

    @cached_property
    def _finite(self) -> list[Array]:
        return self._finite_paths()

    def energy(self, errors: list[tuple[int, int, float]]) -> float:
        """Energy at the output of one error that enters at several steps: (step, samples later, sign) each."""
        if not self.is_recursive:
            total = np.zeros(1)
            for step, later, sign in errors:
                total = _added(total, sign * self._finite[step], later)
            return float(np.sum(total**2))
        A, B, C, D = self.state_space
        at = self.output - 1
        state, found = np.zeros(len(A)), 0.0
        for n in range(max(later for _, later, _ in errors) + 1):
            now = [(step, sign) for step, later, sign in errors if later == n]
            found += float(C[at] @ state + sum(sign * D[at, step + 1] for step, sign in now)) ** 2
            state = A @ state + sum((sign * B[:, step + 1] for step, sign in now), np.zeros(len(A)))
        return found + float(state @ self._gramian @ state)

    def energies(self) -> Array:
        """Energy of the path from the error of each step to the output: Σg²."""
        return np.array([self.energy([(step, 0, 1.0)]) for step in range(self.count)])

    def transfers(self, omega: Array) -> tuple[ComplexArray, ComplexArray]:
        """At each frequency: from the input to every step, and from every step's error to the output.

        Shapes are (frequencies, steps).
        """
        waves = _Waves(self, np.exp(-1j * np.asarray(omega)))
        forward = waves.forward()
        return forward.T, waves.backward().T


class _Waves:
    """Transfers at many frequencies, one group of steps that feed back to one another after the other: each is a small
    system of equations, where all steps together would be a large one."""

    def __init__(self, flow: LinearProgram, turn: ComplexArray) -> None:
        self.flow, self.count, self.size = flow, flow.count, len(turn)
        self.powers = {d: turn**d for d in {term.delay for terms in flow.steps for term in terms}}
        uses = [[term.signal for term in terms if not term.is_rest] for terms in flow.steps]
        self.groups = groups_in_order(uses)

    def loop(self, group: list[int]) -> ComplexArray | None:
        """Identity less what the group's steps hand to one another: (frequencies, steps, steps); None without a loop."""
        found: ComplexArray | None = None
        for row, step in enumerate(group):
            for term in self.flow.steps[step]:
                if term.is_rest or term.signal - 1 not in group:
                    continue
                if found is None:
                    found = np.tile(np.eye(len(group), dtype=complex), (self.size, 1, 1))
                found[:, row, group.index(term.signal - 1)] -= term.coefficient * self.powers[term.delay]
        return found

    def forward(self) -> ComplexArray:
        """From the input to every step: (steps, frequencies)."""
        values = np.zeros((self.count + 1, self.size), complex)
        values[0] = 1.0
        for group in self.groups:
            for step in group:
                for term in self.flow.steps[step]:
                    if not term.is_rest and term.signal - 1 not in group:
                        values[step + 1] += term.coefficient * self.powers[term.delay] * values[term.signal]
            rows = [step + 1 for step in group]
            values[rows] = _solved(self.loop(group), values[rows])
        return values[1:]

    def backward(self) -> ComplexArray:
        """From every step's error to the output: (steps, frequencies)."""
        back = np.zeros((self.count, self.size), complex)
        back[self.flow.output - 1] = 1.0
        for group in reversed(self.groups):
            loop = self.loop(group)
            back[group] = _solved(None if loop is None else np.swapaxes(loop, 1, 2), back[group])
            for step in group:
                for term in self.flow.steps[step]:
                    if term.signal and not term.is_rest and term.signal - 1 not in group:
                        back[term.signal - 1] += term.coefficient * self.powers[term.delay] * back[step]
        # What is cut off and used again later enters there with the other sign.
        errors = back.copy()
        for step, terms in enumerate(self.flow.steps):
            for term in terms:
                if term.is_rest:
                    errors[term.signal - 1] -= term.coefficient * self.powers[term.delay] * back[step]
        return errors


def _solved(loop: ComplexArray | None, values: ComplexArray) -> ComplexArray:
    """The values of a group from what enters it: (steps, frequencies)."""
    if loop is None:
        return values
    if len(values) == 1:
        return np.asarray(values / loop[:, 0, 0])
    return np.asarray(np.linalg.solve(loop, values.T[:, :, None])[:, :, 0].T)


def _added(total: Array, path: Array, delay: int) -> Array:
    """total + path, ``delay`` samples later."""
    found = np.zeros(max(len(total), len(path) + delay))
    found[: len(total)] += total
    found[delay : delay + len(path)] += path
    return found


def _columns(state: Array, jumps: list[Array]) -> Array:
    """The state now and after every further block, by doubling."""
    found = state
    for jump in jumps:
        found = np.concatenate([found, jump @ found], axis=1)
    return np.asarray(found)
