"""Combe: filters from a requirement to proved fixed-point code.

The folders below stand in the order in which an engineer works; data flows one way through them::

    Requirement -> Design -> Realization -> Delivery -> Proof
"""

import os

# The matrices of one filter are small, and the window needs the other core: one thread each is fastest.
os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")

__version__ = "0.4.0"
