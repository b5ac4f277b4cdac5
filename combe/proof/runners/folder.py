"""A folder of its own for as long as a ``with`` lasts: what compiled programs are built and run in."""

from __future__ import annotations

import tempfile
from pathlib import Path
from types import TracebackType
from typing import Self


class InFolder:
    """Whoever inherits it has ``folder`` until the ``with`` ends, or it is taken down itself."""

    def __init__(self, prefix: str) -> None:
        self._place = tempfile.TemporaryDirectory(prefix=prefix)
        self.folder = Path(self._place.name)

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._place.cleanup()
