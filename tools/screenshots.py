"""Draws docs/screenshots anew from the demo project, each picture in a process of its own."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

FOLDER = Path(__file__).resolve().parent.parent / "docs" / "screenshots"
DRAW = "import sys; from combe.app.picture import draw_view; from combe.project import demo; \
view, path, width, height, theme, prove, project = sys.argv[1:]; \
draw_view(view, getattr(demo, project)(), path, (int(width), int(height)), theme, prove == 'yes')"
PICTURES = (
    ("brief", "brief", "1280", "800", "light", "no"),
    ("ideal", "ideal", "1280", "800", "light", "no"),
    ("rounded", "rounded", "1280", "800", "light", "no"),
    ("arithmetic", "arithmetic", "1280", "800", "light", "no", "wake_up_project"),
    ("code", "code", "1280", "800", "light", "yes"),
    ("measured", "measured", "1280", "800", "light", "no"),
    ("budget", "budget", "1280", "800", "light", "no"),
    ("path", "path", "1280", "800", "light", "no"),
    ("cost", "cost", "1280", "800", "light", "no"),
    ("rounded-dark", "rounded", "1280", "800", "dark", "no"),
    ("wake-up", "ideal", "1280", "800", "light", "no", "wake_up_project"),
    ("roots", "roots", "1100", "600", "light", "no", "wake_up_project"),
    ("measures", "measures", "900", "600", "light", "no"),
    ("formula", "formula", "900", "480", "light", "no", "wake_up_project"),
    ("phase", "phase", "900", "480", "light", "no"),
    ("delay", "delay", "900", "480", "light", "no"),
    ("noise", "noise", "1000", "560", "light", "no", "wake_up_project"),
    ("widths", "widths", "1000", "640", "light", "no", "wake_up_project"),
    ("time", "time", "900", "480", "light", "no"),
)


def main() -> int:
    """The five steps in the light theme, one in the dark one, and the plots."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    environment = os.environ | {"QT_QPA_PLATFORM": "offscreen"}
    for name, view, width, height, theme, prove, *project in PICTURES:
        words = [view, str(FOLDER / f"{name}.png"), width, height, theme, prove, *(project or ["demo_project"])]
        subprocess.run([sys.executable, "-c", DRAW, *words], env=environment, check=True)
    print(f"{len(PICTURES)} pictures in {FOLDER}")
    return 0


if __name__ == "__main__":
    sys.exit(main())
