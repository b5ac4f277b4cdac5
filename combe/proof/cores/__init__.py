"""Generated C on processors that aren't here: Arm and RISC-V cores, emulated."""

from combe.proof.cores.target import TargetProof, prove_on_target
from combe.proof.runners.cores import CORES

__all__ = ["CORES", "TargetProof", "prove_on_target"]
