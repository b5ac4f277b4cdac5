"""Draws docs/screenshots anew from the demo project."""

from __future__ import annotations

import os
import sys
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from combe.app.picture import draw_view
from combe.project.chain import STEPS
from combe.project.demo import demo_project

FOLDER = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
SIZE = (1280, 800)


def main() -> int:
    """The five steps in the light theme, two in the dark one, and the plots."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    for step in STEPS:
        draw_view(step, demo_project(), str(FOLDER / f"{step}.png"), SIZE, "light", prove=step == "code")
    draw_view("rounded", demo_project(), str(FOLDER / "rounded-dark.png"), SIZE, "dark")
    for plot in ("phase", "delay", "time"):
        draw_view(plot, demo_project(), str(FOLDER / f"{plot}.png"), (900, 480), "light")
    print(f"{len(list(FOLDER.glob('*.png')))} pictures in {FOLDER}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
