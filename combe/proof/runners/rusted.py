"""A delivered module of Rust, built with every warning an error and every overflow checked, and run on this machine."""

from __future__ import annotations

from combe.delivery.package import Package
from combe.delivery.rust.types import struct_name
from combe.proof.runners.compiled import Compiled
from combe.proof.tools import run
from combe.realization.stages import Realization
from combe.templates import rendered

FLAGS = ["--edition", "2021", "-O", "-D", "warnings", "-C", "overflow-checks=on"]


class Rusted(Compiled):
    """A program in a folder of its own for as long as the ``with`` lasts.

    Raises
    ------
    ToolError
        If the compiler is missing or refuses the text.
    """

    def __init__(self, package: Package, realization: Realization) -> None:
        super().__init__(package, realization)
        self.ending, self.flags = "rs", FLAGS

    def build(self) -> None:
        """The module alone without the standard library, the delivered check, and a program that takes a stream."""
        name = self.package.name
        harness = rendered("proof", "harness.rs.j2", {"name": name, "cls": struct_name(name)})
        (self.folder / "harness.rs").write_text(harness, encoding="utf-8")
        run([self.compiler, *FLAGS, "--crate-type", "lib", "--emit", "metadata", f"{name}_no_std.rs"], self.folder)
        self._compile("check", f"{name}_check.rs")
        self._compile("stream", "harness.rs")
