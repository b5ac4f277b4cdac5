"""A screen that nobody looks at: an X server for as long as it is needed; and whether windows can be had at all."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from functools import cache
from importlib import import_module


@cache
def has_windows() -> bool:
    """Whether all that Qt needs is on this machine."""
    try:
        import_module("PyQt6.QtWidgets")
    except ImportError:
        return False
    return True


def has_server() -> bool:
    """Whether there is a server on this machine."""
    return shutil.which("Xvfb") is not None


@contextmanager
def screen(width: int = 1280, height: int = 800) -> Iterator[dict[str, str]]:
    """What a process needs to know of it, in its environment."""
    ours, theirs = os.pipe()
    words = ["Xvfb", "-displayfd", str(theirs), "-screen", "0", f"{width}x{height}x24", "-nolisten", "tcp"]
    server = subprocess.Popen(words, pass_fds=(theirs,), stderr=subprocess.DEVNULL)
    os.close(theirs)
    try:
        with os.fdopen(ours) as told:
            number = told.readline().strip()
        if not number:
            raise RuntimeError("the X server didn't start")
        yield os.environ | {"QT_QPA_PLATFORM": "xcb", "DISPLAY": f":{number}"}
    finally:
        server.terminate()
        server.wait()
