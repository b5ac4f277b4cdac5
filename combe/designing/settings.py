"""Every setting of every method: name, unit, what it means, its range and what holds without it."""

from __future__ import annotations

from combe.designing.task import Setting

MOST_SECTIONS, LARGEST_RADIUS, LONGEST_FIR = 16, 0.99995, 800
"""Of an equalizer, of a pole, of a filter that is followed."""

RIPPLE = Setting("ripple_db", "dB", "passband ripple from top to bottom, with a cut-off", 1e-6, 12.0, 0.5)
ATTENUATION = Setting("attenuation_db", "dB", "stopband attenuation, with a cut-off", 0.5, 300.0, 60.0)
FIR_RIPPLE = Setting("ripple_db", "dB", "passband ripple from top to bottom, with a cut-off", 1e-6, 12.0, 0.2)
FIR_ATTENUATION = Setting("attenuation_db", "dB", "stopband attenuation, with a cut-off", 0.5, 200.0, 60.0)
LEVELS = (FIR_RIPPLE, FIR_ATTENUATION)
CLASSIC = {
    "chebyshev": (RIPPLE,), "inverse-chebyshev": (ATTENUATION,), "elliptic": (RIPPLE, ATTENUATION),
}  # fmt: skip

WINDOW_BETA = Setting("beta", "", "shape of the window", 0.0, 60.0)
KAISER_DOWN = Setting("attenuation_db", "dB", "ripple beside a step, instead of beta", 0.0, 300.0)
WINDOW_DOWN = Setting("attenuation_db", "dB", "side lobes of the window", 10.0, 300.0)
WINDOW_SIGMA = Setting("sigma", "", "standard deviation over half the length", 0.05, 2.0)
WINDOW_TAPER = Setting("taper", "", "share of the length that is tapered", 0.0, 1.0)
FRACTIONAL_DELAY = Setting("delay_samples", "samples", "the whole delay, best near half the order", 0.0, 400.0)
FRACTIONAL_BAND = Setting("stop_hz", "Hz", "fit from 0 to here; without it maximally flat at 0", 0.0, 1e15)
NYQUIST_BANDS = Setting("bands", "", "M: every M-th tap from the middle is zero", 2, 64)
DEGREE = Setting("degree", "", "degree of the polynomial", 0, 60, 3)
DERIVATIVE = Setting("derivative", "", "which derivative comes out, 0 for the value itself", 0, 8, 0)
PULSE = (
    Setting("samples_per_symbol", "samples", "samples in one symbol", 1.0, 1000.0, 8.0),
    Setting("roll_off", "", "excess bandwidth, 0 for none to 1 for twice as wide", 0.0, 1.0, 0.25),
)
SHAPING = (
    *PULSE,
    Setting("error_vector_db", "dB", "largest error vector behind a matched receiver", -120.0, -5.0, -50.0),
)
LOW_DELAY = Setting("delay_samples", "samples", "delay to aim at", 0.0, 10_000.0)
TURNED = (
    Setting("start_hz", "Hz", "where the passband starts", 0.0, 1e15),
    Setting("stop_hz", "Hz", "where the passband ends", 0.0, 1e15),
    Setting("ripple_db", "dB", "largest deviation to either side, where no order is given", 1e-6, 6.0, 0.1),
)
POINTS_BETA = Setting("beta", "", "shape of a Kaiser window over the taps, 0 for none", 0.0, 30.0, 0.0)
STRETCH = Setting("stretch", "", "by how much the model filter is stretched", 2, 64)
EQUALIZER_SECTIONS = Setting(
    "equalizer_sections", "", "allpass sections; the fewest that keep the spread without it", 1, MOST_SECTIONS
)
RADIUS = Setting("largest_radius", "", "no pole lies further from the origin", 0.1, 0.999999, LARGEST_RADIUS)
FIR_ORDER = Setting("fir_order", "", "order of the FIR to follow; the search finds one without it", 2, LONGEST_FIR)
CENTER = Setting("center_hz", "Hz", "center of the notch, peak or resonance", 0.0, 1e15)
WIDTH = Setting("width_hz", "Hz", "width between the points halfway in power (peak: in gain) to the center", 0.0, 1e15)
Q = Setting("q", "", "center over width, instead of the width", 1e-3, 1e6)
GAIN = Setting("gain_db", "dB", "gain at the center or on the shelf", -60.0, 60.0, 6.0)
CORNER = Setting("corner_hz", "Hz", "where half the gain (in dB) is reached", 0.0, 1e15)
SPACING = Setting("spacing_hz", "Hz", "distance between the teeth; the sample rate over it is rounded", 0.0, 1e15)
DEPTH = Setting("depth", "", "1 for teeth that block altogether, less for shallower ones", 0.0, 1.0, 1.0)
