"""The comment at the head of generated code: what it is, what it keeps, what it costs."""

from __future__ import annotations

import textwrap

from combe import __version__
from combe.analysis.cost import realized_cost
from combe.analysis.exact import exact_filter
from combe.analysis.rates import program_stages
from combe.delivery.code_choices import CodeChoices
from combe.designing.rates.stages import cost_of_stages
from combe.filters import Fir
from combe.ledger import Line
from combe.realization.cic import Cic
from combe.realization.fingerprint import realization_checksum
from combe.realization.network import Network
from combe.realization.section import Section
from combe.realization.stages import Realization, Requantize, TapSum
from combe.requirement import Requirement
from combe.requirement.bands import Limit

GUARD_WORDS = {"single": "1e-30", "double": "1e-290"}
OWNERSHIP = "Generated code belongs to whoever generated it, with no conditions."


def story(
    realization: Realization,
    name: str,
    requirement: Requirement | None,
    lines: tuple[Line, ...],
    choices: CodeChoices = CodeChoices(),
    made: str = "",
) -> list[str]:
    """Lines of plain ASCII, safe inside any comment."""
    source = exact_filter(realization)
    cost = realized_cost(realization)
    rows = [f"{name}: {requirement.name if requirement else realization.name}", ""]
    if realization.changes_rate:
        rows += _rate_rows(realization)
    elif isinstance(source, Fir):
        rows.append(f"FIR filter of {len(source.taps)} taps for {realization.sample_rate_hz:g} samples a second.")
        if source.symmetry:
            rows.append(f"Delay {source.order / 2:g} samples at every frequency.")
        rows.append(f"Cost a sample: {cost.multiplies} multiplies if pairs are folded, {cost.adds} adds.")
    else:
        rows.append(f"IIR filter of order {source.order} for {realization.sample_rate_hz:g} samples a second.")
        rows.append(
            f"Cost a sample: {cost.multiplies} multiplies, {cost.adds} adds, {cost.delays} words of state at least."
        )
    if made:
        rows.append(f"How it was made: {made}.")
    if requirement is not None:
        rows += ["", "Asked"]
        rows += [f"  {row}" for row in _asked(requirement)]
    rows += ["", "Arithmetic"]
    if choices.is_float:
        rows.append(
            f"  {choices.number} precision, the coefficients of the stages below; nothing is rounded or limited on purpose"
        )
        from combe.delivery.c.floating import denormal_words

        rows += [f"  {row}" for row in denormal_words(realization, choices.number)]
        rows.append("  Loops are guarded: values below " + GUARD_WORDS[choices.number] + " become zero." if choices.guard
                    else "  There is no guard against denormals.")  # fmt: skip
    rows += [f"  {row}" for row in _arithmetic(realization)]
    if lines:
        rows += ["", "Limits asked, and reached with the integer coefficients"]
        rows += [f"  {_line(line)}" for line in lines]
    rows += [
        "",
        f"Checksum of the realization {realization_checksum(realization)}.",
        f"Made by Combe {__version__}. {OWNERSHIP}",
    ]
    return [part for row in rows for part in (textwrap.wrap(safe(row), 92, subsequent_indent="    ") or [""])]


def _rate_rows(realization: Realization) -> list[str]:
    """What a change of rate does, and what it costs."""
    up, down = realization.ratio
    words = (f" times {up}" if up > 1 else "") + (f" divided by {down}" if down > 1 else "")
    told = cost_of_stages(program_stages(realization))
    return [
        f"Changes the rate: {realization.sample_rate_hz:g} samples a second in,{words}, {realization.output_rate_hz:g} out.",
        f"Cost per sample that comes in, on average: {told.multiplies:g} multiplies if pairs are folded, {told.adds:g} adds.",
    ]


