"""Draws docs/screenshots anew from the demo project, each picture in a process of its own; with names, only those."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from combe.app.pages.register import REGISTER

FOLDER = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
DRAW = "import sys; from combe.app.picture import draw_view; from combe.project import demo; \
view, path, width, height, theme, prove, project = sys.argv[1:]; \
draw_view(view, getattr(demo, project)(), path, (int(width), int(height)), theme, prove == 'yes')"


def main() -> int:
    """Every picture the register names."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    wanted = sys.argv[1:]
    count = 0
    for entry in REGISTER:
        for name, picture in entry.pictures:
            if wanted and name not in wanted:
                continue
            words = [
                entry.name, str(FOLDER / f"{name}.png"), str(picture.width), str(picture.height), picture.theme,
                "yes" if entry.runs == "prove" else "no", picture.project,
            ]  # fmt: skip
            subprocess.run([sys.executable, "-c", DRAW, *words], env=environment, check=True)
            count += 1
    print(f"{count} pictures in {FOLDER}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
