"""What a test signal is: parts that are added up, read from a file or from a sentence."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any

from msgspec import Meta, Struct

from combe.checking import describe
from combe.errors import CombeError, FileError
from combe.files import read_json
from combe.requirement.quantities import parse_frequency
from combe.schema import read, whole
from combe.values import replace

Number = Annotated[float, Meta(description="a number")]
MOST_SAMPLES, MOST_WHOLE = 1_000_000_000, 20_000_000
"""Of a signal; of one that is held in memory in one piece."""
MOST_PARTS = 256
LAWS = ("linear", "logarithmic")
MOST_POINTS = 4096


class Part(Struct, frozen=True, forbid_unknown_fields=True):
    """One part of a signal. Which keys it has follows from its ``kind``; levels are in dB of full scale."""

    kind: Annotated[str, Meta(description="a text")]
    hz: Number | None = None
    dbfs: Number | None = None
    phase_deg: Number | None = None
    at: Annotated[int, whole(0, MOST_SAMPLES)] | None = None
    start_hz: Number | None = None
    stop_hz: Number | None = None
    law: Annotated[str, Meta(description="a text")] | None = None
    bits: Annotated[int, whole(2, 24)] | None = None
    points: Annotated[int, whole(2, MOST_POINTS)] | None = None
    symbol_rate_hz: Number | None = None
    carrier_hz: Number | None = None
    rolloff: Number | None = None
    file: Annotated[str, Meta(description="a text")] | None = None
    column: Annotated[str | int, Meta(description="a name or a number")] | None = None
    offset: Number | None = None
    full_scale: Number | None = None
    name: Annotated[str, Meta(description="a text")] | None = None
    dither: Annotated[bool, Meta(description="true or false")] | None = None


SURVEYS = ("night", "roost")
"""Recordings that come with Combe, made up: the bats' calls, and the weight on a beam they roost on."""
KINDS: dict[str, tuple[tuple[str, ...], tuple[str, ...]]] = {
    "impulse": ((), ("at", "dbfs")), "step": ((), ("at", "dbfs")), "sine": (("hz",), ("dbfs", "phase_deg")),
    "chirp": (("start_hz", "stop_hz"), ("dbfs", "law", "phase_deg")), "square": (("hz",), ("dbfs", "phase_deg")),
    "white": ((), ("dbfs",)), "pink": ((), ("dbfs",)), "maximum-length": (("bits",), ("dbfs",)),
    "modulated": (("points", "symbol_rate_hz", "carrier_hz"), ("dbfs", "rolloff")),
    "symbols": (("points",), ("dbfs", "rolloff")), "recording": (("file",), ("column", "offset", "full_scale")), "survey": (("name",), ("dbfs",)),
    "converter": (("bits",), ("dither",)),
}  # fmt: skip
"""Keys each kind must have, and may have. A converter isn't added: all the others go through it."""


class Signal(Struct, frozen=True):
    """Parts added up; ``samples`` None is as long as its recordings, ``folder`` where files are looked for."""

    sample_rate_hz: float
    parts: tuple[Part, ...]
    samples: int | None = None
    seed: int = 1
    folder: str = ""


class _Shape(Struct, forbid_unknown_fields=True):
    format: Annotated[str, Meta(description="a text")]
    version: Annotated[int, whole(1, 1)]
    sample_rate_hz: Annotated[float, Meta(gt=0, description="the sample rate in Hz, above zero")]
    parts: list[Part]
    samples: Annotated[int, whole(1, MOST_SAMPLES)] | None = None
    seed: Annotated[int, whole(0, 2**31 - 1)] = 1


def signal_from(document: Any, where: str = "", folder: str = "") -> Signal:
    """The signal in a JSON document.

    Raises
    ------
    FileError
        Naming the key and what was expected.
    """
    if not isinstance(document, dict) or document.get("format") != "combe-signal":
        found = document.get("format") if isinstance(document, dict) else document
        raise FileError(f'expected "combe-signal", found {describe(found)}', f"{where}.format" if where else "format")
    found_shape = read(document, _Shape, where)
    rate = found_shape.sample_rate_hz
    parts = tuple(checked(part, f"parts[{k}]", rate) for k, part in enumerate(found_shape.parts))
    return _whole(Signal(rate, parts, found_shape.samples, found_shape.seed, folder))


def read_signal(path: str | Path) -> Signal:
    """The signal in a file; recordings are looked for beside it."""
    try:
        return signal_from(read_json(path), "", str(Path(path).parent))
    except CombeError as error:
        raise (error if error.where.startswith(str(path)) else error.at(str(path))) from None


def signal_document(signal: Signal) -> dict[str, Any]:
    """The JSON document of a signal; reading it gives the same value again."""
    document: dict[str, Any] = {"format": "combe-signal", "version": 1, "sample_rate_hz": signal.sample_rate_hz}
    if signal.samples is not None:
        document["samples"] = signal.samples
    document["seed"] = signal.seed
    names = [name for name in Part.__struct_fields__ if name != "kind"]
    document["parts"] = [
        {"kind": part.kind} | {name: getattr(part, name) for name in names if getattr(part, name) is not None}
        for part in signal.parts
    ]
    return document


