"""The story of one filter in sections: its brief in sentences, what was chosen, every limit at every step, figures, dangers,
arithmetic, code with its checksums, what was proved."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence

from combe.analysis.exact import exact_filter
from combe.analysis.facts import facts
from combe.delivery.hdl.choices import HardwareChoices
from combe.delivery.hdl.compare import compared
from combe.delivery.package import Package
from combe.designing.costs import cost_of_design, cycles_of_design
from combe.designing.designed import Design
from combe.filters import Filter
from combe.ledger import Line, worst_line
from combe.ledger.words import NAMES, figure_text, limit_name, margin_words, signed_margin
from combe.project.document import ProofRecord
from combe.realization.stages import Realization, TapSum
from combe.realization.words import stage_words
from combe.reports import figures
from combe.reports.content import Chapter, Drawing, Report, Section, Table
from combe.requirement import Requirement
from combe.requirement.quantities import duration_text, frequency_text, rate_text, short
from combe.requirement.sentences import band_sentence, whole_words
from combe.responses.measures import measures

Columns = Sequence[tuple[str, tuple[Line, ...]]]


def filter_chapter(
    title: str,
    design: Design,
    realization: Realization | None,
    columns: Columns,
    package: Package | None = None,
    proofs: Sequence[ProofRecord] = (),
    notes: Sequence[str] = (),
    others: Sequence[tuple[str, Filter]] = (),
) -> Chapter:
    """Everything about one filter.

    Parameters
    ----------
    columns
        Lines of the ledger by the step they belong to, the exact design's first.
    notes
        What people wrote about it.
    others
        Filters to be drawn beside it, by name.
    """
    asked = design.requirement
    curves = [("designed", design.filter), *([("rounded", exact_filter(realization))] if realization else []), *others]
    sections = [_brief(asked, notes)] if asked is not None else []
    sections.append(_design(design))
    if any(lines for _, lines in columns):
        sections.append(Section("Limits", (_verdict(columns),), ledger_table(columns)))
    sections += [_drawn(curves, design, columns), _measured(design)]
    if realization is not None:
        sections += _arithmetic(realization, asked)
    if package is not None:
        sections.append(_code(package, proofs))
    return Chapter(title, tuple(sections))


def _brief(asked: Requirement, notes: Sequence[str]) -> Section:
    words = [f"Sampled at {rate_text(asked.input_rate_hz)}, {asked.phase} phase."]
    words += [f"{band.name}: {_sentence([word.text for word in band_sentence(band, asked)])}." for band in asked.bands]
    words += [f"{text}." for text in _limits(asked)]
    words += [f"Note: {note}" for note in (asked.note, *notes) if note]
    return Section("Brief", tuple(words))


def _sentence(words: Sequence[str]) -> str:
    text = " ".join(words)
    return text[:1].lower() + text[1:]


def _limits(asked: Requirement) -> list[str]:
    return [f"{NAMES[key]} at most {text}" for key, text in whole_words(asked)]


def _design(design: Design) -> Section:
    cost = cost_of_design(design)
    size = design.size_words
    cycles = short(cycles_of_design(design), 3)
    words = [
        f"{design.method[:1].upper()}{design.method[1:]}, {size}.",
        f"{cost.multiply_words}, {cost.adds} adds and {cost.delays} words of memory a sample.",
        f"About {cycles} cycles a sample on a Cortex-M4 in blocks, by an estimate that a budget makes exact.",
    ]
    if design.is_shortest:
        words.append("No shorter filter of its kind keeps the limits: that is proved.")
    return Section("Choices", (*words, *(f"{note[:1].upper()}{note[1:].rstrip('.')}." for note in design.notes)))


def _verdict(columns: Columns) -> str:
    last = columns[-1][1]
    worst = worst_line(last)
    missed = [line for line in last if line.margin < 0]
    if missed:
        return (
            f"{len(missed)} of {len(last)} limits {'is' if len(missed) == 1 else 'are'} MISSED: {margin_words(last)}."
        )
    return (
        f"Every limit is kept, the tightest with {margin_words(last)}." if worst is not None else "Every limit is kept."
    )


def ledger_table(columns: Columns) -> Table:
    """A row for each limit, numbered as in the figures; of each step what it reaches and the margin."""
    head = ["", "limit", "asked"]
    for name, _ in columns:
        head += [name, "margin"]
    rows: list[tuple[str, ...]] = [(*head, "worst at")]
    first = next((lines for _, lines in columns if lines), ())
    for index, line in enumerate(first):
        row = [str(index + 1), limit_name(line), _side(line) + figure_text(line, line.asked)]
        for _, lines in columns:
            own = lines[index] if index < len(lines) else None
            row += [figure_text(own, own.reached), _margin(own)] if own is not None else ["", ""]
        place = next((lines[index] for _, lines in reversed(columns) if index < len(lines)), line)
        rows.append((*row, frequency_text(float(f"{place.at_hz:.5g}")) if place.at_hz is not None else ""))
    return tuple(rows)


def _side(line: Line) -> str:
    return "≥ " if line.limit == "min_db" else "≤ "


def _margin(line: Line) -> str:
    if line.margin < 0:
        return (
            f"MISSED by {figure_text(line, -line.margin)}"
            if line.unit != "db"
            else f"MISSED by {signed_margin(line.margin)[1:]} dB"
        )
    seal = ", proved" if line.within_db is not None else ""
    return (f"{signed_margin(line.margin)} dB" if line.unit == "db" else "kept") + seal


def _drawn(curves: Sequence[tuple[str, Filter]], design: Design, columns: Columns) -> Section:
    asked, rate = design.requirement, design.sample_rate_hz
    lines = columns[-1][1] if columns else ()
    names = ", ".join(name for name, _ in curves)
    first_two = curves[:2]
    ground = (
        "; hatched ground is what the brief forbids, ringed numbers are the worst points of the limits"
        if asked is not None
        else ""
    )
    return Section("Curves", (f"{names[:1].upper()}{names[1:]}{ground}.",), drawings=(
        Drawing("Magnitude", "gain over frequency with the brief's limits, the passbands close up", lambda: figures.magnitude(curves, rate, asked, lines)),
        Drawing("Group delay", "group delay in samples over frequency", lambda: figures.delay(first_two, rate, asked)),
        Drawing("Impulse response", "the answers to an impulse", lambda: figures.impulse(first_two)),
    ))  # fmt: skip


UNITS = {"hz": frequency_text, "s": duration_text}


def _measured(design: Design) -> Section:
    rows = [("figure", "value")]
    for key, value in measures(design.filter, design.sample_rate_hz).items():
        if not isinstance(value, (int, float)) or isinstance(value, bool):
            continue
        name, _, unit = key.rpartition("_")
        if unit in ("hz", "db", "samples", "percent") and name:
            words = (
                frequency_text(float(f"{value:.6g}"))
                if unit == "hz"
                else f"{short(value, 5)} {'%' if unit == 'percent' else 'dB' if unit == 'db' else unit}"
            )
            rows.append((name.replace("_", " "), words))
        else:
            rows.append((key.replace("_", " "), f"{value:.6g}"))
    return Section("Measures", (), tuple(rows))


MARKS = {"danger": "DANGER: ", "warning": "Warning: ", "note": ""}


def _arithmetic(realization: Realization, asked: Requirement | None) -> list[Section]:
    told = sorted(facts(realization, with_cycles=False), key=lambda fact: list(MARKS).index(fact.severity))
    words = [f"{MARKS[fact.severity]}{fact.sentence}" for fact in told]
    lowest = [("architecture", "clocks", "latency", "multipliers", "adders", "register bits", "highest rate")]
    for row in compared(realization, HardwareChoices(), asked):
        if row.built is None:
            lowest.append((row.architecture, "", "", "", "", "", row.sentence))
        else:
            count = row.built.count
            lowest.append((row.architecture, str(row.built.clocks), str(row.built.latency), str(count.multipliers), str(count.adders),
                           str(count.registers), rate_text(float(f"{row.rate_hz:.4g}"))))  # fmt: skip
    return [
        Section("Arithmetic", tuple(words), _nodes(realization)),
        Section("Circuits", ("Every architecture at the clock of the brief, or a usual one.",), tuple(lowest)),
    ]  # fmt: skip


def _nodes(realization: Realization) -> Table:
    """Every sum of the program: where, how wide, how it is rounded."""
    rows: list[tuple[str, ...]] = [("node", "terms", "sum", "result", "rounding", "overflow")]
    if realization.changes_rate:
        for index, stage in enumerate(realization.stages):
            wide = str(stage.accumulators[0]) if stage.accumulators else "-"
            how = getattr(stage, "rounding", "exact"), getattr(stage, "overflow", "saturate")
            count = str(len(stage.coefficients)) if isinstance(stage, TapSum) else "1"
            rows.append((f"stage {index + 1}: {stage_words(stage)}", count, wide, str(stage.result), *how))
        return tuple(rows)
    for step in realization.program.steps:
        cut = step.rounding if step.shift > 0 else "exact"
        rows.append((step.name, str(len(step.terms)), str(step.accumulator), str(step.result), cut, step.overflow))
    return tuple(rows)


def _code(package: Package, proofs: Sequence[ProofRecord]) -> Section:
    rows: list[tuple[str, ...]] = [("file", "bytes", "SHA-256, first half")]
    for file in package.files:
        rows.append((file.name, f"{len(file.text.encode('utf-8')):,}", digest(file.text)))
    own = [proof for proof in proofs if proof.checksum == package.checksum]
    words = [f"{package.written_in.title}, called {package.name}; checksum of the whole {package.checksum}."]
    if own:
        words += [
            f"Proved with {proof.tool}: {proof.samples:,} samples, all identical to the bit-true model."
            for proof in own
        ]
    else:
        words.append("Not proved so far: no proof of exactly this text is on record.")
    return Section("Code", tuple(words), tuple(rows))


def digest(text: str) -> str:
    """SHA-256 of a file's bytes, the first half of it."""
    return hashlib.sha256(text.encode("utf-8")).hexdigest()[:32]


def single(title: str, chapter: Chapter, columns: Columns) -> Report:
    """A report of one filter alone."""
    verdict = _verdict(columns) if columns and columns[-1][1] else "No limits were given."
    return Report(title, verdict, (chapter,))
