"""Tests: facts of the field, found out independently of the code they test."""

import os

from hypothesis import settings

# Windows of tests need no screen.
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
# The same examples at every run, so that CI says something about the change; COMBE_RANDOM_TESTS=1 looks further.
settings.register_profile("steady", derandomize=True)
settings.register_profile("random", derandomize=False)
settings.load_profile("random" if os.environ.get("COMBE_RANDOM_TESTS") else "steady")
