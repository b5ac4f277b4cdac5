"""The long proofs that CI skips: hundreds of random realizations through gcc, the sanitizers, an emulated processor and simulators."""

from __future__ import annotations

import random
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
COUNT, ON_TARGET, CIRCUITS = 300, 200, 60


def main() -> int:
    """Prove each, count what holds."""
    sys.path.insert(0, str(ROOT))
    from combe.delivery.c import c_package
    from combe.delivery.code_choices import CodeChoices
    from combe.delivery.hdl.choices import ARCHITECTURES, HardwareChoices
    from combe.delivery.hdl.writer import hdl_package
    from combe.errors import FormatError
    from combe.proof.arm import prove_on_target
    from combe.proof.c import prove_c
    from combe.proof.hdl import prove_hdl
    from tests.test_arithmetic import random_realization
    from tests.test_delivery import SANITIZERS
    from tests.test_networks import random_network

    source = random.Random(2026)
    passed = failed = 0

    def told(name: str, holds: bool, sentence: str) -> None:
        nonlocal passed, failed
        print(f"{passed + failed + 1:4} {'ok  ' if holds else 'FAIL'} {name}  {'' if holds else sentence}", flush=True)
        passed, failed = (passed + 1, failed) if holds else (passed, failed + 1)

    for index in range(COUNT):
        made = random_realization(source, 32) if index % 2 else random_network(source)
        choices = CodeChoices(history=("blocks", "double")[index % 4 // 2])
        proof = prove_c(c_package(made, "filter_1", choices=choices), made, (), SANITIZERS)
        told(" ".join(str(entry) for entry in made.formats()), proof.holds, proof.sentence())
    for index in range(ON_TARGET):
        made = random_realization(source, 40) if index % 2 else random_network(source)
        package = c_package(made, "filter_1")
        for portable in (False, True):
            target = prove_on_target(package, made, ("cortex-m4", "cortex-m0plus", "cortex-m7")[index % 3], portable)
            told(f"{target.target} {'portable' if portable else 'intrinsics'}", target.holds, target.sentence())
    for index in range(CIRCUITS):
        made = random_realization(source, (32, 200)[index % 8 == 7]) if index % 2 else random_network(source)
        for architecture in ARCHITECTURES:
            for language in ("verilog", "vhdl"):
                choices = HardwareChoices(architecture, pipeline=source.choice((0, 1, 2)))
                try:
                    circuit = hdl_package(made, language, "filter_1", choices=choices)
                except FormatError:
                    continue  # not for this filter, and said so
                simulated = prove_hdl(circuit, made)
                told(f"{language} {architecture}", simulated.holds, simulated.sentence())
    print(f"\n{passed} passed, {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
