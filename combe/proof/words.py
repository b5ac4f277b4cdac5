"""Wide nets of a translated circuit taken apart into the words they are made of.

GHDL makes one vector of an array. A simulator that computes in machine words then shifts and masks for every word, and takes ten times
as long to be compiled. Where every use of a vector is a slice, a concatenation, a choice or a register, it is as many nets as there are
slices: the same circuit, net by net.
"""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Callable

WIDE = 64
_NET = re.compile(r"^  (wire|reg) \[(\d+):0\] (\w+);$")
_SLICE = re.compile(r"^(\w+)\[(\d+):(\d+)\]$")
_CONSTANT = re.compile(r"^(\d+)'b([01xzXZ]+)$")
_ASSIGN = re.compile(r"^  assign (\w+) = (.*);(.*)$")
_TAKES = re.compile(r"^    (\w+) <= (\w+);$")
_USE = re.compile(r"\b(\w+)(?:\[(\d+)(?::(\d+))?\])?")

Pieces = list[tuple[str, int, int]]
"""Stretches from the top down: a net or a constant, its highest and its lowest bit."""


class _OtherError(Exception):
    """A use of a vector that isn't one of those."""


def in_words(text: str) -> str:
    """The same module with its wide nets in words; as it is where a wide net is used in any other way."""
    try:
        return _Nets(text).text()
    except _OtherError:
        return text


