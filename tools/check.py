"""Everything CI checks: style, types, tests. The last line is ``N passed, N failed``."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
CHECKS = (
    ("style", ["-m", "ruff", "check", "combe", "tests", "tools"]),
    ("layout of the text", ["-m", "ruff", "format", "--check", "combe", "tests", "tools"]),
    ("types", ["-m", "mypy", "combe"]),
)


def main() -> int:
    """Run all, count each check as one test; the checks go on while the tests run."""
    checks = [
        subprocess.Popen(
            [sys.executable, *words], cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True
        )
        for _, words in CHECKS
    ]
    counts = [0, 0, 0]
    print("== tests", flush=True)
    with subprocess.Popen([sys.executable, "tests/run.py"], cwd=ROOT, stdout=subprocess.PIPE, text=True) as tests:
        assert tests.stdout is not None
        is_whole = False
        for line in tests.stdout:
            count = re.fullmatch(r"(\d+) passed, (\d+) failed(?:, (\d+) skipped)?\s*", line)
            if count:
                is_whole = True
                counts = [int(part or 0) for part in count.groups()]
            else:
                print(line, end="", flush=True)
    if not is_whole:
        counts[1] += 1
        print("the tests ended early")
    for (name, _), check in zip(CHECKS, checks):
        said, _ = check.communicate()
        print(f"== {name}\n{said}", end="", flush=True)
        counts[1 if check.returncode else 0] += 1
    skipped = f", {counts[2]} skipped" if counts[2] else ""
    print(f"\n{counts[0]} passed, {counts[1]} failed{skipped}")
    return 1 if counts[1] else 0


if __name__ == "__main__":
    sys.exit(main())
