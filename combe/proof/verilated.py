"""Verilator's programs, built without compiling its own library each time: the library's objects are kept, and its headers as the
compiler has read them.

Most of what a build compiles is the same for every circuit. Its objects are put into the folder of the build beforehand
(``make`` finds them up to date), and kept the first time they come out of one. Of what is left three quarters of the time went into
reading headers.
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
HEADER = "headers.h.gch"
"""The headers as the compiler has read them, 60 MB."""
READ = f"""{HEADER}:
\t-$(CXX) $(CXXFLAGS) $(CPPFLAGS) $(OPT_FAST) -x c++-header -o $@ headers.h
"""
MOST_KEPT = 4
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
    first = [*make, "-f", "headers.mk", f"V{top}", HEADER]
    (objects / "headers.mk").write_text(READ, encoding="utf-8")
    # A header of another name: the compiler would look for the library's own beside what it has read of it.
    (objects / "headers.h").write_text('#include "verilated.h"\n', encoding="utf-8")
    try:
        if kept:
            run([*make, *(["USER_CPPFLAGS=-include headers.h"] if HEADER in kept else [])], folder, seconds=SECONDS)
        else:
            run(first, folder, seconds=SECONDS)
    except ToolError:
        if not kept:
            raise
        # What was kept may be damaged: once more without it.
        for path in (*objects.glob("*.o"), *objects.glob(HEADER)):
            path.unlink()
        _forget(key)
        kept = set()
        run(first, folder, seconds=SECONDS)
    if {path.name for path in objects.glob(LIBRARY)} - kept:
        _keep(objects, key)
    return objects / f"V{top}"


def _key(objects: Path, top: str) -> str:
    """All that the library's objects depend on: the tools, the library's text, the switches of this build."""
    text = (objects / f"V{top}.mk").read_text(encoding="utf-8")
    switches = re.findall(r"^\s*(VM_\w+\s*=\s*[01])\s*$", text + (objects / f"V{top}_classes.mk").read_text(), re.M)
    user = re.findall(r"VM_USER_CFLAGS = \\\n((?:\t.*\n)*)", text)
    root = re.search(r"^VERILATOR_ROOT = (.*)$", text, re.M)
    found = hashlib.sha256(repr((version("verilator"), version("g++"), switches, user, LIBRARY_FLAGS, READ)).encode())
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
        if taken and (place / HEADER).is_file():
            (objects / HEADER).symlink_to(place / HEADER)
            taken.add(HEADER)
        os.utime(place)
    return taken


def _keep(objects: Path, key: str) -> None:
    """Keep a build's objects for the next one; a full or read-only disk only means that they are compiled again."""
    with suppress(OSError, FileError):
        place = shelf() / key
        place.mkdir(mode=0o700, parents=True, exist_ok=True)
        files = [*objects.glob(LIBRARY), *(path for path in objects.glob(HEADER) if not path.is_symlink())]
        write_files([(place / path.name, path.read_bytes()) for path in files])
        sets = sorted(shelf().iterdir(), key=lambda each: each.stat().st_mtime)
        for old in sets[:-MOST_KEPT]:
            _forget(old.name)


def _forget(key: str) -> None:
    with suppress(OSError):
        for path in (shelf() / key).iterdir():
            path.unlink()
        (shelf() / key).rmdir()
