"""The report of a project: its path, then each filter with its variants, code and proofs."""

from __future__ import annotations

from collections.abc import Callable

from combe.analysis.certified import certified_lines
from combe.benching.asks import ask_lines
from combe.benching.run import run_bench
from combe.benching.setup import signal_of
from combe.errors import CombeError
from combe.ledger import Line
from combe.ledger.words import figure_text, limit_name, margin_words
from combe.project.chain import Chain, Ideal, Rounded, arithmetic_lines, ideal_of, package_of, rounded_of
from combe.project.compared import states_of, table_of_states
from combe.project.document import INPUT, Project
from combe.project.sources import followers, mismatches, sentence
from combe.project.way import Way, way_of
from combe.project.way import report as way_report
from combe.realization.fingerprint import realization_checksum
from combe.reports import figures
from combe.reports.chapters import filter_chapter
from combe.reports.content import Chapter, Drawing, Report, Section
from combe.requirement.quantities import duration_text, frequency_text, rate_text, short
from combe.signals.spec import signal_from_sentence
from combe.values import replace

Say = Callable[[str], None]


def project_report(project: Project, say: Say = lambda _: None) -> tuple[Report, tuple[Line, ...]]:
    """The report of every filter of a project, and all lines with their integers.

    Raises
    ------
    CombeError
        If a filter can't be made, naming it.
    """
    chapters: list[Chapter] = []
    lines: list[Line] = []
    verdicts: list[tuple[str, tuple[Line, ...]]] = []
    for place, member in enumerate(project.members):
        say(member.code_name)
        try:
            chapter, own = member_chapter(project.opened(place))
        except CombeError as error:
            raise (error if len(project.members) == 1 else error.at(member.code_name)) from None
        chapters.append(chapter)
        lines += own
        verdicts.append((member.code_name, own))
    missed = [name for name, own in verdicts if any(line.margin < 0 for line in own)]
    if len(chapters) == 1:
        verdict = _verdict(verdicts[0][1])
    elif missed:
        verdict = f"{len(missed)} of {len(chapters)} filters {'has' if len(missed) == 1 else 'have'} a limit MISSED: {', '.join(missed)}."
    else:
        verdict = f"All {len(chapters)} filters keep every limit with their integers."
    if len(chapters) > 1:
        say("path")
        chapters.insert(0, path_chapter(project, verdicts))
    return Report(project.name, verdict, tuple(chapters)), tuple(lines)


def _verdict(lines: tuple[Line, ...]) -> str:
    if any(line.margin < 0 for line in lines):
        return f"A limit is MISSED: {margin_words(lines)}."
    return f"Every limit is kept with its integers, the tightest with {margin_words(lines)}."


def member_chapter(project: Project) -> tuple[Chapter, tuple[Line, ...]]:
    """The chapter of the open filter, and its lines with integers."""
    ideal = ideal_of(project)
    rounded = rounded_of(project, ideal)
    proved = certified_lines(rounded.realization, project.requirement, rounded.lines)
    rounded = replace(rounded, known=proved)
    chain = Chain(ideal, rounded, arithmetic_lines(rounded), package_of(project, rounded, ideal))
    return _chapter(project, chain), proved


def _chapter(project: Project, chain: Chain) -> Chapter:
    ideal, rounded = chain.ideal, chain.rounded
    columns = [("designed", ideal.lines), ("rounded", rounded.lines), ("arithmetic", chain.measured)]
    own = next((proof for proof in project.proofs if proof.checksum == chain.package.checksum and proof.lines), None)
    if own is not None:
        columns.append(("code", own.lines))
    notes = [f"{variant.name}: {variant.note}" for variant in project.variants if variant.note]
    title = (
        project.requirement.name if len(project.members) == 1 else f"{project.code_name}: {project.requirement.name}"
    )
    # The integers' lines stand last but for what was measured; rings in the figures are theirs.
    chapter = filter_chapter(title, ideal.design, rounded.realization, columns, chain.package, project.proofs, notes)
    sections = list(chapter.sections)
    sections.append(_bench(project, ideal, rounded))
    if project.variants:
        table = table_of_states(tuple(states_of(project)))
        sections.append(Section("Variants", ("As it stands, and as it was kept.",), (("", *table.names), *table.rows)))
    sections.append(Section("Traces", (f"Checksum of the realization {realization_checksum(rounded.realization)}.",)))
    return replace(chapter, sections=tuple(sections))


