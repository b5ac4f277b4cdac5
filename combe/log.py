"""The log file: where faults of Combe's own are written down, once each, with what was done last."""

from __future__ import annotations

import sys
import threading
import time
import traceback
from collections.abc import Callable
from pathlib import Path

import platformdirs

LARGEST = 1_000_000
MOST_KNOWN = 200
_known: dict[str, int] = {}
_lock = threading.Lock()
context: list[Callable[[], str]] = []
"""Whoever knows what was done last says it in a line or two."""
noticed: list[Callable[[Path], None]] = []
"""Who is told, in whichever thread it happened, that a fault was written down for the first time."""


def log_path() -> Path:
    """Where the log is kept."""
    return Path(platformdirs.user_log_dir("combe")) / "combe.log"


def log_failure(what: str) -> Path:
    """Append the current exception with its traceback and what was done last; never fails itself.

    The same fault again adds a line, at the second, the fourth, the eighth time and so on: one that comes with every
    mouse move doesn't bury the others.
    """
    path = log_path()
    kind, value, trace = sys.exc_info()
    frames = traceback.extract_tb(trace)
    place = f"{frames[-1].filename}:{frames[-1].lineno}" if frames else ""
    name = f"{getattr(kind, '__name__', kind)} at {place}"
    with _lock:
        count = _known.get(name, 0) + 1
        if len(_known) < MOST_KNOWN or name in _known:
            _known[name] = count
    if count > 1:
        if count & (count - 1) == 0:
            _append(path, f"{_now()} {what}: {name}, for the {count}th time\n")
        return path
    lines = [f"{_now()} {what}", *(f"  {line}" for line in _told())]
    _append(path, "\n".join(lines) + f"\n{''.join(traceback.format_exception(kind, value, trace))}\n")
    for listener in list(noticed):
        try:
            listener(path)
        except Exception:  # what happens while a fault is told must not hide it
            _append(path, f"and while it was told:\n{traceback.format_exc()}\n")
    return path


def is_known(error: BaseException) -> bool:
    """Whether a fault of this kind at this place was written down before."""
    frames = traceback.extract_tb(error.__traceback__)
    place = f"{frames[-1].filename}:{frames[-1].lineno}" if frames else ""
    return f"{type(error).__name__} at {place}" in _known


def forget_faults() -> None:
    """Start anew, as after a start of the program."""
    with _lock:
        _known.clear()


def _told() -> list[str]:
    found = []
    for tell in context:
        try:
            found += tell().splitlines()
        except Exception as error:
            found.append(f"what was done last can't be told ({error})")
    return found


def _now() -> str:
    return time.strftime("%Y-%m-%d %H:%M:%S")


def _append(path: Path, text: str) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and path.stat().st_size > LARGEST:
            path.replace(path.with_suffix(".old.log"))
        with path.open("a", encoding="utf-8") as stream:
            stream.write(text)
    except OSError:
        pass
