"""The steps behind undo, kept beside a project's file: what each did, how the ledger stood, and the project as it was.

Beside and not inside, so that the project's file says what is and nothing else, and two people's merge as text. Lost, damaged
or of another project's making it is no loss: the project opens without.
"""

from __future__ import annotations

import contextlib
import json
import threading
import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from combe.errors import CombeError
from combe.files import json_text, write_bytes
from combe.project.document import Project
from combe.project.file import project_document, project_from
from combe.project.history import Value

ENDING = ".steps"
MOST_BYTES, MOST_TEXT = 4 << 20, 200 << 20
"""As it lies on disk, beyond which the oldest steps go, and unpacked."""
MOST_STEPS = 200
_writing = threading.Lock()


def steps_path(project: Path) -> Path:
    """Where the steps of a project's file are kept."""
    return project.with_name(project.name + ENDING)


class StepsKeeper:
    """Writes the steps of one project; what has been written once isn't put into words again."""

    def __init__(self) -> None:
        self._known: dict[int, tuple[Value, bytes]] = {}

    def write(self, path: Path, values: Sequence[Value]) -> None:
        """All steps up to the current one, as many of the last as ``MOST_BYTES`` hold. Errors leave what was there."""
        with _writing, contextlib.suppress(CombeError, OSError):
            kept = list(values[-MOST_STEPS:])
            known = {id(value): self._known.get(id(value)) or (value, _line(value)) for value in kept}
            self._known = known
            while kept:
                packed = zlib.compress(b"".join(known[id(value)][1] for value in kept), 6)
                if len(packed) <= MOST_BYTES:
                    write_bytes(steps_path(path), packed)
                    return
                kept = kept[len(kept) // 4 + 1 :]

    def write_aside(self, path: Path, values: Sequence[Value]) -> threading.Thread:
        """The same beside the window; the process doesn't end before it is done."""
        thread = threading.Thread(target=self.write, args=(path, tuple(values)), name="combe-steps")
        thread.start()
        return thread


def _line(value: Value) -> bytes:
    document = {"what": value.what, "standing": value.standing, "project": project_document(value.project)}
    return (json.dumps(document, separators=(",", ":")) + "\n").encode()


def read_steps(path: Path, opened: Project) -> list[Value]:
    """The steps that led to a project as its file has it, the last being that project; none where the file has
    been changed since by others than Combe's window, where there is no file of steps, or a damaged one.
    """
    try:
        place = steps_path(path)
        if not place.is_file() or place.stat().st_size > MOST_BYTES:
            return []
        unpacking = zlib.decompressobj()
        text = unpacking.decompress(place.read_bytes(), MOST_TEXT)
        if unpacking.unconsumed_tail or not unpacking.eof:
            return []
        lines = text.splitlines()[-MOST_STEPS:]
        if not lines or not _is_of(json.loads(lines[-1]), opened):
            return []
        return [_value(json.loads(line)) for line in lines]
    except (CombeError, OSError, ValueError, TypeError, KeyError, RecursionError, zlib.error):
        return []


def _is_of(document: dict[str, Any], opened: Project) -> bool:
    """Whether the last step is the project that was opened."""
    return json_text(document["project"]) == json_text(json.loads(json.dumps(project_document(opened))))


def _value(document: dict[str, Any]) -> Value:
    what, standing = document["what"], document["standing"]
    if not isinstance(what, str) or not isinstance(standing, str):
        raise ValueError
    return Value(project_from(document["project"]), what, standing)
