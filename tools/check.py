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
    """Run all, count each check as one test."""
    passed = failed = skipped = 0
    for name, words in CHECKS:
        print(f"\n== {name}", flush=True)
        done = subprocess.run([sys.executable, *words], cwd=ROOT, check=False)
        passed, failed = (passed + 1, failed) if done.returncode == 0 else (passed, failed + 1)
    print("\n== tests", flush=True)
    with subprocess.Popen([sys.executable, "tests/run.py"], cwd=ROOT, stdout=subprocess.PIPE, text=True) as tests:
        assert tests.stdout is not None
        last = ""
        for line in tests.stdout:
            count = re.fullmatch(r"(\d+) passed, (\d+) failed(?:, (\d+) skipped)?\s*", line)
            if count:
                last = line
                passed, failed = passed + int(count[1]), failed + int(count[2])
                skipped += int(count[3] or 0)
            else:
                print(line, end="", flush=True)
    if not last:
        failed += 1
        print("the tests ended early")
    print(f"\n{passed} passed, {failed} failed" + (f", {skipped} skipped" if skipped else ""))
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
