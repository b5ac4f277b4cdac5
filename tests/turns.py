"""Which long tests a run of everything takes: a third of them, another third with each commit.

Half of the suite's time goes into two hundred tests that take a second or more: whole windows, compilers, simulators, races.
In a clean checkout they take turns by the number of commits, so that each runs with every third. All of them run as soon
as anything differs from the last commit, where there is no repository, where a module or a test is named, and in a campaign;
``COMBE_TURN=all`` asks for it.

``COMBE_TURN=all COMBE_SLOWEST=300 python tests/run.py | python tests/turns.py`` writes the table anew.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
import zlib
from pathlib import Path

TURNS = 3
LONG_S = 1.2
"""Tests that took so long on a slow machine are in the table."""
TABLE = Path(__file__).with_name("long_tests.txt")
EVERY_TIME = ("test_cli: the headless demo leaves everything",)
"""Long, but the first thing a user does."""


def turn(root: Path) -> int | None:
    """Which third it is this time; None where all are run."""
    wanted = os.environ.get("COMBE_TURN", "")
    if wanted or os.environ.get("COMBE_CAMPAIGN"):
        return int(wanted) % TURNS if wanted.isdigit() else None
    if _git(root, "status", "--porcelain", "--untracked-files=no") != "":
        return None
    count = _git(root, "rev-list", "--count", "HEAD")
    return int(count) % TURNS if count and count.isdigit() else None


def waiting(now: int) -> frozenset[str]:
    """The long tests that wait for another turn, as ``module: the test in words``."""
    names = TABLE.read_text(encoding="utf-8").splitlines()
    return frozenset(name for name in names if zlib.crc32(name.encode()) % TURNS != now and name not in EVERY_TIME)


def spoken(module: str, method: str) -> str:
    """A test as the table has it."""
    return f"{module.removeprefix('tests.')}: {method.removeprefix('test_').replace('_', ' ')}"


def _git(root: Path, *words: str) -> str | None:
    try:
        done = subprocess.run(["git", "-C", str(root), *words], capture_output=True, text=True, check=True)
    except (OSError, subprocess.CalledProcessError):
        return None
    return done.stdout.strip()


if __name__ == "__main__":
    lines = re.findall(r"^ *([\d.]+) s  (test_\w+: .*)$", sys.stdin.read(), re.M)
    TABLE.write_text("".join(f"{name}\n" for name in sorted(name for took, name in lines if float(took) >= LONG_S)))
