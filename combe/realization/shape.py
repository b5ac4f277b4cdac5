"""The shape of a realization file."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

from combe.realization.cic import MOST_DELAY, MOST_ORDER
from combe.realization.formats import OVERFLOWS, ROUNDINGS
from combe.realization.network import MOST_FACTOR
from combe.realization.section import SECTION_FORMS
from combe.realization.stages import FORMS, MOST_BRANCHES
from combe.schema import one_of, whole

Text = Annotated[str, Meta(description="a text")]
Whole = Annotated[int, Meta(description="a whole number")]
Rounding = Annotated[Literal["nearest-even", "nearest-up", "floor", "toward-zero"], one_of(ROUNDINGS)]
Overflow = Annotated[Literal["saturate", "wrap"], one_of(OVERFLOWS)]
TermShape = Annotated[tuple[str, Whole, Whole, Any], Meta(description="[signal, delay, integer, format]")]
"""Formats stay as they are here: their own reader tells what is wrong with them."""


class TapSumShape(Struct, tag_field="kind", tag="tap-sum", forbid_unknown_fields=True):
    """An exact sum of taps."""

    coefficients: Annotated[list[Whole], Meta(description="a list of integers")]
    coefficient: Any = None
    accumulator: Any = None
    form: Annotated[Literal["direct", "folded", "transposed", "polyphase"], one_of(FORMS)] = "direct"
    branches: Annotated[int, whole(1, MOST_BRANCHES)] = 1
    up: Annotated[int, whole(1, MOST_FACTOR)] = 1
    down: Annotated[int, whole(1, MOST_FACTOR)] = 1


class CicShape(Struct, tag_field="kind", tag="cic", forbid_unknown_fields=True):
    """Integrators and combs."""

    order: Annotated[int, whole(1, MOST_ORDER)]
    up: Annotated[int, whole(1, MOST_FACTOR)] = 1
    down: Annotated[int, whole(1, MOST_FACTOR)] = 1
    delay: Annotated[int, whole(1, MOST_DELAY)] = 1
    accumulator: Any = None
    discarded: Annotated[tuple[Whole, ...], Meta(description="a list of integers")] = ()
    form: Annotated[Literal["cic"], one_of(("cic",))] = "cic"


class SectionShape(Struct, tag_field="kind", tag="section", forbid_unknown_fields=True):
    """A second-order section in direct form I."""

    b: Annotated[tuple[Whole, Whole, Whole], Meta(description="3 integers")]
    a: Annotated[tuple[Whole, Whole], Meta(description="2 integers")]
    rounding: Rounding
    overflow: Overflow
    numerator: Any = None
    denominator: Any = None
    accumulator: Any = None
    to: Any = None
    form: Annotated[Literal["direct-1"], one_of(SECTION_FORMS)] = "direct-1"


class NodeShape(Struct, forbid_unknown_fields=True):
    """One sum of a network."""

    name: Annotated[str, Meta(description="a name")]
    terms: Annotated[list[TermShape], Meta(description="a list of terms")]
    accumulator: Any = None
    to: Any = None
    rounding: Rounding = "floor"
    overflow: Overflow = "wrap"


class NetworkShape(Struct, tag_field="kind", tag="network", forbid_unknown_fields=True):
    """Sums in the order in which they are computed."""

    nodes: Annotated[list[NodeShape], Meta(description="a list of nodes")]
    output: Annotated[str, Meta(description="a node's name")]
    form: Text = "network"
    up: Annotated[int, whole(1, MOST_FACTOR)] = 1
    down: Annotated[int, whole(1, MOST_FACTOR)] = 1
    phase: Any = None


class RequantizeShape(
    Struct, tag_field="kind", tag="requantize", forbid_unknown_fields=True, rename={"source": "from"}
):
    """From one format to another."""

    rounding: Rounding
    overflow: Overflow
    source: Any = None
    to: Any = None


StageShape = TapSumShape | CicShape | SectionShape | NetworkShape | RequantizeShape


class RealizationShape(Struct):
    """What is read of a realization file; remarks beside it are nobody's orders."""

    sample_rate_hz: Annotated[float, Meta(gt=0, description="the sample rate in Hz, above zero")]
    stages: Annotated[list[StageShape], Meta(description="a list of stages")]
    name: Text = "filter"
    structure: Annotated[str, Meta(description="a structure")] = "direct"
    input: Any = None
    output: Any = None
