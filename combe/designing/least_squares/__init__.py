"""Least squares, plain and under peak limits."""
