"""Signals through a filter."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from combe.api.realizing import realize
from combe.api.values import design_of, program_of
from combe.errors import FileError

if TYPE_CHECKING:
    from combe.api.files import Value
    from combe.benching.run import Bench
    from combe.project.way import Way
    from combe.realization.reading import RealizationFile
    from combe.realization.stages import Realization
    from combe.signals.spec import Signal

Say = Callable[[str], None]


def benched(source: Value, filter: str = "") -> RealizationFile:
    """What a bench runs: a realization, that of a project's filter, or a design rounded to 16 bits.

    Raises
    ------
    CombeError
        If there is nothing in it that could run.
    """
    from combe.designing.designed import Design
    from combe.project.chosen import chosen, realized_file
    from combe.project.document import Project
    from combe.realization.reading import RealizationFile

    if filter and not isinstance(source, Project):
        raise FileError("is no project", "--filter", "leave it out")
    if isinstance(source, RealizationFile):
        return source
    if isinstance(source, Design):
        return realize(source)
    if isinstance(source, Project):
        return realized_file(chosen(source, filter))
    raise FileError("there is no filter in it to run", "bench", "give a realization, a project or a design")


def with_joints(way: Way, signal: Signal, bench: Bench, say: Say = lambda _: None) -> Bench:
    """A bench of a whole way, with what the bit-true run has at each joint before the end (``after NAME``)."""
    from combe.benching.run import MOST_AT_ONCE, run_bench
    from combe.values import replace

    if bench.samples > MOST_AT_ONCE:
        say("joints are left out of a signal that goes through piece by piece")
        return bench
    joints = []
    for count in range(1, len(way.parts)):
        part = replace(way, parts=way.parts[:count])
        found = run_bench(part.realization(), part.filter(), signal, ("bit-true",), report=say)
        joints.append(replace(found.through[0], name=f"after {part.parts[-1].member.code_name}"))
    return replace(bench, through=(*bench.through, *joints))


def bench(
    source: RealizationFile | Realization,
    signal: Signal | str,
    *,
    through: Sequence[str] = ("ideal", "rounded", "bit-true"),
    against: Sequence[int] = (),
    samples: int | None = None,
    seed: int = 1,
    to: str | Path = "",
    say: Say = lambda _: None,
) -> Bench:
    """A signal through the filter, and the figures of what comes out.

    >>> import combe
    >>> from combe.filters import Fir
    >>> from combe.designing.designed import Design
    >>> realized = combe.realize(Design("given", Fir((0.5, 0.5)), 1000.0))
    >>> found = combe.bench(realized, "sine 100 Hz -6 dB", samples=1000)
    >>> round(found.through[0].tones[0].gain_db, 3), round(found.through[0].tones[0].phase_deg, 3)
    (-0.436, -18.0)

    Parameters
    ----------
    signal
        A signal, or the sentence of one.
    through
        Any of ``ideal``, ``rounded``, ``bit-true``, ``code`` and ``circuit``.
    against
        Lengths of moving averages to compare with.
    to
        A folder for ``bench.json``, ``traces.csv`` and ``spectrum.csv``.

    Raises
    ------
    CombeError
        If the signal can't be made, or a tool is missing.
    """
    from combe.benching.run import run_bench
    from combe.signals.spec import signal_from_sentence

    program, made = program_of(source), design_of(source)
    if isinstance(signal, str):
        signal = signal_from_sentence(signal, program.sample_rate_hz, samples, seed)
    return run_bench(program, made.filter if made is not None else None, signal, through, against, say, to=to)
