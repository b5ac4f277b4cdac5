"""A window that is edited at full speed and killed at a random moment, again and again: what its copy has lost.

    tools/kills.py [COUNT]      what make kills runs: 500

Each window opens off screen on a saved project, is edited thirty times a second, saves now and then, and is ended by
SIGKILL. Its file must be readable, and so must its copy; together they may miss no more than two seconds of work.
"""

from __future__ import annotations

import json
import os
import random
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LOST_S = 2.0
CHILD = """
import sys, time
from pathlib import Path
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from combe.app.recovery import Recovery
from combe.app.session import Session
from combe.app.settings import Settings
from combe.app.theme.palette import THEME
from combe.app.window import MainWindow
from combe.project import edits
from combe.project.demo import demo_project
from combe.project.file import save_project
folder = Path(sys.argv[1])
sys.setswitchinterval(0.0001)
a = QApplication(["combe"]); a.setStyle("Fusion"); THEME.use("light", a)
path = folder / "work.combe"
save_project(demo_project(), path)
s = Session(demo_project(), path); r = Recovery(s, folder / "unsaved")
w = MainWindow(s, Settings(path=folder / "settings.json")); w.show(); s.start()
count = 0
def change():
    global count
    count += 1
    print(count, time.monotonic(), flush=True)
    s.edit(edits.rename(f"Bats {count}"))
    if count % 7 == 0:
        s.edit(edits.move_edge(s.project, 0, "stop", 11_000 + count % 500))
    if count % 90 == 0:
        s.save(path)
t = QTimer(); t.timeout.connect(change); t.start(33)
a.exec()
"""


def one(seed: int) -> str:
    """One window: "" where all is well, else what was lost."""
    source = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="combe-kill-") as name:
        folder = Path(name)
        environment = os.environ | {
            "QT_QPA_PLATFORM": "offscreen", "OPENBLAS_NUM_THREADS": "1", "XDG_STATE_HOME": name, "XDG_CONFIG_HOME": name,
        }  # fmt: skip
        with subprocess.Popen(
            [sys.executable, "-c", CHILD, name], cwd=ROOT, env=environment, stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL, text=True,
        ) as child:  # fmt: skip
            assert child.stdout is not None
            if not child.stdout.readline():
                return "the window did not open"
            time.sleep(source.uniform(0.2, 5.0))
            killed = time.monotonic()
            child.kill()
            rows = [line.split() for line in child.stdout.read().splitlines()]
        done = [(int(row[0]), float(row[1])) for row in rows if len(row) == 2]
        return told(folder, done, killed)


def told(folder: Path, done: list[tuple[int, float]], killed: float) -> str:
    """What is wrong with what is left."""
    known = 0
    copies = sorted((folder / "unsaved").glob("*.json")) if (folder / "unsaved").exists() else []
    for path in (folder / "work.combe", *copies):
        try:
            document = json.loads(path.read_text(encoding="utf-8"))
            words = document.get("project", document)["name"].split()
        except (OSError, ValueError, KeyError) as error:
            return f"{path.name} can't be read ({error})"
        known = max(known, int(words[1]) if words[0] == "Bats" else 0)
    left = [path.name for path in folder.rglob("*") if path.name.startswith(".") or path.suffix == ".tmp"]
    if left:
        return f"left behind: {', '.join(left)}"
    missing = [at for count, at in done if count > known]
    if missing and killed - missing[0] > LOST_S:
        return f"{killed - missing[0]:.2f} s of work lost ({len(missing)} changes)"
    return ""


def main() -> int:
    """So many windows, two at a time."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    wrong = 0
    with ThreadPoolExecutor(2) as pool:
        for seed, said in enumerate(pool.map(one, range(count))):
            if said:
                wrong += 1
                print(f"window {seed}: {said}", flush=True)
            if seed % 50 == 49:
                print(f"{seed + 1} windows killed, {wrong} wrong", flush=True)
    print(f"{count} windows killed, {wrong} wrong")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
