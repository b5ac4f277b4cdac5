"""What is known of the filters that aren't open: their results as they were left, and whether each keeps its brief."""

from __future__ import annotations

from msgspec import Struct

from combe.project.document import Member, Project
from combe.project.results import Results
from combe.values import replace

MOST_KEPT = 8
HEAVY = ("bench", "heard", "trade", "chart", "drawing", "colored", "table", "waves", "states")
"""Worked out anew when they are looked at, rather than kept for filters that aren't open."""


class Left(Struct, frozen=True):
    """A project as it was when a filter was left, and what followed from that."""

    project: Project
    results: Results


class Shelf:
    """Results of filters that were left, by the name of their code; of so many at most."""

    def __init__(self) -> None:
        self.kept: dict[str, Left] = {}

    def leave(self, project: Project, results: Results) -> None:
        """Put by what is known of the open filter."""
        whole = replace(results, pending=frozenset(), progress={})
        broken = results.pending - {"proof"}
        self.kept.pop(project.code_name, None)
        self.kept[project.code_name] = Left(project, whole.cleared({*HEAVY, *broken}))
        while len(self.kept) > MOST_KEPT:
            self.kept.pop(next(iter(self.kept)))

    def take(self, project: Project) -> Results:
        """What is still true of the filter that is opened now; nothing where it wasn't left before."""
        left = self.kept.pop(project.code_name, None)
        return Results() if left is None else left.results.after(left.project, project)

    def clear(self) -> None:
        """Forget everything."""
        self.kept.clear()


def is_another(before: Project, now: Project) -> bool:
    """Whether another filter is open than before, rather than the same one changed."""
    if before.code_name == now.code_name:
        return False
    names = {member.code_name for member in now.members}
    return before.code_name in names or before.place != now.place or len(before.members) != len(now.members)


class Standings:
    """Verdicts of filters, each of exactly the value it was found for."""

    def __init__(self) -> None:
        self.found: dict[str, tuple[Member, str]] = {}

    def of(self, member: Member) -> str:
        """``kept``, ``close``, ``missed``, or ``unknown``."""
        known = self.found.get(member.code_name)
        return known[1] if known is not None and known[0] == member else "unknown"

    def note(self, member: Member, verdict: str) -> bool:
        """Remember one; False if it was known."""
        if self.of(member) == verdict:
            return False
        self.found[member.code_name] = (member, verdict)
        return True

    def unknown(self, project: Project) -> list[int]:
        """Places of filters whose verdict isn't known."""
        return [place for place, member in enumerate(project.members) if self.of(member) == "unknown"]
