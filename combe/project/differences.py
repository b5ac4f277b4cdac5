"""What differs between two states of a filter, in plain words."""

from __future__ import annotations

from typing import Any

import msgspec

from combe.designing.task import DesignChoice
from combe.project.document import Kept
from combe.requirement import Band, Requirement
from combe.requirement.quantities import duration_text, frequency_text, rate_text
from combe.requirement.sentences import band_sentence

ARITHMETIC = {
    "coefficient_bits": "coefficient bits", "accumulator_bits": "accumulator bits", "state_bits": "state bits", "product_bits": "product bits",
    "coefficient_fraction": "coefficient fraction bits", "guard_bits": "guard bits", "error_feedback": "error feedback", "better": "better integers",
    "pruned": "pruned registers",
}  # fmt: skip
CODE = {
    "converter_in": "codes in",
    "converter_out": "codes out",
    "build": "build files",
    "single_file": "one file",
    "file_name": "name of files",
    "type_name": "name of types",
}
HARDWARE = {
    "clock_hz": "clock",
    "double_buffer": "two banks of coefficients",
    "axi_stream": "AXI4-Stream",
    "described": "descriptions of the core",
    "board": "board",
}


def differences(before: Kept, after: Kept) -> tuple[str, ...]:
    """Sentences that say what is another in ``after``; none where nothing is."""
    return (
        *_brief(before.requirement, after.requirement), *_design(before.design, after.design),
        *_fields(before.arithmetic, after.arithmetic, ARITHMETIC), *_fields(before.code, after.code, CODE),
        *_fields(before.hardware, after.hardware, HARDWARE),
    )  # fmt: skip


def _brief(before: Requirement, after: Requirement) -> list[str]:
    found = []
    if before.input_rate_hz != after.input_rate_hz:
        found.append(f"sampled at {rate_text(after.input_rate_hz)}, was {rate_text(before.input_rate_hz)}")
    if before.phase != after.phase:
        found.append(f"{after.phase} phase, was {before.phase}")
    for name, words in (("max_delay_s", "delay"), ("max_delay_spread_s", "delay spread")):
        found += _limit(words, getattr(before, name), getattr(after, name), duration_text)
    for name, words in (("max_multiplies", "multiplies"), ("max_cycles", "cycles"), ("max_multipliers", "multipliers")):
        found += _limit(words, getattr(before, name), getattr(after, name), lambda value: f"{value:g}")
    found += _limit("clock", before.clock_hz, after.clock_hz, frequency_text)
    names = {band.name: band for band in before.bands}
    for band in after.bands:
        old = names.pop(band.name, None)
        if old is None:
            found.append(f"new: {_sentence(band, after)}")
        elif old != band:
            found.append(f"{band.name}: {_sentence(band, after)}, was {_sentence(old, before)}")
    found += [f"gone: {_sentence(band, before)}" for band in names.values()]
    return found


def _sentence(band: Band, asked: Requirement) -> str:
    words = " ".join(word.text for word in band_sentence(band, asked))
    return words[0].lower() + words[1:]


def _limit(words: str, before: Any, after: Any, text: Any) -> list[str]:
    if before == after:
        return []
    if after is None:
        return [f"no limit on {words}, was {text(before)}"]
    return [f"{words} at most {text(after)}" + (f", was {text(before)}" if before is not None else "")]


def _design(before: DesignChoice, after: DesignChoice) -> list[str]:
    found = []
    if before.method != after.method:
        found.append(f"{after.method}, was {before.method}")
    if (before.order, before.holds_with_bits) != (after.order, after.holds_with_bits):
        found.append(f"{_order(after)}, was {_order(before)}")
    if before.symmetry != after.symmetry:
        found.append("antisymmetric taps" if after.symmetry == -1 else "symmetric taps")
    if before.cutoffs_hz != after.cutoffs_hz:
        found.append(f"{_cutoffs(after)}, was {_cutoffs(before)}")
    if before.given != after.given:
        found.append("other coefficients by hand" if after.given is not None and before.given is not None else
                     "coefficients by hand" if after.given is not None else "no coefficients by hand")  # fmt: skip
    if before.settings != after.settings:
        old, new = dict(before.settings), dict(after.settings)
        for key in dict.fromkeys([*new, *old]):
            if old.get(key) != new.get(key):
                found.append(f"{key} {_value(new.get(key))}, was {_value(old.get(key))}")
    for name in ("spare", "shape", "weights"):
        if getattr(before, name) != getattr(after, name):
            found.append(f"{name} {_value(getattr(after, name))}, was {_value(getattr(before, name))}")
    return found


def _order(choice: DesignChoice) -> str:
    if choice.holds_with_bits is not None:
        return f"the least order that holds with {choice.holds_with_bits} bits"
    return "the least order" if choice.order is None else f"order {choice.order}"


def _cutoffs(choice: DesignChoice) -> str:
    if not choice.cutoffs_hz:
        return "by the limits"
    return "cut-off " + " and ".join(frequency_text(hz) for hz in choice.cutoffs_hz)


def _fields(before: msgspec.Struct, after: msgspec.Struct, names: dict[str, str]) -> list[str]:
    found = []
    for key in before.__struct_fields__:
        old, new = getattr(before, key), getattr(after, key)
        if old != new:
            found.append(f"{names.get(key, key.replace('_', ' '))} {_value(new)}, was {_value(old)}")
    return found


def _value(value: object) -> str:
    if value is None or value in ("", ()):
        return "as it follows"
    if isinstance(value, bool):
        return "on" if value else "off"
    if isinstance(value, tuple):
        return ", ".join(f"{item:g}" if isinstance(item, float) else str(item) for item in value)
    return f"{value:g}" if isinstance(value, float) else str(value)
