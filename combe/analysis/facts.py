"""What the arithmetic of a realization means, in sentences; each computed from its stages, each danger with its remedy."""

from __future__ import annotations

from math import ceil, log2, log10, sqrt

import numpy as np

from combe.analysis.bounds import Bound, bounds
from combe.analysis.exact import exact_filter
from combe.analysis.fact import SEVERITIES, Fact, Remedy
from combe.analysis.limit_cycles import LimitCycles, overflow_oscillations, zero_input_cycles
from combe.analysis.measured import measured_noise
from combe.analysis.noise import follows_signal, predicted_noise
from combe.analysis.rates import registers_of
from combe.analysis.residue import residue
from combe.errors import FormatError
from combe.realization.cic import Cic, with_pruned_registers
from combe.realization.formats import Format
from combe.realization.network import Network
from combe.realization.stages import Realization, Requantize, Stage, TapSum
from combe.realization.words import widest_sum
from combe.responses import frequency_response

ORDINALS = ("first", "second", "third", "fourth", "fifth", "sixth", "seventh", "eighth", "ninth", "tenth")


def facts(realization: Realization, with_cycles: bool = True) -> list[Fact]:
    """Accumulators, headroom, rounding noise and what the smallest inputs become, dangers first; limit cycles on request,
    for following every state takes a moment."""
    found: list[Fact] = []
    try:
        reached = bounds(realization)
    except FormatError as error:
        found.append(Fact("warning", f"Largest values are not bounded: {error.what}."))
        reached = []
    found += _overflow(realization, reached, with_cycles)
    if with_cycles:
        found += _cycles(realization)
    found += _output(realization, reached) + _constant_input(realization)
    found += _noise(realization) + _smallest(realization) + _sums(realization, reached)
    return sorted(found, key=lambda fact: SEVERITIES.index(fact.severity))


def ordinal(index: int) -> str:
    """first, second, …"""
    return ORDINALS[index] if index < len(ORDINALS) else f"{index + 1}th"


def _plain(text: str) -> str:
    return text.replace("-", "−")


def _overflow(realization: Realization, reached: list[Bound], with_cycles: bool) -> list[Fact]:
    """Values inside that some input can drive out of their range."""
    last = len(realization.stages) - 1
    is_apart = _is_requantize(realization, last) or realization.changes_rate
    inner = [b for b in reached if not b.is_safe and not (b.stage == last and is_apart and b is reached[-1])]
    if not inner:
        return []
    worst = max(inner, key=lambda b: b.needed_bits - b.result.bits)
    more = worst.needed_bits - worst.result.bits
    stage = realization.stages[worst.stage]
    what = (
        f"{worst.name.split(' of ')[0]} in the {ordinal(worst.stage)} stage"
        if isinstance(stage, Network)
        else worst.name
    )
    wraps = stage.overflow == "wrap"
    how = "wrap around" if wraps else "saturate"
    bits = "one more bit" if more == 1 else f"{more} more bits"
    remedy = Remedy("Room for any input", {"scaling": "l1"})
    found = [Fact("danger" if wraps else "warning", f"The value {what} can {how}: it needs {bits}.", remedy)]
    if with_cycles and wraps:
        swing = overflow_oscillations(stage, realization.formats()[worst.stage])
        if swing.cycle:
            said = f"Once overflowed it can swing for good, {len(swing.cycle)} samples a period, up to {swing.amplitude} steps."
            found.append(Fact("danger", said, Remedy("Saturate instead", {"overflow": "saturate"})))
    return found


def _is_requantize(realization: Realization, index: int) -> bool:
    return isinstance(realization.stages[index], Requantize)


def _state_bits(stage: Stage) -> int:
    """Of what a stage keeps."""
    if not isinstance(stage, Network):
        return stage.result.bits
    rounded = [
        node.result.bits for node in stage.nodes if node.accumulator != node.result and node.name != stage.output
    ]
    return max(rounded, default=stage.result.bits)


def feeds_rests(stage: Stage) -> bool:
    """Whether a stage takes what its roundings cut off into later sums."""
    return isinstance(stage, Network) and any(term.is_rest for node in stage.nodes for term in node.terms)


