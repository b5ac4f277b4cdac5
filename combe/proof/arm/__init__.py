"""Proof of generated C on emulated Arm processors: every sample compared, instructions counted, sizes from the linker."""

from combe.proof.arm.target import TARGETS, TargetProof, prove_on_target

__all__ = ["TARGETS", "TargetProof", "prove_on_target"]
