"""Generated C on processors that aren't here: Arm cores emulated, RISC-V built for."""

from combe.proof.arm.riscv import RISCV, built_for_riscv
from combe.proof.arm.target import TargetProof, prove_on_target
from combe.proof.runners.emulated import TARGETS, sizes_for

__all__ = ["RISCV", "TARGETS", "TargetProof", "built_for_riscv", "prove_on_target", "sizes_for"]
