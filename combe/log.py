"""The log file: where faults of Combe's own are written down."""

from __future__ import annotations

import sys
import traceback
from pathlib import Path

import platformdirs

LARGEST = 1_000_000


def log_path() -> Path:
    """Where the log is kept."""
    return Path(platformdirs.user_log_dir("combe")) / "combe.log"


def log_failure(what: str) -> Path:
    """Append the current exception with its traceback; never fails itself."""
    path = log_path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
        if path.exists() and path.stat().st_size > LARGEST:
            path.replace(path.with_suffix(".old.log"))
        with path.open("a", encoding="utf-8") as stream:
            stream.write(f"{what}\n{''.join(traceback.format_exception(*sys.exc_info()))}\n")
    except OSError:
        pass
    return path
