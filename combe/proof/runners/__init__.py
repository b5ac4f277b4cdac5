"""What takes samples and gives samples: the exact filter, the bit-true model, a compiled program, an emulated core, a
simulated circuit. Building and running are here; comparing is elsewhere."""

from combe.proof.runners.models import BitTrue, Codes, Exact, Floating, Runner

__all__ = ["BitTrue", "Codes", "Exact", "Floating", "Runner"]
