"""The templates that text is written from, read once for the whole process."""

from __future__ import annotations

from functools import cache
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined

FOLDERS = ("delivery/c", "delivery/hdl", "delivery/rust", "proof", "proof/cores")
"""Where they lie."""


@cache
def templates(folder: str) -> Environment:
    """The templates of a folder; a name that nobody gave is a fault, not an empty place."""
    return Environment(
        loader=PackageLoader("combe", folder), trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True,
        undefined=StrictUndefined,
    )  # fmt: skip


def rendered(folder: str, template: str, values: dict[str, Any]) -> str:
    """A template filled in."""
    return templates(folder).get_template(template).render(values)
