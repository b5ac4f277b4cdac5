"""Which sums feed back to one another."""

from __future__ import annotations

from graphlib import TopologicalSorter


def feedback_groups(uses: list[list[int]]) -> list[list[int]]:
    """Groups of steps (from 0) that feed back to one another; ``uses`` are the signals each step takes."""
    itself = {index for index, signals in enumerate(uses) if index + 1 in signals}
    return [group for group in _strong(uses) if len(group) > 1 or group[0] in itself]


def groups_in_order(uses: list[list[int]]) -> list[list[int]]:
    """All steps in groups that feed back to one another (a step without a loop is a group of its own), each group after
    all whose values it takes."""
    groups = _strong(uses)
    own = {step: number for number, group in enumerate(groups) for step in group}
    needs = {
        number: {own[signal - 1] for step in group for signal in uses[step] if signal} - {number}
        for number, group in enumerate(groups)
    }
    return [groups[number] for number in TopologicalSorter(needs).static_order()]


def _strong(uses: list[list[int]]) -> list[list[int]]:
    """Strongly connected components (Tarjan 1972), without recursion: programs may be long."""
    found: list[list[int]] = []
    place: dict[int, int] = {}
    lowest: dict[int, int] = {}
    pending: list[int] = []
    is_pending = [False] * len(uses)
    for root in range(len(uses)):
        if root in place:
            continue
        path = [(root, iter(uses[root]))]
        while path:
            step, rest = path[-1]
            if step not in place:
                place[step] = lowest[step] = len(place)
                pending.append(step)
                is_pending[step] = True
            deeper = None
            for signal in rest:
                other = signal - 1
                if other >= 0 and other not in place:
                    deeper = other
                    break
                if other >= 0 and is_pending[other]:
                    lowest[step] = min(lowest[step], place[other])
            if deeper is not None:
                path.append((deeper, iter(uses[deeper])))
                continue
            path.pop()
            if path:
                lowest[path[-1][0]] = min(lowest[path[-1][0]], lowest[step])
            if lowest[step] == place[step]:
                at = pending.index(step)
                found.append(sorted(pending[at:]))
                for each in pending[at:]:
                    is_pending[each] = False
                del pending[at:]
    return sorted(found)