class _Nets:
    def __init__(self, text: str) -> None:
        # A list in braces may run over lines.
        self.lines = re.sub(r",\s*\n\s*", ", ", text).split("\n")
        found = [_NET.match(line) for line in self.lines]
        self.width = {net[3]: int(net[2]) + 1 for net in found if net}
        self.wide = {name for name, width in self.width.items() if width > WIDE}
        self.cuts: dict[str, set[int]] = {name: {0, self.width[name]} for name in self.wide}
        self.ties: list[tuple[str, int, str, int, int]] = []

    def text(self) -> str:
        """With pieces in place of wide nets."""
        if not self.wide:
            return "\n".join(self.lines)
        self._tied()
        self._spread()
        return "\n".join(line for old in self.lines for line in self._written(old))

    # -- where nets are cut ----------------------------------------------------------------------------------

    def _tied(self) -> None:
        for line in self.lines:
            assigned, taken = _ASSIGN.match(line), _TAKES.match(line)
            if assigned:
                for name, high, low in _USE.findall(assigned[2]):
                    if name in self.wide and high and low:
                        self.cuts[name] |= {int(high) + 1, int(low)}
            target = (assigned or taken or [None, None])[1]
            if target in self.wide:
                value = (assigned or taken)[2]  # type: ignore[index]
                for choice in self._choices(value):
                    at = self.width[target]
                    for name, high, low in self._pieces(choice):
                        size = high - low + 1
                        at -= size
                        self.cuts[target] |= {at, at + size}
                        if name in self.wide:
                            self.ties.append((target, at, name, low, size))
                    if at:
                        raise _OtherError

    def _spread(self) -> None:
        """Both ends of a tie are cut alike."""
        at = defaultdict(list)
        for tie in self.ties:
            at[tie[0]].append(tie)
            at[tie[2]].append((tie[2], tie[3], tie[0], tie[1], tie[4]))
        waiting = list(self.wide)
        while waiting:
            name = waiting.pop()
            for _, low, other, other_low, size in at[name]:
                moved = {cut - low + other_low for cut in self.cuts[name] if low <= cut <= low + size}
                if not moved <= self.cuts[other]:
                    self.cuts[other] |= moved
                    waiting.append(other)

    def _choices(self, value: str) -> list[str]:
        parts = re.match(r"^(\w+) \? (.*) : (.*)$", value)
        return [parts[2], parts[3]] if parts else [value]

    def _pieces(self, value: str) -> Pieces:
        """A name, a slice, a constant, or several of them in braces."""
        if value.startswith("{") and value.endswith("}"):
            return [piece for part in value[1:-1].split(", ") for piece in self._pieces(part.strip())]
        cut, constant = _SLICE.match(value), _CONSTANT.match(value)
        if cut:
            return [(cut[1], int(cut[2]), int(cut[3]))]
        if constant:
            digits = constant[2].rjust(int(constant[1]), "0")
            return [(f"'{digits}", len(digits) - 1, 0)]
        if value in self.width:
            return [(value, self.width[value] - 1, 0)]
        raise _OtherError

    # -- what is written -------------------------------------------------------------------------------------

    def _spans(self, name: str, low: int, high: int) -> list[tuple[int, int]]:
        """Ends of the pieces from one bit to another, the lowest first."""
        cuts = sorted(cut for cut in self.cuts[name] if low <= cut <= high + 1)
        if cuts[:1] != [low] or cuts[-1:] != [high + 1]:
            raise _OtherError
        return [(a, b - 1) for a, b in zip(cuts, cuts[1:])]

    def _written(self, line: str) -> list[str]:
        net, assigned, taken = _NET.match(line), _ASSIGN.match(line), _TAKES.match(line)
        if net and net[3] in self.wide:
            spans = self._spans(net[3], 0, self.width[net[3]] - 1)
            return [f"  {net[1]} [{high - low}:0] {net[3]}__{low};" for low, high in spans]
        if assigned and assigned[1] in self.wide:
            return [f"  assign {target} = {value};" for target, value in self._split(assigned[1], assigned[2])]
        if taken and taken[1] in self.wide:
            rows = [f"    {target} <= {value};" for target, value in self._split(taken[1], taken[2])]
            return ["    begin", *rows, "    end"]
        if assigned:
            return [f"  assign {assigned[1]} = {_USE.sub(self._read, assigned[2])};{assigned[3]}"]
        if any(name in self.wide for name in re.findall(r"\w+", line.split("//")[0])):
            raise _OtherError
        return [line]

    def _split(self, target: str, value: str) -> list[tuple[str, str]]:
        flag = re.match(r"^(\w+) \? ", value)
        ways = [self._at(choice) for choice in self._choices(value)]
        rows = []
        for low, high in self._spans(target, 0, self.width[target] - 1):
            told = [way(low, high) for way in ways]
            rows.append((f"{target}__{low}", f"{flag[1]} ? {told[0]} : {told[1]}" if flag else told[0]))
        return rows

    def _at(self, value: str) -> Callable[[int, int], str]:
        """What stands between two bits of a value."""
        places = []
        at = sum(high - low + 1 for _, high, low in self._pieces(value))
        for name, high, low in self._pieces(value):
            at -= high - low + 1
            places.append((at, at + high - low, name, low))

        def told(first: int, last: int) -> str:
            for start, end, name, low in places:
                if start <= first and last <= end:
                    return self._stretch(name, first - start + low, last - start + low)
            raise _OtherError

        return told

    def _stretch(self, name: str, low: int, high: int) -> str:
        if name.startswith("'"):
            digits = name[1:]
            return f"{high - low + 1}'b{digits[len(digits) - 1 - high : len(digits) - low]}"
        if name in self.wide:
            return f"{name}__{low}" if (low, high) in self._spans(name, low, high) else self._joined(name, low, high)
        return name if (low, high) == (0, self.width[name] - 1) else f"{name}[{high}:{low}]"

    def _joined(self, name: str, low: int, high: int) -> str:
        pieces = [f"{name}__{start}" for start, _ in reversed(self._spans(name, low, high))]
        return pieces[0] if len(pieces) == 1 else f"{{{', '.join(pieces)}}}"

    def _read(self, use: re.Match[str]) -> str:
        name, high, low = use[1], use[2], use[3]
        if name not in self.wide:
            return use[0]
        if high is None:
            return self._joined(name, 0, self.width[name] - 1)
        if low is not None:
            return self._joined(name, int(low), int(high))
        start, end = next(
            span for span in self._spans(name, 0, self.width[name] - 1) if span[0] <= int(high) <= span[1]
        )
        return f"{name}__{start}[{int(high) - start}]" if end > start else f"{name}__{start}"
