"""Which long tests a run of everything takes: a quarter of them, another quarter with each commit.

Most of the suite's time goes into four hundred tests that take half a second or more: whole windows, compilers, simulators, races.
In a clean checkout they take turns by the number of commits, so that each runs with every fourth. All of them run as soon
as anything differs from the last commit, where there is no repository, where a module or a test is named, and in a campaign;
``COMBE_TURN=all`` asks for it.

``COMBE_TURN=all COMBE_SLOWEST=500 python tests/run.py | python tests/turns.py`` writes the table anew.
"""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

TURNS = 4
LONG_S = 0.45
"""Tests that took so long on a slow machine are in the table."""
TABLE = Path(__file__).with_name("long_tests.txt")
EVERY_TIME = ("test_cli: the headless demo leaves everything",)
"""Long, but the first thing a user does."""


def turn(root: Path) -> int | None:
    """Which quarter it is this time; None where all are run."""
    wanted = os.environ.get("COMBE_TURN", "")
    if wanted or os.environ.get("COMBE_CAMPAIGN"):
        return int(wanted) % TURNS if wanted.isdigit() else None
    if _git(root, "status", "--porcelain", "--untracked-files=no") != "":
        return None
    count = _git(root, "rev-list", "--count", "HEAD")
    return int(count) % TURNS if count and count.isdigit() else None


def long_tests() -> tuple[str, ...]:
    """All in the table as ``module: the test in words``, longest first."""
    rows = _rows(TABLE.read_text(encoding="utf-8"))
    return tuple(name for _, name in sorted(rows, key=lambda row: (-row[0], row[1])))


def left_out(root: Path, is_quick: bool) -> tuple[frozenset[str], str]:
    """What a run leaves out, and that in words: all that take long in a quick one, else those whose turn it isn't."""
    if is_quick:
        return frozenset(long_tests()), f"without the {len(long_tests())} long tests in {TABLE.name}"
    now = turn(root)
    if now is None:
        return frozenset(), ""
    names = waiting(now)
    return names, f"turn {now + 1} of {TURNS}: {len(names)} long tests wait for the next commits"


def waiting(now: int) -> frozenset[str]:
    """Those that wait for another turn: dealt out longest first, there and back, so that all turns take the same time."""
    names = [name for name in long_tests() if name not in EVERY_TIME]
    places = [*range(TURNS), *reversed(range(TURNS))]
    return frozenset(name for k, name in enumerate(names) if places[k % len(places)] != now)


def _rows(text: str) -> list[tuple[float, str]]:
    return [(float(took), name) for took, name in re.findall(r"^ *([\d.]+) s  (test_\w+: .*)$", text, re.M)]


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
    kept = sorted((-took, name) for took, name in _rows(sys.stdin.read()) if took >= LONG_S)
    TABLE.write_text("".join(f"{-took:5.1f} s  {name}\n" for took, name in kept))