def checked(part: Part, where: str, rate: float) -> Part:
    """A part whose keys go with its kind and lie within what the sample rate can carry."""
    if part.kind not in KINDS:
        raise FileError(f"{describe(part.kind)} is no kind of signal", f"{where}.kind", f"known are {', '.join(KINDS)}")
    needed, allowed = KINDS[part.kind]
    for name in Part.__struct_fields__[1:]:
        value = getattr(part, name)
        if name in needed and value is None:
            raise FileError("is missing", f"{where}.{name}", f"a {part.kind} needs it")
        if value is not None and name not in needed and name not in allowed:
            known = ", ".join((*needed, *allowed))
            raise FileError(f"a {part.kind} has no {name}", f"{where}.{name}", f"known are {known}")
    for name in ("hz", "start_hz", "stop_hz", "carrier_hz"):
        value = getattr(part, name)
        if value is not None and not 0 <= value <= rate / 2:
            raise FileError(
                f"{value:g} Hz can't be sampled at {rate:g} Hz", f"{where}.{name}", f"up to {rate / 2:g} Hz"
            )
    if part.dbfs is not None and not -400 <= part.dbfs <= 60:
        raise FileError(f"{part.dbfs:g} dB is out of reach", f"{where}.dbfs", "take -400 to 60")
    if part.law is not None and part.law not in LAWS:
        raise FileError(f"{describe(part.law)} is no law", f"{where}.law", f"known are {', '.join(LAWS)}")
    if part.law == "logarithmic" and not (part.start_hz and part.stop_hz):
        raise FileError("a logarithmic chirp starts and stops above zero", f"{where}.start_hz")
    if part.bits is not None and not 2 <= part.bits <= 24:
        raise FileError(f"a {part.kind} of {part.bits} bits is out of reach", f"{where}.bits", "take 2 to 24")
    if part.at is not None and part.at >= MOST_SAMPLES:
        raise FileError(f"sample {part.at} is out of reach", f"{where}.at", f"up to {MOST_SAMPLES}")
    if part.kind == "modulated":
        _check_modulated(part, where, rate)
    if part.kind == "symbols" and (not 2 <= (part.points or 0) <= 64 or (part.points or 0) & ((part.points or 0) - 1)):
        raise FileError(f"{part.points} levels are no alphabet", f"{where}.points", "take 2, 4, 8 … 64")
    if part.name is not None and part.name not in SURVEYS:
        raise FileError(
            f"{describe(part.name)} is no recording of the survey", f"{where}.name", f"known are {', '.join(SURVEYS)}"
        )
    if part.rolloff is not None and not 0 <= part.rolloff <= 1:
        raise FileError(f"{part.rolloff:g} is no roll-off", f"{where}.rolloff", "take 0 to 1")
    if part.full_scale is not None and not part.full_scale > 0:
        raise FileError(f"{part.full_scale:g} is no full scale", f"{where}.full_scale", "give a number above zero")
    return part


def _check_modulated(part: Part, where: str, rate: float) -> None:
    points, symbols = part.points or 0, part.symbol_rate_hz or 0.0
    if not 4 <= points <= MOST_POINTS or points & (points - 1):
        raise FileError(f"{points} points are no constellation", f"{where}.points", "take 4, 8, 16 … 4096")
    if not 0 < symbols <= rate / 2:
        raise FileError(
            f"{symbols:g} symbols a second don't fit into {rate:g} samples",
            f"{where}.symbol_rate_hz",
            f"up to {rate / 2:g}",
        )


def _whole(signal: Signal) -> Signal:
    if not signal.parts:
        raise FileError("expected at least one part, found an empty list", "parts")
    converters = sum(part.kind == "converter" for part in signal.parts)
    if converters > 1:
        raise FileError(f"{converters} converters are too many", "parts", "a signal goes through one")
    if converters == len(signal.parts):
        raise FileError("a converter has nothing to convert", "parts", f"add a signal, such as {EXAMPLE!r}")
    if len(signal.parts) > MOST_PARTS:
        raise FileError(f"{len(signal.parts)} parts are too many", "parts", f"up to {MOST_PARTS} are taken")
    if signal.samples is None and not any(part.kind == "recording" for part in signal.parts):
        return replace(signal, samples=max(4096, round(min(signal.sample_rate_hz, MOST_WHOLE))))
    return signal


# -- sentences -----------------------------------------------------------------------------------------------

EXAMPLE = "sine 20 Hz -12 dB + white -60 dB"
_FREQUENCY = r"(?:\d+\.?\d*|\.\d+)(?:e[+-]?\d+)?\s*(?:[kKM]?Hz|[kM]|fs|fn)?"
_LEVEL = r"[+-]?(?:\d+\.?\d*|\.\d+)\s*(?:dBFS|dB)"


