"""A delivered C or C++ package, built with every warning an error, and run on this machine."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from combe.delivery.c.types import c_type
from combe.delivery.package import Package
from combe.errors import ToolError
from combe.proof.runners.folder import InFolder
from combe.proof.tools import find, run, version
from combe.realization.stages import Realization
from combe.templates import rendered

STRICT = ["-std=c99", "-O2", "-Wall", "-Wextra", "-Wpedantic", "-Wconversion", "-Wsign-conversion", "-Werror"]
CPP_STRICT = ["-std=c++17", *STRICT[1:]]
BLOCK_LENGTHS = ["1", "3", "64", "257", "4096"]


class Compiled(InFolder):
    """A program in a folder of its own for as long as the ``with`` lasts. Samples go through in blocks of mixed lengths.

    Raises
    ------
    ToolError
        If the compiler is missing or refuses the text.
    """

    def __init__(self, package: Package, realization: Realization, extra_flags: list[str] | None = None) -> None:
        self.package, self.realization = package, realization
        self.tool = package.written_in.tools[0]
        self.compiler = find(self.tool)
        self.name = version(self.tool)
        super().__init__("combe-proof-")
        is_cpp = package.code.language == "c++"
        self.ending = "cpp" if is_cpp else "c"
        self.flags = [*(CPP_STRICT if is_cpp else STRICT), *(extra_flags or [])]
        self.body: list[str] = []
        if package.code.is_header_alone:
            self.flags.append(f"-D{package.name.upper()}_BODY")
        package.write(self.folder, is_lasting=False)

    def build(self) -> None:
        """The delivered check and a program that takes a stream."""
        up, down = self.realization.ratio
        harness = rendered("proof", "harness.c.j2", {
            "name": self.package.name, "file": self.package.file, "types": self.package.types,
            "is_header_only": self.ending == "cpp", "changes_rate": self.realization.changes_rate,
            "most_outputs": -(-4096 * up // down) + 64 * up,
        })  # fmt: skip
        (self.folder / f"harness.{self.ending}").write_text(harness, encoding="utf-8")
        if self.ending == "c" and not self.package.code.is_header_alone:
            self.body = [f"{self.package.file}.o"]
            run([self.compiler, *self.flags, "-c", f"{self.package.file}.c"], self.folder)
        self._compile("check", f"{self.package.file}_check.{self.ending}")
        self._compile("stream", f"harness.{self.ending}")

    def _compile(self, program: str, main: str) -> None:
        run([self.compiler, *self.flags, "-o", program, *self.body, main], self.folder)

    def check(self) -> None:
        """Run the delivered check as a user would; it fails by its status."""
        run([str(self.folder / "check")], self.folder)

    @property
    def types(self) -> tuple[np.dtype[Any], np.dtype[Any]]:
        """What the program takes and gives."""
        if self.package.code.is_float:
            kind: np.dtype[Any] = np.dtype(np.float32 if self.package.code.number == "single" else np.float64)
            return kind, kind
        entry, result = (
            np.dtype(c_type(each).removesuffix("_t")) for each in (self.realization.input, self.realization.output)
        )
        return entry, result

    def take(self, samples: NDArray[Any]) -> NDArray[Any]:
        """The same for a signal that comes piece by piece: it goes on where the piece before ended. Not for changes of rate,
        of whose outputs a piece has now one more and now one less."""
        return self.run(samples, "past")

    def run(self, samples: NDArray[Any], past: str = "-") -> NDArray[Any]:
        """Raw integers for raw integers; in floating point real values for raw integers.

        Parameters
        ----------
        past
            A file that keeps the state for the next run, and has it from the one before.

        Raises
        ------
        ToolError
            If the program crashes, hangs, or gives fewer samples than it took.
        """
        entry, result = self.types
        is_float = self.package.code.is_float
        given = samples * self.realization.input.step if is_float else samples
        said = run([str(self.folder / "stream"), past, *BLOCK_LENGTHS], self.folder, given.astype(entry).tobytes())
        heard = np.frombuffer(said, dtype=result)
        wanted = self.realization.output_count(len(samples))
        if len(heard) != wanted:
            raise ToolError(f"the program wrote {len(heard)} samples instead of {wanted}", "proof")
        return heard.astype(np.float64 if is_float else np.int64)
