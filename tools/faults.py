"""Puts faults into copies of the code, one at a time, and asks the tests whether they notice; names those that survive.

``make faults`` runs all; ``tools/faults.py WORD…`` only those whose file or change holds a word. A fault is one line of
one file; the tests named beside it are those that ought to notice.
"""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from queue import Queue

from fault_table import FAULTS, Fault

ROOT = Path(__file__).resolve().parent.parent
LONGEST_S = 240


def main() -> int:
    """Try them, two at a time; 1 if a fault survives."""
    words = sys.argv[1:]
    wanted = [fault for fault in FAULTS if not words or any(word in f"{fault.file} {fault.what}" for word in words)]
    stale = [fault for fault in FAULTS if (ROOT / "combe" / fault.file).read_text("utf-8").count(fault.old) != 1]
    for fault in stale:
        print(f"{fault.file}: the line of {fault.what!r} doesn't stand there once")
    if stale:
        return 1
    places: Queue[Path] = Queue()
    with tempfile.TemporaryDirectory(prefix="combe-faults-") as holder:
        for number in range(min(os.cpu_count() or 1, 4)):
            place = Path(holder) / str(number)
            copy(place)
            places.put(place)
        with ThreadPoolExecutor(places.qsize()) as pool:
            survivors = [
                fault for fault, is_caught in pool.map(lambda fault: tried(fault, places), wanted) if not is_caught
            ]
    print(f"\n{len(wanted) - len(survivors)} of {len(wanted)} faults noticed")
    for fault in survivors:
        print(f"survives: {fault.file}: {fault.what}")
    return 1 if survivors else 0


def copy(place: Path) -> None:
    """The files git knows of, and those not yet added."""
    listed = subprocess.run(
        ["git", "ls-files", "-co", "--exclude-standard"], cwd=ROOT, capture_output=True, text=True, check=True
    )
    for name in listed.stdout.splitlines():
        if (ROOT / name).is_file():
            (place / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, place / name)


def tried(fault: Fault, places: Queue[Path]) -> tuple[Fault, bool]:
    """Whether the tests notice a fault; the file is made whole again."""
    place = places.get()
    path = place / "combe" / fault.file
    whole = path.read_text(encoding="utf-8")
    started = time.perf_counter()
    try:
        path.write_text(whole.replace(fault.old, fault.new), encoding="utf-8")
        is_caught = any(notices(module, place) for module in fault.tests.split())
    finally:
        path.write_text(whole, encoding="utf-8")
        places.put(place)
    mark = "noticed " if is_caught else "SURVIVES"
    print(f"{mark} {fault.what} ({fault.file}), {time.perf_counter() - started:.0f} s", flush=True)
    return fault, is_caught


def notices(module: str, place: Path) -> bool:
    """Whether a module's tests fail in a copy, the first failure being enough."""
    # What synthesis counted of the code as it ought to be is not to answer for the code with the fault.
    shutil.rmtree(place / ".cache" / "combe" / "costs", ignore_errors=True)
    environment = os.environ | {
        "PYTHONPATH": str(place), "QT_QPA_PLATFORM": "offscreen", "OPENBLAS_NUM_THREADS": "1",
        "XDG_CACHE_HOME": str(place / ".cache"),
    }  # fmt: skip
    try:
        done = subprocess.run(
            [sys.executable, "-m", "unittest", "-f", "-b", f"tests.{module}"], cwd=place, env=environment,
            capture_output=True, check=False, timeout=LONGEST_S,
        )  # fmt: skip
    except subprocess.TimeoutExpired:
        return True
    return done.returncode != 0


if __name__ == "__main__":
    sys.exit(main())
