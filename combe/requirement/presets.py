"""Requirements to start from."""

from __future__ import annotations

from combe.requirement.bands import Band, Limit, Requirement

SHAPES = ("lowpass", "highpass", "bandpass", "bandstop")


def shape(name: str, sample_rate_hz: float) -> Requirement:
    """A simple requirement of one of the four basic shapes, its edges at round shares of the sample rate."""
    edges = {
        "lowpass": (True, (0.0, 0.15, 0.2, 0.5)),
        "highpass": (False, (0.0, 0.15, 0.2, 0.5)),
        "bandpass": (False, (0.0, 0.1, 0.15, 0.3, 0.35, 0.5)),
        "bandstop": (True, (0.0, 0.1, 0.15, 0.3, 0.35, 0.5)),
    }
    keeps, stops = edges[name]
    bands = []
    for index in range(0, len(stops), 2):
        start, stop = (float(f"{share * sample_rate_hz:.6g}") for share in stops[index : index + 2])
        if keeps:
            bands.append(
                Band(
                    f"pass {index // 2 + 1}", start, stop, Limit.level(0.1, start, stop), Limit.level(-0.1, start, stop)
                )
            )
        else:
            bands.append(Band(f"stop {index // 2 + 1}", start, stop, Limit.level(-60.0, start, stop)))
        keeps = not keeps
    return Requirement(name, sample_rate_hz, tuple(bands), "linear")
