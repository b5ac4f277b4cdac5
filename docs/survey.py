"""The Alder Combe recorder from a script: its filters designed, their coefficient widths swept, a figure drawn.

Run it with ``python docs/survey.py [FOLDER]``; the figure and a table of the sweep are written into the folder.
"""

from __future__ import annotations

import sys
from pathlib import Path

import matplotlib

import combe

matplotlib.use("Agg")
import matplotlib.pyplot as plt
import numpy as np

WIDTHS = range(8, 21, 2)


def main(folder: Path) -> None:
    """Everything, step by step."""
    # What the recorder asks of its filters stands in the demo's project; any project file would do.
    from combe.project.demo import recorder_project

    project = recorder_project()
    print(combe.table(project))

    figure, (magnitude, margins) = plt.subplots(1, 2, figsize=(10, 4), layout="constrained")
    rows = ["filter,bits,least margin dB"]
    for member in project.members:
        asked = member.requirement
        if asked.sample_rate_hz != 250_000:
            continue  # the probe runs in an octave of its own
        choice = member.design
        # A design is one value: what was asked, how it was made, the exact coefficients.
        made = combe.design(
            asked, choice.method, choice.order, symmetry=choice.symmetry, holds_with_bits=choice.holds_with_bits
        )
        print(f"\n{made!r}")
        print(combe.table(made))

        # The response is that of the exact filter; a realization would give that of its integers.
        hz = np.linspace(0, asked.sample_rate_hz / 2, 2000)
        size = np.maximum(np.abs(combe.response(made, hz)), 1e-6)
        magnitude.plot(hz / 1000, 20 * np.log10(size), label=member.code_name, linewidth=1)

        # How wide have the coefficients to be? The least margin over all limits in dB, width by width.
        least = []
        for bits in WIDTHS:
            try:
                realized = combe.realize(made, bits, input=member.arithmetic.input, output=member.arithmetic.output)
            except combe.CombeError:
                least.append(np.nan)  # at this width a pole would leave the unit circle
                continue
            least.append(min(line.margin for line in combe.lines(realized) if line.unit == "db"))
            rows.append(f"{member.code_name},{bits},{least[-1]:.4f}")
        margins.plot(WIDTHS, least, marker="o", markersize=3, linewidth=1, label=member.code_name)

    magnitude.set(xlabel="kHz", ylabel="dB", ylim=(-100, 5), title="exact filters")
    margins.axhline(0, color="black", linewidth=0.8)
    margins.set(xlabel="coefficient bits", ylabel="least margin, dB", ylim=(-4, 1), title="what rounding leaves")
    magnitude.legend(fontsize=8)
    folder.mkdir(parents=True, exist_ok=True)
    figure.savefig(folder / "survey.png", dpi=110)
    (folder / "widths.csv").write_text("\n".join(rows) + "\n", encoding="utf-8")
    print(f"\nsurvey.png and widths.csv are in {folder}")


if __name__ == "__main__":
    main(Path(sys.argv[1] if len(sys.argv) > 1 else "survey-out"))
