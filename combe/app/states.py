"""What each step of the chain says of itself, from the session's results."""

from __future__ import annotations

from combe.app.session import Session
from combe.app.widgets.chain_bar import StepState
from combe.app.widgets.parts import worst_verdict
from combe.arithmetic.words import coefficient_words, widest_sum
from combe.ledger import Line, worst_line
from combe.proof.c import Proof
from combe.requirement.quantities import level_text, rate_text

TITLES = {"c": "C", "c++": "C++", "verilog": "Verilog", "vhdl": "VHDL"}


def states(session: Session) -> dict[str, StepState]:
    """The five states."""
    if "chain" in session.trouble:
        later = {"rounded": _rounded(session), "arithmetic": _arithmetic(session), "code": _code(session)}
        stale = {name: StepState("unknown", state.what, "of the last good brief") for name, state in later.items()}
        return {"brief": _brief(session), "ideal": _ideal(session)} | stale
    return {
        "brief": _brief(session), "ideal": _ideal(session), "rounded": _rounded(session),
        "arithmetic": _arithmetic(session), "code": _code(session),
    }  # fmt: skip


def _margin(lines: tuple[Line, ...]) -> str:
    worst = worst_line(lines)
    if worst is None:
        return ""
    missed = [line for line in lines if line.margin < 0 and line.unit != "db"]
    if missed and worst.margin >= 0:
        return f"{missed[0].limit.removeprefix('max_').removesuffix('_s').replace('_', ' ')} missed"
    word = level_text(abs(worst.margin), 3)
    return f"{word} spare" if worst.margin >= 0 else f"missed by {word}"


def _brief(session: Session) -> StepState:
    asked = session.project.requirement
    count = len(asked.bands)
    rate = rate_text(asked.sample_rate_hz)
    phase = "linear phase" if asked.phase == "linear" else "any phase"
    verdict = "missed" if "chain" in session.trouble else "kept"
    return StepState(
        verdict,
        f"{count} band{'s' if count > 1 else ''}, {rate}\n{phase}",
        "out of reach" if verdict == "missed" else "",
    )


def _ideal(session: Session) -> StepState:
    if session.ideal is None or "chain" in session.trouble:
        return StepState(
            "missed" if "chain" in session.trouble else "unknown",
            "no filter keeps this" if session.trouble else "working…",
        )
    design = session.ideal.design
    choice = session.project.design
    is_fir = design.kind == "fir"
    what = f"{design.method}, " + (f"{design.order + 1} taps" if is_fir else f"order {design.order}")
    if choice.method == "given":
        what += "\ncoefficients by hand"
    elif choice.cutoffs_hz:
        what += "\nby its cut-off"
    elif choice.symmetry == -1:
        what += "\nphase turned 90°"
    elif choice.order is None:
        what += "\nthe shortest" if is_fir else "\nthe least order"
    else:
        what += "\nlength chosen by hand" if is_fir else "\norder chosen by hand"
    return StepState(worst_verdict(session.ideal.lines), what, _margin(session.ideal.lines))


def _rounded(session: Session) -> StepState:
    if session.rounded is None:
        return StepState("missed", "can't be rounded so") if "rounded" in session.trouble else StepState("unknown")
    formats = coefficient_words(session.rounded.realization.stages)
    what = f"{session.project.arithmetic.coefficient_bits}-bit coefficients\n{formats}"
    return StepState(worst_verdict(session.rounded.lines), what, _margin(session.rounded.lines))


def _arithmetic(session: Session) -> StepState:
    if session.rounded is None or not session.measured:
        return StepState("unknown", "" if session.trouble else "working…")
    realization = session.rounded.realization
    what = (
        f"{realization.input} → {realization.output}\n{realization.structure}, {widest_sum(realization.stages)}-bit sum"
    )
    return StepState(worst_verdict(session.measured), what, _margin(session.measured))


def _code(session: Session) -> StepState:
    if session.package is None:
        return StepState("missed", "can't be written so") if "code" in session.trouble else StepState("unknown")
    first = session.package.files[1 if session.package.language == "c" else 0].name
    name = f"{TITLES[session.package.language]}, {first}"
    proof = session.proof
    if session.proof_lane.is_busy:
        return StepState("unknown", f"{name}\nbuilding and running…")
    if proof is None or proof.checksum != session.package.checksum:
        return StepState("unknown", f"{name}\nnot proved yet")
    if proof.holds:
        lines = proof.lines if isinstance(proof, Proof) else session.measured
        return StepState(worst_verdict(lines), f"{name}\nidentical over {spaced(proof.samples)} samples", "proved")
    return StepState("missed", f"{name}\n{proof.sentence()}", "not proved")


def spaced(count: int) -> str:
    """A count with thin spaces between thousands."""
    return f"{count:,}".replace(",", "\u2009")
