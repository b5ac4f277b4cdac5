"""What each step of the chain says of itself, from the session's results."""

from __future__ import annotations

from combe.app.session import Session
from combe.app.widgets.chain_bar import StepState
from combe.app.widgets.parts import worst_verdict
from combe.benching.setup import signal_of
from combe.ledger.words import margin_words
from combe.realization.words import coefficient_words, widest_sum
from combe.requirement.quantities import rate_text


def states(session: Session) -> dict[str, StepState]:
    """The six states."""
    if "ideal" in session.results.troubles:
        later = {
            "rounded": _rounded(session), "arithmetic": _arithmetic(session), "code": _code(session), "bench": _bench(session),
        }  # fmt: skip
        stale = {name: StepState("unknown", state.what, "of the last good brief") for name, state in later.items()}
        return {"brief": _brief(session), "ideal": _ideal(session)} | stale
    return {
        "brief": _brief(session), "ideal": _ideal(session), "rounded": _rounded(session),
        "arithmetic": _arithmetic(session), "code": _code(session), "bench": _bench(session),
    }  # fmt: skip


def _bench(session: Session) -> StepState:
    setup, bench = session.project.bench, session.results.bench
    sentence = signal_of(setup, session.project.requirement)
    count = len(sentence.split(" + "))
    what = f"{sentence.split(' + ')[0]}{f', {count - 1} more' if count > 1 else ''}\n{setup.samples} samples"
    if bench is None or "bench" not in session.results.fresh:
        return StepState("unknown", what)
    if not bench.is_identical:
        return StepState("missed", what, "differs")
    asked = session.results.asked
    if asked:
        return StepState(
            worst_verdict(asked),
            what,
            margin_words(asked) if any(line.margin < 0 for line in asked) else "all that is asked",
        )
    compared = [heard for heard in bench.through if heard.identical is not None]
    ratios = [heard.snr_db for heard in bench.through if heard.name == "bit-true" and heard.snr_db is not None]
    margin = "identical" if compared else f"SNR {ratios[0]:.1f} dB" if ratios else ""
    return StepState("kept" if compared else "unknown", what, margin)


def _brief(session: Session) -> StepState:
    asked = session.project.requirement
    count = len(asked.bands)
    rate = rate_text(asked.sample_rate_hz)
    phase = "linear phase" if asked.phase == "linear" else "any phase"
    verdict = "missed" if "ideal" in session.results.troubles else "kept"
    return StepState(
        verdict,
        f"{count} band{'s' if count > 1 else ''}, {rate}\n{phase}",
        "out of reach" if verdict == "missed" else "",
    )


def _ideal(session: Session) -> StepState:
    if session.results.ideal is None or "ideal" in session.results.troubles:
        return StepState(
            "missed" if "ideal" in session.results.troubles else "unknown",
            "no filter keeps this" if session.results.troubles else "working…",
        )
    design = session.results.ideal.design
    choice = session.project.design
    is_fir = design.kind == "fir"
    what = f"{design.method}, " + design.size_words
    if choice.method == "given":
        what += "\ncoefficients by hand"
    elif choice.cutoffs_hz:
        what += "\nby its cut-off"
    elif choice.symmetry == -1:
        what += "\nphase turned 90°"
    elif choice.order is None:
        if design.holds_with_bits is not None:
            what += f"\nthe least that holds with {design.holds_with_bits} bits"
        else:
            what += (
                ("\nthe shortest" if design.is_shortest else "\nthe shortest found") if is_fir else "\nthe least order"
            )
    else:
        what += "\nlength chosen by hand" if is_fir else "\norder chosen by hand"
    return StepState(worst_verdict(session.results.ideal.lines), what, margin_words(session.results.ideal.lines))


def _rounded(session: Session) -> StepState:
    if session.results.rounded is None:
        return (
            StepState("missed", "can't be rounded so")
            if "rounded" in session.results.troubles
            else StepState("unknown")
        )
    formats = coefficient_words(session.results.rounded.realization.stages)
    what = f"{session.project.arithmetic.coefficient_bits}-bit coefficients\n{formats}"
    return StepState(worst_verdict(session.results.rounded_lines), what, margin_words(session.results.rounded_lines))


def _arithmetic(session: Session) -> StepState:
    if session.results.rounded is None or not session.results.measured:
        return StepState("unknown", "" if session.results.troubles else "working…")
    realization = session.results.rounded.realization
    what = (
        f"{realization.input} → {realization.output}\n{realization.structure}, {widest_sum(realization.stages)}-bit sum"
    )
    return StepState(worst_verdict(session.results.measured), what, margin_words(session.results.measured))


def _code(session: Session) -> StepState:
    if session.results.package is None:
        return (
            StepState("missed", "can't be written so")
            if "package" in session.results.troubles
            else StepState("unknown")
        )
    package = session.results.package
    name = f"{package.written_in.title}, {package.main.name}"
    proof = session.results.proof
    if "proof" in session.results.pending:
        return StepState("unknown", f"{name}\nbuilding and running…")
    if proof is None or proof.checksum != session.results.package.checksum:
        return StepState("unknown", f"{name}\nnot proved yet")
    if proof.holds:
        lines = proof.lines or session.results.measured
        # Two facts: that the code does what the model does, and whether that keeps the brief.
        verdict = worst_verdict(lines)
        kept = f", {margin_words(lines)}" if verdict == "missed" else ""
        return StepState(verdict, f"{name}\n{spaced(proof.samples)} samples compared", f"identical{kept}")
    return StepState("missed", f"{name}\n{proof.sentence()}", "not identical")


def spaced(count: int) -> str:
    """A count with thin spaces between thousands."""
    return f"{count:,}".replace(",", "\u2009")
