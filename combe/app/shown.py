"""What of the results a step shows: its curves, its lines, and the columns of the ledger."""

from __future__ import annotations

from combe.app.plots.curve import Curve
from combe.ledger import Line
from combe.project.document import Project
from combe.project.results import Results

FEW_PINS = 3
PIN_ROLES = ("heather", "moss", "clay", "amber", "muted")


def curves_of(project: Project, results: Results, step: str) -> list[Curve]:
    """Pins behind, then the rounded and the ideal filter, the one the step is about on top."""
    shown = [(index, pin) for index, pin in enumerate(project.pins) if pin.is_shown]
    # Dashes and smoothing cost most of a frame: with many pins thin plain lines keep the plot under the hand.
    few = len(shown) <= FEW_PINS
    pins = [Curve(pin.name, pin.filter, PIN_ROLES[index % len(PIN_ROLES)], 1.0, few, True, few) for index, pin in shown]
    own: list[Curve] = []
    if results.way is not None:
        pins.append(Curve("from the input", results.way, "heather", 1.2, is_pin=True))
    if results.ideal is not None:
        own.append(Curve("ideal", results.ideal.design.filter, "river", 2.0))
    if results.rounded is not None:
        own.append(Curve("rounded", results.rounded.exact, "ochre", 1.3))
    if step in ("brief", "ideal"):
        own.reverse()
    return pins + own


def lines_at(project: Project, results: Results, step: str) -> tuple[Line, ...]:
    """The lines whose worst points a step marks, those of bands that are gone left out."""
    lines: tuple[Line, ...] = ()
    if step in ("brief", "ideal") and results.ideal is not None:
        lines = results.ideal.lines
    elif step == "rounded" and results.rounded is not None:
        lines = results.rounded_lines
    elif step in ("arithmetic", "code"):
        lines = results.measured
    return tuple(line for line in lines if line.band_index < len(project.requirement.bands))


def ledger_of(results: Results) -> dict[str, tuple[Line, ...]]:
    """A column for each step that has lines; of the code only what was proved of the text as it stands."""
    lines: dict[str, tuple[Line, ...]] = {}
    if results.ideal is not None:
        lines["ideal"] = results.ideal.lines
    if results.rounded is not None:
        lines["rounded"] = results.rounded_lines
    if results.measured:
        lines["arithmetic"] = results.measured
    if results.asked:
        lines["bench"] = results.asked
    proof, package = results.proof, results.package
    if proof is not None and proof.holds and package is not None and proof.checksum == package.checksum:
        lines["code"] = proof.lines
    return lines
