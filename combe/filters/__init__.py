"""Exact filters as values: taps, sections, roots."""

from combe.filters.pairing import sections_of
from combe.filters.rational import Rational, rational_of
from combe.filters.values import Cascade, Filter, Fir, Roots

__all__ = ["Cascade", "Filter", "Fir", "Rational", "Roots", "rational_of", "sections_of"]
