"""Curves, masks and what can be dragged on them."""
