"""The faults: one line each, and the tests that ought to notice."""

from __future__ import annotations

from typing import NamedTuple


class Fault(NamedTuple):
    """``old`` stands exactly once in ``file`` and becomes ``new``."""

    file: str
    old: str
    new: str
    tests: str
    what: str


FAULTS = (
    # -- code for processors
    Fault(
        "delivery/c/stages.py",
        "source.bits + (not source.signed) <= 16",
        "source.bits <= 16",
        "test_small_truths test_code_choices test_networks test_target",
        "unsigned 16-bit data through the dual multiply-accumulate",
    ),
    Fault(
        "delivery/c/stages.py",
        "low >= -(1 << 31) and high < 1 << 31 and all(",
        "low >= -(1 << 32) and high < 1 << 32 and all(",
        "test_small_truths test_code_choices test_delivery test_target",
        "the limit of a 32-bit sum doubled",
    ),
    Fault(
        "delivery/c/stages.py",
        "high < 1 << 31 and all(",
        "high < 1 << 31 or all(",
        "test_small_truths test_code_choices test_delivery test_target",
        "or for and in the check of a sum's span",
    ),
    Fault(
        "delivery/c/stages.py",
        '"below_half": (1 << (shift - 1)) - 1',
        '"below_half": (1 << (shift - 1))',
        "test_small_truths test_code_choices test_delivery test_target",
        "ties the wrong way in the quick rounding",
    ),
    Fault(
        "delivery/c/types.py",
        'if c_name == "int32_t" and value == -(1 << 31):',
        'if c_name == "int32_t" and value == -(1 << 30):',
        "test_code_choices test_delivery",
        "the least 32-bit constant written as it is",
    ),
    Fault(
        "delivery/c/rounding.py",
        'literal(-target.least, f"u{narrow}")',
        'literal(-target.least - 1, f"u{narrow}")',
        "test_code_choices test_delivery test_networks",
        "a limit one step beside its place",
    ),
    Fault(
        "delivery/c/rounding.py",
        "source.most + (1 << shift) < 1 << (width - 1)",
        "source.most < 1 << (width - 1)",
        "test_code_choices test_delivery test_networks",
        "no room for the rounding's half",
    ),
    # -- circuits
    Fault(
        "delivery/hdl/build.py",
        "    build.latency += 1\n    port =",
        "    build.latency += 2\n    port =",
        "test_circuits",
        "one clock too many told in a circuit",
    ),
    Fault(
        "proof/agreement.py",
        "return self.samples > 0 and self.differences == 0",
        "return True",
        "test_runners",
        "a comparison that always says yes",
    ),
    Fault(
        "proof/agreement.py",
        "return self.samples > 0 and self.differences == 0",
        "return self.differences == 0",
        "test_runners",
        "nothing compared is no proof",
    ),
    Fault(
        "proof/agreement.py",
        "count = max(len(found), len(wanted))",
        "count = min(len(found), len(wanted))",
        "test_runners",
        "outputs that are missing aren't counted",
    ),
    Fault(
        "proof/hdl.py",
        "return bool(self.simulated) and all(",
        "return all(",
        "test_circuits test_runners",
        "no simulator is no proof",
    ),
    # -- integers
    Fault(
        "running/run.py",
        "return max(widths) <= 62 and most <= 62",
        "return max(widths) <= 64 and most <= 64",
        "test_small_truths test_arithmetic test_networks",
        "the guard of compiled loops at 64 bits",
    ),
    Fault(
        "realization/formats.py",
        "return (1 << (self.bits - 1)) - 1 if self.signed",
        "return (1 << (self.bits - 1)) if self.signed",
        "test_small_truths test_arithmetic test_properties",
        "the largest integer one too large",
    ),
    Fault(
        "realization/formats.py",
        "return self.least <= raw <= self.most",
        "return self.least < raw <= self.most",
        "test_small_truths test_arithmetic test_properties",
        "the least integer doesn't fit",
    ),
    Fault(
        "realization/formats.py",
        "(~least).bit_length() if least < 0 else 0) + 1)",
        "(-least).bit_length() if least < 0 else 0) + 1)",
        "test_small_truths test_arithmetic test_properties test_sections",
        "a bit too many for a power of two",
    ),
    Fault(
        "running/simulate.py",
        "(signal < entry.least) | (signal > entry.most)",
        "(signal < entry.least) & (signal > entry.most)",
        "test_arithmetic test_properties",
        "samples outside the format aren't refused",
    ),
    Fault(
        "running/compiled.py",
        "span = np.int64(most) - np.int64(least) + np.int64(1)",
        "span = np.int64(most) - np.int64(least)",
        "test_small_truths test_sections test_networks test_properties",
        "wrapping one step short",
    ),
    # -- rounding
    Fault(
        "rounding/assemble.py",
        "MOST_TRIES, COARSEST = 40, 64",
        "MOST_TRIES, COARSEST = 1, 64",
        "test_small_truths test_networks test_sections test_signals",
        "formats are tried once",
    ),
    Fault(
        "rounding/assemble.py",
        "fractions[index] -= max(1, ceil(log2(beyond))) if np.isfinite(beyond) else 1",
        "fractions[index] -= 0",
        "test_small_truths test_networks test_sections test_signals",
        "tight formats aren't widened",
    ),
    Fault(
        "rounding/assemble.py",
        "for draft in drafts]\n    flow, _",
        "for draft in drafts[:1]] + drafts[1:]\n    flow, _",
        "test_networks test_sections",
        "only the first section is pruned",
    ),
    # -- analysis
    Fault(
        "analysis/certified.py",
        "allowed.over(low, high)\n        a, b =",
        "allowed.over(low, high) * 2\n        a, b =",
        "test_certified",
        "twice the gain allowed in a certificate",
    ),
    Fault(
        "analysis/certified.py",
        "* half**3 / 6",
        "* half**3 / 360",
        "test_small_truths test_certified",
        "the certified remainder divided by 60",
    ),
    Fault(
        "analysis/certified.py",
        "if min(values) > 0:",
        "if max(values) > 0:",
        "test_certified",
        "positive somewhere is positive everywhere",
    ),
    Fault(
        "analysis/noise.py",
        "discrete = 1 + 2 * fine",
        "discrete = 1 - fine",
        "test_small_truths test_signals test_networks test_arithmetic",
        "variance of nearest-even",
    ),
    Fault(
        "analysis/noise.py",
        "discrete = 12 * (1 - 2.0**-bits)",
        "discrete = 6 * (1 - 2.0**-bits)",
        "test_small_truths test_signals test_networks",
        "variance toward zero",
    ),
    Fault(
        "analysis/noise.py",
        '* 2.0**-bits / 2) if step.rounding == "nearest-up"',
        '* 2.0**-bits / 4) if step.rounding == "nearest-up"',
        "test_small_truths test_signals test_networks test_arithmetic",
        "mean of nearest-up",
    ),
    Fault(
        "analysis/noise.py",
        "return float(-step.result.step * (1 - 2.0**-bits) / 2)",
        "return float(step.result.step * (1 - 2.0**-bits) / 2)",
        "test_small_truths test_signals test_networks",
        "mean of floor upwards",
    ),
    Fault(
        "analysis/noise.py",
        "return max(step.shift - shared, 0)",
        "return max(step.shift, 0)",
        "test_small_truths test_signals test_networks test_arithmetic",
        "bits that are always zero counted",
    ),
    Fault(
        "analysis/linear.py",
        "return self.positive - self.negative + self.tail",
        "return self.positive - self.negative",
        "test_small_truths test_networks test_sections test_signals",
        "the tail of a norm dropped",
    ),
    Fault(
        "analysis/bounds.py",
        "norms.negative * low_in + norms.tail * far",
        "norms.negative * low_in",
        "test_small_truths test_networks test_sections test_signals",
        "the tail of a bound dropped",
    ),
    Fault(
        "analysis/bounds.py",
        "high += path.positive * up + path.negative * down",
        "high += path.positive * up",
        "test_small_truths test_networks test_sections test_signals",
        "errors counted one way",
    ),
    # -- responses
    Fault(
        "responses/extremes.py",
        "POINTS_PER_TAP = 16",
        "POINTS_PER_TAP = 3",
        "test_small_truths test_response",
        "extremes scanned at 3 points a tap",
    ),
    Fault(
        "responses/extremes.py",
        "rising, falling = slope[:-1] >= 0, slope[1:] < 0",
        "rising, falling = slope[:-1] > 0, slope[1:] < 0",
        "test_small_truths test_response",
        "a flat top is no extreme",
    ),
    Fault(
        "responses/evaluate.py",
        "derivative / value - 0.5j * source.order",
        "derivative / value - 0.5j * (source.order + 1)",
        "test_response",
        "half a sample of delay too much",
    ),
    Fault(
        "responses/evaluate.py",
        "logarithm = -1j * omega * source.delay",
        "logarithm = 1j * omega * source.delay",
        "test_response",
        "a delay that comes early",
    ),
    # -- design
    Fault(
        "designing/equiripple/problem.py",
        "return highest + TRANSITION_ALLOWANCE_DB",
        "return highest + 3.0",
        "test_equiripple test_design_parts",
        "the cap on transitions at 3 dB",
    ),
    Fault(
        "designing/caps.py",
        "if peak.margin_db(1) < -1e-6]",
        "if peak.margin_db(1) < -1e6]",
        "test_equiripple test_design_parts",
        "bulges go unseen",
    ),
    Fault(
        "designing/nearest.py",
        "(low, middle) if _keeps(figure, requirement, middle, method, order) else (middle, high)",
        "(middle, high) if _keeps(figure, requirement, middle, method, order) else (low, middle)",
        "test_small_truths test_contenders",
        "a relaxation halved in the wrong direction",
    ),
    Fault(
        "designing/nearest.py",
        "most = min(most, 2 * requirement.max_multiplies - 1)",
        "most = min(most, requirement.max_multiplies - 1)",
        "test_small_truths test_contenders",
        "symmetry forgotten when multiplies are counted",
    ),
    Fault(
        "designing/nearest.py",
        'value = float(f"{value * 1.0005:.4g}")',
        'value = float(f"{value * 0.9995:.4g}")',
        "test_small_truths test_contenders",
        "a relaxed delay that isn't enough",
    ),
    Fault(
        "designing/classic/digital.py",
        'return np.full(count, -1.0 + 0j)\n    if place.shape == "highpass"',
        'return np.full(count, 1.0 + 0j)\n    if place.shape == "highpass"',
        "test_classics",
        "zeros at infinity at the wrong end",
    ),
    Fault(
        "designing/classic/digital.py",
        "np.real(half * root.conj()) >= 0",
        "np.real(half * root.conj()) < 0",
        "test_small_truths test_classics",
        "the smaller root solved for",
    ),
    Fault(
        "filters/pairing.py",
        "poles.sort(key=lambda pair: abs(1 - abs(pair[0])))",
        "poles.sort(key=lambda pair: abs(pair[0]))",
        "test_small_truths test_sections test_recursive test_classics",
        "poles paired from the inside",
    ),
    Fault(
        "filters/pairing.py",
        "b0, b1, b2, delays = 0.0, b0, b1, delays - 1",
        "b0, b1, b2, delays = 0.0, b0, b1, delays - 2",
        "test_small_truths test_sections test_recursive test_classics test_given",
        "a delay lost",
    ),
    # -- ledger
    Fault(
        "ledger/cost.py",
        "max(used - 1, 0), len(taps) - 1)",
        "max(used, 0), len(taps) - 1)",
        "test_ledger test_contenders",
        "an add too many",
    ),
    Fault(
        "ledger/cost.py",
        "(len(taps) + 1) // 2] if source.symmetry",
        "len(taps) // 2] if source.symmetry",
        "test_ledger test_contenders",
        "the middle tap forgotten",
    ),
    Fault(
        "ledger/cost.py",
        "value == 0 or abs(frexp(value)[0]) == 0.5",
        "value == 0 or frexp(value)[0] == 0.5",
        "test_ledger test_contenders test_recursive",
        "minus one is no product",
    ),
    Fault(
        "ledger/delay.py",
        "np.sum((delay[1:] + delay[:-1]) / 2",
        "np.sum((delay[1:] + delay[:-1])",
        "test_ledger test_contenders test_response",
        "a mean delay of twice the size",
    ),
    Fault(
        "ledger/lines.py",
        "return min(gains, key=lambda line: line.margin, default=None)",
        "return max(gains, key=lambda line: line.margin, default=None)",
        "test_ledger test_contenders",
        "the best limit for the worst",
    ),
    # -- requirement
    Fault(
        "requirement/quantities.py",
        '(1e6, "MHz"), (1e3, "kHz")',
        '(1e6, "kHz"), (1e3, "kHz")',
        "test_requirement test_widgets",
        "MHz called kHz",
    ),
    Fault(
        "requirement/quantities.py",
        "return float(match[1]) * sample_rate_hz / 2",
        "return float(match[1]) * sample_rate_hz",
        "test_requirement test_widgets",
        "half the rate taken for the rate",
    ),
    Fault(
        "requirement/quantities.py",
        "return _finite(-abs(float(match[1])), text)",
        "return _finite(float(match[1]), text)",
        "test_requirement test_widgets",
        "an attenuation that amplifies",
    ),
    Fault(
        "requirement/quantities.py",
        "return 20 * math.log10(1 - share), 20 * math.log10(1 + share)",
        "return 20 * math.log10(1 - share), 20 * math.log10(1 - share)",
        "test_requirement test_widgets",
        "a ripple with one side",
    ),
    # -- project
    Fault(
        "project/history.py",
        '            self.current = project\n        self._gesture = ""\n        return self.current\n\n    def redo',
        "            self.current = project\n        return self.current\n\n    def redo",
        "test_small_truths test_project test_edits",
        "a gesture that survives undo",
    ),
    Fault(
        "project/history.py",
        "self._after.clear()",
        "pass",
        "test_small_truths test_project test_edits",
        "redo of what was undone before the change",
    ),
    Fault(
        "project/history.py",
        "self._before = [(make(project), what) for project, what in self._before]",
        "self._before = list(self._before)",
        "test_small_truths test_project test_edits",
        "undo forgets what was noted",
    ),
    Fault(
        "files.py",
        '        handle, temporary = tempfile.mkstemp(prefix=f".{target.name}.", dir=target.parent)\n        with os.fdopen(handle, "wb") as stream:',
        '        with open(target, "wb") as stream:',
        "test_project test_processes test_delivery",
        "a write that isn't atomic",
    ),
    Fault(
        "project/edits.py",
        "hz = min(max(hz, low), high)",
        "hz = max(hz, low)",
        "test_edits",
        "an edge passes its neighbour",
    ),
    Fault("project/edits.py", "if low == -high:", "if low == high:", "test_edits", "even limits don't stay even"),
)