def _cycles(realization: Realization) -> list[Fact]:
    """What every stage that feeds back values or rests does without input."""
    found, quiet, open_ = [], 0, 0
    swinging: dict[int, LimitCycles] = {}
    recursive = [(k, stage) for k, stage in enumerate(realization.stages) if stage.is_recursive or feeds_rests(stage)]
    for k, stage in recursive:
        cycles = zero_input_cycles(stage, realization.formats()[k])
        if not cycles.cycle:
            quiet += cycles.is_proved
            open_ += not cycles.is_proved
            continue
        swinging[k] = cycles
        said = cycles.sentence()
        loud = cycles.amplitude * cycles.step > realization.output.step / 2
        remedy = None
        if loud:
            more = ceil(log2(cycles.amplitude * cycles.step / realization.output.step)) + 2
            bits = min(_state_bits(stage) + more, 60)
            remedy = Remedy(f"Take {bits} state bits", {"state_bits": bits})
        found.append(
            Fact("warning" if loud else "note", _plain(f"The {ordinal(k)} stage: {said[0].lower()}{said[1:]}"), remedy)
        )
    if swinging:
        left = residue(realization, swinging)
        steps = (
            "not half a step of it is left"
            if not left
            else f"up to {left} step{'s' if left > 1 else ''} were seen to stay"
        )
        found.append(Fact("warning" if left > 1 else "note", f"At the output {steps} after the input has ended."))
    if recursive and not found:
        if quiet == len(recursive):
            found.append(
                Fact("note", "Without input every output dies away: proved, no limit cycle comes out of a stage.")
            )
        else:
            found.append(Fact("note", f"No limit cycle was found; {open_} of {len(recursive)} stages only by search."))
    return found


def _output(realization: Realization, reached: list[Bound]) -> list[Fact]:
    """Whether the largest possible output fits, and from which input level on it doesn't."""
    if not reached:
        return []
    last, output = reached[-1], realization.output
    if last.is_safe:
        return [Fact("note", "Even the worst input stays inside the output's range.")]
    rooms = [limit / end for limit, end in ((output.most, last.most), (output.least, last.least)) if end and limit]
    level = 20 * log10(min(1.0, *rooms)) if rooms else 0.0
    how = realization.stages[-1].overflow
    what = "saturates" if how == "saturate" else "WRAPS AROUND"
    whole = ceil(log2(max(1 / min(1.0, *rooms), 1.0000001))) if rooms else 1
    wider = Format(output.signed, output.bits, output.fraction - whole)
    remedy = Remedy(f"Make the output {wider}", {"output": str(wider)})
    said = _plain(f"The worst input {what}: inputs up to {level:.1f} dB of full scale never do.")
    return [Fact("note" if how == "saturate" else "danger", said, remedy)]


def _constant_input(realization: Realization) -> list[Fact]:
    """Full-scale constants, the simplest inputs that may not fit."""
    gain = float(frequency_response(exact_filter(realization), np.array([0.0]))[0].real)
    scale = gain * 2.0 ** (realization.output.fraction - realization.input.fraction)
    for raw in (realization.input.least, realization.input.most):
        value = raw * scale
        if raw and not realization.output.least - 0.5 <= value <= realization.output.most + 0.5:
            said = _plain(f"A constant input of {raw} overflows the output: it would be {value:.0f}.")
            wider = Format(realization.output.signed, realization.output.bits, realization.output.fraction - 1)
            return [Fact("warning", said, Remedy(f"Make the output {wider}", {"output": str(wider)}))]
    return []


def _noise(realization: Realization) -> list[Fact]:
    try:
        noise = predicted_noise(realization)
    except FormatError:
        return []
    if noise.power == 0:
        return [Fact("note", "The output is exact: nothing is rounded on the way.")]
    full = (realization.output.most - realization.output.least) / 2
    if follows_signal(realization):
        return [_measured(realization, full)]
    ratio = 20 * log10(full / sqrt(2) / sqrt(noise.power))
    words = f"All roundings together come to {sqrt(noise.power):.2f} output steps rms: {ratio:.1f} dB under a full-scale sine."
    found = [Fact("note" if noise.power < 1 else "warning", words)]
    if noise.power >= 1 and realization.is_recursive and noise.shares:
        loudest = max(noise.shares, key=lambda share: share[1])
        bits = ceil(log2(noise.power) / 2) + 1
        stage = next(s for s in realization.stages if s.is_recursive)
        more = min(_state_bits(stage) + bits, 60)
        remedy = Remedy(f"Take {more} state bits", {"state_bits": more})
        said = f"Most of it, {100 * loudest[1] / noise.power:.0f} %, comes from the rounding of {loudest[0]}."
        found.append(Fact("warning", said, remedy))
    return found


