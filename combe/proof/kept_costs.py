"""What synthesis counted, kept by what it was counted of: the circuit's text, the device, the tools and what they are told."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
import platformdirs

from combe.delivery.package import Package
from combe.errors import FileError
from combe.files import read_bytes
from combe.placing import write_files
from combe.proof.tools import version
from combe.proof.verilated import is_ours

MOST_KEPT, LARGEST = 2000, 4096
"""Counts that are kept, the oldest go first; bytes of one."""
COMMENTS = r"^\s*(?://|--)[^\n]*\n"


def shelf() -> Path:
    """Where they are kept."""
    return Path(platformdirs.user_cache_dir("combe")) / "costs"


def key_of(package: Package, tools: list[str], told: object) -> str:
    """All that a count depends on. Comments say what the filter is for, and change without the circuit."""
    texts = [
        (file.name, re.sub(COMMENTS, "", file.text, flags=re.M)) for file in package.files if _is_circuit(file.name)
    ]
    words = (package.language, package.name, texts, [version(tool) for tool in tools], told)
    return hashlib.sha256(repr(words).encode()).hexdigest()[:40]


def _is_circuit(name: str) -> bool:
    return name.endswith((".v", ".vhd")) and not re.search(r"_(tb|axi|top)\.", name)


def known(key: str, kind: type[Any]) -> Any:
    """What was counted before under a key; None where nothing was, or it can't be read."""
    path = shelf() / f"{key}.json"
    with suppress(OSError, FileError, msgspec.MsgspecError):
        if is_ours(path.parent) and is_ours(path):
            return msgspec.json.decode(read_bytes(path, LARGEST), type=kind)
    return None


def kept(key: str, kind: type[Any], count: Callable[[], Any], is_worth_keeping: Callable[[Any], bool]) -> Any:
    """What was counted before under a key, else counted now, and kept where it is worth it. A full or read-only disk only means
    that it will be counted again."""
    found = known(key, kind)
    if found is not None:
        return found
    found, path = count(), shelf() / f"{key}.json"
    if is_worth_keeping(found):
        with suppress(OSError, FileError):
            path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            write_files([(path, msgspec.json.encode(found))])
            every = sorted(path.parent.iterdir(), key=lambda each: each.stat().st_mtime)
            for old in every[:-MOST_KEPT]:
                old.unlink()
    return found
