"""What the application remembers between starts: theme, way of counting frequencies, files used last."""

from __future__ import annotations

import json
from dataclasses import asdict, dataclass, field
from pathlib import Path

import platformdirs

from combe.errors import FileError
from combe.files import write_text

RECENT = 8
TALLEST_LEDGER = 2000

COUNTS = ("hz", "fs", "fn")


@dataclass(slots=True)
class Settings:
    """Small and forgiving: what can't be read is as if never set."""

    theme: str = "light"
    counted: str = "hz"
    recent: list[str] = field(default_factory=list)
    ledger_height: int = 0
    """What the ledger was dragged to, in pixels; 0 for what suits it."""
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
        except (OSError, ValueError, KeyError, TypeError):
            pass
        return made

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