def _measured(realization: Realization, full: float) -> Fact:
    """Of a run, where the error has the sign of the signal: part of it is a change of gain, and none can be predicted."""
    heard = measured_noise(realization)
    if heard.power == 0:
        return Fact("note", "The output of the run was exact.")
    ratio = 20 * log10(full / sqrt(2) / sqrt(heard.power))
    gain, constant = _plain(f"{100 * heard.gain_change:+.3f}"), _plain(f"{heard.offset:+.2f}")
    words = (
        f"All roundings together came to {sqrt(heard.power):.2f} output steps rms, measured on white samples at half scale: "
        f"{ratio:.1f} dB under a full-scale sine. Toward zero the error follows the signal: it changes the gain by {gain} % "
        f"and adds a constant of {constant} steps."
    )
    return Fact("note" if heard.power < 1 else "warning", words)


def _smallest(realization: Realization) -> list[Fact]:
    bits = realization.input.fraction - realization.output.fraction
    if bits <= 0:
        return []
    finer = Format(realization.output.signed, min(realization.output.bits + bits, 64), realization.input.fraction)
    words = f"The output is {bits} bits coarser than the input: inputs under {2 ** (bits - 1)} steps can vanish."
    return [Fact("warning", words, Remedy(f"Make the output {finer}", {"output": str(finer)}))]


def _registers(realization: Realization) -> list[Fact]:
    """How wide the registers of sums in a row are, and what leaving out low bits spares them or has spared."""
    found = []
    for index, (stage, source) in enumerate(zip(realization.stages, realization.formats())):
        if not isinstance(stage, Cic):
            continue
        widths = stage.register_bits(source)
        words = f"Registers of sums in a row: {', '.join(map(str, widths))} bits, {sum(widths)} in all"
        if stage.discarded:
            parts = predicted_noise(realization)
            own = sum(power for name, power in parts.shares if name == registers_of(index))
            more = 10 * log10(parts.fluctuating / (parts.fluctuating - own)) if own < parts.fluctuating else 0.0
            found.append(Fact("note", f"{words}; the bits they leave out add {more:.2f} dB to the noise."))
            continue
        after = realization.stages[index + 1] if index + 1 < len(realization.stages) else None
        less = with_pruned_registers(stage, source, after.target) if isinstance(after, Requantize) else stage
        if less is stage:
            found.append(Fact("note", f"{words}."))
        else:
            remedy = Remedy("Prune registers", {"pruned": True})
            said = f"{words}; {sum(less.register_bits(source))} where low bits that are cut anyway are left out."
            found.append(Fact("note", said, remedy))
    return found


def _sums(realization: Realization, reached: list[Bound]) -> list[Fact]:
    """What is so of the accumulators."""
    found = []
    for stage, source in zip(realization.stages, realization.formats()):
        if isinstance(stage, TapSum):
            least, most = stage.span(source)
            words = f"Accumulator {stage.accumulator}: sums run from {least} to {most}, so none can overflow."
            found.append(Fact("note", _plain(words)))
            bits = stage.accumulator.bits
            if bits > 32:
                sums, fits = ("sum of two 64-bit words", 64) if bits > 64 else ("64-bit sum", 32)
                found.append(
                    Fact(
                        "note",
                        f"In C it takes a {sums}; {bits - fits} bit{'s' * (bits - fits != 1)} fewer would fit {fits}.",
                    )
                )
    found += _registers(realization)
    if realization.is_recursive:
        wide = widest_sum(realization.stages)
        inside = all(b.is_safe for b in reached[:-1]) if reached else False
        said = f"Sums are up to {wide} bits wide and hold whatever their signals hold."
        found.append(Fact("note", said + (" No input makes a value inside overflow." if inside else "")))
    return found
