"""A response held against a requirement: one line per limit, each with its margin."""

from combe.ledger.cost import Cost, cost_of
from combe.ledger.delay import DelaySpan, delay_over_passbands
from combe.ledger.lines import Line, gain_lines, lines_of, meets, worst_line

__all__ = [
    "Cost",
    "DelaySpan",
    "Line",
    "cost_of",
    "delay_over_passbands",
    "gain_lines",
    "lines_of",
    "meets",
    "worst_line",
]
