"""The Alder Combe bat survey, made up: the recorder's band filter."""

from __future__ import annotations

from combe.benching.setup import BenchSetup
from combe.project.document import KEPT_PARTS, DesignChoice, Kept, Member, Project, Variant, project_of
from combe.requirement import Band, Limit, Requirement
from combe.requirement.rates import RateChange
from combe.rounding.choices import Choices
from combe.values import replace


def demo_project() -> Project:
    """An ultrasonic microphone at 250 kHz: wind and stream below 12 kHz, calls from 18 to 110 kHz, images above.

    Four taps more than the shortest leave room for coefficients of 16 bits; samples come from a 12-bit converter.
    """
    bands = (
        _block("wind", 0, 12_000, -60),
        _keep("calls", 18_000, 110_000, 0.1),
        _block("images", 118_000, 125_000, -60),
    )
    requirement = Requirement("Bat band", 250_000.0, bands, "linear", max_delay_s=400e-6)
    return Project(
        "Alder Combe recorder",
        requirement,
        DesignChoice("equiripple", 112),
        Choices(16, "", "s12f11", "s16f15"),
        "calls",
    )


def wake_up_project() -> Project:
    """The recorder's wake-up highpass: cheap, recursive, any phase, so that a microcontroller can run it all night."""
    bands = (_block("wind", 0, 9_000, -50), _keep("calls", 15_000, 125_000, 0.5))
    requirement = Requirement("Wake-up highpass", 250_000.0, bands, "any", max_multiplies=20)
    return Project(
        "Alder Combe wake-up",
        requirement,
        DesignChoice("elliptic"),
        Choices(16, "", "s12f11", "s16f15"),
        "wake_up",
    )


def recorder_project() -> Project:
    """The whole recorder: the band filter feeds a notch on the regulator's whine and that an envelope filter; the wake-up
    highpass listens beside it; a temperature probe is smoothed on its own; a copy
    for ears is kept at an eighth of the rate; pulses for the radio that sends counts down to the barn."""
    calls, wake_up = demo_project().member, wake_up_project().member
    bench = BenchSetup(
        "survey night + sine 6 kHz -20 dB",
        15_000,
        through=("ideal", "bit-true"),
        asks=("signal to noise at least 60 dB", "6 kHz at most -60 dB"),
    )
    calls = replace(calls, variants=_variants(calls), bench=bench)
    bands = (
        _keep("low calls", 18_000, 58_000, 0.5),
        _block("whine", 62_200, 62_800, -40),
        _keep("high calls", 67_000, 110_000, 0.5),
    )
    notch = Member(
        Requirement("Whine notch", 250_000.0, bands, "any"), DesignChoice("elliptic", holds_with_bits=18),
        Choices(18, "", "s16f15", "s16f15"), "notch", source="calls",
    )  # fmt: skip
    envelope = Member(
        Requirement("Envelope, phase turned by 90°", 250_000.0, (_keep("calls", 18_000, 107_000, 0.2),), "linear"),
        DesignChoice("equiripple", symmetry=-1, holds_with_bits=14), Choices(14, "", "s16f15", "s16f15"), "envelope",
        source="notch",
    )  # fmt: skip
    slow = (_keep("weather", 0, 0.4, 0.2), _block("flicker", 1.5, 8, -55))
    probe = Member(
        Requirement("Probe smoother", 16.0, slow, "linear"), DesignChoice("equiripple", holds_with_bits=14),
        Choices(14, "", "u10f10", "u16f16"), "probe",
    )  # fmt: skip
    return project_of("Alder Combe recorder", (calls, notch, envelope, wake_up, probe, _audible(), _link()))


def audible_project() -> Project:
    """The recorder with the copy for ears open: a filter that changes the rate."""
    recorder = recorder_project()
    return recorder.opened([member.code_name for member in recorder.members].index("audible"))


def _audible() -> Member:
    """What is left for ears of a night: the stream, owls and wind below 12 kHz, at an eighth of the rate."""
    asked = Requirement(
        "Audible copy", 250_000.0, (_keep("night", 0, 12_000, 0.1),), "linear", rate=RateChange(1, 8, -70.0)
    )  # fmt: skip
    return Member(
        asked,
        DesignChoice("equiripple", plan="cheapest", holds_with_bits=16),
        Choices(16, "", "s12f11", "s16f15"),
        "audible",
    )


def _link() -> Member:
    """Counts go down to the barn by radio: four levels a symbol, four samples each, beside other people's channels."""
    bands = (
        _keep("flat", 0, 22_000, 0.3),
        _block("beside", 42_000, 62_000, -40),
        _block("beyond", 66_000, 125_000, -55),
    )
    asked = Requirement("Radio link", 250_000.0, bands, "linear", rate=RateChange(4, 1))
    bench = BenchSetup(
        "symbols points 4 -9 dB",
        6000,
        through=("ideal", "bit-true"),
        asks=(
            "error vector at most -55 dB",
            "spectrum from 42 kHz to 62 kHz at most -40 dB",
            "spectrum from 66 kHz to 125 kHz at most -55 dB",
        ),
    )
    settings = (("error_vector_db", -58.0), ("roll_off", 0.25))
    return Member(
        asked, DesignChoice("pulse-shaping", settings=settings, holds_with_bits=14), Choices(14, "", "s12f11", "s16f15"), "link",
        bench=bench,
    )  # fmt: skip


def _variants(calls: Member) -> tuple[Variant, ...]:
    """How the band filter was flown in May, and one that fits a smaller logger."""
    kept = Kept(**{key: getattr(calls, key) for key in KEPT_PARTS})
    small = (
        _block("wind", 0, 11_000, -45),
        _keep("calls", 20_000, 105_000, 0.25),
        _block("images", 118_000, 125_000, -45),
    )
    asked = replace(calls.requirement, bands=small)
    return (
        Variant("flown in May", "before the second microphone",
                replace(kept, design=DesignChoice("equiripple", 116), arithmetic=replace(kept.arithmetic, coefficient_bits=18))),
        Variant("small logger", "for boards without the second memory bank",
                replace(kept, requirement=asked, design=DesignChoice("equiripple", holds_with_bits=12), arithmetic=replace(kept.arithmetic, coefficient_bits=12))),
    )  # fmt: skip


def fresh_project() -> Project:
    """What *New* starts from: a lowpass to be changed."""
    bands = (_keep("signal", 0, 8_000, 0.1), _block("rest", 12_000, 24_000, -60))
    return Project("Untitled", Requirement("New filter", 48_000.0, bands, "linear"), code_name="filter_1")


def _keep(name: str, start: float, stop: float, ripple_db: float) -> Band:
    return Band(name, start, stop, Limit.level(ripple_db, start, stop), Limit.level(-ripple_db, start, stop))


def _block(name: str, start: float, stop: float, db: float) -> Band:
    return Band(name, start, stop, Limit.level(db, start, stop))