def signal_from_sentence(text: str, rate: float, samples: int | None = None, seed: int = 1, folder: str = "") -> Signal:
    """``sine 20 Hz -12 dB + white -60 dB``: parts with a plus between them, each a kind and its figures.

    Frequencies stand where the kind takes them (a chirp has two, ``to`` between them), a level ends in dB, a phase in
    degrees; other figures go by name, ``bits 12``, ``points 64``, ``symbols 2 kHz``, ``rolloff 0.25``, ``at 100``. All of it
    goes through a ``converter bits 8 dither`` where one stands among the parts.

    Raises
    ------
    FileError
        Naming the part and what would be understood.
    """
    pieces = [piece for piece in re.split(r"\s\+\s|^\+\s", f" {text.strip()} ") if piece.strip()]
    if not pieces:
        raise FileError("there is no signal", "--signal", f"write one like {EXAMPLE!r}")
    parts = tuple(checked(_part(piece.strip(), rate), f"--signal: {piece.strip()}", rate) for piece in pieces)
    check_length(samples, seed)
    return _whole(Signal(rate, parts, samples, seed, folder))


def check_length(samples: int | None, seed: int) -> None:
    """Refuse lengths and seeds out of reach."""
    if samples is not None and not 1 <= samples <= MOST_SAMPLES:
        raise FileError(f"{samples} samples are out of reach", "--samples", f"take 1 to {MOST_SAMPLES}")
    if not 0 <= seed < 2**31:
        raise FileError(f"{seed} is no seed", "--seed", "take 0 to 2147483647")


def _part(text: str, rate: float) -> Part:
    where = f"--signal: {text}"
    kind, _, rest = text.partition(" ")
    kind = {"tone": "sine", "noise": "white", "mls": "maximum-length"}.get(kind, kind)
    if kind not in KINDS:
        raise FileError(f"{describe(kind)} is no kind of signal", where, f"known are {', '.join(KINDS)}")
    found: dict[str, Any] = {}
    if kind == "recording":
        return _recording(rest, where)
    if kind == "survey":
        name, _, rest = rest.strip().partition(" ")
        found["name"] = name
    rest = _named(rest, found, rate)
    level = re.search(_LEVEL, rest)
    if level:
        found["dbfs"] = float(re.sub(r"\s*dB(FS)?$", "", level[0]))
        rest = rest[: level.start()] + " " + rest[level.end() :]
    phase = re.search(r"([+-]?(?:\d+\.?\d*|\.\d+))\s*(?:deg|°)", rest)
    if phase:
        found["phase_deg"] = float(phase[1])
        rest = rest[: phase.start()] + " " + rest[phase.end() :]
    names = [name for name in ("hz", "start_hz", "stop_hz", "carrier_hz") if name in KINDS[kind][0]]
    for name in names:
        match = re.match(rf"\s*(?:to\s+|at\s+|on\s+)?({_FREQUENCY})(?=\s|$)", rest)
        if match:
            found[name] = parse_frequency(match[1], rate)
            rest = rest[match.end() :]
    if rest.strip():
        raise FileError(f"{describe(rest.strip())} is not understood", where, f"write it like {EXAMPLE!r}")
    return Part(kind, **found)


def _named(rest: str, found: dict[str, Any], rate: float) -> str:
    """Figures by name, taken out of the words."""
    for word, key in (("bits", "bits"), ("points", "points"), ("rolloff", "rolloff"), ("at", "at")):
        match = re.search(rf"\b{word}\s+(\d+\.?\d*|\.\d+)(?=\s|$)", rest)
        if match:
            found[key] = float(match[1]) if key == "rolloff" else int(float(match[1]))
            rest = rest[: match.start()] + " " + rest[match.end() :]
    match = re.search(rf"\bsymbols\s+({_FREQUENCY})(?=\s|$)", rest)
    if match:
        found["symbol_rate_hz"] = parse_frequency(match[1], rate)
        rest = rest[: match.start()] + " " + rest[match.end() :]
    match = re.search(r"\bdither(ed)?\b", rest)
    if match:
        found["dither"] = True
        rest = rest[: match.start()] + " " + rest[match.end() :]
    match = re.search(r"\b(linear|logarithmic)\b", rest)
    if match:
        found["law"] = match[1]
        rest = rest[: match.start()] + " " + rest[match.end() :]
    return rest


def _recording(rest: str, where: str) -> Part:
    match = re.fullmatch(
        r"(\S+|\"[^\"]+\")(?:\s+column\s+(\S+))?(?:\s+offset\s+(\S+))?(?:\s+full\s+scale\s+(\S+))?", rest.strip()
    )
    if not match:
        raise FileError("a recording is a file, with column, offset, full scale after it", where)
    try:
        numbers = [float(word) if word else None for word in (match[3], match[4])]
    except ValueError:
        raise FileError("offset and full scale are numbers", where) from None
    column = int(match[2]) if match[2] and match[2].isdigit() else match[2]
    return Part("recording", file=match[1].strip('"'), column=column, offset=numbers[0], full_scale=numbers[1])
