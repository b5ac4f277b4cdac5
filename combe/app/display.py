"""Whether a window can appear at all: asked before Qt is, which would end the program where it can't."""

from __future__ import annotations

import ctypes
import importlib
import os
import re
import socket
from pathlib import Path

from combe.errors import ToolError

NEEDED = {
    "libxcb-cursor.so.0": "libxcb-cursor0", "libxcb-icccm.so.4": "libxcb-icccm4", "libxcb-keysyms.so.1": "libxcb-keysyms1",
    "libxkbcommon-x11.so.0": "libxkbcommon-x11-0", "libEGL.so.1": "libegl1", "libGL.so.1": "libgl1",
}  # fmt: skip
"""What Qt loads for a window under X, and the Debian package that brings it."""
WAIT_S = 2.0
HEADLESS = "start it where there is one, or try combe demo --headless"


def check_display() -> None:
    """Refuse, in a sentence, where no window can appear.

    Raises
    ------
    ToolError
        If there is no display, nobody answers there, or a library is missing.
    """
    environment = os.environ
    if environment.get("QT_QPA_PLATFORM"):
        return
    wayland = environment.get("WAYLAND_DISPLAY", "")
    if wayland and _wayland_answers(wayland):
        return
    display = environment.get("DISPLAY", "")
    if not display:
        raise ToolError("there is no display to open a window on", "", HEADLESS)
    if not _x_answers(display):
        raise ToolError(f"nobody answers on display {display}", "", HEADLESS)
    missing = [package for library, package in NEEDED.items() if not _loads(library)]
    if missing:
        raise ToolError(
            "libraries for a window are not on this machine", "", f"on Debian: apt-get install {' '.join(missing)}"
        )


def check_qt() -> None:
    """Refuse, in a sentence, where not even a picture of a window can be drawn.

    Raises
    ------
    ToolError
        If a library that Qt itself needs is missing, whatever it draws on.
    """
    try:
        importlib.import_module("PyQt6.QtWidgets")
    except ImportError as error:
        raise ToolError(f"Qt can't be loaded ({error})", "", "make setup as root installs what it needs") from None


def _wayland_answers(name: str) -> bool:
    path = Path(name)
    if not path.is_absolute():
        path = Path(os.environ.get("XDG_RUNTIME_DIR", "/")) / name
    return _connects(socket.AF_UNIX, str(path))


def _x_answers(display: str) -> bool:
    match = re.fullmatch(r"(?:(?:unix|tcp)/)?([^:]*):(\d+)(?:\.\d+)?", display)
    if not match:
        return False
    host, number = match[1], int(match[2])
    if host in ("", "unix"):
        path = f"/tmp/.X11-unix/X{number}"
        return _connects(socket.AF_UNIX, path) or _connects(socket.AF_UNIX, "\0" + path)
    return _connects(socket.AF_INET, (host, 6000 + number))


def _connects(family: socket.AddressFamily, where: str | tuple[str, int]) -> bool:
    with socket.socket(family, socket.SOCK_STREAM) as line:
        line.settimeout(WAIT_S)
        try:
            line.connect(where)
        except OSError:
            return False
        return True


def _loads(library: str) -> bool:
    try:
        ctypes.CDLL(library)
    except OSError:
        return False
    return True
