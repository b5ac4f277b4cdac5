"""C99 from a realization: no heap, no library but the three headers every compiler has."""

from combe.delivery.c.writer import c_package

__all__ = ["c_package"]
