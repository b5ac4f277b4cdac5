"""What a filter does: magnitude, phase, delay, its answer in time, and its true extremes over a band."""

from combe.responses.evaluate import frequency_response, gain_db, log_slope, uniform_response
from combe.responses.extremes import Extreme, gain_peak, stays_below, worst_point, worst_points
from combe.responses.phase import group_delay, unwrapped_phase
from combe.responses.time import impulse_response, step_response

__all__ = [
    "Extreme", "frequency_response", "gain_db", "gain_peak", "group_delay", "impulse_response", "log_slope",
    "stays_below", "step_response", "uniform_response", "unwrapped_phase", "worst_point", "worst_points",
]  # fmt: skip
