"""The long proofs that CI skips: hundreds of random realizations through gcc, the sanitizers, an emulated processor and simulators.

The cases are drawn by one source in one order, so that a case keeps its number; they are proved on all processors at once.
"""

from __future__ import annotations

import os
import random
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parent.parent
COUNT, ON_TARGET, CIRCUITS = 300, 200, 60

Told = tuple[str, bool, str]  # what was proved, whether it holds, what the proof says
Case = tuple[Callable[..., Told], tuple[object, ...]]


def in_c(made: Any, history: str) -> Told:
    """Built with the sanitizers and run on this machine."""
    from combe.delivery.c import c_package
    from combe.delivery.code_choices import CodeChoices
    from combe.proof.c import prove_c
    from tests.test_delivery import SANITIZERS

    proof = prove_c(c_package(made, "filter_1", choices=CodeChoices(history=history)), made, (), SANITIZERS)
    return " ".join(str(entry) for entry in made.formats()), proof.holds, proof.sentence()


def on_target(made: Any, core: str, portable: bool) -> Told:
    """Run by the emulated core."""
    from combe.delivery.c import c_package
    from combe.proof.cores import prove_on_target

    target = prove_on_target(c_package(made, "filter_1"), made, core, portable)
    return f"{target.target} {'portable' if portable else 'intrinsics'}", target.holds, target.sentence()


def simulated(made: Any, language: str, architecture: str, pipeline: int) -> Told | None:
    """Simulated; None where the architecture is not for this filter, and says so."""
    from combe.delivery.hdl.choices import HardwareChoices
    from combe.delivery.hdl.writer import hdl_package
    from combe.errors import FormatError
    from combe.proof.hdl import prove_hdl

    try:
        circuit = hdl_package(made, language, "filter_1", choices=HardwareChoices(architecture, pipeline=pipeline))
    except FormatError:
        return None
    proof = prove_hdl(circuit, made)
    return f"{language} {architecture}", proof.holds, proof.sentence()


def cases(source: random.Random) -> Iterator[Case]:
    """Every case, in order."""
    from combe.delivery.hdl.choices import ARCHITECTURES
    from tests.test_arithmetic import random_realization
    from tests.test_networks import random_network

    for index in range(COUNT):
        made = random_realization(source, 32) if index % 2 else random_network(source)
        yield in_c, (made, ("blocks", "double")[index % 4 // 2])
    for index in range(ON_TARGET):
        made = random_realization(source, 40) if index % 2 else random_network(source)
        for portable in (False, True):
            yield on_target, (made, ("cortex-m4", "cortex-m0plus", "cortex-m7")[index % 3], portable)
    for index in range(CIRCUITS):
        made = random_realization(source, (32, 200)[index % 8 == 7]) if index % 2 else random_network(source)
        for architecture in ARCHITECTURES:
            for language in ("verilog", "vhdl"):
                yield simulated, (made, language, architecture, source.choice((0, 1, 2)))


def answered(case: Case) -> Told | None:
    """One case proved; an error is a failure with its name, and the next case goes on."""
    prove, words = case
    try:
        return prove(*words)
    except Exception as fault:
        return f"{prove.__name__} {words[1:]}", False, f"{type(fault).__name__}: {fault}"


def main() -> int:
    """Prove each, count what holds."""
    sys.path.insert(0, str(ROOT))
    passed = failed = 0
    with ProcessPoolExecutor(os.cpu_count()) as pool:
        for told in pool.map(answered, cases(random.Random(2026))):
            if told is None:
                continue
            name, holds, sentence = told
            print(
                f"{passed + failed + 1:4} {'ok  ' if holds else 'FAIL'} {name}  {'' if holds else sentence}", flush=True
            )
            passed, failed = (passed + 1, failed) if holds else (passed, failed + 1)
    print(f"\n{passed} passed, {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
