"""The shape of a requirement file."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from msgspec import Meta, Struct

Hz = Annotated[float, Meta(description="a frequency in Hz")]
Text = Annotated[str, Meta(description="a text")]
Seconds = Annotated[float, Meta(ge=0, description="seconds, zero or more")]
Point = Annotated[tuple[float, float], Meta(description="[hz, db]")]
Gain = Annotated[float | list[Point], Meta(description="a gain in dB, or a list of [hz, db] points")]


class BandShape(Struct, forbid_unknown_fields=True):
    """One band: with ``min_db`` to be kept, without to be blocked."""

    start_hz: Hz
    stop_hz: Hz
    max_db: Gain
    min_db: Gain | None = None
    name: Text | None = None


Factor = Annotated[int, Meta(ge=1, le=4096, description="a whole number from 1 to 4096")]


class RateShape(Struct, forbid_unknown_fields=True):
    """A change of rate."""

    up: Factor = 1
    down: Factor = 1
    alias_db: Annotated[float, Meta(description="a level in dB")] | None = None
    image_db: Annotated[float, Meta(description="a level in dB")] | None = None
    protect: Annotated[Literal["passbands", "everything"], Meta(description='one of "passbands", "everything"')] = (
        "passbands"
    )


class RequirementShape(Struct, forbid_unknown_fields=True):
    """The whole file; its first two keys are looked at before anything else."""

    sample_rate_hz: Annotated[float, Meta(gt=0, description="the sample rate in Hz, above zero")]
    bands: Annotated[list[BandShape], Meta(description="a list of bands")]
    format: Any = None
    version: Any = None
    name: Text = "filter"
    phase: Annotated[Literal["linear", "any"], Meta(description='one of "linear", "any"')] = "any"
    max_delay_s: Seconds | None = None
    max_delay_spread_s: Seconds | None = None
    max_multiplies: Annotated[int, Meta(ge=0, le=10**9, description="a whole number from 0 to 1000000000")] | None = (
        None
    )
    max_cycles: Annotated[float, Meta(ge=0, description="clock cycles a sample, zero or more")] | None = None
    max_multipliers: Annotated[int, Meta(ge=0, le=10**6, description="a whole number from 0 to 1000000")] | None = None
    clock_hz: Annotated[float, Meta(ge=0, description="the clock of the device in Hz")] | None = None
    note: Text = ""
    rate: RateShape | None = None