def _asked(requirement: Requirement) -> list[str]:
    rows = []
    for band in requirement.bands:
        limits = [
            f"at {word} {_limit(limit)}" for word, limit in (("least", band.lower), ("most", band.upper)) if limit
        ]
        rows.append(f"{band.name}: {band.start_hz:g} to {band.stop_hz:g} Hz, {' and '.join(limits)}")
    rate = requirement.rate
    if rate is not None:
        asked = [
            f"{word} at most {level:g} dB"
            for word, level in (("aliases", rate.alias_db), ("images", rate.image_db))
            if level is not None
        ]
        rows.append(f"up {rate.up}, down {rate.down}: {', '.join(asked) or 'nothing else'}, {rate.protect} protected")
    rows.append(f"phase {requirement.phase}")
    for key, unit in (
        ("max_delay_s", " s"),
        ("max_delay_spread_s", " s"),
        ("max_multiplies", ""),
        ("max_cycles", " a sample"),
        ("max_multipliers", ""),
    ):
        value = getattr(requirement, key)
        if value is not None:
            rows.append(f"{key} {value:g}{unit}")
    return rows


def _limit(limit: Limit) -> str:
    if limit.flat:
        return f"{limit.first_db:g} dB"
    return ", ".join(f"{db:g} dB at {hz:g} Hz" for hz, db in limit.points)


def _ratio(stage: TapSum | Cic | Network) -> str:
    return (f", up {stage.up}" if stage.up > 1 else "") + (f", down {stage.down}" if stage.down > 1 else "")


def _arithmetic(realization: Realization) -> list[str]:
    rows = [f"input {realization.input}, output {realization.output}"]
    for stage in realization.stages:
        if isinstance(stage, TapSum):
            rows.append(
                f"{stage.form} sum of {len(stage.coefficients)} taps{_ratio(stage)}, coefficients {stage.coefficient}, "
                f"accumulator {stage.accumulator}, which no input can overflow"
            )
        elif isinstance(stage, Cic):
            kept = [stage.accumulator.bits - low for low in stage.discarded]
            how = f"registers of {', '.join(map(str, kept))} bits" if kept else "exact"
            length = stage.factor * stage.delay
            rows.append(f"{stage.order} sums in a row over {length} samples{_ratio(stage)}, {stage.accumulator}, {how}")
        elif isinstance(stage, Section):
            rows.append(
                f"section in direct form I, b {list(stage.b)} {stage.numerator}, a {list(stage.a)} {stage.denominator}, "
                f"accumulator {stage.accumulator}, to {stage.result}, {stage.rounding}, {stage.overflow}"
            )
        elif isinstance(stage, Network):
            rows.append(
                f"{stage.form}{_ratio(stage)} in {len(stage.nodes)} sums, each exact and rounded once; handed on as {stage.result}"
            )
            rows += [
                f"  {node.name}: sum {node.accumulator}, kept as {node.result}, {node.rounding}, {node.overflow}"
                for node in stage.nodes[:24]
            ]
        elif isinstance(stage, Requantize):
            rows.append(f"{stage.source} to {stage.target}, {stage.rounding}, {stage.overflow}")
    return rows


def _line(line: Line) -> str:
    verdict = "kept" if line.margin >= 0 else "MISSED"
    if line.unit == "db":
        side = "at most" if line.limit == "max_db" else "at least"
        return (
            f"{line.band}: {side} {line.asked:g} dB; reached {line.reached:.4f} dB at {line.at_hz:.6g} Hz, "
            f"{verdict} by {abs(line.margin):.4f} dB"
        )
    unit = " s" if line.unit == "s" else ""
    return f"{line.limit}: {line.asked:g}{unit}; reached {line.reached:g}{unit}, {verdict}"


def safe(text: str) -> str:
    """Text that can't end a comment, continue a line or form a trigraph."""
    plain = "".join(c if c.isascii() and c.isprintable() else "?" for c in text)
    return plain.replace("*", ".").replace("??", "?.").replace("\\", "|").replace("/", "|") if _risky(plain) else plain


def _risky(text: str) -> bool:
    return any(mark in text for mark in ("*/", "/*", "//", "??", "\\"))
