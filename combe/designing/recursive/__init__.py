"""Recursive designs other than the classics."""
