"""What the application remembers between starts: theme, way of counting frequencies, files used last."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

import platformdirs

from combe.errors import CombeError, FileError
from combe.files import write_text
from combe.realization.formats import parse_format
from combe.rounding.choices import FEWEST_BITS, MOST_BITS

RECENT = 8
TALLEST_LEDGER = 2000
SCALES, MOST_FOLDERS = (75, 250), 20

COUNTS = ("hz", "fs", "fn")


def is_format(text: str) -> bool:
    """Whether a text names a number format."""
    try:
        parse_format(text, "")
    except CombeError:
        return False
    return True


@dataclass(slots=True)
class Settings:
    """Small and forgiving: what can't be read is as if never set."""

    theme: str = "light"
    counted: str = "hz"
    recent: list[str] = field(default_factory=list)
    ledger_height: int = 0
    """What the ledger was dragged to, in pixels; 0 for what suits it."""
    scale: int = 100
    """Of everything in the window, in percent; from the next start on."""
    input_format: str = "s16f15"
    output_format: str = ""
    coefficient_bits: int = 16
    """What a new filter starts with."""
    tool_folders: list[str] = field(default_factory=list)
    """Where compilers and simulators are looked for before the usual places."""
    path: Path = field(default_factory=lambda: Path(platformdirs.user_config_dir("combe")) / "settings.json")

    @classmethod
    def load(cls) -> Settings:
        """As they were left."""
        made = cls()
        try:
            found = json.loads(made.path.read_text(encoding="utf-8"))
            made.theme = found["theme"] if found["theme"] in ("light", "dark") else "light"
            made.counted = found["counted"] if found["counted"] in COUNTS else "hz"
            made.recent = [str(item) for item in found["recent"]][:RECENT]
            height = found.get("ledger_height", 0)
            made.ledger_height = height if isinstance(height, int) and 0 <= height <= TALLEST_LEDGER else 0
            made._load_choices(found)
        except (OSError, ValueError, KeyError, TypeError):
            pass
        return made

    def _load_choices(self, found: dict[str, Any]) -> None:
        """What the preferences hold, each on its own: one that can't be read is as if never set."""
        scale, bits = found.get("scale"), found.get("coefficient_bits")
        if isinstance(scale, int) and SCALES[0] <= scale <= SCALES[1]:
            self.scale = scale
        if isinstance(bits, int) and FEWEST_BITS <= bits <= MOST_BITS:
            self.coefficient_bits = bits
        for key in ("input_format", "output_format"):
            word = found.get(key)
            if isinstance(word, str) and (is_format(word) or (key == "output_format" and not word)):
                setattr(self, key, word)
        folders = found.get("tool_folders")
        if isinstance(folders, list):
            self.tool_folders = [folder for folder in folders if isinstance(folder, str)][:MOST_FOLDERS]

    def find_tools(self) -> None:
        """Let the folders of tools come first where programs are looked for."""
        known = os.environ.get("PATH", "").split(os.pathsep)
        new = [folder for folder in self.tool_folders if folder and folder not in known]
        if new:
            os.environ["PATH"] = os.pathsep.join([*new, *known])

    def save(self) -> None:
        """Keep them, if that's possible."""
        document = asdict(self)
        del document["path"]
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            write_text(self.path, json.dumps(document, indent=1))
        except (OSError, FileError):
            pass

    def used(self, path: Path) -> None:
        """A file was opened or saved."""
        word = str(path.resolve())
        self.recent = [word, *(other for other in self.recent if other != word)][:RECENT]
        self.save()
