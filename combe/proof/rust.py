"""Proof of generated Rust: built with every warning an error, without the standard library and with it, overflow checked."""

from __future__ import annotations

from collections.abc import Callable

from combe.delivery.package import Package
from combe.filters import Filter
from combe.ledger import Line
from combe.proof.c import Proof, proof_of
from combe.proof.runners.rusted import Rusted
from combe.realization.stages import Realization


def proved(
    package: Package,
    realization: Realization,
    lines: tuple[Line, ...],
    _: Filter | None,
    report: Callable[[str], None],
    is_stopped: Callable[[], bool],
) -> Proof:
    """The proof every language has: 65,536 samples and a tone for every limit in blocks of mixed lengths, all compared."""
    return proof_of(lambda: Rusted(package, realization), package, lines, report, is_stopped)
