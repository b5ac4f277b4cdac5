"""The long proofs that CI skips: hundreds of random realizations through gcc and the sanitizers."""

from __future__ import annotations

import random
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
COUNT = 300


def main() -> int:
    """Prove each, count what holds."""
    sys.path.insert(0, str(ROOT))
    from combe.delivery.c import c_package
    from combe.proof.c import prove_c
    from tests.test_arithmetic import random_realization
    from tests.test_delivery import SANITIZERS
    from tests.test_networks import random_network

    source = random.Random(2026)
    passed = failed = 0
    for index in range(COUNT):
        made = random_realization(source, 32) if index % 2 else random_network(source)
        proof = prove_c(c_package(made, "filter_1"), made, (), SANITIZERS)
        words = " ".join(str(entry) for entry in made.formats())
        print(
            f"{index + 1:4} {'ok  ' if proof.holds else 'FAIL'} {words}  {'' if proof.holds else proof.sentence()}",
            flush=True,
        )
        passed, failed = (passed + 1, failed) if proof.holds else (passed, failed + 1)
    print(f"\n{passed} passed, {failed} failed")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
