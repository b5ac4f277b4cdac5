"""Combe: filters from a requirement to proved fixed-point code.

The folders below stand in the order in which an engineer works; data flows one way through them::

    Requirement -> Design -> Realization -> Delivery -> Proof
"""

__version__ = "0.1.0"
