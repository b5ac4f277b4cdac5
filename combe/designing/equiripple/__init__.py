"""Minimax linear-phase FIR: every limit used up to the same share (Parks & McClellan 1972)."""

from combe.designing.equiripple.method import design, roughly_shortest, shortest

__all__ = ["design", "roughly_shortest", "shortest"]
