"""Windowed ideal responses."""