def _bench(project: Project, ideal: Ideal, rounded: Rounded) -> Section:
    """What stands on the bench, through the models."""
    setup, asked = project.bench, project.requirement
    told = signal_of(setup, asked)
    try:
        signal = signal_from_sentence(told, asked.input_rate_hz, setup.samples, setup.seed)
        bench = run_bench(rounded.realization, ideal.design.filter, signal, ("rounded", "bit-true"))
    except CombeError as error:
        return Section("Bench", (f"Warning: {error.sentence()}.",))
    rows: list[tuple[str, ...]] = [
        ("through", "level", "peak", "rms error", "error below the signal", "delay", "saturated")
    ]
    for heard in bench.through:
        row = heard.document()
        ratio = f"{heard.snr_db:.1f} dB" if heard.snr_db is not None else ""
        late = f"{heard.delay_samples:.2f} samples" if heard.delay_samples is not None else ""
        rows.append((heard.name, f"{row['rms_dbfs']:.2f} dB of full scale", f"{heard.peak:.6g}", f"{heard.rms_error:.3g}", ratio, late,
                     "" if heard.saturated is None else str(heard.saturated)))  # fmt: skip
    rows += [
        (f"{limit_name(line)}: {figure_text(line, line.reached)}", *[""] * 4, f"asked {figure_text(line, line.asked)}",
         "kept" if line.margin >= 0 else "MISSED") for line in ask_lines(bench, setup.asks)
    ]  # fmt: skip
    words = [f"{told}, {bench.samples:,} samples; errors against the exact filter on the same samples."]
    words += [
        f"{frequency_text(tone.hz)} through the bit-true run: {tone.words()}." for tone in bench.through[-1].tones
    ]
    return Section("Bench", tuple(words), tuple(rows))


def path_chapter(project: Project, verdicts: list[tuple[str, tuple[Line, ...]]]) -> Chapter:
    """Where samples come from and go to; what every way through several filters does as one."""
    members = project.members
    rows = [("filter", "title", "from", "rate", "in", "out", "verdict")]
    for member, (_, lines) in zip(members, verdicts):
        arithmetic = member.arithmetic
        rows.append((member.code_name, member.requirement.name, member.source, rate_text(member.requirement.input_rate_hz), arithmetic.input,
                     arithmetic.output or arithmetic.input, "MISSED" if any(line.margin < 0 for line in lines) else f"kept, {margin_words(lines)}"))  # fmt: skip
    words = [f"{sentence(members)}."]
    words += [f"Warning: {joint.sentence}; {joint.remedy}." for joint in mismatches(members)]
    sections = [Section("Filters", tuple(words), tuple(rows))]
    for member in members:
        if member.source != INPUT and not followers(members, member.code_name):
            try:
                sections.append(_way(way_of(project, member.code_name)))
            except CombeError as error:
                sections.append(Section(f"The way to {member.code_name}", (f"Warning: {error.sentence()}.",)))
    return Chapter("The path", tuple(sections))


def _way(way: Way) -> Section:
    told = way_report(way)
    rows: list[tuple[str, ...]] = [("filter", "multiplies", "words of memory", "delay in samples")]
    for part in told["filters"]:
        rows.append(
            (
                part["name"],
                str(part["cost"]["multiplies"]),
                str(part["cost"]["delays"]),
                short(part["delay_samples"], 6),
            )
        )
    rows.append(
        ("all of it", str(told["cost"]["multiplies"]), str(told["cost"]["delays"]), short(told["delay_samples"], 6))
    )
    words = [
        f"{' → '.join(part['name'] for part in told['filters'])}: {duration_text(told['delay_s'])} late over the passbands of the last."
    ]
    for band in told["bands"]:
        edges = f"{frequency_text(band['start_hz'])} to {frequency_text(band['stop_hz'])}"
        least = f"{short(max(band['least_db'], -200.0), 4)} to " if band["least_db"] > -200 else "up to "
        words.append(f"{band['filter']}, {band['band']}, {edges}: {least}{short(band['most_db'], 4)} dB.")
    curves = [("all of it", way.filter())]
    rate = way.sample_rate_hz
    drawing = Drawing(
        "From the input", "gain of all filters of the way together", lambda: figures.magnitude(curves, rate, None)
    )
    return Section(f"The way to {way.parts[-1].member.code_name}", tuple(words), tuple(rows), drawings=(drawing,))
