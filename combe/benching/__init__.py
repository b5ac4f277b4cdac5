"""Signals through runners, and the figures that come out."""
