"""A module of Rust from a realization: nothing but ``core``, no heap, no unsafe block."""

from combe.delivery.rust.writer import rust_package

__all__ = ["rust_package"]
