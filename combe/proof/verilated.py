"""Verilator's programs, built without compiling its own library each time: the library's objects are kept.

Most of what a build compiles is the same for every circuit. Its objects are put into the folder of the build beforehand
(``make`` finds them up to date), and kept the first time they come out of one.
"""

from __future__ import annotations

import hashlib
import os
import re
from contextlib import suppress
from pathlib import Path

import platformdirs

from combe.errors import FileError, ToolError
from combe.placing import write_files
from combe.proof.tools import find, run, version

SECONDS = 300
LIBRARY_FLAGS = ("OPT_GLOBAL=-O0", "OPT_SLOW=-O0")
"""What runs once, and the simulator's own library, aren't worth a compiler's time."""
LIBRARY = "verilated*.o"
MOST_KEPT = 12
"""Sets of objects that are kept: versions of the tools and ways to build, the oldest go first."""


def shelf() -> Path:
    """Where objects are kept."""
    return Path(platformdirs.user_cache_dir("combe")) / "verilated"


def build(folder: Path, top: str, flags: list[str], sources: list[str]) -> Path:
    """A program of a circuit from sources in a folder; its path.

    Raises
    ------
    ToolError
        If a tool is missing or fails.
    """
    for tool in ("make", "g++"):
        find(tool)
    command = [find("verilator"), *flags, "-Wno-fatal", "-Wno-lint", "--top-module", top]
    run([*command, *sources], folder, seconds=SECONDS)
    objects = folder / "obj_dir"
    key = _key(objects, top)
    kept = _taken(objects, key)
    make = [find("make"), "-C", "obj_dir", "-j", "2", "-f", f"V{top}.mk", *LIBRARY_FLAGS]
    try:
        run(make, folder, seconds=SECONDS)
    except ToolError:
        if not kept:
            raise
        # What was kept may be damaged: once more without it.
        for path in objects.glob("*.o"):
            path.unlink()
        _forget(key)
        kept = set()
        run(make, folder, seconds=SECONDS)
    if {path.name for path in objects.glob(LIBRARY)} - kept:
        _keep(objects, key)
    return objects / f"V{top}"


def _key(objects: Path, top: str) -> str:
    """All that the library's objects depend on: the tools, the library's text, the switches of this build."""
    text = (objects / f"V{top}.mk").read_text(encoding="utf-8")
    switches = re.findall(r"^\s*(VM_\w+\s*=\s*[01])\s*$", text + (objects / f"V{top}_classes.mk").read_text(), re.M)
    user = re.findall(r"VM_USER_CFLAGS = \\\n((?:\t.*\n)*)", text)
    root = re.search(r"^VERILATOR_ROOT = (.*)$", text, re.M)
    found = hashlib.sha256(repr((version("verilator"), version("g++"), switches, user, LIBRARY_FLAGS)).encode())
    for path in sorted((Path(root[1].strip()) / "include").glob("verilated*")) if root else ():
        found.update(path.name.encode())
        found.update(path.read_bytes())
    return found.hexdigest()[:32]


def is_ours(place: Path) -> bool:
    """Whether nobody else may have put something there."""
    about = place.stat()
    return about.st_uid == os.getuid() and not about.st_mode & 0o022


def _taken(objects: Path, key: str) -> set[str]:
    """Put the kept objects into a build; their names."""
    place = shelf() / key
    taken = set()
    with suppress(OSError):
        for path in place.glob(LIBRARY) if is_ours(place) else ():
            (objects / path.name).write_bytes(path.read_bytes())
            taken.add(path.name)
        os.utime(place)
    return taken


def _keep(objects: Path, key: str) -> None:
    """Keep a build's objects for the next one; a full or read-only disk only means that they are compiled again."""
    with suppress(OSError, FileError):
        place = shelf() / key
        place.mkdir(mode=0o700, parents=True, exist_ok=True)
        write_files([(place / path.name, path.read_bytes()) for path in objects.glob(LIBRARY)])
        sets = sorted(shelf().iterdir(), key=lambda each: each.stat().st_mtime)
        for old in sets[:-MOST_KEPT]:
            _forget(old.name)


def _forget(key: str) -> None:
    with suppress(OSError):
        for path in (shelf() / key).iterdir():
            path.unlink()
        (shelf() / key).rmdir()
