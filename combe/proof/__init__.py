"""Proof: what real compilers make of the generated code, compared sample by sample."""
