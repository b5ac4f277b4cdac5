"""A signal through a recorder board that is made up, and what a circuit on a board heard of itself."""

from __future__ import annotations

from collections.abc import Callable
from contextlib import ExitStack
from typing import TYPE_CHECKING

from combe.api.benching import benched
from combe.benching.board.schedule import INTERRUPT_CYCLES

if TYPE_CHECKING:
    from combe.api.files import Value
    from combe.benching.board.run import BoardRun
    from combe.proof.captured import Capture
    from combe.realization.stages import Realization
    from combe.signals.spec import Signal

Say = Callable[[str], None]


def board(
    source: Value,
    signal: Signal | str,
    *,
    filter: str = "",
    block: int = 128,
    core: str = "cortex-m4",
    clock_hz: float = 80e6,
    cycles_per_sample: float | None = None,
    cycles_per_interrupt: float = INTERRUPT_CYCLES,
    converter_in: str = "12",
    converter_out: str = "",
    change_to: Value | None = None,
    change_at: int = 0,
    fade: int = 0,
    through: str = "code",
    samples: int | None = None,
    seed: int = 1,
    say: Say = lambda _: None,
) -> BoardRun:
    """A signal through a board: an input converter fills one half of a buffer while the filter works on the other, an
    output converter plays what it wrote.

    >>> import combe
    >>> from combe.filters import Fir
    >>> from combe.designing.designed import Design
    >>> realized = combe.realize(Design("given", Fir((0.5, 0.5)), 48_000.0), 16, input="s12f11", output="s12f11")
    >>> calm = combe.board(realized, "sine 1 kHz -6 dB", samples=4800, cycles_per_sample=40, through="bit-true")
    >>> calm.late, calm.delay_samples, round(calm.pace.load, 4)
    ((), 256, 0.0246)
    >>> busy = combe.board(realized, "sine 1 kHz -6 dB", samples=4800, cycles_per_sample=2000, through="bit-true")
    >>> busy.remedies[0]
    '24 of 37 blocks come too late: 120 % of the clock is asked for; 96.05 MHz would do it'

    Parameters
    ----------
    block
        Samples of half a buffer.
    cycles_per_sample
        What the filter takes; None counts it on the emulated core, or estimates it where there is no emulator.
    converter_in, converter_out
        Bits, and the code the program takes for zero: ``12`` (the middle) or ``12@0``.
    change_to, change_at, fade
        Another filter of taps that takes over at a sample, over so many samples.
    through
        ``code`` compiles and runs the generated C, ``bit-true`` the model.

    Raises
    ------
    CombeError
        If the signal, a converter or the other filter doesn't go with this one, or a tool is missing.
    """
    from combe.benching.board.run import Change, run_board, runner_of
    from combe.benching.board.schedule import Pace
    from combe.proof.budget import calibrated
    from combe.signals.spec import signal_from_sentence

    realization = _realization(source, filter)
    if isinstance(signal, str):
        signal = signal_from_sentence(signal, realization.sample_rate_hz, samples, seed)
    calibrated(core, clock_hz, "")
    if cycles_per_sample is None:
        cycles_per_sample = _counted(realization, core, clock_hz, block, say)
    pace = Pace(realization.sample_rate_hz, block, clock_hz, cycles_per_sample, cycles_per_interrupt)
    change = None
    if change_to is not None:
        change = Change(_realization(change_to, ""), change_at, fade)
    with ExitStack() as stack:
        run = runner_of(realization, through, stack, say)
        second = runner_of(change.realization, through, stack, say) if change is not None else None
        return run_board(realization, signal, pace, run, converter_in, converter_out, change, second)


def capture(
    source: Value,
    *,
    filter: str = "",
    heard: bytes | None = None,
    board: str = "",
    architecture: str = "",
    clock_hz: float = 0.0,
    source_name: str = "",
) -> Capture:
    """The first outputs of the self-test that a circuit on a board carries, word by word beside the model's.

    >>> import combe
    >>> taps = combe.from_document({"format": "combe-design", "version": 1, "taps": [0.25, 0.5, 0.25], "sample_rate_hz": 48000})
    >>> realized = combe.realize(taps, coefficient_bits=8)
    >>> combe.capture(realized, heard=bytes(512)).differing
    [0, 1, 2]

    Parameters
    ----------
    heard
        What came over the serial line, each word's highest byte first; without it the board's whole top level is simulated.
    board
        The name of a board that ships, or a file; the first that ships where it is empty.
    architecture, clock_hz
        Of the circuit that is simulated, as for ``deliver``.

    Raises
    ------
    CombeError
        If there are more bytes or fewer than a board sends, the circuit can't be had, or no simulator is on this machine.
    """
    from combe.delivery.hdl.board import shipped
    from combe.delivery.hdl.choices import HardwareChoices
    from combe.proof.captured import capture_from, simulated_capture

    realization = _realization(source, filter)
    if heard is not None:
        return capture_from(realization, heard, source_name or "what was heard")
    choices = HardwareChoices(architecture=architecture, clock_hz=clock_hz, board=board or shipped()[0])
    return simulated_capture(realization, choices)


def _realization(source: Value, filter: str) -> Realization:
    from combe.realization.stages import Realization

    return source if isinstance(source, Realization) else benched(source, filter).realization


def _counted(realization: Realization, core: str, clock_hz: float, block: int, say: Say) -> float:
    """Cycles a sample: instructions counted on the emulated core in blocks nearest to these, or estimated from the filter."""
    from combe.analysis.exact import exact_filter
    from combe.ledger.cycles import estimated_cycles
    from combe.proof.budget import calibrated, shared

    say(f"counting instructions on an emulated {core}")
    found = next(shared([("", realization)], calibrated(core, clock_hz, ""), block))
    if found.cycles is None:
        say(f"{found.failure}; cycles are estimated from the filter alone")
        return estimated_cycles(exact_filter(realization), core)
    return found.cycles
