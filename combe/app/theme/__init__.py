"""Colour, type, spacing and icons."""
