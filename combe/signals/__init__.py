"""Stimuli and measures on signals."""
