"""Minimax linear-phase FIR: every limit used up to the same share (Parks & McClellan 1972)."""

from combe.design.equiripple.method import design, shortest

__all__ = ["design", "shortest"]
